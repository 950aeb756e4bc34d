//! The database of all broadcasts: opened, listed, changed.
//!
//! It is SQLite with a write-ahead log, and every transaction is on the disk before it counts (`synchronous = FULL`): whatever is cut
//! off in the middle never was. Several programs may use it at once; each writes for a moment only.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use rusqlite::{Connection, OpenFlags, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};

use crate::about::{About, Kind, Listed, SetupTold, Wanted, zoned};
use crate::error::LogbookError;
use crate::schema;

/// Another program that writes is waited for so long. Ours: many times what a transaction takes.
const PATIENCE: Duration = Duration::from_millis(1500);
/// A broadcast that was not ended, and of which nothing was kept for so long, does not go on. Ours.
const SILENT_S: f64 = 30.0;
/// What a file of the database begins with (SQLite's file format, section 1.3).
const MAGIC: &[u8] = b"SQLite format 3\0";

/// The logbook.
#[derive(Debug)]
pub struct Logbook {
    pub(crate) db: Connection,
    path: PathBuf,
}

/// What does not come second by second.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Whole {
    pub told: SetupTold,
    pub machines: Vec<moth_evening::load::Machine>,
    pub names: moth_evening::names::Names,
    /// The process that writes it.
    pub writer: Option<u32>,
}

impl Logbook {
    /// Opens the logbook to write; where there is none it is made, for this user only.
    ///
    /// # Errors
    /// [`LogbookError`]; whatever is there is left as it was.
    pub fn open(path: &Path) -> Result<Self, LogbookError> {
        let io = |error| LogbookError::Io { path: path.to_owned(), error };
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(io)?;
        }
        if !is_database(path)? {
            make(path)?;
        }
        let fail = |error| LogbookError::of(path, error);
        let mut db = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE).map_err(fail)?;
        db.busy_timeout(PATIENCE).map_err(fail)?;
        // Before anything is written to it.
        schema::version(&db, path)?;
        schema::bring_up_to_date(&mut db, path)?;
        db.pragma_update(None, "journal_mode", "WAL").map_err(fail)?;
        db.pragma_update(None, "synchronous", "FULL").map_err(fail)?;
        db.pragma_update(None, "foreign_keys", true).map_err(fail)?;
        // A log of half the usual length: it is memory and disk that is in use all evening.
        db.pragma_update(None, "wal_autocheckpoint", 500).map_err(fail)?;
        db.pragma_update(None, "cache_size", -1024).map_err(fail)?;
        Ok(Self { db, path: path.to_owned() })
    }

    /// Opens the logbook to read it; `None` if there is none yet.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn open_to_read(path: &Path) -> Result<Option<Self>, LogbookError> {
        if !is_database(path)? {
            return Ok(None);
        }
        let fail = |error| LogbookError::of(path, error);
        let open = |uri: &str, flags| {
            let db = Connection::open_with_flags(uri, flags | OpenFlags::SQLITE_OPEN_URI).map_err(fail)?;
            db.busy_timeout(PATIENCE).map_err(fail)?;
            let version = schema::version(&db, path)?;
            Ok((Self { db, path: path.to_owned() }, version))
        };
        let uri = uri(path);
        let opened = match open(&uri, OpenFlags::SQLITE_OPEN_READ_ONLY) {
            // On a disk that may only be read there is no place for what readers agree on. Nobody writes there either.
            Err(LogbookError::Other { .. } | LogbookError::ReadOnly { .. }) => {
                open(&format!("{uri}?immutable=1"), OpenFlags::SQLITE_OPEN_READ_ONLY)?
            }
            opened => opened?,
        };
        match opened {
            (_, 0) => Ok(None),
            (logbook, schema::VERSION) => Ok(Some(logbook)),
            // An older one is made one of today first.
            _ => Self::open(path).map(Some),
        }
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    pub(crate) fn fail(&self, error: rusqlite::Error) -> LogbookError {
        LogbookError::of(&self.path, error)
    }

    /// Every broadcast that is looked for, the newest first. What is told of one that goes on, or was cut off, is up to ten seconds older
    /// than what is kept of it, and after an hour on air up to a minute.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn list(&self, wanted: &Wanted) -> Result<Vec<Listed>, LogbookError> {
        let sql = format!("{LISTED} ORDER BY began_ms + first_second * 1000 DESC, nr DESC");
        let mut found = self.db.prepare(&sql).map_err(|error| self.fail(error))?;
        let rows = found.query_map([], listed).map_err(|error| self.fail(error))?;
        let all: Vec<Listed> = rows.collect::<Result<_, _>>().map_err(|error| self.fail(error))?;
        Ok(all.into_iter().filter(|one| wanted.fits(one)).collect())
    }

    /// One broadcast.
    ///
    /// # Errors
    /// [`LogbookError::NoSuch`] if there is none of this number.
    pub fn listed(&self, nr: i64) -> Result<Listed, LogbookError> {
        let found = self.db.query_row(&format!("{LISTED} WHERE nr = ?1"), [nr], listed).optional();
        found.map_err(|error| self.fail(error))?.ok_or(LogbookError::NoSuch { nr })
    }

    /// Whether a broadcast goes on: it was not ended, and something of it was kept just now.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn goes_on(&self, one: &Listed, now: Timestamp) -> Result<bool, LogbookError> {
        if one.is_ended {
            return Ok(false);
        }
        let end: Option<i64> = self
            .db
            .query_row("SELECT max(first + seconds) FROM second WHERE broadcast = ?1", [one.nr], |row| row.get(0))
            .map_err(|error| self.fail(error))?;
        let since = now.duration_since(one.about.began.timestamp()).as_secs_f64();
        Ok(end.is_some_and(|end| (since - end as f64).abs() < SILENT_S))
    }

    /// Gives a broadcast another title, or another note.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn write_down(&self, nr: i64, title: Option<&str>, note: Option<&str>) -> Result<(), LogbookError> {
        let sql = "UPDATE broadcast SET title = coalesce(?2, title), note = coalesce(?3, note) WHERE nr = ?1";
        match self.db.execute(sql, params![nr, title, note]).map_err(|error| self.fail(error))? {
            0 => Err(LogbookError::NoSuch { nr }),
            _ => Ok(()),
        }
    }

    /// Removes broadcasts, all of them or, if one cannot be, none; the disk gets their room back.
    ///
    /// # Errors
    /// [`LogbookError::GoesOn`] if one is being written.
    pub fn remove(&mut self, nrs: &[i64], now: Timestamp) -> Result<(), LogbookError> {
        for nr in nrs {
            let one = self.listed(*nr)?;
            if self.goes_on(&one, now)? {
                return Err(LogbookError::GoesOn { nr: *nr });
            }
        }
        let path = self.path.clone();
        let fail = |error| LogbookError::of(&path, error);
        let deed = self.db.transaction().map_err(fail)?;
        for nr in nrs {
            deed.execute("DELETE FROM broadcast WHERE nr = ?1", [nr]).map_err(fail)?;
        }
        deed.commit().map_err(fail)?;
        self.give_room_back()
    }

    pub(crate) fn give_room_back(&self) -> Result<(), LogbookError> {
        let vacuum = || {
            let mut freed = self.db.prepare("PRAGMA incremental_vacuum")?;
            let mut rows = freed.query([])?;
            while rows.next()?.is_some() {}
            self.db.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |_| Ok(()))
        };
        vacuum().map_err(|error| self.fail(error))
    }

    /// What the logbook takes on disk, in bytes, with what is not yet moved out of its log.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        let mut log = self.path.clone().into_os_string();
        log.push("-wal");
        [self.path.clone(), PathBuf::from(log)].iter().filter_map(|path| path.metadata().ok()).map(|m| m.len()).sum()
    }

    /// Whether everything in it is whole.
    ///
    /// # Errors
    /// [`LogbookError::Damaged`] with what is not.
    pub fn check(&self) -> Result<(), LogbookError> {
        let told: String =
            self.db.query_row("PRAGMA integrity_check(1)", [], |row| row.get(0)).map_err(|error| self.fail(error))?;
        let broken: i64 = self
            .db
            .query_row("SELECT count(*) FROM pragma_foreign_key_check", [], |row| row.get(0))
            .map_err(|error| self.fail(error))?;
        match (told.as_str(), broken) {
            ("ok", 0) => Ok(()),
            ("ok", _) => {
                Err(LogbookError::Damaged { path: self.path.clone(), why: "something belongs to no broadcast".into() })
            }
            _ => Err(LogbookError::Damaged { path: self.path.clone(), why: told }),
        }
    }

    /// Lets it take no more than so many pages: a disk without room, for tests.
    ///
    /// # Errors
    /// [`LogbookError`].
    #[doc(hidden)]
    pub fn limit_pages(&self, most: u32) -> Result<(), LogbookError> {
        let limited = self.db.query_row(&format!("PRAGMA max_page_count = {most}"), [], |_| Ok(()));
        limited.map_err(|error| self.fail(error))
    }

    /// Writes it anew without gaps: for one that is given away.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn pack(&self) -> Result<(), LogbookError> {
        self.db.execute_batch("VACUUM").map_err(|error| self.fail(error))
    }

    /// Closes it: what is in its log is moved to its place.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn close(self) -> Result<(), LogbookError> {
        let Self { db, path } = self;
        db.close().map_err(|(_, error)| LogbookError::of(&path, error))
    }

    /// Moves every broadcast by so many days: what is made up is always of these days.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn move_by_days(&self, days: i64) -> Result<(), LogbookError> {
        let moved = self.db.execute("UPDATE broadcast SET began_ms = began_ms + ?1 * 86400000", [days]);
        moved.map(drop).map_err(|error| self.fail(error))
    }
}

