//! Rehearsing on the screen: what can be chosen, and what runs.

use std::sync::Arc;

use moth_rehearsal::ladder::Kind;
use moth_store::rehearsals::Rehearsed;

use crate::live::plan::Doors;
use crate::rehearsal::Prepared;
use crate::rehearsal::run::{Run, says_something};

/// What is to be done about a rehearsal.
#[derive(Clone)]
pub enum RehearsalOrder {
    /// It begins.
    Begin(Box<Prepared>),
    /// It ends; everything is put back.
    Cancel,
    /// Something to do in a soak was done.
    Tick(usize),
    /// Adds this to what is to be done in a soak.
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

/// What it takes to rehearse beside a broadcast.
#[derive(Default)]
pub(crate) struct RehearsalPlan {
    /// How broadcasters reach it; `None` in a demo, and where nothing can be rehearsed.
    pub doors: Option<Doors>,
    /// Of a demo's.
    pub seed: u64,
    /// The broadcast is recorded, and a rehearsal would end up in the same file.
    pub records: bool,
}

/// The state of the Rehearse screen.
#[derive(Default)]
pub(super) struct Rehearsing {
    /// What it takes.
    pub(super) plan: RehearsalPlan,
    /// There is nothing but rehearsals, and no broadcast beside them.
    pub(super) is_all: bool,
    /// What is chosen, by its place.
    pub(super) at: usize,
    /// A stand-in server takes it.
    pub(super) no_server: bool,
    /// What to do, under the cursor.
    pub(super) to_do_at: usize,
    /// What runs, or ran last.
    pub(super) run: Option<Arc<Run>>,
    /// Waits for a yes.
    pub(super) prepared: Option<Box<Prepared>>,
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
