//! A rehearsal under way: the climb or the soak with all that is kept of it.

use std::ops::ControlFlow;

use jiff::Timestamp;
use moth_core::Snapshot;
use moth_core::action::Action;
use moth_rehearsal::finding::ClimbFinding;
use moth_rehearsal::ladder::Value;
use moth_rehearsal::runner::{Does, Runner};
use moth_rehearsal::soak::Soak;
use moth_relay::RelayHandle;
use moth_store::rehearsals::{Rehearsals, Rehearsed, What};
use tokio::sync::mpsc::UnboundedSender;

/// What is run.
#[derive(Debug, Clone, PartialEq)]
pub enum Task {
    /// A climb.
    Climb(Box<Runner>),
    /// A soak.
    Soak(Box<Soak>),
}

/// For whom, and where.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct About {
    /// The setup's name.
    pub setup: String,
    /// The service's name in the file.
    pub service: String,
    /// The server's name.
    pub server: String,
    /// Where broadcasters publish to; `None` where a stand-in does.
    pub publish_to: Option<String>,
    /// After what the stand-in line is shaped, if it is one.
    pub simulated: Option<String>,
    /// Everything is a stand-in's.
    pub is_made_up: bool,
    /// The tries are shorter than they should be.
    pub is_short: bool,
}

/// A rehearsal under way.
#[derive(Debug, Clone, PartialEq)]
pub struct Run {
    /// For whom, and where.
    pub about: About,
    /// What is run.
    pub task: Task,
    /// Where it is kept.
    kept_in: Rehearsals,
    /// Share of the line that is to stay free, from 0 to 1.
    free: f64,
    /// What was noted last, by what changes it: tries, or seconds, and what the broadcaster would be left at.
    noted: Option<(usize, Option<Value>)>,
    /// What it came to, once it is over.
    pub over: Option<Rehearsed>,
    /// The one before it of its kind.
    pub before: Option<Rehearsed>,
    /// Why it could not be kept.
    pub not_kept: Option<String>,
}

impl Run {
    /// One that has not begun. `free` is the share of the line that is to stay free, from 0 to 1.
    #[must_use]
    pub fn new(about: About, task: Task, kept_in: Rehearsals, free: f64) -> Self {
        Self { about, task, kept_in, free, noted: None, over: None, before: None, not_kept: None }
    }

    /// Looks at the broadcast; what is to be done next.
    pub fn look(&mut self, snapshot: &Snapshot, now: Timestamp) -> Does {
        let does = match &mut self.task {
            Task::Climb(runner) => runner.look(snapshot),
            Task::Soak(soak) => soak.look(snapshot).map_or(Does::Wait, Does::Over),
        };
        if let Does::Over(_) = does {
            self.finish(now);
        } else {
            self.note(now);
        }
        does
    }

    /// Ends it; a climb puts everything back at the next looks.
    pub fn cancel(&mut self) {
        match &mut self.task {
            Task::Climb(runner) => runner.cancel(),
            Task::Soak(soak) => soak.cancel(),
        }
    }

    /// What it has come to so far.
    #[must_use]
    pub fn so_far(&self, date: Timestamp) -> Rehearsed {
        let what = match &self.task {
            Task::Climb(runner) => What::Climb(ClimbFinding::of(runner, self.free)),
            Task::Soak(soak) => What::Soak(soak.soaked()),
        };
        let About { setup, service, server, simulated, .. } = self.about.clone();
        Rehearsed { date, setup, service, server, simulated, what }
    }

    /// So that a crash loses nothing: after each try of a climb and at each change, for that must be put back, and every ten
    /// seconds of a soak.
    fn note(&mut self, now: Timestamp) {
        let steps = match &self.task {
            Task::Climb(runner) => (runner.climb().tries().len(), runner.left_at()),
            Task::Soak(soak) => (soak.progress().0 / 10, None),
        };
        if self.noted.as_ref() != Some(&steps) {
            self.noted = Some(steps);
            self.not_kept = self.kept_in.note(&self.so_far(now)).err().map(|error| error.to_string());
        }
    }

    fn finish(&mut self, now: Timestamp) {
        if self.over.is_some() {
            return;
        }
        let rehearsed = self.so_far(now);
        let all = self.kept_in.read().unwrap_or_default();
        self.before = all.into_iter().rev().find(|other| other.is_like(&rehearsed) && says_something(other));
        self.not_kept = self.kept_in.keep(&rehearsed).err().map(|error| error.to_string());
        self.over = Some(rehearsed);
    }
}

/// Has done to a broadcast what a rehearsal asks for; breaks when it is over.
pub(crate) fn carry_out(does: Does, order: &UnboundedSender<Action>, relay: &RelayHandle) -> ControlFlow<()> {
    match does {
        Does::Act(action) => {
            // Nobody listens only once the broadcast is over.
            let _ = order.send(action);
        }
        Does::Drop => relay.drop_what_waits(),
        Does::Wait => {}
        Does::Over(_) => return ControlFlow::Break(()),
    }
    ControlFlow::Continue(())
}

/// Whether anything was found in it.
#[must_use]
pub fn says_something(rehearsed: &Rehearsed) -> bool {
    match &rehearsed.what {
        What::Climb(finding) => !finding.tries.is_empty(),
        What::Soak(soaked) => soaked.says_something(),
    }
}

/// Whether a clean rung was found, or nothing was lost.
#[must_use]
pub fn is_clean(rehearsed: &Rehearsed) -> bool {
    match &rehearsed.what {
        What::Climb(finding) => finding.highest_clean.is_some(),
        What::Soak(soaked) => soaked.is_clean(),
    }
}
