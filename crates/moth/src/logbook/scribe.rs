//! Writes broadcasts into the logbook as they go, on a thread of its own. A disk that is slow or full costs the keeping, never a frame;
//! what stands in the way is told at once, and when it is gone the keeping goes on.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, TrySendError, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp, Zoned};
use moth_core::{Moment, Snapshot};
use moth_logbook::{Kind, Logbook, LogbookError, Pen};
use tokio::sync::watch;

use crate::failure::Failure;
use crate::logbook::going_on::GoingOn;
use crate::logbook::plan::LogPlan;

/// Looks that may wait for the disk: ten seconds of them. Ours: each holds what has changed since the one before; if more wait, those that
/// follow have all seconds of those that were left out.
const WAITING: usize = 50;
/// A broadcaster that stays away for so long has left for good; who comes then begins another broadcast. Ours.
pub(crate) const GOOD: Duration = Duration::from_secs(600);
/// What failed is tried again after this. Ours.
const AGAIN: Duration = Duration::from_secs(2);
/// At the end the disk gets this long. Ours.
const PATIENCE: Duration = Duration::from_secs(4);

/// How the keeping goes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Keeping {
    /// The number of the broadcast that is kept.
    pub nr: Option<i64>,
    /// What stands in the way, if anything does.
    pub trouble: Option<String>,
}

enum Note {
    /// What is seen from now on is another broadcast.
    Begin(Kind),
    /// It goes on where another broke off.
    GoOn(Box<Pen>),
    Seen(Arc<Snapshot>),
}

/// Writes broadcasts down.
pub struct Scribe {
    notes: SyncSender<Note>,
    thread: JoinHandle<Option<i64>>,
    keeping: watch::Receiver<Keeping>,
    /// Begins that had to wait: they must not be left out.
    begins: Option<Kind>,
}

impl Scribe {
    /// One that waits for a broadcast.
    ///
    /// # Errors
    /// [`Failure`] if its thread cannot be started.
    pub fn begin(plan: LogPlan) -> Result<Self, Failure> {
        let (notes, from) = sync_channel(WAITING);
        let (tell, keeping) = watch::channel(Keeping::default());
        let desk = Desk::new(plan, tell);
        let thread = std::thread::Builder::new()
            .name("logbook".into())
            .spawn(move || desk.work(&from))
            .map_err(Failure::system("the logbook's thread could not be started"))?;
        Ok(Self { notes, thread, keeping, begins: None })
    }

    /// One for what begins now, if it is to be kept.
    ///
    /// # Errors
    /// [`Failure`] if its thread cannot be started.
    pub fn of(plan: Option<LogPlan>, kind: Kind) -> Result<Option<Self>, Failure> {
        let Some(plan) = plan else { return Ok(None) };
        let mut scribe = Self::begin(plan)?;
        scribe.begin_anew(kind);
        Ok(Some(scribe))
    }

    /// What is seen from now on is one that broke off and goes on, if there is one, else another.
    pub fn follow(&mut self, going_on: Option<&GoingOn>, kind: Kind) {
        match going_on {
            Some(going_on) => {
                let pen = going_on.pen.clone().by(std::process::id());
                // It is the first there is to say: there is room.
                let _ = self.notes.try_send(Note::GoOn(Box::new(pen)));
            }
            None => self.begin_anew(kind),
        }
    }

    /// What is seen from now on is another broadcast.
    pub fn begin_anew(&mut self, kind: Kind) {
        if let Err(TrySendError::Full(_)) = self.notes.try_send(Note::Begin(kind)) {
            self.begins = Some(kind);
        }
    }

    /// Takes what is seen, without waiting for anything.
    pub fn take(&mut self, snapshot: &Arc<Snapshot>) {
        if let Some(kind) = self.begins.take() {
            self.begin_anew(kind);
        }
        if self.begins.is_none() {
            // The next has what this one would have told.
            let _ = self.notes.try_send(Note::Seen(snapshot.clone()));
        }
    }

    /// How the keeping goes.
    #[must_use]
    pub fn keeping(&self) -> watch::Receiver<Keeping> {
        self.keeping.clone()
    }

