//! Talking with viewers against the finest picture: what each setting adds to how late they see it, and what it costs to go without.
//!
//! What goes without costs is our own measurement: three short films of a published package (720p, CIF and QCIF) with x264
//! `veryfast` at one constant bitrate, three bitrates each; of the nine, the middle of the bits that the same picture (by SSIM)
//! takes more, beside 2 B-frames, a look-ahead of 40 frames and a keyframe every 2.4 s. `docs/before-live.md` has all of them.

use moth_core::rate::grouped;
use serde::Serialize;

use crate::service::Limits;

/// B-frames in a row and frames of look-ahead, where the picture comes first.
const FINEST_B_FRAMES: u32 = 2;
const FINEST_LOOKAHEAD: u32 = 40;
/// Frames of look-ahead where the conversation comes first: most of what look-ahead brings is in the first ten.
const TALKING_LOOKAHEAD: u32 = 10;
/// Seconds between keyframes, where a service asks for nothing.
const TALKING_KEYFRAMES_S: f64 = 1.0;
const FINEST_KEYFRAMES_S: f64 = 2.0;
/// How long a frame may wait in the queue before it is dropped, in milliseconds: what `moth watch` is started with, and a quarter.
const FINEST_QUEUE_MS: u64 = 2000;
const TALKING_QUEUE_MS: u64 = 500;
/// What the same picture takes more, in percent.
const WITHOUT_B_FRAMES: u32 = 35;
const WITH_ONE_B_FRAME: u32 = 11;
const WITHOUT_LOOKAHEAD: u32 = 27;
const WITH_LITTLE_LOOKAHEAD: u32 = 3;
const WITH_TWICE_THE_KEYFRAMES: u32 = 2;

/// Where the costs are from, in a sentence: they are nobody's own.
pub const COSTS_FROM: &str =
    "What it costs was measured by us, with x264 on three short films, and wavers: yours may differ.";

/// One thing that is set, at both ends.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Setting {
    /// What.
    pub what: &'static str,
    /// For talking with viewers.
    pub talking: String,
    /// For the finest picture.
    pub finest: String,
    /// What the one costs, and what the other does.
    pub costs: String,
}

/// Both ends.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Conversation {
    /// Where the costs are from.
    pub costs_from: &'static str,
    /// What is set, and to what.
    pub settings: Vec<Setting>,
    /// What the encoder holds back where the conversation comes first, in milliseconds.
    pub talking_ms: f64,
    /// What it holds back where the picture does, in milliseconds.
    pub finest_ms: f64,
}

/// How long an encoder holds a picture back, in milliseconds: with B-frames one interval more than there are in a row (as
/// measured on the wire), and all of its look-ahead.
fn held_ms(b_frames: u32, lookahead: u32, fps: f64) -> f64 {
    let reordering = if b_frames > 0 { b_frames + 1 } else { 0 };
    f64::from(reordering + lookahead) * 1000.0 / fps.max(1.0)
}

/// Both ends at so many frames per second, within what the service takes.
#[must_use]
pub fn conversation(fps: f64, limits: &Limits) -> Conversation {
    let b_frames = limits.b_frames.unwrap_or(FINEST_B_FRAMES).min(FINEST_B_FRAMES);
    let ms = |b_frames, lookahead| format!("{:.0} ms", held_ms(b_frames, lookahead, fps));
    let of_b_frames = |n: u32| if n == 0 { "0".into() } else { format!("{n}: {} held back", ms(n, 0)) };
    let of_lookahead = |n: u32| format!("{n} frames: {}", ms(0, n));
    let (joins, asked) = match limits.keyframe_s {
        Some(s) => ((s, s), "the service asks for it"),
        None => (
            (TALKING_KEYFRAMES_S, FINEST_KEYFRAMES_S),
            "services cut what they pass on at keyframes, so shorter is sooner",
        ),
    };
    let settings = vec![
        Setting {
            what: "B-frames",
            talking: of_b_frames(0),
            finest: of_b_frames(b_frames),
            costs: match b_frames {
                0 => "the service takes none".into(),
                1 => format!(
                    "without, the same picture takes about {} % more bits",
                    (100 + WITHOUT_B_FRAMES) * 100 / (100 + WITH_ONE_B_FRAME) - 100
                ),
                _ => format!(
                    "without, the same picture takes about {WITHOUT_B_FRAMES} % more bits; with one, {WITH_ONE_B_FRAME} %"
                ),
            },
        },
        Setting {
            what: "look-ahead",
            talking: of_lookahead(TALKING_LOOKAHEAD),
            finest: of_lookahead(FINEST_LOOKAHEAD),
            costs: format!("about {WITH_LITTLE_LOOKAHEAD} % more bits; with none at all {WITHOUT_LOOKAHEAD} %"),
        },
        Setting {
            what: "keyframes",
            talking: format!("every {} s", joins.0),
            finest: format!("every {} s", joins.1),
            costs: format!("{asked}; twice as many take about {WITH_TWICE_THE_KEYFRAMES} % more bits"),
        },
        Setting {
            what: "queue limit",
            talking: format!("{} ms", grouped(TALKING_QUEUE_MS)),
            finest: format!("{} ms", grouped(FINEST_QUEUE_MS)),
            costs: format!(
                "--queue-ms {TALKING_QUEUE_MS}: in trouble viewers fall back no further, and frames are dropped sooner"
            ),
        },
    ];
    Conversation {
        costs_from: COSTS_FROM,
        settings,
        talking_ms: held_ms(0, TALKING_LOOKAHEAD, fps),
        finest_ms: held_ms(b_frames, FINEST_LOOKAHEAD, fps),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn at_sixty_frames_a_conversation_waits_a_sixth_of_a_second_and_the_finest_picture_three_quarters() {
        let both = conversation(60.0, &Limits::default());
        assert!((both.talking_ms - 166.7).abs() < 0.1, "{}", both.talking_ms);
        assert!((both.finest_ms - 716.7).abs() < 0.1, "{}", both.finest_ms);
        assert_eq!(both.settings[0].finest, "2: 50 ms held back");
        assert_eq!(both.settings[2].talking, "every 1 s");
    }

    #[test]
    fn what_a_service_asks_for_is_kept_at_both_ends() {
        let limits = Limits { keyframe_s: Some(2.0), b_frames: Some(0), ..Limits::default() };
        let both = conversation(30.0, &limits);
        assert_eq!((both.settings[2].talking.as_str(), both.settings[2].finest.as_str()), ("every 2 s", "every 2 s"));
        assert_eq!(both.settings[0].finest, "0");
        assert_eq!(both.settings[0].costs, "the service takes none");
        let one = conversation(30.0, &Limits { b_frames: Some(1), ..Limits::default() });
        assert!(one.settings[0].costs.contains("about 21 % more bits"), "{}", one.settings[0].costs);
    }
}
