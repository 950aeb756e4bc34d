//! A broadcast that was cut off just now: what is put on goes on with it, in the logbook, on the lanes and in the readings.

use std::path::Path;
use std::time::Duration;

use jiff::Timestamp;
use moth_core::Moment;
use moth_core::history::History;
use moth_core::reading::{LinkChange, Observation};
use moth_evening::chronicle::Chronicle;
use moth_logbook::broken_off::BrokenOff;
use moth_logbook::readings::{Header, Reader};
use moth_logbook::{Logbook, LogbookError, Pen};

use super::plan::LogPlan;
use super::scribe::GOOD;

/// The readings' clock begins when the broadcast's does, but for what a start takes. Ours.
const SAME: Duration = Duration::from_secs(5);

/// A broadcast that was cut off, as far as it was kept.
#[derive(Debug, Clone)]
pub struct GoingOn {
    /// When its clock began.
    began: Timestamp,
    /// What time it is on its clock.
    pub first: Moment,
    /// What was kept of it ends there, in seconds.
    until: usize,
    /// Its seconds.
    pub history: History,
    /// What was written down of it.
    pub chronicle: Chronicle,
    /// Writes the rest.
    pub pen: Pen,
}

/// The newest broadcast of this setup that was cut off a short while ago, and that nobody writes any more; none if the logbook cannot be
/// read, which whoever keeps the next will say.
#[must_use]
pub fn find(plan: &LogPlan, now: Timestamp, processes: &[u32]) -> Option<GoingOn> {
    if plan.is_demo() {
        return None;
    }
    look(plan, now, processes)
        .inspect_err(|error| tracing::warn!("what was cut off cannot be gone on with: {error}"))
        .ok()?
}

fn look(plan: &LogPlan, now: Timestamp, processes: &[u32]) -> Result<Option<GoingOn>, LogbookError> {
    let Some(logbook) = Logbook::open_to_read(&plan.path)? else { return Ok(None) };
    let is_of_this_setup = |one: &BrokenOff| {
        let about = &one.about;
        (&about.setup, &about.service, about.is_made_up) == (&plan.setup, &plan.service, false)
    };
    // Who wrote it is gone, and is known: an entry of an older moth does not tell.
    let is_left = |one: &BrokenOff| one.writer.is_some_and(|writer| !processes.contains(&writer));
    let found = logbook.broken_off(now, GOOD)?.into_iter().find(|one| is_of_this_setup(one) && is_left(one));
    let Some(BrokenOff { nr, about, until, .. }) = found else { return Ok(None) };
    let (pen, kept) = logbook.go_on(nr)?;
    let began = about.began.timestamp();
    let since = Duration::try_from(now.duration_since(began)).unwrap_or_default();
    Ok(Some(GoingOn {
        began,
        first: Moment::after(since.max(Duration::from_secs(until as u64))),
        until,
        history: kept.history(),
        chronicle: kept.chronicle,
        pen,
    }))
}

impl GoingOn {
    /// The whole second from which on it is known again.
    #[must_use]
    pub fn from(&self) -> Moment {
        Moment::after(Duration::from_secs(self.first.since(Moment::START).as_secs()))
    }

    /// What is marked on the lanes where it goes on.
    #[must_use]
    pub fn mark(&self) -> String {
        let gap_s = self.first.since(Moment::after(Duration::from_secs(self.until as u64))).as_secs_f64();
        format!(
            "begun again: the process before was killed or met a fault; nothing is known of the {gap_s:.0} s before this"
        )
    }

    /// What a readings file is told at the end of what is in it.
    #[must_use]
    pub fn end_of_what_was(&self, servers: &[String]) -> Vec<Observation> {
        let is_on_air =
            self.until.checked_sub(1).and_then(|last| self.history.get(last)).is_some_and(|s| s.state.is_some());
        let gone = is_on_air.then_some(Observation::Broadcaster { present: false });
        let closed = servers.first().map(|server| Observation::Link(LinkChange::Closed { server: server.clone() }));
        closed.into_iter().chain(gone).collect()
    }

    /// Whether a readings file is of this broadcast.
    #[must_use]
    pub fn is_recorded_in(&self, path: &Path, servers: &[String]) -> bool {
        let Ok(Header { servers: named, began, made_up, .. }) = Reader::open(path).map(|reader| reader.header) else {
            return false;
        };
        let began = began.and_then(|began| began.parse::<Timestamp>().ok());
        let is_same =
            began.is_some_and(|began| began.duration_since(self.began).abs() <= SAME.try_into().unwrap_or_default());
        is_same && named == servers && !made_up
    }
}
