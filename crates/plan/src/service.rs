//! A service: where one broadcasts to, and what it takes.

use moth_core::rate::Bitrate;
use moth_destination::Address;
use serde::{Deserialize, Deserializer, de::Error};

use crate::text::maybe_rate;

/// A service one broadcasts to.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Service {
    /// As shown to people.
    pub name: String,
    /// Its ingest servers.
    #[serde(default)]
    pub servers: Vec<IngestServer>,
    /// What it takes.
    #[serde(default)]
    pub limits: Limits,
    /// Whether it takes a second connection under the same key while the first is open.
    #[serde(default = "yes")]
    pub takes_two: bool,
    /// What is added to the key for a run that nobody sees; `None` if the service has no such thing.
    pub unseen: Option<String>,
    /// How much the service itself adds to its viewers' delay, in seconds, if that is known.
    #[serde(default, deserialize_with = "positive")]
    pub delay_s: Option<f64>,
    /// The user's command that prints the key (a password manager's, say): program, then its arguments.
    pub key_command: Option<Vec<String>>,
}

/// One ingest server of a service.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct IngestServer {
    /// As shown to people.
    pub name: String,
    /// Where it is.
    #[serde(deserialize_with = "address")]
    pub address: Address,
    /// Which part of the world it is in, if the service says so.
    pub region: Option<String>,
}

/// What a service takes. What is not given is not limited.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Limits {
    /// Over this much video the service asks one not to go.
    #[serde(with = "maybe_rate")]
    pub video_soft: Option<Bitrate>,
    /// Over this much video it cuts the broadcast off, or may.
    #[serde(with = "maybe_rate")]
    pub video_hard: Option<Bitrate>,
    /// Over this much audio the service asks one not to go.
    #[serde(with = "maybe_rate")]
    pub audio_soft: Option<Bitrate>,
    /// Over this much audio it cuts the broadcast off, or may.
    #[serde(with = "maybe_rate")]
    pub audio_hard: Option<Bitrate>,
    /// Seconds between keyframes.
    #[serde(deserialize_with = "positive")]
    pub keyframe_s: Option<f64>,
    /// Frame rates, in frames per second; none named means any.
    pub rates: Vec<f64>,
    /// Codecs, such as `h264`; none named means any.
    pub codecs: Vec<String>,
    /// The most B-frames in a row.
    pub b_frames: Option<u32>,
}

impl Limits {
    /// The highest video bitrate that breaks no limit.
    #[must_use]
    pub fn video(&self) -> Option<Bitrate> {
        [self.video_soft, self.video_hard].into_iter().flatten().min()
    }

    /// The highest audio bitrate that breaks no limit.
    #[must_use]
    pub fn audio(&self) -> Option<Bitrate> {
        [self.audio_soft, self.audio_hard].into_iter().flatten().min()
    }
}

impl Service {
    /// The server of this name, whatever its capitals.
    #[must_use]
    pub fn server(&self, name: &str) -> Option<&IngestServer> {
        self.servers.iter().find(|s| s.name.eq_ignore_ascii_case(name))
    }

    /// The regions its servers are in, in the order of their first server.
    #[must_use]
    pub fn regions(&self) -> Vec<&str> {
        let mut regions: Vec<&str> = Vec::new();
        for region in self.servers.iter().filter_map(|s| s.region.as_deref()) {
            if !regions.contains(&region) {
                regions.push(region);
            }
        }
        regions
    }
}

fn yes() -> bool {
    true
}

fn address<'a, D: Deserializer<'a>>(from: D) -> Result<Address, D::Error> {
    // The text is not repeated: people paste keys into addresses.
    String::deserialize(from)?.parse().map_err(D::Error::custom)
}

fn positive<'a, D: Deserializer<'a>>(from: D) -> Result<Option<f64>, D::Error> {
    let value = f64::deserialize(from)?;
    if value.is_finite() && value > 0.0 && value <= 60.0 {
        return Ok(Some(value));
    }
    Err(D::Error::custom("expected seconds over 0 and up to 60"))
}