const LISTED: &str = "SELECT nr, began_ms, offset_s, first_second, kind, made_up, setup, service, title, note, ended, thinned, digest, \
     whole, bytes FROM broadcast";

/// Counts again what a broadcast takes.
pub(crate) const COUNT: &str = "UPDATE broadcast SET bytes = \
     (SELECT coalesce(sum(length(columns)), 0) FROM second WHERE broadcast = ?1) \
     + (SELECT coalesce(sum(length(chunk)), 0) FROM moment WHERE broadcast = ?1) \
     + (SELECT coalesce(sum(length(body)), 0) FROM entry WHERE broadcast = ?1) \
     + (SELECT coalesce(sum(length(stretch)), 0) FROM readings WHERE broadcast = ?1) WHERE nr = ?1";

fn listed(row: &Row<'_>) -> rusqlite::Result<Listed> {
    let text = |at: usize| row.get::<_, String>(at);
    let whole: Whole = serde_json::from_str(&text(13)?).unwrap_or_default();
    Ok(Listed {
        nr: row.get(0)?,
        about: About {
            began: zoned(row.get(1)?, row.get(2)?),
            kind: Kind::of(&text(4)?),
            is_made_up: row.get(5)?,
            setup: text(6)?,
            service: text(7)?,
            told: whole.told,
        },
        first_second: usize::try_from(row.get::<_, i64>(3)?).unwrap_or(0),
        title: text(8)?,
        note: text(9)?,
        is_ended: row.get(10)?,
        thinned: row.get(11)?,
        digest: serde_json::from_str(&text(12)?).unwrap_or_default(),
        bytes: u64::try_from(row.get::<_, i64>(14)?).unwrap_or(0),
    })
}

