//! What could be done, with its price and its promise.

use serde::{Deserialize, Serialize};

use crate::action::{Action, priority_word};
use crate::frame_rate::FrameRate;
use crate::keeper::Mode;
use crate::rate::Bitrate;
use crate::reading::StreamFacts;

/// An action worth considering, with its price and its promise.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
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

/// The broadcast played back from its server.
#[must_use]
pub fn to_play_back() -> Proposal {
    Proposal {
        action: Action::PlayBack,
        title: "play it back from the server".into(),
        cost: "ten seconds of its bitrate downstream, and a viewer more at the server".into(),
        expected: "it is told whether the server gives it out, which frames, and how much later".into(),
        steps: Vec::new(),
        possible: true,
        dangerous: false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stream(width: u32, height: u32, fps: f64) -> StreamFacts {
        StreamFacts { width: Some(width), height: Some(height), fps: Some(fps), ..StreamFacts::default() }
    }

    #[test]
    fn a_smaller_size_keeps_the_aspect_in_whole_blocks_and_says_how_much_less_work_it_is() {
        let smaller = |width, height| smaller_size(&stream(width, height, 60.0));
        for ((width, height), (wide, lines), share) in [
            ((1920, 1080), (1600, 900), "69 %"),
            ((1280, 720), (960, 540), "56 %"),
            // Four to three, and a picture that stands upright.
            ((1440, 1080), (1200, 900), "69 %"),
            ((1080, 1920), (808, 1440), "56 %"),
        ] {
            let proposal = smaller(width, height).unwrap();
            assert_eq!(proposal.action, Action::SetSize { width: wide, height: lines });
            assert_eq!(proposal.title, format!("lower the picture size to {wide}x{lines}"));
            assert_eq!(proposal.expected, format!("each frame is {share} of the work"));
        }
        assert_eq!(smaller(960, 540), None, "there is none below");
        assert_eq!((to_lines(720, &StreamFacts::default()), to_lines(720, &stream(10, 0, 60.0))), (None, None));
        assert!(to_size(1920, 1080, &stream(1280, 720, 60.0)).title.starts_with("raise"));
    }

    #[test]
    fn half_the_rate_is_offered_where_that_is_still_a_rate_to_broadcast_at() {
        let half = |fps| half_rate(&stream(1280, 720, fps)).map(|proposal| proposal.title);
        assert_eq!(half(60.0).as_deref(), Some("lower the frame rate to 30 frames/s"));
        assert_eq!(half(47.0).as_deref(), Some("lower the frame rate to 23.5 frames/s"));
        assert_eq!((half(46.9), half(30.0)), (None, None));
        assert_eq!(half_rate(&StreamFacts::default()), None);
        assert!(to_rate(FrameRate::from_fps(60.0), &stream(1280, 720, 30.0)).title.starts_with("raise"));
    }

    #[test]
    fn a_bitrate_says_what_it_costs_in_the_direction_it_goes() {
        let to = |video, now, restarts| {
            let stream = StreamFacts { restarts, takes_bitrate: true, ..StreamFacts::default() };
            let proposal = to_bitrate(Bitrate::from_kbps(video), Bitrate::from_kbps(now), &stream);
            assert!(proposal.possible);
            (proposal.title, proposal.cost)
        };
        let lower =
            ("lower the video bitrate to 3 000 kb/s".into(), "picture softer: 50 % of the bits it has now".into());
        assert_eq!(to(3000, 6000, false), lower);
        let stops = "; the picture stops while the encoder restarts";
        let raise = "raise the video bitrate to 9 000 kb/s".into();
        assert_eq!(to(9000, 6000, true), (raise, format!("asks 150 % of what is asked now of the line{stops}")));
        assert!(to(3000, 0, false).1.contains("100 %"), "nothing is known of now");
    }

    #[test]
    fn only_what_may_interrupt_the_broadcast_wants_a_confirmation() {
        let facts = StreamFacts::default();
        assert!(to_server("Dunmere").dangerous);
        for harmless in [lighter_preset(&facts), heavier_preset(&facts), to_priority(RAISED), to_keeper(Mode::Act)] {
            assert!(!harmless.dangerous, "{}", harmless.title);
        }
        let able = StreamFacts { takes_preset: true, ..facts };
        assert!(lighter_preset(&able).possible && !lighter_preset(&facts).possible);
    }
}