    /// Ends it, once everything is written or the disk had its time; gives the number of the newest broadcast.
    ///
    /// # Errors
    /// [`Failure`] if not everything was written.
    pub fn finish(self) -> Result<Option<i64>, Failure> {
        let Self { notes, thread, keeping, .. } = self;
        drop(notes);
        let until = Instant::now() + PATIENCE;
        while !thread.is_finished() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(10));
        }
        if !thread.is_finished() {
            return Err(Failure::NotKept("the disk does not take the end of it".into()));
        }
        let nr = thread.join().map_err(|_| Failure::Fault)?;
        let trouble = keeping.borrow().trouble.clone();
        trouble.map_or(Ok(nr), |trouble| Err(Failure::NotKept(trouble)))
    }
}

/// Where the writing is done.
struct Desk {
    plan: LogPlan,
    logbook: Option<Logbook>,
    kind: Kind,
    pen: Option<Pen>,
    tell: watch::Sender<Keeping>,
    failed_at: Option<Instant>,
    /// What stands in the way does not pass by itself.
    is_hopeless: bool,
    /// Since when the broadcaster is away.
    left: Option<Moment>,
    last_nr: Option<i64>,
}

impl Desk {
    fn new(plan: LogPlan, tell: watch::Sender<Keeping>) -> Self {
        let kind = Kind::Broadcast;
        Self {
            plan,
            logbook: None,
            kind,
            pen: None,
            tell,
            failed_at: None,
            is_hopeless: false,
            left: None,
            last_nr: None,
        }
    }

    fn work(mut self, notes: &Receiver<Note>) -> Option<i64> {
        self.tidy();
        loop {
            match notes.recv_timeout(Duration::from_secs(1)) {
                Ok(Note::Begin(kind)) => {
                    self.end();
                    (self.kind, self.left) = (kind, None);
                }
                Ok(Note::GoOn(pen)) => self.pen = Some(*pen),
                Ok(Note::Seen(snapshot)) => self.see(&snapshot),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => {
                    self.end();
                    return self.last_nr;
                }
            }
            let may_try = !self.is_hopeless && self.failed_at.is_none_or(|at| at.elapsed() >= AGAIN);
            if may_try && self.pen.as_ref().is_some_and(Pen::is_due) {
                self.write(Pen::write);
            }
        }
    }

    /// What belongs to the time before a broadcast: what goes by the limits, and what is thinned.
    fn tidy(&mut self) {
        if self.plan.is_demo() {
            return;
        }
        let tidied = || {
            // A logbook is made when there is something to write into it.
            if Logbook::open_to_read(&self.plan.path)?.is_none() {
                return Ok(());
            }
            let (mut logbook, now) = (Logbook::open(&self.plan.path)?, Timestamp::now());
            let going: Vec<i64> = logbook.beyond(self.plan.limits, now)?.iter().map(|one| one.nr).collect();
            if !going.is_empty() {
                logbook.remove(&going, now)?;
                tracing::info!(?going, "went out of the logbook by its limits");
            }
            // One at a time: the broadcast waits for it.
            logbook.thin_one(now).map(drop)
        };
        if let Err(error) = tidied() {
            let error: LogbookError = error;
            tracing::warn!("{error}");
        }
    }

    fn see(&mut self, snapshot: &Snapshot) {
        match (snapshot.on_air_since, self.left) {
            (Some(_), _) => {
                self.left = None;
                if self.pen.is_none() {
                    let lasted = SignedDuration::try_from(snapshot.at.since(Moment::START)).unwrap_or_default();
                    let now = Zoned::now();
                    self.take_a_pen(now.checked_sub(lasted).unwrap_or(now));
                }
            }
            (None, None) => self.left = Some(snapshot.at),
            (None, Some(since)) if snapshot.at.since(since) >= GOOD => return self.end(),
            // While nobody broadcasts nothing is kept: should they come back, their first second brings these along.
            (None, Some(since)) if snapshot.at.since(since) > Duration::from_secs(2) => return,
            (None, Some(_)) => {}
        }
        if let Some(pen) = &mut self.pen {
            pen.take(snapshot);
        }
    }

    fn take_a_pen(&mut self, began: Zoned) {
        let mut pen = Pen::new(self.plan.about(self.kind, began)).by(std::process::id());
        // As late as that: servers are tested on the screen, too, before a broadcaster comes.
        self.plan.tests(Timestamp::now()).into_iter().for_each(|test| pen.add_test(test));
        self.pen = Some(pen);
    }

    fn end(&mut self) {
        self.write(Pen::end);
        self.pen = None;
    }

