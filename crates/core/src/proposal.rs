//! What could be done. Actions leave the core as data; others carry them out and report back.

use serde::{Deserialize, Serialize};

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
    /// Something only the user can do.
    ByHand {
        /// What to do, in one sentence.
        advice: String,
    },
}

/// An action worth considering, with its price and its promise.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Proposal {
    /// What to do.
    pub action: Action,
    /// What it is, in a few words: `lower the bitrate to 2 250 kb/s`.
    pub title: String,
    /// What it costs the viewers or the picture.
    pub cost: String,
    /// What should follow.
    pub expected: String,
    /// Whether the moth can carry it out; else it says what to do and watches.
    pub possible: bool,
    /// Whether it interrupts the broadcast if it goes wrong, so that it wants a confirmation.
    pub dangerous: bool,
}
