//! What keys do that change the broadcast: at once, after a choice, after a yes, or by the user's own hand.

use crossterm::event::{KeyCode, KeyEvent};
use moth_core::action::Action;
use moth_core::proposal::{Proposal, to_server};

use super::app::{App, Dialog, Wish};
use super::choice::{Choice, Kind};

impl App {
    /// A change of a kind: what the verdict proposes at once, as it is on the screen with its price; else a choice.
    pub(super) fn take_kind(&mut self, kind: Kind) -> Option<Wish> {
        if self.proposals().iter().any(|p| Kind::of(&p.action) == kind) {
            return self.propose(|action| Kind::of(action) == kind);
        }
        self.choose(kind);
        None
    }

    pub(super) fn choose(&mut self, kind: Kind) {
        if self.replay.is_some() {
            self.notice = Some("this is a replay: what was done is done".into());
            return;
        }
        let choice = self.snapshot.as_ref().and_then(|snapshot| Choice::of(kind, snapshot));
        match choice {
            Some(choice) => self.dialog = Some(Dialog::Choose(choice)),
            None => self.notice = Some(format!("{}: there is nothing to change now", kind.words())),
        }
    }

    /// Takes up the first proposal of a kind, asking first where it is dangerous.
    pub(super) fn propose(&mut self, wanted: impl Fn(&Action) -> bool) -> Option<Wish> {
        if self.replay.is_some() {
            self.notice = Some("this is a replay: what was done is done".into());
            return None;
        }
        let proposal = self.proposals().into_iter().find(|p| wanted(&p.action))?.clone();
        self.take_up(proposal)
    }

    /// Does something, or says how it is done, or asks first where it is dangerous or would spoil a trial.
    fn take_up(&mut self, mut proposal: Proposal) -> Option<Wish> {
        if !proposal.possible {
            self.dialog = Some(Dialog::ByHand(Box::new(proposal)));
            return None;
        }
        let running = self.snapshot.as_ref().and_then(|s| s.trial.as_ref()).filter(|trial| !trial.is_over);
        if let Some(trial) = running.filter(|_| proposal.action.is_tried()) {
            proposal.cost = format!("{}; {} is still being proved, and then neither is", proposal.cost, trial.title);
            self.dialog = Some(Dialog::Confirm(Box::new(proposal)));
            return None;
        }
        if proposal.dangerous {
            self.dialog = Some(Dialog::Confirm(Box::new(proposal)));
            return None;
        }
        Some(Wish::Act(proposal.action))
    }

    pub(super) fn undo(&mut self) -> Option<Wish> {
        let action = self.snapshot.as_ref()?.undo.clone().filter(|_| self.replay.is_none())?;
        if let Action::SwitchServer { server } = &action {
            let proposal = Proposal { title: format!("move back to {server}"), ..to_server(server) };
            self.dialog = Some(Dialog::Confirm(Box::new(proposal)));
            return None;
        }
        Some(Wish::Act(action))
    }

    /// Keys while a change is chosen.
    pub(super) fn choose_key(&mut self, mut choice: Choice, key: KeyEvent) -> Option<Wish> {
        match key.code {
            KeyCode::Esc => return None,
            KeyCode::Up => choice.step(false),
            KeyCode::Down => choice.step(true),
            KeyCode::Backspace => {
                choice.typed.pop();
            }
            KeyCode::Enter => {
                let snapshot = self.snapshot.clone()?;
                match choice.chosen(&snapshot) {
                    Ok(proposal) => return self.take_up(proposal),
                    Err(what) => {
                        self.notice = Some(what);
                        choice.typed.clear();
                    }
                }
            }
            // What a bitrate is written with; q and others mean nothing here.
            KeyCode::Char(c)
                if choice.kind == Kind::Bitrate
                    && choice.typed.len() < 16
                    && (c.is_ascii_digit() || "+-%.,kKmMgGibBps/ ".contains(c)) =>
            {
                choice.typed.push(c);
            }
            _ => {}
        }
        self.dialog = Some(Dialog::Choose(choice));
        None
    }
}
