//! What can be done to a broadcast. Actions leave the core as data; others carry them out and report back.

use serde::{Deserialize, Serialize};

use crate::frame_rate::FrameRate;
use crate::keeper::Mode;
use crate::rate::Bitrate;

/// Something that can be done to the broadcast.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "action", rename_all = "kebab-case")]
pub enum Action {
    /// The broadcaster's video bitrate.
    SetBitrate {
        /// The new value.
        video: Bitrate,
    },
    /// Another ingest server.
    SwitchServer {
        /// Its name.
        server: String,
    },
    /// The next lighter encoder preset.
    LighterPreset,
    /// The next heavier encoder preset.
    HeavierPreset,
    /// Another picture size.
    SetSize {
        /// Width in pixels.
        width: u32,
        /// Height in lines.
        height: u32,
    },
    /// Another frame rate.
    SetRate {
        /// Frames per second.
        fps: FrameRate,
    },
    /// The broadcaster's scheduling priority.
    SetPriority {
        /// Its niceness, from -20 (before all others) to 19 (after them), as POSIX has it.
        nice: i32,
    },
    /// What the keeper may do.
    SetKeeper {
        /// The new mode.
        mode: Mode,
    },
    /// Whether the server is changed by itself when it is dark or losing.
    SetFailover {
        /// Whether it is.
        on: bool,
    },
    /// The broadcast is played back from its server for ten seconds.
    PlayBack,
    /// Something only the user can do.
    ByHand {
        /// What to do, in one sentence.
        advice: String,
    },
}

impl Action {
    /// What it does, in a few words: `video bitrate to 2 250 kb/s`.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::SetBitrate { video } => format!("video bitrate to {video}"),
            Self::SwitchServer { server } => format!("move to {server}"),
            Self::LighterPreset => "lighter encoder preset".into(),
            Self::HeavierPreset => "heavier encoder preset".into(),
            Self::SetSize { width, height } => format!("picture size to {width}x{height}"),
            Self::SetRate { fps } => format!("frame rate to {fps} frames/s"),
            Self::SetPriority { nice } => format!("broadcaster's priority to {} (nice {nice})", priority_word(*nice)),
            Self::SetKeeper { mode } => format!("keeper: {}", mode.word()),
            Self::SetFailover { on } => format!("changing servers by itself: {}", if *on { "on" } else { "off" }),
            Self::PlayBack => "play it back from the server".into(),
            Self::ByHand { advice } => advice.clone(),
        }
    }

    /// Whether frames could be lost or saved by it, so that it is worth a trial.
    #[must_use]
    pub fn is_tried(&self) -> bool {
        !matches!(self, Self::SetKeeper { .. } | Self::SetFailover { .. } | Self::PlayBack)
    }
}

/// What a niceness is to people.
#[must_use]
pub fn priority_word(nice: i32) -> &'static str {
    match nice {
        ..0 => "high",
        0 => "normal",
        1.. => "low",
    }
}
