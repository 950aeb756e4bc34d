//! A setup: a named set of choices.

use std::fmt;
use std::path::PathBuf;

use moth_core::keeper::Mode;
use moth_core::rate::Bitrate;
use serde::{Deserialize, Serialize};

use crate::headroom::Headroom;
use crate::picture::Motion;
use crate::text::{Size, fps, maybe_fps, maybe_rate, rate};

/// A named set of choices for a broadcast.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Setup {
    /// The service's name in the file.
    pub service: String,
    /// Which of its servers.
    pub server: ServerChoice,
    /// Video bitrate.
    #[serde(with = "rate")]
    pub bitrate: Bitrate,
    /// Audio bitrate.
    #[serde(with = "rate")]
    pub audio: Bitrate,
    /// The picture that is sent.
    pub size: Size,
    /// Frames per second.
    #[serde(deserialize_with = "fps")]
    pub rate: f64,
    /// The scene's own size, which `size` is made from; the same if not given.
    pub source: Option<Size>,
    /// The scene's own frames per second; `rate` if not given.
    #[serde(deserialize_with = "maybe_fps")]
    pub source_rate: Option<f64>,
    /// Codec, such as `h264`.
    pub codec: String,
    /// The encoder, in the broadcaster's words.
    pub encoder: Option<String>,
    /// The encoder's preset.
    pub preset: Option<String>,
    /// Seconds between keyframes.
    pub keyframe_s: f64,
    /// B-frames in a row.
    pub b_frames: u32,
    /// How much moves in the picture.
    pub motion: Motion,
    /// How much of the line is left free.
    #[serde(rename = "headroom_percent")]
    pub headroom: Headroom,
    /// What the rest of the household is left of the upload.
    #[serde(with = "rate")]
    pub household: Bitrate,
    /// The folder recordings go to.
    pub recordings: Option<PathBuf>,
    /// What the automatic bitrate may do.
    pub keeper: Mode,
    /// It never goes below this video bitrate.
    #[serde(with = "maybe_rate")]
    pub keeper_floor: Option<Bitrate>,
    /// Whether the server may be changed by itself when it is dark or losing.
    pub failover: bool,
    /// How often within an hour, at most.
    pub failovers_an_hour: u32,
    /// Whether the broadcast is played back from its server once it is there.
    pub play_back: bool,
    /// How a lost connection is made again.
    pub reconnect: ReconnectChoice,
    /// What there is to do in a soak, if it is not the usual.
    pub soak: Option<Vec<String>>,
    /// How the broadcaster is run and changed, if the moth does that.
    pub broadcaster: BroadcasterChoice,
}

/// How a lost connection is made again.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct ReconnectChoice {
    /// Seconds before the first try.
    pub first_s: f64,
    /// By how much the wait grows from try to try.
    pub growth: f64,
    /// The longest wait, in seconds.
    pub longest_s: f64,
    /// After so many seconds without a connection it is given up; 0: never.
    pub give_up_s: f64,
}

impl Default for ReconnectChoice {
    fn default() -> Self {
        Self { first_s: 0.5, growth: 2.0, longest_s: 8.0, give_up_s: 0.0 }
    }
}

/// How the broadcaster is run and changed.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct BroadcasterChoice {
    /// An encoder's command line that the moth runs, with placeholders: program, then its arguments.
    pub command: Vec<String>,
    /// What `{preset}` may be, from the lightest to the heaviest.
    pub presets: Vec<String>,
    /// A command of the user's that sets the bitrate of a running broadcaster.
    pub bitrate_command: Vec<String>,
}

/// What a command's placeholders may be.
pub const PLACEHOLDERS: [&str; 8] =
    ["{publish}", "{bitrate}", "{bitrate_bps}", "{size}", "{width}", "{height}", "{rate}", "{preset}"];

impl BroadcasterChoice {
    fn impossible(&self, preset: Option<&str>) -> Option<String> {
        let has = |command: &[String], what: &str| command.iter().any(|part| part.contains(what));
        let has_bitrate = |command: &[String]| has(command, "{bitrate}") || has(command, "{bitrate_bps}");
        let is_whole = has(&self.command, "{publish}") && has_bitrate(&self.command);
        if !self.command.is_empty() && !is_whole {
            return Some("expected a command with {publish} and {bitrate} in it".into());
        }
        if !self.bitrate_command.is_empty() && !has_bitrate(&self.bitrate_command) {
            return Some("expected a bitrate_command with {bitrate} in it".into());
        }
        let known = preset.is_some_and(|preset| self.presets.iter().any(|p| p == preset));
        if has(&self.command, "{preset}") && !known {
            return Some(
                "a command with {preset} needs `presets`, lightest first, with the setup's `preset` in it".into(),
            );
        }
        let all = self.command.iter().chain(&self.bitrate_command);
        let unknown = all.flat_map(|part| part.split('{').skip(1)).find_map(|rest| {
            let name = format!("{{{}}}", rest.split_once('}')?.0);
            (!PLACEHOLDERS.contains(&name.as_str())).then_some(name)
        });
        unknown.map(|name| format!("there is no placeholder {name}; there is {}", PLACEHOLDERS.join(" ")))
    }
}

