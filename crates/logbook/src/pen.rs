//! Writes a broadcast into the logbook as it goes.
//!
//! What is seen is taken without a disk; [`Pen::write`] then writes all that is new in one transaction. If that fails nothing of it
//! counts, nothing is forgotten, and the next try has it all: seconds, verdicts and changes are never lost to a disk that was full for a
//! while, and of how everything stood only what is older than [`WAITING`].

use std::collections::VecDeque;
use std::hash::{DefaultHasher, Hash, Hasher};

use moth_core::history::{History, Second};
use moth_core::{Moment, Snapshot};
use moth_evening::chronicle::Chronicle;
use moth_evening::digest::Digest;
use moth_evening::load::{Load, Machine};
use moth_evening::moments::{Press, Pressed};
use rusqlite::{ErrorCode, Transaction, TransactionBehavior, params};
use serde::Serialize;

use crate::about::About;
use crate::columns;
use crate::error::LogbookError;
use crate::kept::Kept;
use crate::logbook::{Logbook, Whole};

/// So many seconds are packed together. Ours.
pub(crate) const STRETCH: usize = 256;
/// Moments that wait to be written; more are let go, the oldest first. Ours: five minutes, in about 200 kB.
const WAITING: usize = 300;
/// What the list shows is written each so many seconds, and at the end. Ours.
const DIGEST_EACH: usize = 10;
/// A broadcast that is longer, in seconds, is gone through more seldom for that: it is all of it that is gone through. Ours.
const LONG: usize = 3600;
/// What the list shows of a long one is written each so many seconds. Ours.
const DIGEST_LONG_EACH: usize = 60;
/// Seconds that are kept from before the broadcaster came. Ours.
const BEFORE: usize = 3;
/// Of verdicts only the newest still changes, of marks none, and of trials as many as a snapshot tells of.
const MAY_CHANGE: [usize; 3] = [1, 0, 8];
/// What each is called in the database.
const KINDS: [&str; 3] = ["verdict", "mark", "trial"];

/// Writes one broadcast.
#[derive(Debug, Clone)]
pub struct Pen {
    about: About,
    nr: Option<i64>,
    chronicle: Chronicle,
    press: Press,
    /// How everything stood, until it is written.
    waiting: VecDeque<Pressed>,
    /// Every second so far.
    history: Option<History>,
    first_second: usize,
    /// The second up to which all are written.
    until: usize,
    /// The second up to which they are packed together.
    packed_until: usize,
    /// What was written of each verdict, mark and trial, in their order.
    written: [Vec<u64>; 3],
    whole: u64,
    digested_at: usize,
    /// What was written takes so many bytes.
    bytes: usize,
    tests: Vec<String>,
    writer: Option<u32>,
    is_ended: bool,
}

/// What changes once a transaction counts.
struct Done {
    nr: i64,
    until: usize,
    packed_until: usize,
    written: [Vec<u64>; 3],
    whole: u64,
    digested_at: usize,
    bytes: usize,
    moments: usize,
}

impl Pen {
    /// For a broadcast of which nothing was seen yet.
    #[must_use]
    pub fn new(about: About) -> Self {
        Self {
            about,
            nr: None,
            chronicle: Chronicle::default(),
            press: Press::default(),
            waiting: VecDeque::new(),
            history: None,
            first_second: 0,
            until: 0,
            packed_until: 0,
            written: Default::default(),
            whole: 0,
            digested_at: 0,
            bytes: 0,
            tests: Vec::new(),
            writer: None,
            is_ended: false,
        }
    }

