//! What could be done. Actions leave the core as data; others carry them out and report back.

use serde::{Deserialize, Serialize};

use crate::rate::Bitrate;
use crate::reading::StreamFacts;

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
        fps: u32,
    },
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

/// Half the frame rate, where that is still a rate people broadcast at.
#[must_use]
pub fn half_rate(stream: &StreamFacts) -> Option<Proposal> {
    let fps = stream.fps.filter(|fps| *fps >= 47.0)?;
    let half = (fps / 2.0).round() as u32;
    Some(Proposal {
        action: Action::SetRate { fps: half },
        title: format!("lower the frame rate to {half} frames/s"),
        cost: "motion is less smooth".into(),
        expected: "each frame has twice the time".into(),
        possible: stream.takes_rate,
        dangerous: false,
    })
}

/// The next smaller of the usual picture sizes.
#[must_use]
pub fn smaller_size(stream: &StreamFacts) -> Option<Proposal> {
    let (width, height) = stream.width.zip(stream.height)?;
    let lines = [1440, 1080, 900, 720, 540].into_iter().find(|lines| *lines < height)?;
    // Whole blocks of 8 pixels, in the same aspect.
    let wide = (f64::from(width) * f64::from(lines) / f64::from(height) / 8.0).round() as u32 * 8;
    let share = f64::from(wide * lines) / (f64::from(width) * f64::from(height)) * 100.0;
    Some(Proposal {
        action: Action::SetSize { width: wide, height: lines },
        title: format!("lower the picture size to {wide}x{lines}"),
        cost: "fine detail is lost".into(),
        expected: format!("each frame is {share:.0} % of the work"),
        possible: stream.takes_size,
        dangerous: false,
    })
}