impl Default for Setup {
    /// What services commonly take: 720p60 at 4.5 Mb/s, a keyframe every 2 s, two B-frames.
    fn default() -> Self {
        Self {
            service: String::new(),
            server: ServerChoice::Automatic,
            bitrate: Bitrate::from_kbps(4500),
            audio: Bitrate::from_kbps(160),
            size: Size::new(1280, 720),
            rate: 60.0,
            source: None,
            source_rate: None,
            codec: "h264".into(),
            encoder: None,
            preset: None,
            keyframe_s: 2.0,
            b_frames: 2,
            motion: Motion::Moving,
            headroom: Headroom::of_percent(25.0),
            household: Bitrate::ZERO,
            recordings: None,
            keeper: Mode::Off,
            keeper_floor: None,
            failover: false,
            play_back: false,
            failovers_an_hour: 4,
            reconnect: ReconnectChoice::default(),
            soak: None,
            broadcaster: BroadcasterChoice::default(),
        }
    }
}

impl Setup {
    /// The scene's own size.
    #[must_use]
    pub fn source(&self) -> Size {
        self.source.unwrap_or(self.size)
    }

    /// The scene's own frames per second.
    #[must_use]
    pub fn source_rate(&self) -> f64 {
        self.source_rate.unwrap_or(self.rate)
    }

    /// Video and audio together: what the line is asked to carry.
    #[must_use]
    pub fn total(&self) -> Bitrate {
        Bitrate::from_bps(self.bitrate.bps().saturating_add(self.audio.bps()))
    }

    /// What no sensible setup holds; each with what is expected. The numbers that files may get wrong.
    #[must_use]
    pub fn impossible(&self) -> Option<(&'static str, String)> {
        let out = |name, expected: &str| Some((name, expected.to_owned()));
        if !(self.rate.is_finite() && (1.0..=240.0).contains(&self.rate)) {
            return out("rate", "expected frames per second from 1 to 240");
        }
        if self.source_rate.is_some_and(|fps| !(fps.is_finite() && (1.0..=240.0).contains(&fps))) {
            return out("source_rate", "expected frames per second from 1 to 240");
        }
        if !(self.keyframe_s.is_finite() && (0.1..=60.0).contains(&self.keyframe_s)) {
            return out("keyframe_s", "expected seconds from 0.1 to 60");
        }
        if !self.headroom.is_valid() {
            return out("headroom_percent", "expected percent from 0 to 90");
        }
        if !(100_000..=200_000_000).contains(&self.bitrate.bps()) {
            return out("bitrate", "expected a video bitrate from 100 kb/s to 200 Mb/s");
        }
        if self.audio > Bitrate::from_kbps(2000) {
            return out("audio", "expected an audio bitrate up to 2 000 kb/s");
        }
        if self.b_frames > 16 {
            return out("b_frames", "expected from 0 to 16 B-frames in a row");
        }
        // One above the bitrate is none: the bitrate is changed more often, and then it is the floor.
        if self.keeper_floor.is_some_and(|floor| !(100_000..=200_000_000).contains(&floor.bps())) {
            return out("keeper_floor", "expected a video bitrate from 100 kb/s to 200 Mb/s");
        }
        if self.failovers_an_hour > 60 {
            return out("failovers_an_hour", "expected up to 60");
        }
        let ReconnectChoice { first_s, growth, longest_s, give_up_s } = self.reconnect;
        let within = |value: f64, low: f64, high: f64| value.is_finite() && (low..=high).contains(&value);
        if !within(first_s, 0.1, 60.0) || !within(longest_s, first_s, 600.0) {
            return out("reconnect", "expected first_s from 0.1 to 60 and longest_s from there to 600");
        }
        if !within(growth, 1.0, 10.0) || !within(give_up_s, 0.0, 86_400.0) {
            return out("reconnect", "expected growth from 1 to 10 and give_up_s from 0 (never) to 86400");
        }
        let is_long = |to_do: &Vec<String>| to_do.len() > 30 || to_do.iter().any(|what| what.chars().count() > 80);
        if self.soak.as_ref().is_some_and(is_long) {
            return out("soak", "expected up to 30 things to do, of up to 80 characters each");
        }
        if let Some(what) = self.broadcaster.impossible(self.preset.as_deref()) {
            return out("broadcaster", &what);
        }
        None
    }
}

/// Which server a setup uses.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum ServerChoice {
    /// The best of the last test, else the first.
    #[default]
    Automatic,
    /// The one of this name.
    Named(String),
}

/// The word for [`ServerChoice::Automatic`] in files.
const AUTOMATIC: &str = "automatic";

impl fmt::Display for ServerChoice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Automatic => f.pad(AUTOMATIC),
            Self::Named(name) => f.pad(name),
        }
    }
}

impl<'a> Deserialize<'a> for ServerChoice {
    fn deserialize<D: serde::Deserializer<'a>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        Ok(if text == AUTOMATIC { Self::Automatic } else { Self::Named(text) })
    }
}

impl Serialize for ServerChoice {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}
