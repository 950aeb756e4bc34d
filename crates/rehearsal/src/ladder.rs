//! A ladder: what is raised, rung by rung, from light to heavy, and what has to be done to get from one rung to another.

use std::cmp::Ordering;

use moth_core::action::Action;
use moth_core::frame_rate::FrameRate;
use moth_core::rate::Bitrate;
use serde::{Deserialize, Serialize};

/// What a climb raises. All else is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// The video bitrate.
    Bitrate,
    /// The encoder's preset, from light to heavy.
    Preset,
    /// The picture's size and rate.
    Picture,
}

impl Kind {
    /// Each of them.
    pub const ALL: [Self; 3] = [Self::Bitrate, Self::Preset, Self::Picture];

    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Bitrate => "bitrate",
            Self::Preset => "preset",
            Self::Picture => "picture",
        }
    }
}

/// What a rung is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Value {
    /// A video bitrate, in bits per second.
    Bitrate(Bitrate),
    /// A preset: its place in the setup's list, the lightest being 0, and its name.
    Preset(usize, String),
    /// A picture.
    Picture {
        /// In pixels.
        width: u32,
        /// In lines.
        height: u32,
        /// Frames per second.
        fps: FrameRate,
    },
}

impl Value {
    /// What it is called, with its unit.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Bitrate(video) => video.to_string(),
            Self::Preset(_, name) => name.clone(),
            Self::Picture { width, height, fps } => format!("{width}x{height} at {fps} frames/s"),
        }
    }

    /// The same as one word, as it can be given on a command line: `2500k`, `veryfast`, `1280x720@60`.
    #[must_use]
    pub fn word(&self) -> String {
        match self {
            Self::Bitrate(video) if video.bps().is_multiple_of(1000) => format!("{}k", video.bps() / 1000),
            Self::Bitrate(video) => video.to_text(),
            Self::Preset(_, name) => name.clone(),
            Self::Picture { width, height, fps } => format!("{width}x{height}@{fps}"),
        }
    }

    /// How heavy it is, in a unit that the rungs of a ladder share.
    #[must_use]
    pub fn load(&self) -> f64 {
        match self {
            Self::Bitrate(video) => video.bps() as f64,
            Self::Preset(place, _) => *place as f64,
            Self::Picture { width, height, fps } => f64::from(*width) * f64::from(*height) * fps.fps(),
        }
    }

    /// What has to be done first to get there from another value of the same kind; `None` if it is there.
    #[must_use]
    pub fn step_from(&self, from: &Self) -> Option<Action> {
        match (from, self) {
            (Self::Bitrate(from), Self::Bitrate(video)) => {
                (from != video).then_some(Action::SetBitrate { video: *video })
            }
            // Presets are asked for one by one: a broadcaster knows its own, and not always their names.
            (Self::Preset(from, _), Self::Preset(to, _)) => match to.cmp(from) {
                Ordering::Less => Some(Action::LighterPreset),
                Ordering::Greater => Some(Action::HeavierPreset),
                Ordering::Equal => None,
            },
            (Self::Picture { width: w, height: h, fps: f }, Self::Picture { width, height, fps }) => {
                let size = ((w, h) != (width, height)).then_some(Action::SetSize { width: *width, height: *height });
                size.or((f != fps).then_some(Action::SetRate { fps: *fps }))
            }
            _ => None,
        }
    }

    /// What is in force once this was done.
    #[must_use]
    pub fn after(&self, action: &Action) -> Self {
        match (self, action) {
            (Self::Bitrate(_), Action::SetBitrate { video }) => Self::Bitrate(*video),
            // The place tells it; what it is called, the ladder knows.
            (Self::Preset(place, _), Action::LighterPreset) => Self::Preset(place.saturating_sub(1), String::new()),
            (Self::Preset(place, _), Action::HeavierPreset) => Self::Preset(place + 1, String::new()),
            (Self::Picture { fps, .. }, Action::SetSize { width, height }) => {
                Self::Picture { width: *width, height: *height, fps: *fps }
            }
            (Self::Picture { width, height, .. }, Action::SetRate { fps }) => {
                Self::Picture { width: *width, height: *height, fps: *fps }
            }
            _ => self.clone(),
        }
    }
}

