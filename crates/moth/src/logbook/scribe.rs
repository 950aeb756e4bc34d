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

use crate::failure::{Failure, Outcome};
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
        let desk = Desk { plan, logbook: None, kind: Kind::Broadcast, pen: None, tell, failed_at: None, is_hopeless: false, left: None, last_nr: None };
        let thread = std::thread::Builder::new()
            .name("logbook".into())
            .spawn(move || desk.work(&from))
            .map_err(Failure::system("the logbook's thread could not be started"))?;
        Ok(Self { notes, thread, keeping, begins: None })
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

/// Ends a scribe, if there is one; gives the number of the newest broadcast, and tells what was not written.
pub(crate) fn finish(scribe: Option<Scribe>) -> (Option<i64>, Outcome) {
    match scribe.map(Scribe::finish) {
        Some(Ok(nr)) => (nr, Ok(())),
        Some(Err(failure)) => (None, Err(failure)),
        None => (None, Ok(())),
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
    fn work(mut self, notes: &Receiver<Note>) -> Option<i64> {
        self.tidy();
        loop {
            match notes.recv_timeout(Duration::from_secs(1)) {
                Ok(Note::Begin(kind)) => {
                    self.end();
                    (self.kind, self.left) = (kind, None);
                }
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
        let mut pen = Pen::new(self.plan.about(self.kind, began));
        self.plan.tests.iter().for_each(|test| pen.add_test(test.clone()));
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
