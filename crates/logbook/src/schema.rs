//! The database's tables, and how an older one becomes one of today.

use std::path::Path;

use rusqlite::Connection;
use rusqlite_migration::{M, Migrations};

use crate::error::LogbookError;

/// What tells a logbook from another database (`PRAGMA application_id`): the letters MOTH.
const APPLICATION: i64 = 0x4d4f_5448;
/// What each version adds to the one before. A line, once released, is never changed.
const STEPS: &[M<'_>] = &[M::up(include_str!("schema/1.sql"))];
/// The version this program writes, and the newest it reads.
pub(crate) const VERSION: i64 = STEPS.len() as i64;

fn number(db: &Connection, pragma: &str) -> rusqlite::Result<i64> {
    db.pragma_query_value(None, pragma, |row| row.get(0))
}

/// The version of a logbook: 0 if there is nothing in it yet.
pub(crate) fn version(db: &Connection, path: &Path) -> Result<i64, LogbookError> {
    let fail = |error| LogbookError::of(path, error);
    // All three as they were at one moment: another moth may be at work on it.
    let look = db.unchecked_transaction().map_err(fail)?;
    let things: i64 = look.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0)).map_err(fail)?;
    let (application, version) =
        (number(&look, "application_id").map_err(fail)?, number(&look, "user_version").map_err(fail)?);
    drop(look);
    let is_empty = things == 0 && application == 0 && version == 0;
    if application != APPLICATION && !is_empty {
        return Err(LogbookError::Foreign { path: path.to_owned() });
    }
    if version > VERSION {
        return Err(LogbookError::Newer { path: path.to_owned(), found: version, known: VERSION });
    }
    Ok(version)
}

/// Makes it one of today.
pub(crate) fn bring_up_to_date(db: &mut Connection, path: &Path) -> Result<(), LogbookError> {
    let fail = |error| LogbookError::of(path, error);
    match version(db, path)? {
        VERSION => return Ok(()),
        0 => {
            // Space that is freed is to be given back, which is said before the first table.
            db.pragma_update(None, "auto_vacuum", "INCREMENTAL").map_err(fail)?;
            db.pragma_update(None, "application_id", APPLICATION).map_err(fail)?;
        }
        _ => {}
    }
    let Err(error) = Migrations::from_slice(STEPS).to_latest(db) else { return Ok(()) };
    // Another moth may have done it meanwhile, each step of it whole or not at all.
    if version(db, path)? == VERSION {
        return Ok(());
    }
    Err(match error {
        rusqlite_migration::Error::RusqliteError { err, .. } => LogbookError::of(path, err),
        other => LogbookError::Damaged { path: path.to_owned(), why: other.to_string() },
    })
}
