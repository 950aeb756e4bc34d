//! Runs a climb on a broadcast: has each rung set, waits until what is seen is the rung's own, hands its seconds on, and puts
//! everything back. It is asked at every look, and says what is to be done; doing it is others' business.

use std::time::Duration;

use moth_core::moment::Moment;
use moth_core::proposal::Action;
use moth_core::suspects::Fault;
use moth_core::trial::SETTLE_S;
use moth_core::trial::weigh::LostSecond;
use moth_core::{Snapshot, State};
use serde::Serialize;

use crate::climb::{Climb, Next, Outcome, Times};
use crate::tried::Seen;

/// A rung: what sets it, and what it is called.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Rung {
    /// With its unit.
    pub name: String,
    /// What is to be done to the broadcast.
    pub action: Action,
    /// How heavy it is, in any unit that all rungs share.
    pub load: f64,
}

/// So long it may take until a change is made, and seen.
const MADE_WITHIN: Duration = Duration::from_secs(20);
/// So long it may take until what a heavier rung left behind is gone.
const DRAINED_WITHIN: Duration = Duration::from_secs(30);

/// What is to be done now.
#[derive(Debug, Clone, PartialEq)]
pub enum Does {
    /// This.
    Act(Action),
    /// Nothing: look again.
    Wait,
    /// Nothing any more.
    Over(End),
}

/// How it ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// Enough is known.
    Done,
    /// The broadcaster went away.
    BroadcasterGone,
    /// A rung could not be set.
    NotSet,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Phase {
    Begin,
    /// It was asked for; `made` once it is seen.
    Setting {
        since: Moment,
        made: Option<Moment>,
    },
    /// Its seconds count from that one on.
    Trying {
        from: usize,
    },
    /// What was before is asked for again.
    Over(End),
}

/// A climb that is being run.
#[derive(Debug, Clone, PartialEq)]
pub struct Runner {
    ladder: Vec<Rung>,
    climb: Climb,
    phase: Phase,
    next: Next,
    /// The rung that is in force, by its place.
    set: Option<usize>,
    /// What was seen of the rung that is tried.
    seen: Seen,
    /// What puts it back.
    back: Action,
    has_put_back: bool,
}

impl Runner {
    /// Up this ladder, the lightest rung first; `back` is done in the end, whatever happened.
    #[must_use]
    pub fn new(ladder: Vec<Rung>, times: Times, back: Action) -> Self {
        let climb = Climb::new(ladder.len(), times);
        let next = climb.next();
        Self { ladder, climb, phase: Phase::Begin, next, set: None, seen: Seen::default(), back, has_put_back: false }
    }

    /// The climb so far.
    #[must_use]
    pub fn climb(&self) -> &Climb {
        &self.climb
    }

    /// What is known by now.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        self.climb.outcome()
    }

    /// The rung that is set or tried, with why and for how long; `None` once it is over.
    #[must_use]
    pub fn now(&self) -> Option<(&Rung, Next)> {
        let Next::Try { rung, .. } = self.next else { return None };
        Some((self.ladder.get(rung)?, self.next))
    }

    /// Ends it; gives what puts everything back, if that was not asked for yet.
    pub fn cancel(&mut self, end: End) -> Option<Action> {
        self.phase = Phase::Over(end);
        (!std::mem::replace(&mut self.has_put_back, true)).then(|| self.back.clone())
    }

    /// Looks at the broadcast.
    pub fn look(&mut self, snapshot: &Snapshot) -> Does {
        let now = snapshot.at;
        match self.phase {
            Phase::Over(end) => Does::Over(end),
            Phase::Begin if snapshot.state == Some(State::Steady) => self.set(now),
            Phase::Begin => Does::Wait,
            _ if snapshot.on_air_since.is_none() => self.end(End::BroadcasterGone),
            Phase::Setting { since, made } => {
                let made = made.or_else(|| is_set(snapshot, since).then_some(now));
                self.phase = Phase::Setting { since, made };
                // What a heavier rung left in the queue must be gone; where it does not go, that is this rung's own.
                let is_drained = |made| snapshot.state == Some(State::Steady) || now.since(made) > DRAINED_WITHIN;
                match made {
                    None if now.since(since) > MADE_WITHIN => return self.end(End::NotSet),
                    Some(made) if is_drained(made) => {
                        self.seen = Seen::default();
                        self.phase = Phase::Trying { from: snapshot.history.len() + SETTLE_S };
                    }
                    _ => {}
                }
                Does::Wait
            }
            Phase::Trying { from } => self.follow(snapshot, from),
        }
    }

    fn follow(&mut self, snapshot: &Snapshot, from: usize) -> Does {
        for second in from + self.seen.seconds()..snapshot.history.len() {
            let Some(second) = snapshot.history.get(second) else { break };
            let lost = [second.dropped, second.skipped, second.lagged].into_iter().flatten().sum();
            self.seen.push(LostSecond { due: second.due.unwrap_or(0), lost });
        }
        if self.seen.seconds() > 0 && snapshot.verdict.fault != Fault::None {
            self.seen.accuse(snapshot.verdict.fault, snapshot.verdict.cause);
        }
        self.seen.strain(snapshot.state != Some(State::Steady));
        let Some(tried) = Climb::tried(self.next, &self.seen) else { return Does::Wait };
        self.climb.take(tried);
        self.next = self.climb.next();
        if self.next == Next::Over { self.end(End::Done) } else { self.set(snapshot.at) }
    }

    fn now_action(&self) -> Option<Action> {
        self.now().map(|(rung, _)| rung.action.clone())
    }

    fn set(&mut self, now: Moment) -> Does {
        let (Next::Try { rung, .. }, Some(action)) = (self.next, self.now_action()) else { return self.end(End::Done) };
        // One that is tried again is in force already.
        let made = (self.set == Some(rung)).then_some(now);
        self.phase = Phase::Setting { since: now, made };
        self.set = Some(rung);
        if made.is_some() { Does::Wait } else { Does::Act(action) }
    }

    fn end(&mut self, end: End) -> Does {
        match self.cancel(end) {
            Some(back) => Does::Act(back),
            None => Does::Over(end),
        }
    }
}

/// Whether a change was made since it was asked for. What puts an earlier one back opens no trial, and leaves a mark all the same.
fn is_set(snapshot: &Snapshot, since: Moment) -> bool {
    snapshot.marks.iter().rev().take_while(|mark| mark.at >= since).any(|mark| mark.is_change)
}
