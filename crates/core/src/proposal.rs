//! What could be done, with its price and its promise.

use serde::Serialize;

use crate::action::{Action, priority_word};
use crate::frame_rate::FrameRate;
use crate::keeper::Mode;
use crate::rate::Bitrate;
use crate::reading::StreamFacts;

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
    /// If it is done by the user's own hand: how, one step after another, the last how to see that it worked.
    pub steps: Vec<String>,
    /// Whether the moth can carry it out; else it says what to do and watches.
    pub possible: bool,
    /// Whether it interrupts the broadcast if it goes wrong, so that it wants a confirmation.
    pub dangerous: bool,
}

/// A priority that is raised, as a niceness: before what runs in the background, not before the system's own. Ours.
pub const RAISED: i32 = -5;

/// Half the frame rate, where that is still a rate people broadcast at.
#[must_use]
pub fn half_rate(stream: &StreamFacts) -> Option<Proposal> {
    let fps = stream.fps.filter(|fps| *fps >= 47.0)?;
    Some(to_rate(FrameRate::from_fps(fps / 2.0), stream))
}

/// Another frame rate.
#[must_use]
pub fn to_rate(fps: FrameRate, stream: &StreamFacts) -> Proposal {
    let is_lower = stream.fps.is_none_or(|now| fps.fps() < now);
    Proposal {
        action: Action::SetRate { fps },
        title: format!("{} the frame rate to {fps} frames/s", if is_lower { "lower" } else { "raise" }),
        cost: if is_lower { "motion is less smooth".into() } else { "less time and fewer bits for each frame".into() },
        expected: if is_lower { "each frame has more time".into() } else { "motion is smoother".into() },
        steps: Vec::new(),
        possible: stream.takes_rate,
        dangerous: false,
    }
}

/// The next smaller of the usual picture sizes.
#[must_use]
pub fn smaller_size(stream: &StreamFacts) -> Option<Proposal> {
    let height = stream.height?;
    let lines = [1440, 1080, 900, 720, 540].into_iter().find(|lines| *lines < height)?;
    to_lines(lines, stream)
}

/// Another picture size of so many lines, in the same aspect; `None` if the present one is not known.
#[must_use]
pub fn to_lines(lines: u32, stream: &StreamFacts) -> Option<Proposal> {
    let (width, height) = stream.width.zip(stream.height).filter(|(_, height)| *height > 0)?;
    // Whole blocks of 8 pixels.
    let wide = (f64::from(width) * f64::from(lines) / f64::from(height) / 8.0).round() as u32 * 8;
    Some(to_size(wide, lines, stream))
}

/// Another picture size.
#[must_use]
pub fn to_size(width: u32, height: u32, stream: &StreamFacts) -> Proposal {
    let now = stream.width.zip(stream.height).map(|(w, h)| f64::from(w) * f64::from(h));
    let share = now.map(|now| f64::from(width) * f64::from(height) / now * 100.0);
    let is_smaller = share.is_none_or(|share| share < 100.0);
    Proposal {
        action: Action::SetSize { width, height },
        title: format!("{} the picture size to {width}x{height}", if is_smaller { "lower" } else { "raise" }),
        cost: if is_smaller { "fine detail is lost".into() } else { "more work, and fewer bits for each pixel".into() },
        expected: share.map_or_else(|| "less work".into(), |share| format!("each frame is {share:.0} % of the work")),
        steps: Vec::new(),
        possible: stream.takes_size,
        dangerous: false,
    }
}

