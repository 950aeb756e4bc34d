//! Why the logbook cannot be used.

use std::io;
use std::path::{Path, PathBuf};

use rusqlite::ErrorCode;

/// Why the logbook cannot be read or written. Whatever it is, what was there is left as it was.
#[derive(Debug, thiserror::Error)]
pub enum LogbookError {
    /// What the system says.
    #[error("the logbook {} cannot be opened: {error}", path.display())]
    Io {
        /// Which file.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
    /// It is something else.
    #[error("{} is no logbook of the moth, and was left alone; move it away, or name another place", path.display())]
    Foreign {
        /// Which file.
        path: PathBuf,
    },
    /// A newer moth made it.
    #[error(
        "the logbook {} is of a newer moth (version {found}; this one knows {known}), and was left alone; use that moth",
        path.display()
    )]
    Newer {
        /// Which file.
        path: PathBuf,
        /// Its version.
        found: i64,
        /// The newest that is known here.
        known: i64,
    },
    /// Something in it is broken.
    #[error("the logbook {} is damaged ({why}), and was left alone; move it away to begin a new one", path.display())]
    Damaged {
        /// Which file.
        path: PathBuf,
        /// What is broken.
        why: String,
    },
    /// Another program holds it.
    #[error("the logbook {} is held by another program", path.display())]
    Busy {
        /// Which file.
        path: PathBuf,
    },
    /// There is no room.
    #[error("the disk with the logbook {} is full", path.display())]
    Full {
        /// Which file.
        path: PathBuf,
    },
    /// It may not be written.
    #[error("the logbook {} may only be read", path.display())]
    ReadOnly {
        /// Which file.
        path: PathBuf,
    },
    /// There is no such broadcast.
    #[error("the logbook has no broadcast {nr}; `moth log list` names those there are")]
    NoSuch {
        /// Which.
        nr: i64,
    },
    /// It is being written.
    #[error("broadcast {nr} goes on, and is written; it can be removed once it is over")]
    GoesOn {
        /// Which.
        nr: i64,
    },
    /// Anything else.
    #[error("the logbook {} cannot be used: {error}", path.display())]
    Other {
        /// Which file.
        path: PathBuf,
        /// What the database says.
        error: rusqlite::Error,
    },
}

impl LogbookError {
    /// What the database says of a file.
    pub(crate) fn of(path: &Path, error: rusqlite::Error) -> Self {
        let path = path.to_owned();
        let Some(code) = error.sqlite_error_code() else { return Self::Other { path, error } };
        match code {
            ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => Self::Busy { path },
            ErrorCode::DiskFull => Self::Full { path },
            ErrorCode::ReadOnly => Self::ReadOnly { path },
            ErrorCode::NotADatabase => Self::Foreign { path },
            ErrorCode::DatabaseCorrupt => Self::Damaged { path, why: error.to_string() },
            _ => Self::Other { path, error },
        }
    }

    /// Whether it may be over by itself: then it is tried again.
    #[must_use]
    pub fn may_pass(&self) -> bool {
        !matches!(self, Self::Foreign { .. } | Self::Newer { .. } | Self::Damaged { .. })
    }
}
