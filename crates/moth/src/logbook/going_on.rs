//! A broadcast that was cut off just now: what is put on goes on with it, in the logbook, on the lanes and in the readings.

use std::path::Path;
use std::time::Duration;

use jiff::Timestamp;
use moth_core::Moment;
use moth_core::reading::{LinkChange, Observation};
use moth_evening::names::Kind;
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
    /// Writes the rest, and has what was kept so far.
    pub pen: Pen,
}

/// The newest broadcast of this setup, to one of these servers, that was cut off a short while ago and that nobody writes any more; none if
/// the logbook cannot be read, which whoever keeps the next will say.
#[must_use]
pub fn find(plan: &LogPlan, servers: &[String], now: Timestamp) -> Option<GoingOn> {
    if plan.is_demo() {
        return None;
    }
    look(plan, servers, now)
        .inspect_err(|error| tracing::warn!("what was cut off cannot be gone on with: {error}"))
        .ok()?
}

fn look(plan: &LogPlan, servers: &[String], now: Timestamp) -> Result<Option<GoingOn>, LogbookError> {
    let Some(logbook) = Logbook::open_to_read(&plan.path)? else { return Ok(None) };
    let is_of_this_setup = |one: &BrokenOff| {
        let about = &one.about;
        (&about.setup, &about.service, about.is_made_up) == (&plan.setup, &plan.service, false)
    };
    // Who wrote it must be gone: an entry of an older moth does not tell who that is.
    let is_left = |one: &BrokenOff| one.writer.is_some_and(is_gone);
    let found = logbook.broken_off(now, GOOD)?.into_iter().find(|one| is_of_this_setup(one) && is_left(one));
    let Some(BrokenOff { nr, about, until, .. }) = found else { return Ok(None) };
    let pen = logbook.go_on(nr)?;
    // Without a setup a broadcast is told from another by where it goes.
    if !servers.iter().any(|server| pen.chronicle().names().has(Kind::Server, server)) {
        return Ok(None);
    }
    let began = about.began.timestamp();
    let since = Duration::try_from(now.duration_since(began)).unwrap_or_default();
    Ok(Some(GoingOn { began, first: Moment::after(since.max(Duration::from_secs(until as u64))), until, pen }))
}

/// Whether a process is gone. One that has its number and is another is not told from it; this process is not the one that wrote before,
/// whatever its number: where few processes run, it may be the same.
fn is_gone(process: u32) -> bool {
    process == std::process::id() || !moth_host::runs(process)
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
            self.until.checked_sub(1).and_then(|last| self.pen.history()?.get(last)).is_some_and(|s| s.state.is_some());
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

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::{SignedDuration, Zoned};
    use moth_core::reading::{Reading, VideoFrame};
    use moth_core::{Core, Origin, Settings};

    /// A logbook in which a process that has this number keeps a broadcast of five seconds to Aldmoor, which it did not end.
    fn cut_off(path: &Path, writer: u32, ago_s: i64) -> LogPlan {
        let plan = LogPlan::at(path.to_owned());
        let mut core = Core::new(Settings { servers: vec!["Aldmoor".into()] });
        let mut take = |at_ms, what| core.take(&Reading { at: Moment::from_ms(at_ms), origin: Origin::Measured, what });
        take(100, Observation::Broadcaster { present: true });
        for at_ms in (200..5100).step_by(20) {
            take(at_ms, Observation::Video(VideoFrame { time_ms: at_ms as u32, bytes: 9000, ..VideoFrame::default() }));
        }
        let began = Zoned::now().checked_sub(SignedDuration::from_secs(5 + ago_s)).unwrap();
        let mut pen = Pen::new(plan.about(moth_logbook::Kind::Broadcast, began)).by(writer);
        pen.take(&core.snapshot(Moment::from_ms(5100)));
        pen.write(&mut Logbook::open(path).unwrap()).unwrap();
        plan
    }

    #[test]
    fn only_one_of_this_setup_to_these_servers_that_nobody_writes_any_more_is_gone_on_with() {
        let dir = tempfile::tempdir().unwrap();
        let file = |name: &str| dir.path().join(name);
        let servers = |name: &str| vec![name.to_owned()];
        // The parent of this process runs, and what was waited for does not.
        let runs = std::os::unix::process::parent_id();
        let gone = {
            let mut child = std::process::Command::new("true").spawn().unwrap();
            child.wait().unwrap();
            child.id()
        };
        let now = Timestamp::now();
        let left = cut_off(&file("left"), gone, 3);
        let going_on = find(&left, &servers("Aldmoor"), now).unwrap();
        assert_eq!((going_on.until, going_on.pen.history().unwrap().len()), (5, 5));
        assert!((7.5..9.5).contains(&going_on.first.seconds()), "{:?}", going_on.first);
        assert!(going_on.mark().contains("nothing is known of the 3 s before"), "{}", going_on.mark());
        assert!(find(&left, &servers("Dunmere"), now).is_none(), "it went elsewhere");
        let mut another = left.clone();
        another.setup = "dome-talk".into();
        assert!(find(&another, &servers("Aldmoor"), now).is_none());
        assert!(find(&cut_off(&file("there"), runs, 3), &servers("Aldmoor"), now).is_none(), "somebody writes it");
        assert!(find(&cut_off(&file("old"), gone, 700), &servers("Aldmoor"), now).is_none(), "it was long ago");
        assert!(find(&LogPlan::at(file("none")), &servers("Aldmoor"), now).is_none());
    }
}
