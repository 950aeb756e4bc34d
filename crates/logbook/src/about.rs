//! What a broadcast is known by in the logbook.

use jiff::tz::{Offset, TimeZone};
use jiff::{SignedDuration, Timestamp, Zoned};
use moth_core::suspects::{Cause, Fault};
use moth_evening::digest::Digest;
use serde::{Deserialize, Serialize};

/// How a broadcast came into the logbook.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// It was watched.
    #[default]
    Broadcast,
    /// It was rehearsed.
    Rehearsal,
    /// It was read from a readings file.
    Recording,
}

impl Kind {
    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Broadcast => "broadcast",
            Self::Rehearsal => "rehearsal",
            Self::Recording => "recording",
        }
    }

    pub(crate) fn of(word: &str) -> Self {
        [Self::Rehearsal, Self::Recording].into_iter().find(|kind| kind.word() == word).unwrap_or_default()
    }
}

/// What a setup says, without its secrets: no key, no address, no command line.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct SetupTold {
    /// Video bitrate, in kb/s.
    pub video_kbps: Option<f64>,
    /// Audio bitrate, in kb/s.
    pub audio_kbps: Option<f64>,
    /// The picture's size, in pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    pub fps: Option<f64>,
    /// The encoder's preset.
    pub preset: Option<String>,
    /// Share of the upload that is left free, in percent.
    pub headroom_percent: Option<f64>,
}

/// What is known of a broadcast when it begins.
#[derive(Debug, Clone, PartialEq)]
pub struct About {
    /// When its clock began.
    pub began: Zoned,
    /// How it came here.
    pub kind: Kind,
    /// Everything in it is a stand-in's.
    pub is_made_up: bool,
    /// The setup's name; empty without one.
    pub setup: String,
    /// The service's name; empty without one.
    pub service: String,
    /// What the setup says.
    pub told: SetupTold,
}

/// A broadcast in the list.
#[derive(Debug, Clone, PartialEq)]
pub struct Listed {
    /// Its number.
    pub nr: i64,
    /// What was known when it began.
    pub about: About,
    /// Where it begins on its clock, in seconds.
    pub first_second: usize,
    /// A title of the user's.
    pub title: String,
    /// A note of the user's.
    pub note: String,
    /// It was ended; else it goes on, or broke off.
    pub is_ended: bool,
    /// How far it is thinned: 0 not at all.
    pub thinned: u32,
    /// What is shown of it.
    pub digest: Digest,
    /// What it takes on disk, in bytes.
    pub bytes: u64,
}

impl Listed {
    /// When it began.
    #[must_use]
    pub fn on_air_at(&self) -> Zoned {
        let waited = SignedDuration::from_secs(self.first_second as i64);
        self.about.began.checked_add(waited).unwrap_or_else(|_| self.about.began.clone())
    }

    /// When it began, in words: `Fri 2026-11-20 21:04`.
    #[must_use]
    pub fn began_words(&self) -> String {
        self.on_air_at().strftime("%a %Y-%m-%d %H:%M").to_string()
    }

    /// Its date, its setup and what was at fault, in small letters.
    fn in_words(&self) -> String {
        let mut words = self.on_air_at().strftime("%A %Y-%m-%d %-d %B").to_string();
        words.push_str(&format!(" {} {} {}", self.about.setup, self.about.service, self.about.kind.word()));
        for blamed in &self.digest.blamed {
            words.push_str(&format!(" {} {}", blamed.fault.word(), blamed.cause.map_or("", Cause::words)));
            words.push_str(&format!(" {}", blamed.cause.map_or("", Cause::slug)));
        }
        if self.digest.blamed.is_empty() {
            words.push_str(" none");
        }
        words.to_lowercase()
    }

    /// Its title, else what it is and its number.
    #[must_use]
    pub fn name(&self) -> String {
        if self.title.is_empty() { format!("{} {}", self.about.kind.word(), self.nr) } else { self.title.clone() }
    }
}

/// What is looked for in the list; what is not said is not asked.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Wanted {
    /// It began then or later.
    pub since: Option<Timestamp>,
    /// It began before.
    pub before: Option<Timestamp>,
    /// Its setup, whatever the case of letters.
    pub setup: Option<String>,
    /// A stage or a cause that was at fault: `network`, `upload-beyond`; `none` for nothing.
    pub verdict: Option<String>,
    /// Words that are all in its title or its note, whatever the case of letters.
    pub words: Option<String>,
    /// The same, or in its date, its setup, or what was at fault.
    pub anything: Option<String>,
}

impl Wanted {
    /// Whether a broadcast is among those looked for.
    #[must_use]
    pub fn fits(&self, listed: &Listed) -> bool {
        let at = listed.on_air_at().timestamp();
        let text = format!("{}\n{}", listed.title, listed.note).to_lowercase();
        let is_blamed = |word: &str| {
            let mut blamed = listed.digest.blamed.iter();
            match word {
                "none" => listed.digest.blamed.is_empty(),
                word => blamed.any(|b| b.fault.word() == word || b.cause.map(Cause::slug) == Some(word)),
            }
        };
        self.since.is_none_or(|since| at >= since)
            && self.before.is_none_or(|before| at < before)
            && self.setup.as_ref().is_none_or(|setup| listed.about.setup.eq_ignore_ascii_case(setup))
            && self.verdict.as_ref().is_none_or(|word| is_blamed(word))
            && self.words.as_ref().is_none_or(|words| has_all(&text, words))
            && self.anything.as_ref().is_none_or(|words| has_all(&format!("{text}\n{}", listed.in_words()), words))
    }

    /// Whether a verdict's word is one that there is.
    #[must_use]
    pub fn is_verdict(word: &str) -> bool {
        let stages = [Fault::None, Fault::Network, Fault::Encoder, Fault::Rendering];
        stages.iter().any(|stage| stage.word() == word) || Cause::ALL.iter().any(|cause| cause.slug() == word)
    }
}

/// Whether a text in small letters has every one of some words.
fn has_all(text: &str, words: &str) -> bool {
    words.to_lowercase().split_whitespace().all(|word| text.contains(word))
}

/// A time of day with the offset from UTC that held there.
pub(crate) fn zoned(ms: i64, offset_s: i32) -> Zoned {
    let at = Timestamp::from_millisecond(ms).unwrap_or(Timestamp::UNIX_EPOCH);
    at.to_zoned(TimeZone::fixed(Offset::from_seconds(offset_s).unwrap_or(Offset::UTC)))
}
