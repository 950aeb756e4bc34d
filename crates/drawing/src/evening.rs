//! A broadcast as plain data: what is drawn of it.

use jiff::{SignedDuration, Zoned};
use moth_core::history::Second;
use moth_core::suspects::Fault;

/// A broadcast, or what was recorded of it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Evening {
    /// What it was made of, like a file's name; shown as the drawing's source.
    pub source: String,
    /// When its first second began; `None` if that is not known.
    pub began: Option<Zoned>,
    /// Second by second from the beginning.
    pub seconds: Vec<Second>,
    /// The most that may wait, in milliseconds.
    pub queue_limit_ms: f64,
    /// Every verdict.
    pub verdicts: Vec<Stood>,
    /// What was changed, and when.
    pub changes: Vec<Changed>,
    /// How figures are known that are not simply measured, in words.
    pub known: Vec<String>,
    /// What could not be seen, in words.
    pub unseen: Vec<String>,
}

/// A verdict, for as long as it stood.
#[derive(Debug, Clone, PartialEq)]
pub struct Stood {
    /// From then on, in seconds since the beginning.
    pub from_s: f64,
    /// Until then.
    pub until_s: f64,
    /// Which stage was at fault.
    pub fault: Fault,
    /// The cause's slug, if one was found.
    pub cause: Option<String>,
    /// Its sentence when it was surest.
    pub sentence: String,
    /// The highest it was sure, from 0 to 1.
    pub confidence: f64,
}

/// A change that was made.
#[derive(Debug, Clone, PartialEq)]
pub struct Changed {
    /// When, in seconds since the beginning.
    pub at_s: f64,
    /// What, in words.
    pub what: String,
}

/// A stretch of a broadcast, in seconds since its beginning.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stretch {
    /// From then on.
    pub from_s: f64,
    /// Until then.
    pub until_s: f64,
}

impl Evening {
    /// The time of day at so many seconds since the beginning; `None` if that is not known.
    #[must_use]
    pub fn time(&self, at_s: f64) -> Option<Zoned> {
        let since = SignedDuration::try_from_secs_f64(at_s).ok()?;
        self.began.as_ref()?.checked_add(since).ok()
    }

    /// All of it.
    #[must_use]
    pub fn whole(&self) -> Stretch {
        Stretch { from_s: 0.0, until_s: self.seconds.len() as f64 }
    }
}
