//! What keys do that change the broadcast: at once, after a choice, after a yes, or by the user's own hand.

use crossterm::event::{KeyCode, KeyEvent};
use moth_core::action::Action;
use moth_core::proposal::{Proposal, to_server};

use super::Dialog;
use super::choice::{Choice, Kind};
use crate::terminal::model::Model;
use crate::terminal::reaction::Reaction;
use crate::terminal::wish::Wish;

/// What a replay says to who would change something.
const REPLAY: &str = "this is a replay: what was done is done";

/// A change of a kind: what the verdict proposes at once, as it is on the screen with its price; else a choice.
pub(in crate::terminal) fn take_kind(model: &Model, kind: Kind) -> Reaction {
    if model.proposals().iter().any(|p| Kind::of(&p.action) == kind) {
        return propose(model, |action| Kind::of(action) == kind);
    }
    choose(model, kind)
}

pub(super) fn choose(model: &Model, kind: Kind) -> Reaction {
    if !model.takes_changes() {
        return Reaction::tell(REPLAY);
    }
    match model.snapshot.as_ref().and_then(|snapshot| Choice::of(kind, snapshot)) {
        Some(choice) => Reaction::open(Dialog::Choose(choice)),
        None => Reaction::tell(format!("{}: there is nothing to change now", kind.words())),
    }
}

/// Takes up the first proposal of a kind, asking first where it is dangerous.
pub(in crate::terminal) fn propose(model: &Model, wanted: impl Fn(&Action) -> bool) -> Reaction {
    if !model.takes_changes() {
        return Reaction::tell(REPLAY);
    }
    let proposal = model.proposals().into_iter().find(|p| wanted(&p.action)).cloned();
    proposal.map_or_else(Reaction::none, |proposal| take_up(model, proposal))
}

/// Does something, or says how it is done, or asks first where it is dangerous or would spoil a trial.
fn take_up(model: &Model, mut proposal: Proposal) -> Reaction {
    if !proposal.possible {
        return Reaction::open(Dialog::ByHand(Box::new(proposal)));
    }
    let running = model.snapshot.as_ref().and_then(|s| s.newest_trial()).filter(|trial| !trial.is_over);
    if let Some(trial) = running.filter(|_| proposal.action.is_tried()) {
        proposal.cost = format!("{}; {} is still being proved, and then neither is", proposal.cost, trial.title);
        return Reaction::open(Dialog::Confirm(Box::new(proposal)));
    }
    if proposal.dangerous {
        return Reaction::open(Dialog::Confirm(Box::new(proposal)));
    }
    let is_playback = proposal.action == Action::PlayBack;
    let does = Reaction::wish(Wish::Act(proposal.action));
    if is_playback { does.and_tell("asked to be played back for ten seconds; m tells what came of it") } else { does }
}

pub(in crate::terminal) fn undo(model: &Model) -> Reaction {
    let undo = model.snapshot.as_ref().and_then(|snapshot| snapshot.undo.clone());
    match undo.filter(|_| model.takes_changes()) {
        None => Reaction::none(),
        Some(Action::SwitchServer { server }) => {
            let proposal = Proposal { title: format!("move back to {server}"), ..to_server(&server) };
            Reaction::open(Dialog::Confirm(Box::new(proposal)))
        }
        Some(action) => Reaction::wish(Wish::Act(action)),
    }
}

/// Keys while a change is chosen.
pub(super) fn choose_key(model: &Model, mut choice: Choice, key: KeyEvent) -> Reaction {
    let mut notice = None;
    match key.code {
        KeyCode::Esc => return Reaction::none(),
        KeyCode::Up => choice.step(false),
        KeyCode::Down => choice.step(true),
        KeyCode::Backspace => {
            choice.typed.pop();
        }
        KeyCode::Enter => {
            let Some(snapshot) = &model.snapshot else { return Reaction::none() };
            match choice.chosen(snapshot) {
                Ok(proposal) => return take_up(model, proposal),
                // What was wrong stays to be corrected.
                Err(what) => notice = Some(what),
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
    Reaction { notice, ..Reaction::open(Dialog::Choose(choice)) }
}
