//! A broadcast that is read from the logbook.

use moth_core::history::{History, Mark, Second};
use moth_core::trial::Trial;
use moth_core::{Moment, Snapshot};
use moth_evening::chronicle::{Chronicle, Written};
use moth_evening::digest::Digest;
use moth_evening::evening::Stood;
use moth_evening::load::Load;
use moth_evening::moments;
use rusqlite::{OptionalExtension, params};
use serde::de::DeserializeOwned;

use crate::columns;
use crate::error::LogbookError;
use crate::logbook::{COUNT, Logbook, Whole};
use crate::pen::{number, us};
use crate::thinning::QUIET_EACH;

/// A longer broadcast is none, in seconds. Ours: four months.
const LONGEST: usize = 10_000_000;

/// All of a broadcast but how everything stood in each second: that is read one by one, with [`Logbook::moment`].
#[derive(Debug, Clone)]
pub struct Kept {
    /// Where it begins on its clock, in seconds.
    pub first_second: usize,
    /// Every second of its clock; those before it began are empty.
    pub seconds: Vec<Second>,
    /// What was written down.
    pub chronicle: Chronicle,
    /// Tests of servers and of the line that belong to it, as JSON.
    pub tests: Vec<String>,
}

impl Kept {
    /// What the list shows of it.
    #[must_use]
    pub fn digest(&self) -> Digest {
        let own = self.seconds.get(self.first_second..).unwrap_or_default();
        Digest::of(own, self.chronicle.verdicts(), self.chronicle.trials())
    }

    /// Its seconds as a snapshot has them.
    #[must_use]
    pub fn history(&self) -> History {
        let mut history = History::default();
        self.seconds.iter().for_each(|second| history.push(*second));
        history
    }
}