    /// For a broadcast that broke off, of which that was kept; up to there seconds are packed together, and it takes so many bytes
    /// without those that are not.
    pub(crate) fn going_on(about: About, nr: i64, kept: Kept, (packed_until, bytes): (usize, usize)) -> Self {
        let (history, until) = (kept.history(), kept.seconds.len());
        let chronicle = kept.chronicle;
        let hashes = [
            chronicle.verdicts().iter().map(|entry| hash(&json(entry))).collect(),
            chronicle.marks().iter().map(|entry| hash(&json(entry))).collect(),
            chronicle.trials().iter().map(|entry| hash(&json(entry))).collect(),
        ];
        Self {
            nr: Some(nr),
            chronicle,
            history: Some(history),
            first_second: kept.first_second,
            until,
            packed_until: packed_until.min(until),
            written: hashes,
            digested_at: until,
            tests: kept.tests,
            bytes,
            ..Self::new(about)
        }
    }

    /// The same, and it is known which process writes it.
    #[must_use]
    pub fn by(self, process: u32) -> Self {
        Self { writer: Some(process), ..self }
    }

    /// Adds a test of servers or of the line that belongs to it, as JSON.
    pub fn add_test(&mut self, json: String) {
        self.tests.push(json);
    }

    /// Its number, once something of it is in the logbook.
    #[must_use]
    pub fn nr(&self) -> Option<i64> {
        self.nr
    }

    /// Every second so far; none before a broadcaster came.
    #[must_use]
    pub fn history(&self) -> Option<&History> {
        self.history.as_ref()
    }

    /// What was written down so far.
    #[must_use]
    pub fn chronicle(&self) -> &Chronicle {
        &self.chronicle
    }

    /// Takes what is seen. Nothing is kept before a broadcaster came.
    pub fn take(&mut self, snapshot: &Snapshot) {
        if self.history.is_none() {
            let Some(since) = snapshot.on_air_since else { return };
            self.first_second = (since.seconds() as usize).saturating_sub(BEFORE);
            (self.until, self.packed_until) = (self.first_second, self.first_second);
            self.chronicle = Chronicle::since(Moment::from_ms(self.first_second as u64 * 1000));
        }
        self.chronicle.take(snapshot);
        if let Some(pressed) = self.press.take(snapshot) {
            self.waiting.push_back(pressed);
        }
        if self.waiting.len() > WAITING {
            // A page whose beginning is gone cannot be read.
            let page = self.waiting.front().map(|first| first.page);
            self.waiting.retain(|pressed| Some(pressed.page) != page);
            if self.waiting.is_empty() {
                self.press.turn_the_page();
            }
        }
        self.history = Some(snapshot.history.clone());
    }

    /// Whether a second has passed that is not written yet, or it was ended.
    #[must_use]
    pub fn is_due(&self) -> bool {
        self.history.as_ref().is_some_and(|history| history.len() > self.until || self.is_ended)
    }

    /// Writes all that is new.
    ///
    /// # Errors
    /// [`LogbookError`]; nothing of it counts then, and it may be tried again.
    pub fn write(&mut self, logbook: &mut Logbook) -> Result<(), LogbookError> {
        let Some(history) = self.history.clone() else { return Ok(()) };
        let path = logbook.path().to_owned();
        let fail = |error| LogbookError::of(&path, error);
        let deed = logbook.db.transaction_with_behavior(TransactionBehavior::Immediate).map_err(fail)?;
        let done = match self.write_in(&deed, &history) {
            Ok(done) => done,
            Err(error) => {
                if error.sqlite_error_code() == Some(ErrorCode::ConstraintViolation) {
                    // It was removed while nobody broadcast: what is known of it is written anew at the next try.
                    self.forget();
                }
                return Err(fail(error));
            }
        };
        deed.commit().map_err(fail)?;
        self.nr = Some(done.nr);
        (self.until, self.packed_until) = (done.until, done.packed_until);
        (self.whole, self.digested_at, self.bytes) = (done.whole, done.digested_at, done.bytes);
        self.written = done.written;
        self.waiting.drain(..done.moments);
        Ok(())
    }

