//! A broadcast whose moth was killed, and how another moth goes on with it.

use std::time::Duration;

use jiff::Timestamp;
use rusqlite::params;

use crate::about::{About, Kind};
use crate::error::LogbookError;
use crate::logbook::Logbook;
use crate::pen::Pen;

/// Up to where seconds are packed together, and what is kept takes without the others.
const PACKED: &str = "SELECT max(first + seconds), coalesce(sum(length(columns)), 0) \
     + (SELECT coalesce(sum(length(chunk)), 0) FROM moment WHERE broadcast = ?1) \
     + (SELECT coalesce(sum(length(body)), 0) FROM entry WHERE broadcast = ?1) \
     FROM second WHERE broadcast = ?1 AND seconds > 1";

/// A watched broadcast that was not ended.
#[derive(Debug, Clone, PartialEq)]
pub struct BrokenOff {
    /// Its number.
    pub nr: i64,
    /// What was known when it began.
    pub about: About,
    /// Where what is kept of it ends on its clock, in seconds.
    pub until: usize,
    /// The process that wrote it, if that is known.
    pub writer: Option<u32>,
}

impl Logbook {
    /// Watched broadcasts that were not ended and of which something was kept within this time, the newest first. One that another
    /// process still writes is among them.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn broken_off(&self, now: Timestamp, within: Duration) -> Result<Vec<BrokenOff>, LogbookError> {
        // Of all that were ever cut off only the newest few can be as young.
        let sql = "SELECT nr, (SELECT max(first + seconds) FROM second WHERE broadcast = nr), began_ms FROM broadcast \
                   WHERE ended = 0 AND kind = ?1 ORDER BY nr DESC LIMIT 20";
        let mut find = self.db.prepare(sql).map_err(|error| self.fail(error))?;
        let number = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get::<_, Option<i64>>(1)?, row.get::<_, i64>(2)?));
        let rows = find.query_map(params![Kind::Broadcast.word()], number).map_err(|error| self.fail(error))?;
        let mut found = Vec::new();
        for row in rows {
            let (nr, until, began_ms) = row.map_err(|error| self.fail(error))?;
            let Some(until) = until.and_then(|until| usize::try_from(until).ok()) else { continue };
            let silent_ms = now.as_millisecond() - began_ms - until as i64 * 1000;
            // A second is kept once it is over, and a clock may have been set a little meanwhile.
            if (-2000..=i64::try_from(within.as_millis()).unwrap_or(i64::MAX)).contains(&silent_ms) {
                let about = self.listed(nr)?.about;
                found.push(BrokenOff { nr, about, until, writer: self.writer(nr)? });
            }
        }
        Ok(found)
    }

    /// A pen that goes on with a broadcast; it has what was kept of it so far.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn go_on(&self, nr: i64) -> Result<Pen, LogbookError> {
        let (about, kept) = (self.listed(nr)?.about, self.kept(nr)?);
        let packed: (Option<i64>, i64) =
            self.db.query_row(PACKED, [nr], |row| Ok((row.get(0)?, row.get(1)?))).map_err(|error| self.fail(error))?;
        let until = packed.0.and_then(|until| usize::try_from(until).ok()).unwrap_or(kept.first_second);
        let bytes = usize::try_from(packed.1).unwrap_or(0);
        Ok(Pen::going_on(about, nr, kept, (until, bytes)))
    }
}