/// The rungs of a climb.
#[derive(Debug, Clone, PartialEq)]
pub struct Ladder {
    kind: Kind,
    rungs: Vec<Value>,
}

impl Ladder {
    /// A ladder of values of one kind, put into the order of their load; each is there once.
    #[must_use]
    pub fn new(kind: Kind, mut rungs: Vec<Value>) -> Self {
        rungs.sort_by(|a, b| a.load().total_cmp(&b.load()));
        rungs.dedup();
        Self { kind, rungs }
    }

    /// Bitrates from one to another in steps of so much; the highest is always among them.
    #[must_use]
    pub fn of_bitrates(from: Bitrate, to: Bitrate, step: Bitrate) -> Self {
        let step = step.bps().max(1);
        let count = to.bps().saturating_sub(from.bps()) / step;
        // More than that nobody tries, and a step of a bit per second must take no memory.
        let rungs = (0..=count.min(2000)).map(|n| from.bps() + n * step).chain([to.bps()]);
        Self::new(Kind::Bitrate, rungs.map(|bps| Value::Bitrate(Bitrate::from_bps(bps))).collect())
    }

    /// What it raises.
    #[must_use]
    pub fn kind(&self) -> Kind {
        self.kind
    }

    /// Its rungs, the lightest first.
    #[must_use]
    pub fn rungs(&self) -> &[Value] {
        &self.rungs
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picture(width: u32, height: u32, fps: u32) -> Value {
        Value::Picture { width, height, fps: FrameRate::whole(fps) }
    }

    #[test]
    fn bitrates_go_up_in_steps_and_end_at_the_highest() {
        let kbps = Bitrate::from_kbps;
        let words = |ladder: Ladder| ladder.rungs().iter().map(Value::word).collect::<Vec<_>>();
        assert_eq!(words(Ladder::of_bitrates(kbps(1000), kbps(2200), kbps(500))), ["1000k", "1500k", "2000k", "2200k"]);
        assert_eq!(words(Ladder::of_bitrates(kbps(1000), kbps(1000), kbps(500))), ["1000k"]);
        assert!(Ladder::of_bitrates(kbps(1), kbps(100_000), Bitrate::from_bps(1)).rungs().len() < 3000);
    }

    #[test]
    fn each_rung_is_reached_by_as_few_changes_as_it_takes() {
        let preset = |place| Value::Preset(place, format!("p{place}"));
        let bitrate = |kbps| Value::Bitrate(Bitrate::from_kbps(kbps));
        let ways = [
            (preset(1), preset(3), 2),
            (preset(3), preset(0), 3),
            (preset(2), preset(2), 0),
            (bitrate(2000), bitrate(3000), 1),
            (bitrate(2000), bitrate(2000), 0),
            (picture(1280, 720, 30), picture(1664, 936, 60), 2),
            (picture(1280, 720, 30), picture(1280, 720, 60), 1),
            (picture(1280, 720, 30), picture(640, 360, 30), 1),
            (bitrate(2000), preset(1), 0),
        ];
        for (from, to, least) in ways {
            let (mut at, mut steps) = (from.clone(), 0);
            while let Some(action) = to.step_from(&at) {
                at = at.after(&action);
                steps += 1;
                assert!(steps <= least, "{from:?} to {to:?}");
            }
            assert_eq!(steps, least, "{from:?} to {to:?}");
        }
    }

    #[test]
    fn pictures_lie_in_the_order_of_their_load() {
        let ladder =
            Ladder::new(Kind::Picture, vec![picture(1920, 1080, 60), picture(640, 360, 60), picture(1280, 720, 30)]);
        let words: Vec<String> = ladder.rungs().iter().map(Value::word).collect();
        assert_eq!(words, ["640x360@60", "1280x720@30", "1920x1080@60"]);
        assert_eq!(ladder.rungs()[1].words(), "1280x720 at 30 frames/s");
    }
}
