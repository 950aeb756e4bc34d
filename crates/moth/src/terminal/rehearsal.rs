//! Rehearsing on the screen: what can be chosen, what runs, and what keys do.

use std::sync::Arc;

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use moth_rehearsal::ladder::Kind;
use moth_rehearsal::soak::TO_DO;
use moth_store::config::Change;
use moth_store::rehearsals::{Rehearsed, What};

use super::app::{App, Dialog, Tab, Wish};
use crate::live::plan::Doors;
use crate::rehearsal::run::{Run, Task, says_something};
use crate::rehearsal::{self, Prepared, Wanted};

/// What is to be done about a rehearsal.
#[derive(Clone)]
pub enum RehearsalOrder {
    /// It begins.
    Begin(Box<Prepared>),
    /// It ends; everything is put back.
    Cancel,
    /// Something to do in a soak was done.
    Tick(usize),
    /// There is something more to do.
    Add(String),
    /// Something is left out.
    LeaveOut(usize),
}

impl std::fmt::Debug for RehearsalOrder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            // It holds a key.
            Self::Begin(_) => f.write_str("Begin"),
            Self::Cancel => f.write_str("Cancel"),
            Self::Tick(which) => write!(f, "Tick({which})"),
            Self::Add(text) => write!(f, "Add({text:?})"),
            Self::LeaveOut(which) => write!(f, "LeaveOut({which})"),
        }
    }
}

impl PartialEq for RehearsalOrder {
    /// No two that begin are the same: what they put on has no equal.
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Cancel, Self::Cancel) => true,
            (Self::Tick(a), Self::Tick(b)) | (Self::LeaveOut(a), Self::LeaveOut(b)) => a == b,
            (Self::Add(a), Self::Add(b)) => a == b,
            _ => false,
        }
    }
}

/// What can be rehearsed: the climbs, and last the soak.
pub(super) const CHOICES: [Option<Kind>; 4] = [Some(Kind::Bitrate), Some(Kind::Preset), Some(Kind::Picture), None];

/// Longer things to do are not taken, in characters.
const LONGEST: usize = 80;

/// The state of the Rehearse screen.
#[derive(Default)]
pub(super) struct Rehearsing {
    /// How broadcasters reach it; `None` in a demo, and where nothing can be rehearsed.
    doors: Option<Doors>,
    seed: u64,
    /// There is nothing but rehearsals, and no broadcast beside them.
    pub(super) is_all: bool,
    /// The broadcast is recorded, and a rehearsal would end up in the same file.
    records: bool,
    /// What is chosen, by its place.
    pub(super) at: usize,
    /// A stand-in server takes it.
    pub(super) no_server: bool,
    /// What to do, under the cursor.
    pub(super) to_do_at: usize,
    /// What runs, or ran last.
    pub(super) run: Option<Arc<Run>>,
    /// Waits for a yes.
    prepared: Option<Box<Prepared>>,
    /// What was rehearsed before, the newest last.
    pub(super) history: Vec<Rehearsed>,
}

impl std::fmt::Debug for Rehearsing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // What is prepared holds a key.
        f.debug_struct("Rehearsing").field("at", &self.at).field("no_server", &self.no_server).finish_non_exhaustive()
    }
}

impl Rehearsing {
    /// Whether one runs.
    pub(super) fn is_running(&self) -> bool {
        self.run.as_ref().is_some_and(|run| run.over.is_none())
    }

    /// The one that runs, or ran last and is still shown.
    pub(super) fn shown(&self) -> Option<&Run> {
        self.run.as_deref()
    }

    /// What was found last of what is chosen.
    pub(super) fn last(&self, choice: Option<Kind>, setup: &str) -> Option<&Rehearsed> {
        let is = |past: &&Rehearsed| past.climb() == choice && past.setup == setup && says_something(past);
        self.history.iter().rev().find(is)
    }
}