    /// As if nothing of it was written yet.
    fn forget(&mut self) {
        (self.nr, self.until, self.packed_until) = (None, self.first_second, self.first_second);
        (self.whole, self.digested_at, self.bytes) = (0, 0, 0);
        self.written = Default::default();
        self.press.turn_the_page();
        self.waiting.clear();
    }

    /// Writes what is left, and that it is over.
    ///
    /// # Errors
    /// [`LogbookError`]; nothing of it counts then, and it may be tried again.
    pub fn end(&mut self, logbook: &mut Logbook) -> Result<(), LogbookError> {
        self.is_ended = true;
        self.write(logbook)
    }

    fn write_in(&self, deed: &Transaction<'_>, history: &History) -> rusqlite::Result<Done> {
        let whole = json(&Whole {
            told: self.about.told.clone(),
            machines: self.chronicle.machines().to_vec(),
            names: self.chronicle.names().clone(),
            writer: self.writer,
        });
        let whole_hash = hash(&whole);
        let nr = match self.nr {
            Some(nr) => nr,
            None => self.insert(deed, &whole)?,
        };
        if self.nr.is_some() && whole_hash != self.whole {
            deed.prepare_cached("UPDATE broadcast SET whole = ?2 WHERE nr = ?1")?.execute(params![nr, whole])?;
        }
        let until = history.len();
        let (packed_until, packed) = self.write_seconds(deed, nr, history)?;
        let moments = self.waiting.iter().map(|pressed| pressed.chunk.len()).sum::<usize>();
        let mut bytes = self.bytes + packed + moments;
        let mut add =
            deed.prepare_cached("INSERT INTO moment (broadcast, page_us, at_us, chunk) VALUES (?1, ?2, ?3, ?4)")?;
        for pressed in &self.waiting {
            add.execute(params![nr, us(pressed.page), us(pressed.at), pressed.chunk.as_ref()])?;
        }
        let mut written = self.written.clone();
        let mut entries = Entries { deed, nr, written: &mut written };
        bytes += entries.write(0, self.chronicle.verdicts())?;
        bytes += entries.write(1, self.chronicle.marks())?;
        bytes += entries.write(2, self.chronicle.trials())?;
        let mut digested_at = self.digested_at;
        let each = if until - self.first_second.min(until) < LONG { DIGEST_EACH } else { DIGEST_LONG_EACH };
        if self.is_ended || until >= digested_at + each || self.nr.is_none() {
            let seconds: Vec<Second> = seconds(history, self.first_second, until);
            let digest = json(&Digest::of(&seconds, self.chronicle.verdicts(), self.chronicle.trials()));
            let sql = "UPDATE broadcast SET digest = ?2, ended = ?3, bytes = ?4 WHERE nr = ?1";
            deed.prepare_cached(sql)?.execute(params![nr, digest, self.is_ended, number(bytes)])?;
            digested_at = until;
        }
        Ok(Done {
            nr,
            until,
            packed_until,
            written,
            whole: whole_hash,
            digested_at,
            bytes,
            moments: self.waiting.len(),
        })
    }

    fn insert(&self, deed: &Transaction<'_>, whole: &str) -> rusqlite::Result<i64> {
        let About { began, kind, is_made_up, setup, service, .. } = &self.about;
        let (began_ms, offset_s) = (began.timestamp().as_millisecond(), began.offset().seconds());
        deed.execute(
            "INSERT INTO broadcast (began_ms, offset_s, first_second, kind, made_up, setup, service, digest, whole) \
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, '{}', ?8)",
            params![began_ms, offset_s, number(self.first_second), kind.word(), is_made_up, setup, service, whole],
        )?;
        let nr = deed.last_insert_rowid();
        for (place, test) in self.tests.iter().enumerate() {
            deed.execute(
                "INSERT INTO entry (broadcast, kind, place, body) VALUES (?1, 'test', ?2, ?3)",
                params![nr, number(place), test],
            )?;
        }
        Ok(nr)
    }