    fn write(&mut self, write: fn(&mut Pen, &mut Logbook) -> Result<(), LogbookError>) {
        let Some(pen) = &mut self.pen else { return };
        let mut written = || {
            if self.logbook.is_none() && (pen.is_due() || pen.nr().is_some()) {
                self.logbook = Some(self.plan.open()?);
            }
            match &mut self.logbook {
                Some(logbook) => write(pen, logbook),
                None => Ok(()),
            }
        };
        match written() {
            Ok(()) => {
                self.failed_at = None;
                self.last_nr = pen.nr().or(self.last_nr);
                let now = Keeping { nr: pen.nr(), trouble: None };
                let was = self.tell.send_replace(now);
                if was.trouble.is_some() {
                    tracing::warn!("the logbook is kept again: no second of the broadcast is missing in it");
                }
            }
            Err(error) => {
                self.failed_at = Some(Instant::now());
                self.is_hopeless = !error.may_pass();
                let trouble = error.to_string();
                let was = self.tell.send_replace(Keeping { nr: pen.nr(), trouble: Some(trouble.clone()) });
                if was.trouble.as_ref() != Some(&trouble) {
                    let then = if self.is_hopeless { "nothing is kept" } else { "it is tried again" };
                    tracing::warn!("{trouble}; the broadcast goes on, {then}");
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::{Core, Settings};
    use moth_stage::{Theatre, shipped};

    /// A few seconds of a calm evening, five looks a second.
    fn looks(seconds: u64) -> Vec<Arc<Snapshot>> {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build().unwrap();
        runtime.block_on(async {
            let evening = shipped().into_iter().find(|evening| evening.slug == "calm").unwrap();
            let (mut core, mut seen) = (Core::new(Settings { servers: evening.servers() }), Vec::new());
            let (mut theatre, mut look) = (Theatre::open(&evening, 41).unwrap(), Moment::START);
            while let Some(reading) = theatre.readings.recv().await {
                while look <= reading.at {
                    seen.push(Arc::new(core.snapshot(look)));
                    look = Moment::from_ms(seen.len() as u64 * 200);
                }
                if reading.at > Moment::from_ms(seconds * 1000) {
                    break;
                }
                core.take(&reading);
            }
            seen
        })
    }

    fn wait(scribe: &Scribe, until: impl Fn(&Keeping) -> bool) -> Keeping {
        let deadline = Instant::now() + Duration::from_secs(20);
        loop {
            let now = scribe.keeping().borrow().clone();
            if until(&now) {
                return now;
            }
            assert!(Instant::now() < deadline, "{now:?}");
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    #[test]
    fn what_stands_in_the_way_is_told_and_once_it_is_gone_everything_is_kept() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("logbook.sqlite");
        // Nothing can be written where a folder is.
        std::fs::create_dir(&path).unwrap();
        let mut scribe = Scribe::of(Some(LogPlan::at(path.clone())), Kind::Broadcast).unwrap().unwrap();
        let looks = looks(12);
        looks.iter().for_each(|look| scribe.take(look));
        let told = wait(&scribe, |keeping| keeping.trouble.is_some());
        assert!(told.nr.is_none() && told.trouble.unwrap().contains("cannot be opened"));
        std::fs::remove_dir(&path).unwrap();
        let told = wait(&scribe, |keeping| keeping.nr.is_some());
        assert_eq!(told.trouble, None);
        // A look that found no room in front of the disk is made up for by the next.
        scribe.take(looks.last().unwrap());
        let nr = scribe.finish().unwrap().unwrap();
        let logbook = Logbook::open_to_read(&path).unwrap().unwrap();
        assert_eq!(logbook.kept(nr).unwrap().seconds.len(), looks.last().unwrap().history.len());
        assert!(logbook.listed(nr).unwrap().is_ended);
    }

    #[test]
    fn a_file_that_is_no_logbook_costs_the_keeping_and_is_left_alone() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("logbook.sqlite");
        std::fs::write(&path, "These are words.").unwrap();
        let mut scribe = Scribe::of(Some(LogPlan::at(path.clone())), Kind::Broadcast).unwrap().unwrap();
        looks(4).iter().for_each(|look| scribe.take(look));
        wait(&scribe, |keeping| keeping.trouble.is_some());
        let failure = scribe.finish().unwrap_err().to_string();
        assert!(failure.contains("is not in the logbook to its end") && failure.contains("is no logbook"), "{failure}");
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "These are words.");
    }

    /// A broadcast of a few seconds that began then, as if it was watched, and ended well or not.
    fn kept(path: &std::path::Path, began: Zoned, ends: bool) -> i64 {
        let mut logbook = Logbook::open(path).unwrap();
        let mut pen = Pen::new(LogPlan::at(path.to_owned()).about(Kind::Broadcast, began));
        looks(5).iter().for_each(|look| pen.take(look));
        if ends { pen.end(&mut logbook) } else { pen.write(&mut logbook) }.unwrap();
        pen.nr().unwrap()
    }

    #[test]
    fn what_goes_by_the_limits_is_gone_before_the_next_begins_and_nothing_else() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("logbook.sqlite");
        let days_ago = |days: i64| Zoned::now().checked_sub(SignedDuration::from_hours(24 * days)).unwrap();
        let [old, newer] = [40, 5].map(|days| kept(&path, days_ago(days), true));
        let listed = || {
            let logbook = Logbook::open_to_read(&path).unwrap().unwrap();
            logbook.list(&moth_logbook::about::Wanted::default()).unwrap()
        };
        Scribe::begin(LogPlan::at(path.clone())).unwrap().finish().unwrap();
        assert_eq!(
            listed().iter().map(|one| (one.nr, one.thinned)).collect::<Vec<_>>(),
            [(newer, 0), (old, 1)],
            "thinned, and no more"
        );
        let limits = moth_logbook::thinning::Limits { days: Some(30), bytes: None };
        let mut plan = LogPlan::at(path.clone());
        plan.limits = limits;
        Scribe::begin(plan).unwrap().finish().unwrap();
        assert_eq!(listed().iter().map(|one| one.nr).collect::<Vec<_>>(), [newer]);
    }

    #[test]
    fn it_is_told_whether_a_broadcast_ended_goes_on_or_broke_off() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("logbook.sqlite");
        let ago = |seconds| Zoned::now().checked_sub(SignedDuration::from_secs(seconds)).unwrap();
        let told = |nr| {
            let logbook = Logbook::open_to_read(&path).unwrap().unwrap();
            crate::logbook::opened::Opened::open(logbook, nr).unwrap().told().unwrap().lines
        };
        let (ended, killed, now) =
            (kept(&path, ago(3600), true), kept(&path, ago(3600), false), kept(&path, ago(5), false));
        let last = |nr| told(nr).last().unwrap().clone();
        assert!(
            told(ended)[0].ends_with("setup comet-night.") && last(ended).starts_with("Before the next"),
            "{:?}",
            told(ended)
        );
        assert!(
            told(killed)[0].ends_with("; it broke off.") && last(killed).starts_with("Before the next"),
            "{:?}",
            told(killed)
        );
        assert!(
            told(now)[0].ends_with("; it goes on.") && !last(now).starts_with("Before the next"),
            "{:?}",
            told(now)
        );
        // What is not measured says so.
        assert!(told(ended)[1].contains("Dropped frames are measured, skipped and lagged ones reported."));
    }

    #[test]
    fn who_comes_after_ten_minutes_begins_another_broadcast() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("logbook.sqlite");
        let (tell, _keeping) = watch::channel(Keeping::default());
        let mut desk = Desk::new(LogPlan::at(path.clone()), tell);
        let looks = looks(5);
        let see = |desk: &mut Desk, at_ms: u64, is_on_air: bool| {
            let mut snapshot = looks.last().unwrap().as_ref().clone();
            snapshot.at = Moment::from_ms(at_ms);
            snapshot.on_air_since = is_on_air.then_some(Moment::from_ms(at_ms));
            desk.see(&snapshot);
        };
        looks.iter().for_each(|look| desk.see(look));
        see(&mut desk, 6_000, false);
        see(&mut desk, 300_000, false);
        see(&mut desk, 301_000, true);
        assert!(desk.last_nr.is_none(), "five minutes are a pause");
        see(&mut desk, 302_000, false);
        see(&mut desk, 902_500, false);
        assert_eq!(desk.last_nr, Some(1), "ten are for good");
        assert!(desk.pen.is_none());
        see(&mut desk, 2_000_000, true);
        desk.end();
        assert_eq!(desk.last_nr, Some(2));
    }
}
