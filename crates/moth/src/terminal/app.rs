//! What the screen shows and what keys do: the interface's state, apart from drawing and terminal.

use std::sync::Arc;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use moth_core::Snapshot;
use moth_core::proposal::{Action, Proposal};

use super::palette::Palette;
use crate::production::Banner;

/// Seconds that one column of the lanes may stand for.
const ZOOMS: [usize; 5] = [1, 2, 5, 15, 60];

/// Something the user wants from outside the screen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wish {
    /// To leave.
    Quit,
    /// Something done to the broadcast.
    Act(Action),
}

/// What lies over the screen and takes the keys.
#[derive(Debug, Clone, PartialEq)]
pub enum Dialog {
    /// The keys that work here, and the words.
    Help,
    /// A dangerous action that wants a yes.
    Confirm(Box<Proposal>),
    /// Something only the user can do, with what to type where.
    ByHand(Box<Proposal>),
    /// Leaving would end a real broadcast.
    ConfirmQuit,
}

/// The interface's state.
#[derive(Debug)]
pub struct App {
    pub(super) banner: Banner,
    pub(super) is_demo: bool,
    pub(super) palette: Palette,
    pub(super) snapshot: Option<Arc<Snapshot>>,
    pub(super) dialog: Option<Dialog>,
    /// The second under the cursor; `None` is now.
    pub(super) cursor: Option<usize>,
    zoom: usize,
}

impl App {
    /// An interface that has shown nothing yet.
    #[must_use]
    pub fn new(banner: Banner, is_demo: bool, palette: Palette) -> Self {
        Self { banner, is_demo, palette, snapshot: None, dialog: None, cursor: None, zoom: 0 }
    }

    /// Takes a new snapshot.
    pub fn show(&mut self, snapshot: Option<Arc<Snapshot>>) {
        self.snapshot = snapshot.or(self.snapshot.take());
    }

    /// Seconds per column.
    pub(super) fn seconds_per_column(&self) -> usize {
        ZOOMS[self.zoom]
    }

    /// What can be done now, best first.
    pub(super) fn proposals(&self) -> &[Proposal] {
        self.snapshot.as_ref().map_or(&[], |s| &s.verdict.proposals)
    }

    /// Takes an event of the terminal.
    pub fn take(&mut self, event: &Event) -> Option<Wish> {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.key(*key),
            _ => None,
        }
    }

    fn key(&mut self, key: KeyEvent) -> Option<Wish> {
        if key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL) {
            // The second Ctrl-C is meant.
            return if self.dialog == Some(Dialog::ConfirmQuit) { Some(Wish::Quit) } else { self.quit() };
        }
        match self.dialog.take() {
            Some(Dialog::Confirm(proposal)) => match key.code {
                KeyCode::Char('y') => Some(Wish::Act(proposal.action)),
                KeyCode::Char('n') | KeyCode::Esc => None,
                _ => {
                    self.dialog = Some(Dialog::Confirm(proposal));
                    None
                }
            },
            Some(Dialog::ConfirmQuit) => match key.code {
                KeyCode::Char('y') => Some(Wish::Quit),
                KeyCode::Char('n') | KeyCode::Esc => None,
                _ => {
                    self.dialog = Some(Dialog::ConfirmQuit);
                    None
                }
            },
            // Any key closes what only tells something; q still means what it says.
            Some(Dialog::Help | Dialog::ByHand(_)) if key.code != KeyCode::Char('q') => None,
            _ => self.plain_key(key.code),
        }
    }

    fn plain_key(&mut self, code: KeyCode) -> Option<Wish> {
        match code {
            KeyCode::Char('q') => return self.quit(),
            KeyCode::Char('?') | KeyCode::F(1) => self.dialog = Some(Dialog::Help),
            KeyCode::Enter => return self.propose(|_| true),
            KeyCode::Char('b') => return self.propose(|a| matches!(a, Action::SetBitrate { .. })),
            KeyCode::Char('s') => return self.propose(|a| matches!(a, Action::SwitchServer { .. })),
            KeyCode::Char('p') => return self.propose(|a| matches!(a, Action::LighterPreset)),
            KeyCode::Char('u') => return self.undo(),
            KeyCode::Left => self.move_cursor(-1),
            KeyCode::Right => self.move_cursor(1),
            KeyCode::PageUp => self.move_cursor(-10),
            KeyCode::PageDown => self.move_cursor(10),
            KeyCode::Home => self.cursor = Some(0),
            KeyCode::End | KeyCode::Esc => self.cursor = None,
            KeyCode::Char('-') => self.zoom = (self.zoom + 1).min(ZOOMS.len() - 1),
            KeyCode::Char('+' | '=') => self.zoom = self.zoom.saturating_sub(1),
            _ => {}
        }
        None
    }

    fn quit(&mut self) -> Option<Wish> {
        let on_air = self.snapshot.as_ref().is_some_and(|s| s.on_air_since.is_some());
        if on_air && !self.is_demo {
            self.dialog = Some(Dialog::ConfirmQuit);
            return None;
        }
        Some(Wish::Quit)
    }

    /// Takes up the first proposal of a kind, asking first where it is dangerous.
    fn propose(&mut self, wanted: impl Fn(&Action) -> bool) -> Option<Wish> {
        let proposal = self.proposals().iter().find(|p| wanted(&p.action))?.clone();
        if !proposal.possible {
            self.dialog = Some(Dialog::ByHand(Box::new(proposal)));
            return None;
        }
        if proposal.dangerous {
            self.dialog = Some(Dialog::Confirm(Box::new(proposal)));
            return None;
        }
        Some(Wish::Act(proposal.action))
    }

    fn undo(&mut self) -> Option<Wish> {
        let action = self.snapshot.as_ref()?.undo.clone()?;
        if let Action::SwitchServer { server } = &action {
            let proposal = Proposal {
                title: format!("move back to {server}"),
                cost: "viewers may see a short gap at the change".into(),
                expected: format!("{server} takes the broadcast over at the next keyframe"),
                possible: true,
                dangerous: true,
                action,
            };
            self.dialog = Some(Dialog::Confirm(Box::new(proposal)));
            return None;
        }
        Some(Wish::Act(action))
    }

    fn move_cursor(&mut self, columns: i64) {
        let Some(snapshot) = &self.snapshot else { return };
        let last = snapshot.history.len().saturating_sub(1);
        let from = i64::try_from(self.cursor.unwrap_or(last)).unwrap_or(i64::MAX);
        let step = i64::try_from(self.seconds_per_column()).unwrap_or(1) * columns;
        let to = usize::try_from(from.saturating_add(step).max(0)).unwrap_or(0);
        self.cursor = (to < last).then_some(to);
    }
}