impl Logbook {
    /// Reads a broadcast.
    ///
    /// # Errors
    /// [`LogbookError::NoSuch`] if there is none of this number; [`LogbookError::Damaged`] if something of it makes no sense.
    pub fn kept(&self, nr: i64) -> Result<Kept, LogbookError> {
        let fail = |error| self.fail(error);
        let found = self.db.query_row("SELECT first_second, whole FROM broadcast WHERE nr = ?1", [nr], |row| {
            Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?))
        });
        let (first, whole) = found.optional().map_err(fail)?.ok_or(LogbookError::NoSuch { nr })?;
        let whole: Whole = serde_json::from_str(&whole).map_err(|error| self.damaged(nr, &error.to_string()))?;
        let (seconds, loads) = self.seconds(nr)?;
        let mut machines = whole.machines;
        machines.resize_with(machines.len().max(loads.len()), Default::default);
        for (machine, loads) in machines.iter_mut().zip(loads) {
            machine.loads = loads;
        }
        let written = Written {
            verdicts: self.entries::<Stood>(nr, "verdict")?,
            marks: self.entries::<Mark>(nr, "mark")?,
            trials: self.entries::<Trial>(nr, "trial")?,
            machines,
            names: whole.names,
        };
        Ok(Kept {
            first_second: usize::try_from(first).unwrap_or(0),
            seconds,
            chronicle: Chronicle::of(written),
            tests: self.bodies(nr, "test")?,
        })
    }

    /// The process that writes a broadcast, if that is known.
    pub(crate) fn writer(&self, nr: i64) -> Result<Option<u32>, LogbookError> {
        let whole: String = self
            .db
            .query_row("SELECT whole FROM broadcast WHERE nr = ?1", [nr], |row| row.get(0))
            .map_err(|error| self.fail(error))?;
        Ok(serde_json::from_str::<Whole>(&whole).ok().and_then(|whole| whole.writer))
    }

    fn damaged(&self, nr: i64, why: &str) -> LogbookError {
        LogbookError::Damaged { path: self.path().to_owned(), why: format!("broadcast {nr}: {why}") }
    }

    fn seconds(&self, nr: i64) -> Result<(Vec<Second>, Vec<Vec<Load>>), LogbookError> {
        let fail = |error| self.fail(error);
        let mut find =
            self.db.prepare("SELECT first, columns FROM second WHERE broadcast = ?1 ORDER BY first").map_err(fail)?;
        let mut rows = find.query([nr]).map_err(fail)?;
        let (mut seconds, mut loads): (Vec<Second>, Vec<Vec<Load>>) = (Vec::new(), Vec::new());
        while let Some(row) = rows.next().map_err(fail)? {
            let first = usize::try_from(row.get::<_, i64>(0).map_err(fail)?).unwrap_or(usize::MAX);
            let stretch = row.get_ref(1).map_err(fail)?.as_blob().ok().and_then(columns::unpack);
            let Some(stretch) = stretch.filter(|_| first <= LONGEST && first >= seconds.len()) else {
                return Err(self.damaged(nr, "its seconds make no sense"));
            };
            // What came before it began, or was not kept.
            seconds.resize(first, Second::default());
            loads.resize_with(loads.len().max(stretch.machines.len()), Vec::new);
            for (all, these) in loads.iter_mut().zip(&stretch.machines) {
                all.resize(first, Load::default());
                all.extend(these);
            }
            seconds.extend(stretch.seconds);
        }
        Ok((seconds, loads))
    }

    fn bodies(&self, nr: i64, kind: &str) -> Result<Vec<String>, LogbookError> {
        let fail = |error| self.fail(error);
        let sql = "SELECT body FROM entry WHERE broadcast = ?1 AND kind = ?2 ORDER BY place";
        let mut find = self.db.prepare_cached(sql).map_err(fail)?;
        let rows = find.query_map(params![nr, kind], |row| row.get(0)).map_err(fail)?;
        rows.collect::<Result<_, _>>().map_err(fail)
    }

    fn entries<T: DeserializeOwned>(&self, nr: i64, kind: &str) -> Result<Vec<T>, LogbookError> {
        let read = |body: &String| serde_json::from_str(body).map_err(|error| self.damaged(nr, &error.to_string()));
        self.bodies(nr, kind)?.iter().map(read).collect()
    }

    /// How everything stood at a time of a broadcast: the newest moment until then. `None` if that was not kept, or was thinned.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn moment(&self, nr: i64, time: Moment) -> Result<Option<Snapshot>, LogbookError> {
        let found = self.moment_before(nr, time)?;
        Ok(found.filter(|snapshot| moments::is_near(snapshot.at, time)))
    }

    /// The same of a broadcast that was thinned: where it was quiet, one moment stands for a minute.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn thinned_moment(&self, nr: i64, time: Moment) -> Result<Option<Snapshot>, LogbookError> {
        let found = self.moment_before(nr, time)?;
        let most = std::time::Duration::from_secs(QUIET_EACH as u64 + 2);
        Ok(found.filter(|snapshot| time.since(snapshot.at) <= most))
    }

    /// The newest moment of a broadcast in which somebody broadcast; `None` if none was kept.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn last_on_air(&self, nr: i64, seconds: &[Second]) -> Result<Option<Snapshot>, LogbookError> {
        let last = seconds.iter().rposition(|second| second.state.is_some()).map_or(0, |at| at + 1);
        self.moment_before(nr, Moment::from_ms(last as u64 * 1000))
    }

    fn moment_before(&self, nr: i64, time: Moment) -> Result<Option<Snapshot>, LogbookError> {
        let fail = |error| self.fail(error);
        let sql = "SELECT page_us, at_us FROM moment WHERE broadcast = ?1 AND at_us <= ?2 ORDER BY at_us DESC LIMIT 1";
        let newest = self.db.prepare_cached(sql).map_err(fail)?;
        let newest = { newest }
            .query_row(params![nr, us(time)], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?)))
            .optional()
            .map_err(fail)?;
        let Some((page, at)) = newest else { return Ok(None) };
        let sql =
            "SELECT chunk FROM moment WHERE broadcast = ?1 AND at_us BETWEEN ?2 AND ?3 AND page_us = ?2 ORDER BY at_us";
        let mut find = self.db.prepare_cached(sql).map_err(fail)?;
        let rows = find.query_map(params![nr, page, at], |row| row.get::<_, Vec<u8>>(0)).map_err(fail)?;
        let chunks: Vec<Vec<u8>> = rows.collect::<Result<_, _>>().map_err(fail)?;
        Ok(moments::read(chunks.iter().map(Vec::as_slice)))
    }

    /// A compressed readings file of a broadcast, if its readings were kept.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn readings(&self, nr: i64) -> Result<Option<Vec<u8>>, LogbookError> {
        let fail = |error| self.fail(error);
        let sql = "SELECT stretch FROM readings WHERE broadcast = ?1 ORDER BY place";
        let mut find = self.db.prepare(sql).map_err(fail)?;
        let rows = find.query_map([nr], |row| row.get::<_, Vec<u8>>(0)).map_err(fail)?;
        let stretches: Vec<Vec<u8>> = rows.collect::<Result<_, _>>().map_err(fail)?;
        Ok((!stretches.is_empty()).then(|| stretches.concat()))
    }

    /// Keeps a compressed readings file with a broadcast.
    ///
    /// # Errors
    /// [`LogbookError`]; nothing of it is kept then.
    pub fn keep_readings(&mut self, nr: i64, compressed: &[u8]) -> Result<(), LogbookError> {
        /// Bytes in a row. Ours.
        const ROW: usize = 1 << 20;
        let path = self.path().to_owned();
        let fail = |error| LogbookError::of(&path, error);
        let deed = self.db.transaction().map_err(fail)?;
        deed.execute("DELETE FROM readings WHERE broadcast = ?1", [nr]).map_err(fail)?;
        for (place, stretch) in compressed.chunks(ROW).enumerate() {
            let sql = "INSERT INTO readings (broadcast, place, stretch) VALUES (?1, ?2, ?3)";
            deed.execute(sql, params![nr, number(place), stretch]).map_err(fail)?;
        }
        deed.execute(COUNT, [nr]).map_err(fail)?;
        deed.commit().map_err(fail)
    }
}