impl App {
    /// With what it takes to rehearse.
    #[must_use]
    pub(crate) fn rehearsing_through(mut self, doors: Option<Doors>, seed: u64, records: bool) -> Self {
        (self.rehearsing.doors, self.rehearsing.seed, self.rehearsing.records) = (doors, seed, records);
        self.recall_rehearsals();
        self
    }

    fn recall_rehearsals(&mut self) {
        if let Some(before) = &self.before {
            self.rehearsing.history = before.in_use.rehearsals.read().unwrap_or_default();
        }
    }

    /// A rehearsal is what it begins with.
    pub(crate) fn begin_with_the_rehearsal(&mut self) {
        self.tab = Tab::Rehearse;
        self.rehearsing.is_all = true;
    }

    /// Takes how far a rehearsal is; gives whether that must be seen at once.
    pub(crate) fn follow_rehearsal(&mut self, run: Option<Arc<Run>>) -> bool {
        let was_running = self.rehearsing.is_running();
        self.rehearsing.run = run;
        let is_over = was_running && !self.rehearsing.is_running();
        if is_over {
            self.recall_rehearsals();
        }
        is_over
    }

    pub(super) fn rehearse_key(&mut self, code: KeyCode) -> Option<Wish> {
        self.before.as_ref()?;
        if self.rehearsing.is_running() {
            return self.running_key(code);
        }
        let choices = CHOICES.len();
        match (code, self.rehearsing.run.is_some()) {
            (KeyCode::Char('k'), true) => self.keep_rehearsed(),
            // What was found is put away; what can be rehearsed is there again.
            (KeyCode::Esc | KeyCode::Enter, true) => self.rehearsing.run = None,
            (_, true) => {}
            (KeyCode::Up, false) => self.rehearsing.at = self.rehearsing.at.saturating_sub(1),
            (KeyCode::Down, false) => self.rehearsing.at = (self.rehearsing.at + 1).min(choices - 1),
            (KeyCode::Char('s'), false) if !self.is_demo => self.rehearsing.no_server = !self.rehearsing.no_server,
            (KeyCode::Enter, false) => return self.prepare_rehearsal(),
            _ => {}
        }
        None
    }

    fn running_key(&mut self, code: KeyCode) -> Option<Wish> {
        let to_do = match &self.rehearsing.run.as_ref()?.task {
            Task::Soak(soak) => soak.to_do().len(),
            Task::Climb(_) => 0,
        };
        let at = self.rehearsing.to_do_at.min(to_do.saturating_sub(1));
        match code {
            KeyCode::Esc | KeyCode::Char('c') => return Some(Wish::Rehearse(RehearsalOrder::Cancel)),
            _ if to_do == 0 && code != KeyCode::Char('n') => {}
            KeyCode::Up => self.rehearsing.to_do_at = at.saturating_sub(1),
            KeyCode::Down => self.rehearsing.to_do_at = (at + 1).min(to_do - 1),
            KeyCode::Char(' ') | KeyCode::Enter => {
                self.rehearsing.to_do_at = (at + 1).min(to_do - 1);
                return Some(Wish::Rehearse(RehearsalOrder::Tick(at)));
            }
            KeyCode::Char('n') if matches!(self.rehearsing.run.as_ref()?.task, Task::Soak(_)) => {
                self.dialog = Some(Dialog::EnterToDo(String::new()));
            }
            KeyCode::Char('x') => return self.leave_out(at),
            _ => {}
        }
        None
    }

    /// The list as it stands in the setup.
    fn to_do(&self) -> Vec<String> {
        let own = self.before.as_ref().and_then(|before| before.in_use.setup.soak.clone());
        own.unwrap_or_else(|| TO_DO.map(str::to_owned).to_vec())
    }

    fn leave_out(&mut self, at: usize) -> Option<Wish> {
        let Task::Soak(soak) = &self.rehearsing.run.as_ref()?.task else { return None };
        let gone = soak.to_do().get(at).filter(|to_do| to_do.done_at.is_none())?.text.clone();
        let left = self.to_do().into_iter().filter(|text| *text != gone).collect();
        self.notice = self.before.as_mut()?.change(&Change::Soak(left));
        Some(Wish::Rehearse(RehearsalOrder::LeaveOut(at)))
    }