/// Makes a logbook with nothing in it, for this user only. It is made under another name and put in its place when it is whole: whoever
/// looks meanwhile finds none, and of two who make one at once the second finds the first's.
fn make(path: &Path) -> Result<(), LogbookError> {
    use std::io::ErrorKind::{AlreadyExists, ReadOnlyFilesystem, StorageFull};
    let io = |error: std::io::Error| match error.kind() {
        StorageFull => LogbookError::Full { path: path.to_owned() },
        ReadOnlyFilesystem => LogbookError::ReadOnly { path: path.to_owned() },
        _ => LogbookError::Io { path: path.to_owned(), error },
    };
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    // Its own kind of file is readable by nobody else; it names servers and programs.
    let new = tempfile::Builder::new().prefix(".logbook-").tempfile_in(folder).map_err(io)?;
    let fail = |error| LogbookError::of(path, error);
    let mut db = Connection::open_with_flags(new.path(), OpenFlags::SQLITE_OPEN_READ_WRITE).map_err(fail)?;
    schema::bring_up_to_date(&mut db, path)?;
    db.close().map_err(|(_, error)| fail(error))?;
    new.as_file().sync_all().map_err(io)?;
    if path.metadata().is_ok_and(|found| found.len() == 0) {
        return new.persist(path).map(drop).map_err(|error| io(error.error));
    }
    match new.persist_noclobber(path) {
        Err(error) if error.error.kind() != AlreadyExists => Err(io(error.error)),
        _ => Ok(()),
    }
}

/// Whether there is a file with something in it; an error if that is none of the database's.
fn is_database(path: &Path) -> Result<bool, LogbookError> {
    let file = match std::fs::File::open(path) {
        Ok(file) => file,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(false),
        Err(error) => return Err(LogbookError::Io { path: path.to_owned(), error }),
    };
    let mut begins = Vec::new();
    let read = file.take(MAGIC.len() as u64).read_to_end(&mut begins);
    read.map_err(|error| LogbookError::Io { path: path.to_owned(), error })?;
    match begins.as_slice() {
        [] => Ok(false),
        begins if begins == MAGIC => Ok(true),
        _ => Err(LogbookError::Foreign { path: path.to_owned() }),
    }
}

/// A path as SQLite takes it with options behind it.
fn uri(path: &Path) -> String {
    let mut uri = String::from("file:");
    for byte in path.as_os_str().as_encoded_bytes() {
        match byte {
            b'/' | b'-' | b'.' | b'_' | b'~' => uri.push(char::from(*byte)),
            byte if byte.is_ascii_alphanumeric() => uri.push(char::from(*byte)),
            byte => uri.push_str(&format!("%{byte:02X}")),
        }
    }
    uri
}
