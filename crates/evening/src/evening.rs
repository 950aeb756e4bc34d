//! A broadcast as plain data: what is drawn of it.

use jiff::{SignedDuration, Zoned};
use moth_core::State;
use moth_core::history::Second;
use moth_core::journey::Stage;
use moth_core::suspects::{Cause, Evidence, Fault, Weighed};
use moth_core::trial::Trial;

use serde::{Deserialize, Serialize};

use crate::load::Machine;
use crate::measured::{LineTest, ServersTest};
use crate::names::Names;

/// A broadcast, or what was recorded of it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Evening {
    /// What it was made of, like a file's name; shown as the drawing's source.
    pub source: String,
    /// Everything in it is a stand-in's.
    pub is_made_up: bool,
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
    /// What came of the changes, in their order.
    pub trials: Vec<Trial>,
    /// The load on this machine, and on others of the same streamer.
    pub machines: Vec<Machine>,
    /// The server, when it was looked at last.
    pub server: String,
    /// The stages and what was weighed, at one moment.
    pub standing: Option<Standing>,
    /// Tests of servers that were made on the day.
    pub servers: Option<ServersTest>,
    /// Tests of the line that were made on the day.
    pub line: Option<LineTest>,
    /// How figures are known that are not simply measured, in words.
    pub known: Vec<String>,
    /// What could not be seen, in words.
    pub unseen: Vec<String>,
    /// Every name, address and program that its words may hold.
    pub names: Names,
}

/// A verdict, for as long as it stood.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Stood {
    /// From then on, in seconds since the beginning.
    pub from_s: f64,
    /// Until then.
    pub until_s: f64,
    /// Which stage was at fault.
    pub fault: Fault,
    /// The cause, if one was found.
    pub cause: Option<Cause>,
    /// When it was surest, in seconds since the beginning.
    pub surest_s: f64,
    /// Its sentence when it was surest.
    pub sentence: String,
    /// The highest it was sure, from 0 to 1.
    pub confidence: f64,
    /// Every cause that was weighed when it was surest, the likeliest first.
    pub weighed: Vec<Weighed>,
    /// What it rested on when it was surest.
    pub evidence: Vec<Evidence>,
    /// What would have made another cause likelier.
    pub would_change: String,
    /// What else was at fault meanwhile.
    pub also: Vec<(Fault, Option<Cause>)>,
}

/// A change that was made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Changed {
    /// When, in seconds since the beginning.
    pub at_s: f64,
    /// What, in words.
    pub what: String,
}

/// How everything stood at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Standing {
    /// When, in seconds since the beginning.
    pub at_s: f64,
    /// The connection's state; `None` while nobody broadcasts.
    pub state: Option<State>,
    /// The stages of a frame's journey.
    pub stages: [Stage; 4],
    /// The stages that lose frames.
    pub losing: Vec<Fault>,
    /// Every cause, and what is known for and against it, whether or not a frame is lost.
    pub weighed: Vec<(Fault, Vec<Weighed>)>,
}

/// A stretch of a broadcast, in seconds since its beginning.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stretch {
    /// From then on.
    pub from_s: f64,
    /// Until then.
    pub until_s: f64,
}

impl Stood {
    /// The cause in a few words.
    #[must_use]
    pub fn cause_words(&self) -> &'static str {
        self.cause.map_or("what in it is not clear", Cause::words)
    }
}

impl Stretch {
    /// Whether anything of it lies between these.
    #[must_use]
    pub fn touches(&self, from_s: f64, until_s: f64) -> bool {
        until_s > self.from_s && from_s < self.until_s
    }
}

/// Frames that were lost in some seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Lost {
    /// Frames due.
    pub due: u64,
    /// Dropped.
    pub dropped: u64,
    /// Skipped.
    pub skipped: u64,
    /// Lagged.
    pub lagged: u64,
}

impl Lost {
    /// What was lost in these seconds, as far as was known.
    #[must_use]
    pub fn of(seconds: &[Second]) -> Self {
        let sum = |value: fn(&Second) -> Option<u32>| seconds.iter().filter_map(value).map(u64::from).sum();
        Self {
            due: sum(|s| s.due),
            dropped: sum(|s| s.dropped),
            skipped: sum(|s| s.skipped),
            lagged: sum(|s| s.lagged),
        }
    }

    /// Of a stage.
    #[must_use]
    pub fn by(&self, fault: Fault) -> u64 {
        match fault {
            Fault::None => 0,
            Fault::Network => self.dropped,
            Fault::Encoder => self.skipped,
            Fault::Rendering => self.lagged,
        }
    }

    /// All of them.
    #[must_use]
    pub fn all(&self) -> u64 {
        self.dropped + self.skipped + self.lagged
    }

    /// So many of those due, in percent.
    #[must_use]
    pub fn percent(&self, frames: u64) -> f64 {
        if self.due == 0 { 0.0 } else { frames as f64 / self.due as f64 * 100.0 }
    }
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

    /// The seconds of a stretch that there are.
    #[must_use]
    pub fn within(&self, stretch: Stretch) -> &[Second] {
        let last = self.seconds.len();
        let from = (stretch.from_s.max(0.0).floor() as usize).min(last);
        let until = (stretch.until_s.max(0.0).ceil() as usize).clamp(from, last);
        &self.seconds[from..until]
    }

    /// Verdicts of which something lies in a stretch.
    pub fn verdicts_in(&self, stretch: Stretch) -> impl Iterator<Item = &Stood> {
        self.verdicts.iter().filter(move |stood| stretch.touches(stood.from_s, stood.until_s.max(stood.from_s + 0.1)))
    }

    /// The verdict that stood longest in a stretch.
    #[must_use]
    pub fn longest_verdict(&self, stretch: Stretch) -> Option<&Stood> {
        let length = |stood: &Stood| stood.until_s.min(stretch.until_s) - stood.from_s.max(stretch.from_s);
        self.verdicts_in(stretch).max_by(|a, b| length(a).total_cmp(&length(b)))
    }

    /// What came of a change: the trial that began when it was made.
    #[must_use]
    pub fn trial_of(&self, change: &Changed) -> Option<&Trial> {
        self.trials.iter().find(|trial| (trial.since.seconds() - change.at_s).abs() < 0.001)
    }

    /// The newest trial of a change that was made in a stretch.
    #[must_use]
    pub fn newest_trial(&self, stretch: Stretch) -> Option<&Trial> {
        let is_inside = |trial: &&Trial| (stretch.from_s..=stretch.until_s).contains(&trial.since.seconds());
        self.trials.iter().rev().find(is_inside)
    }
}