    /// Writes the seconds that are new, each by itself, and packs those together that fill a stretch; gives up to where, and what those
    /// take.
    fn write_seconds(&self, deed: &Transaction<'_>, nr: i64, history: &History) -> rusqlite::Result<(usize, usize)> {
        let machines = self.chronicle.machines();
        let mut add =
            deed.prepare_cached("INSERT INTO second (broadcast, first, seconds, columns) VALUES (?1, ?2, ?3, ?4)")?;
        let mut put = |from: usize, until: usize| {
            let packed = columns::pack(&seconds(history, from, until), &loads(machines, from, until));
            add.execute(params![nr, number(from), number(until - from), packed]).map(|_| packed.len())
        };
        let (mut packed_until, mut bytes) = (self.packed_until, 0);
        let until = history.len().max(packed_until);
        let mut drop_singles =
            deed.prepare_cached("DELETE FROM second WHERE broadcast = ?1 AND first >= ?2 AND first < ?3")?;
        while until - packed_until >= STRETCH {
            let next = packed_until + STRETCH;
            drop_singles.execute(params![nr, number(packed_until), number(next)])?;
            bytes += put(packed_until, next)?;
            packed_until = next;
        }
        (self.until.max(packed_until)..until).try_for_each(|second| put(second, second + 1).map(drop))?;
        if self.is_ended && until > packed_until {
            drop_singles.execute(params![nr, number(packed_until), number(until)])?;
            bytes += put(packed_until, until)?;
        }
        Ok((packed_until, bytes))
    }
}

/// Writes verdicts, marks and trials.
struct Entries<'a> {
    deed: &'a Transaction<'a>,
    nr: i64,
    written: &'a mut [Vec<u64>; 3],
}

impl Entries<'_> {
    /// Writes those that are new or were changed; gives how many bytes are new.
    fn write<T: Serialize>(&mut self, kind: usize, entries: &[T]) -> rusqlite::Result<usize> {
        let (written, mut bytes) = (&mut self.written[kind], 0);
        for (place, entry) in entries.iter().enumerate().skip(written.len().saturating_sub(MAY_CHANGE[kind])) {
            let body = json(entry);
            let now = hash(&body);
            if written.get(place) == Some(&now) {
                continue;
            }
            let sql = "INSERT INTO entry (broadcast, kind, place, body) VALUES (?1, ?2, ?3, ?4) \
                       ON CONFLICT (broadcast, kind, place) DO UPDATE SET body = excluded.body";
            self.deed.prepare_cached(sql)?.execute(params![self.nr, KINDS[kind], number(place), body])?;
            match written.get_mut(place) {
                Some(before) => *before = now,
                None => {
                    written.push(now);
                    bytes += body.len();
                }
            }
        }
        Ok(bytes)
    }
}

fn seconds(history: &History, from: usize, until: usize) -> Vec<Second> {
    (from..until).map(|at| history.get(at).copied().unwrap_or_default()).collect()
}

fn loads(machines: &[Machine], from: usize, until: usize) -> Vec<&[Load]> {
    let of = |machine: &'_ Machine| -> (usize, usize) {
        let many = machine.loads.len();
        (from.min(many), until.min(many))
    };
    machines.iter().map(|machine| (machine, of(machine))).map(|(machine, (a, b))| &machine.loads[a..b]).collect()
}

fn json(value: &impl Serialize) -> String {
    // Ours, and of plain words and numbers: it cannot fail.
    serde_json::to_string(value).unwrap_or_default()
}

fn hash(text: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    text.hash(&mut hasher);
    hasher.finish()
}

/// SQLite's numbers have a sign.
pub(crate) fn number(value: usize) -> i64 {
    i64::try_from(value).unwrap_or(i64::MAX)
}

pub(crate) fn us(at: Moment) -> i64 {
    i64::try_from(at.since(Moment::START).as_micros()).unwrap_or(i64::MAX)
}