    pub(super) fn type_to_do(&mut self, mut typed: String, key: KeyEvent) -> Option<Wish> {
        match key.code {
            KeyCode::Esc => return None,
            KeyCode::Enter => {
                let text = typed.trim().to_owned();
                if text.is_empty() {
                    return None;
                }
                let mut list = self.to_do();
                list.push(text.clone());
                self.notice = self.before.as_mut()?.change(&Change::Soak(list));
                return Some(Wish::Rehearse(RehearsalOrder::Add(text)));
            }
            KeyCode::Backspace => {
                typed.pop();
            }
            KeyCode::Char(c) if !key.modifiers.contains(KeyModifiers::CONTROL) && typed.chars().count() < LONGEST => {
                typed.push(c);
            }
            _ => {}
        }
        self.dialog = Some(Dialog::EnterToDo(typed));
        None
    }

    /// Gets what is chosen ready; if a service would get it, that is asked about first.
    fn prepare_rehearsal(&mut self) -> Option<Wish> {
        let on_air = self.snapshot.as_ref().is_some_and(|s| s.on_air_since.is_some());
        if on_air && !self.is_demo && !self.rehearsing.is_all {
            self.notice = Some("you are on air: a rehearsal takes the place of the broadcast; end it first, or use `moth rehearse` afterwards".into());
            return None;
        }
        if self.rehearsing.records {
            self.notice = Some(
                "this broadcast is recorded, and a rehearsal would end up in the same file: use `moth rehearse`".into(),
            );
            return None;
        }
        let wanted = Wanted {
            climb: CHOICES.get(self.rehearsing.at).copied().flatten(),
            no_server: self.rehearsing.no_server,
            ..Wanted::default()
        };
        let in_use = &self.before.as_ref()?.in_use;
        let prepared = match &self.rehearsing.doors {
            None => rehearsal::prepare_demo(&wanted, in_use, self.rehearsing.seed),
            Some(doors) => rehearsal::prepare(&wanted, in_use, doors),
        };
        match prepared {
            Err(failure) => self.notice = Some(failure.to_string()),
            Ok(prepared) => {
                let words = prepared.publishes.clone();
                self.rehearsing.prepared = Some(Box::new(prepared));
                match words {
                    None => return self.begin_prepared(),
                    Some(mut words) => {
                        if in_use.service.unseen.is_none() {
                            words.push_str(". Your channel goes live with it");
                        }
                        self.dialog = Some(Dialog::ConsentRehearsal(words));
                    }
                }
            }
        }
        None
    }

    pub(super) fn begin_prepared(&mut self) -> Option<Wish> {
        let prepared = self.rehearsing.prepared.take()?;
        self.notice = prepared.cut_off.clone();
        self.rehearsing.to_do_at = 0;
        self.rehearsing.run = Some(Arc::new(prepared.run.clone()));
        Some(Wish::Rehearse(RehearsalOrder::Begin(prepared)))
    }

    /// What is recommended goes into the setup.
    fn keep_rehearsed(&mut self) {
        let (Some(run), Some(before)) = (&self.rehearsing.run, self.before.as_mut()) else { return };
        // What is on beside it was begun with the setup as it was.
        let when =
            if self.rehearsing.is_all || self.is_demo { "" } else { "; it is used when the moth is started again" };
        self.notice = Some(match rehearsal::keep(run, &mut before.in_use) {
            Ok(kept) => format!("{kept}{when}"),
            Err(failure) => failure.to_string(),
        });
    }

    /// Whether what ended can be kept.
    pub(super) fn can_keep(&self) -> bool {
        let over = self.rehearsing.run.as_ref().and_then(|run| run.over.as_ref());
        over.is_some_and(|over| matches!(&over.what, What::Climb(finding) if finding.recommended.is_some()))
    }
}