/// Another video bitrate, with what it does to the picture.
#[must_use]
pub fn to_bitrate(video: Bitrate, now: Bitrate, stream: &StreamFacts) -> Proposal {
    let share = if now == Bitrate::ZERO { 1.0 } else { video.kbps() / now.kbps() };
    let is_lower = video <= now;
    let interrupts = if stream.restarts { "; the picture stops while the encoder restarts" } else { "" };
    Proposal {
        action: Action::SetBitrate { video },
        title: format!("{} the video bitrate to {video}", if is_lower { "lower" } else { "raise" }),
        cost: if is_lower {
            format!("picture softer: {:.0} % of the bits it has now{interrupts}", share * 100.0)
        } else {
            format!("asks {:.0} % of what is asked now of the line{interrupts}", share * 100.0)
        },
        expected: if is_lower { "the line has less to carry" } else { "a sharper picture, if the line carries it" }
            .into(),
        steps: Vec::new(),
        possible: stream.takes_bitrate,
        dangerous: false,
    }
}

/// A lighter encoder preset.
#[must_use]
pub fn lighter_preset(stream: &StreamFacts) -> Proposal {
    Proposal {
        action: Action::LighterPreset,
        title: "one step to a lighter encoder preset".into(),
        cost: "picture a little coarser at the same bitrate".into(),
        expected: "each frame takes less time to encode".into(),
        steps: Vec::new(),
        possible: stream.takes_preset,
        dangerous: false,
    }
}

/// A heavier encoder preset.
#[must_use]
pub fn heavier_preset(stream: &StreamFacts) -> Proposal {
    Proposal {
        action: Action::HeavierPreset,
        title: "one step to a heavier encoder preset".into(),
        cost: "each frame takes more time to encode".into(),
        expected: "a little more detail at the same bitrate, if the encoder keeps up".into(),
        steps: Vec::new(),
        possible: stream.takes_preset,
        dangerous: false,
    }
}

/// Another server.
#[must_use]
pub fn to_server(server: &str) -> Proposal {
    Proposal {
        title: format!("move to {server}"),
        cost: "viewers may see a short gap at the change".into(),
        expected: format!("{server} takes the broadcast over at the next keyframe"),
        steps: Vec::new(),
        possible: true,
        dangerous: true,
        action: Action::SwitchServer { server: server.to_owned() },
    }
}

/// Another scheduling priority for the broadcaster.
#[must_use]
pub fn to_priority(nice: i32) -> Proposal {
    let (cost, expected) = match nice {
        ..0 => ("other programs wait longer", "the scene and the encoder come first when the CPU is full"),
        0 => ("nothing", "the broadcaster is treated as every other program"),
        1.. => ("the broadcast suffers first when the CPU is full", "other programs come first"),
    };
    Proposal {
        title: format!("give the broadcaster {} priority (nice {nice})", priority_word(nice)),
        cost: cost.into(),
        expected: expected.into(),
        steps: Vec::new(),
        possible: true,
        dangerous: false,
        action: Action::SetPriority { nice },
    }
}

/// Another mode for the keeper.
#[must_use]
pub fn to_keeper(mode: Mode) -> Proposal {
    let (cost, expected) = match mode {
        Mode::Off => ("nothing", "the bitrate is changed by nobody but you"),
        Mode::Advise => ("nothing", "it says what it would do, and does nothing"),
        Mode::Act => (
            "the picture softens by itself when the line shrinks",
            "it lowers the bitrate once when the line has become smaller, and climbs back; your hand counts more",
        ),
    };
    Proposal {
        title: format!("keeper: {}", mode.word()),
        cost: cost.into(),
        expected: expected.into(),
        steps: Vec::new(),
        possible: true,
        dangerous: false,
        action: Action::SetKeeper { mode },
    }
}

/// Consent to changing servers by itself, or its end.
#[must_use]
pub fn to_failover(on: bool) -> Proposal {
    Proposal {
        action: Action::SetFailover { on },
        title: format!("change servers by itself: {}", if on { "on" } else { "off" }),
        cost: if on { "a short gap at each change, at a time of the moth's choosing".into() } else { "nothing".into() },
        expected: if on {
            "when the server is dark or losing and another is better, the broadcast moves there".into()
        } else {
            "the server is changed by nobody but you".into()
        },
        steps: Vec::new(),
        possible: true,
        dangerous: false,
    }
}
