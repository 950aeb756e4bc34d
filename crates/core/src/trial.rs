//! A trial: a change being proved, by what was lost before it and after it.

pub mod weigh;

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::action::Action;
use crate::history::{History, Second};
use crate::moment::Moment;
use crate::proposal::Proposal;
use crate::reading::StreamFacts;
use crate::suspects::Fault;
use weigh::{BLOCK, LOOKS, LostSecond, Says, Weighing, weigh};

/// What waits when a change is made was made before it: so many seconds after it are not counted. The queue holds two
/// seconds, and as long again is what it takes to drain. Ours.
pub const SETTLE_S: usize = 4;
/// Seconds looked at on both sides, at most. Ours.
pub const LONGEST_S: usize = LOOKS[LOOKS.len() - 1];
/// Of two changes within so many seconds, neither is credited with what followed. The keeper climbs no sooner. Ours.
pub const APART_S: u64 = 60;
/// A change that was put back is judged once so many seconds were seen with and without it, in which this much is lost again,
/// in percent. Ours.
const UNDONE_S: usize = 6;
const UNDONE_PERCENT: f64 = 2.0;
/// A raised bitrate that was carried for this long, in seconds, with nothing lost, is kept. Ours.
const CARRIED_S: usize = LOOKS[0];

/// What a trial came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Fewer frames are lost, or more picture is carried and nothing lost for it.
    Helped,
    /// As much is lost as before, or more.
    DidNotHelp,
    /// It cannot be told, yet or at all.
    Unclear,
}

impl Outcome {
    /// In words.
    #[must_use]
    pub fn words(self, is_over: bool) -> &'static str {
        match (self, is_over) {
            (Self::Helped, _) => "helped",
            (Self::DidNotHelp, _) => "did not help",
            (Self::Unclear, false) => "cannot tell yet",
            (Self::Unclear, true) => "cannot tell",
        }
    }
}

/// What a change is meant to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Aim {
    /// Fewer lost frames.
    FewerLost,
    /// More picture, and no frame lost for it.
    MorePicture,
}

/// Figures of some seconds on one side of a change.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Side {
    /// How many seconds.
    pub seconds: u32,
    /// Frames that were due.
    pub due: u64,
    /// Frames lost, of the kind the change is about.
    pub lost: u64,
    /// How long the picture stood still, in milliseconds.
    pub frozen_ms: u64,
    /// The longest wait in the queue, on the mean of the seconds, in milliseconds.
    pub queue_ms: f64,
    /// What was offered, on the mean, in kb/s.
    pub asked_kbps: f64,
    /// What was carried, on the mean, in kb/s.
    pub sent_kbps: f64,
    /// Bits for each pixel of each frame, if the picture's size and rate are known.
    pub bits_per_pixel: Option<f64>,
}

impl Side {
    /// Share of frames lost, in percent.
    #[must_use]
    pub fn lost_percent(&self) -> f64 {
        if self.due == 0 { 0.0 } else { self.lost as f64 / self.due as f64 * 100.0 }
    }
}

/// A change being proved.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Trial {
    /// What was changed.
    pub action: Action,
    /// In words.
    pub title: String,
    /// When.
    pub since: Moment,
    /// What it is meant to do.
    pub aim: Aim,
    /// Which lost frames it is about; all of them if [`Fault::None`].
    pub about: Fault,
    /// How it was before: from where the trouble began, if it did.
    #[serde(serialize_with = "if_seen", deserialize_with = "or_none")]
    pub before: Side,
    /// How it is since, without the first [`SETTLE_S`] seconds; as long as `before` at most, unless that is short.
    #[serde(serialize_with = "if_seen", deserialize_with = "or_none")]
    pub after: Side,
    /// By how many percent of the frames less is lost, with 95 % confidence: at least and at most. `None` while too little is
    /// seen, and where the trouble had just begun.
    pub less_points: Option<(f64, f64)>,
    /// What it came to.
    pub outcome: Outcome,
    /// Whether it is over: nothing changes any more.
    pub is_over: bool,
    /// Another change was made meanwhile: neither is credited with what followed.
    pub beside_another: bool,
    /// It was put back.
    pub put_back: bool,
    /// What it came to, in a sentence with its numbers.
    pub sentence: String,
    /// What to do next if it did not help.
    pub next: Option<Proposal>,
    /// Index of the first second after the change.
    #[serde(skip)]
    first_second: usize,
    /// Index of the first second after it was put back.
    #[serde(skip)]
    undone_second: Option<usize>,
    /// The trouble is younger than what is compared.
    #[serde(skip)]
    is_young: bool,
    /// Pixels in a picture and pictures in a second, before and after.
    #[serde(skip)]
    pictures: [Option<f64>; 2],
}

/// Pixels a second.
fn pixels(stream: &StreamFacts) -> Option<f64> {
    let (width, height) = stream.width.zip(stream.height)?;
    Some(f64::from(width) * f64::from(height) * stream.fps?)
}

/// Which lost frames an action is about.
fn about(action: &Action, standing: Fault) -> Fault {
    match action {
        Action::SetBitrate { .. } | Action::SwitchServer { .. } => Fault::Network,
        Action::LighterPreset | Action::HeavierPreset => Fault::Encoder,
        _ => standing,
    }
}

impl Trial {
    /// A trial of a change made at `now`.
    pub(crate) fn open(
        action: Action,
        aim: Aim,
        standing: Fault,
        now: Moment,
        history: &History,
        streams: [&StreamFacts; 2],
    ) -> Self {
        Self {
            title: action.words(),
            about: about(&action, standing),
            action,
            since: now,
            aim,
            before: Side::default(),
            after: Side::default(),
            less_points: None,
            outcome: Outcome::Unclear,
            is_over: false,
            beside_another: false,
            put_back: false,
            sentence: "The change was just made.".into(),
            next: None,
            first_second: history.len(),
            undone_second: None,
            is_young: false,
            pictures: streams.map(pixels),
        }
    }

    /// What it came to, in words.
    #[must_use]
    pub fn words(&self) -> &'static str {
        if self.put_back { "put back" } else { self.outcome.words(self.is_over) }
    }

    /// Another change was made before this one was proved.
    pub(crate) fn overtaken(&mut self, by: &str) {
        if !self.is_over {
            self.is_over = true;
            self.beside_another = true;
            self.sentence = format!("Not proved: {by} was changed before it could be told.");
        }
    }

    /// It was put back.
    pub(crate) fn put_back(&mut self, history: &History) {
        self.put_back = true;
        self.undone_second = self.undone_second.or(Some(history.len()));
        if !self.is_over {
            self.is_over = true;
            self.sentence = "Put back before it could be told.".into();
        }
    }

    /// A second has passed. Gives whether something can be told now that could not before.
    pub(crate) fn follow(&mut self, history: &History, next: &[Proposal]) -> bool {
        if let (Some(undone), Outcome::Unclear) = (self.undone_second, self.outcome) {
            return self.follow_undone(history, undone);
        }
        if self.is_over {
            return false;
        }
        let begin = self.first_second + SETTLE_S;
        let gone_by = history.len().saturating_sub(begin).min(LONGEST_S);
        let before: Vec<&Second> =
            on_air(history, self.first_second.saturating_sub(LONGEST_S)..self.first_second).collect();
        let after: Vec<&Second> = on_air(history, begin..begin + gone_by).collect();
        let losses = |side: &[&Second]| side.iter().map(|s| lost(s, self.about)).collect::<Vec<_>>();
        let (lost_before, lost_after) = (losses(&before), losses(&after));
        // A calm that came before the trouble is no part of it.
        let calm = lost_before.iter().position(|second| second.lost > 0).unwrap_or(0);
        let length = (before.len() - calm).min(after.len().max(BLOCK));
        self.before = side(&before[before.len() - length..], self.about, self.pictures[0]);
        // Trouble that began a moment ago is weighed with the calm before it, and what is shown is all that came since; as all of
        // it shows that more is carried, and not as much as was seen before.
        self.is_young = calm > 0 && length < after.len();
        let all = self.is_young || self.aim == Aim::MorePicture;
        let length = if all { after.len() } else { length.min(after.len()) };
        self.after = side(&after[..length], self.about, self.pictures[1]);
        let weighing = weigh(&lost_before, &lost_after);
        self.less_points = weighing.filter(|_| !self.is_young).map(|w| (w.less.0 * 100.0, w.less.1 * 100.0));
        let outcome = self.told(weighing, after.len());
        if outcome != Outcome::Unclear && self.beside_another {
            self.sentence = format!(
                "{} Not credited: another change was made within a minute.",
                self.describe(weighing, before.len())
            );
            self.is_over = true;
            return true;
        }
        self.outcome = outcome;
        self.is_over = outcome != Outcome::Unclear || gone_by >= LONGEST_S;
        self.sentence = self.describe(weighing, before.len());
        if self.outcome == Outcome::DidNotHelp {
            let same = |p: &&Proposal| std::mem::discriminant(&p.action) == std::mem::discriminant(&self.action);
            self.next = next.iter().find(|p| !same(p)).or(next.first()).cloned();
        }
        self.is_over
    }

    /// It was put back before it was proved: a loss that comes back says that the change had helped.
    fn follow_undone(&mut self, history: &History, undone: usize) -> bool {
        let since: Vec<&Second> = on_air(history, undone + SETTLE_S..history.len()).collect();
        let between: Vec<&Second> = on_air(history, (self.first_second + SETTLE_S).min(undone)..undone).collect();
        if since.len() < UNDONE_S || between.len() < UNDONE_S || history.len() > undone + LONGEST_S {
            return false;
        }
        let [between, since] = [between, since].map(|seconds| side(&seconds, self.about, None));
        let is_back = since.lost_percent() >= UNDONE_PERCENT && between.lost_percent() <= since.lost_percent() / 4.0;
        if self.aim != Aim::FewerLost || !is_back {
            return false;
        }
        self.outcome = Outcome::Helped;
        self.sentence = format!(
            "It had helped: {:.1} % lost in the {} s it was in force, {:.1} % in the {} s since it was put back.",
            between.lost_percent(),
            between.seconds,
            since.lost_percent(),
            since.seconds
        );
        true
    }

    fn told(&self, weighing: Option<Weighing>, seconds: usize) -> Outcome {
        let says = weighing.map_or(Says::Unclear, |w| w.says);
        match (self.aim, says) {
            (_, Says::More) => Outcome::DidNotHelp,
            (Aim::FewerLost, Says::Fewer) => Outcome::Helped,
            (Aim::FewerLost, Says::NotFewer) => Outcome::DidNotHelp,
            (Aim::MorePicture, _) if seconds >= CARRIED_S => {
                let is_more = self.after.sent_kbps > self.before.sent_kbps * 1.02;
                if is_more && self.after.lost == 0 { Outcome::Helped } else { Outcome::Unclear }
            }
            _ => Outcome::Unclear,
        }
    }

    /// In a sentence.
    fn describe(&self, weighing: Option<Weighing>, seen_before: usize) -> String {
        let word = match self.about {
            Fault::Network => "dropped",
            Fault::Encoder => "skipped",
            Fault::Rendering => "lagged",
            Fault::None => "lost",
        };
        let (before, after) = (&self.before, &self.after);
        let Some(weighing) = weighing else {
            return if seen_before < 2 * BLOCK {
                format!("Only {seen_before} s of it were seen before the change: too little to compare with.")
            } else {
                "Seconds after the change are being gathered.".into()
            };
        };
        let lost = format!(
            "{} frames {word} in the {} s before ({:.1} %), {} in {} s since ({:.1} %)",
            before.lost,
            before.seconds,
            before.lost_percent(),
            after.lost,
            after.seconds,
            after.lost_percent(),
        );
        if self.aim == Aim::MorePicture {
            return format!("{:.0} kb/s carried instead of {:.0}; {lost}.", after.sent_kbps, before.sent_kbps);
        }
        let (least, most) = (weighing.less.0 * 100.0, weighing.less.1 * 100.0);
        match (weighing.before, self.outcome) {
            (0.0, Outcome::DidNotHelp) => format!("{lost}: it made things worse."),
            (0.0, _) => format!("{lost}: there was nothing to mend."),
            (_, Outcome::Unclear) if self.is_young => format!(
                "{lost}: what is {} s old may have ended by itself; chance alone does as much in {:.0} % of cases.",
                before.seconds,
                (weighing.chance * 100.0).max(1.0)
            ),
            _ if self.is_young => format!("{lost}."),
            (_, Outcome::Unclear) => format!(
                "{lost}: between {least:.1} and {most:.1} points less (95 %); chance alone does as much in {:.0} % of cases.",
                (weighing.chance * 100.0).max(1.0)
            ),
            _ => format!("{lost}: between {least:.1} and {most:.1} points less (95 %)."),
        }
    }

    /// What it is about was not done after all.
    pub(crate) fn was_not_made(&mut self, why: &str) {
        (self.is_over, self.outcome, self.less_points) = (true, Outcome::Unclear, None);
        self.sentence = format!("Nothing was changed: {why}.");
    }

    /// How long it has run.
    #[must_use]
    pub fn age(&self, now: Moment) -> Duration {
        now.since(self.since)
    }
}

/// What was not seen for a second is not told as zero.
fn if_seen<S: serde::Serializer>(side: &Side, to: S) -> Result<S::Ok, S::Error> {
    if side.seconds == 0 { to.serialize_none() } else { side.serialize(to) }
}

/// A side of which no second was seen is written as null.
fn or_none<'a, D: serde::Deserializer<'a>>(from: D) -> Result<Side, D::Error> {
    Ok(Option::deserialize(from)?.unwrap_or_default())
}

/// The seconds of a stretch in which there was a broadcast.
fn on_air(history: &History, seconds: std::ops::Range<usize>) -> impl Iterator<Item = &Second> {
    seconds.filter_map(|index| history.get(index)).filter(|second| second.state.is_some())
}

fn lost(second: &Second, about: Fault) -> LostSecond {
    let (dropped, skipped, lagged) =
        (second.dropped.unwrap_or(0), second.skipped.unwrap_or(0), second.lagged.unwrap_or(0));
    let lost = match about {
        Fault::Network => dropped,
        Fault::Encoder => skipped,
        Fault::Rendering => lagged,
        Fault::None => dropped.saturating_add(skipped).saturating_add(lagged),
    };
    // What is dropped in a second may have come before it.
    LostSecond { due: second.due.unwrap_or(0).max(lost), lost }
}

fn side(seconds: &[&Second], about: Fault, pixels: Option<f64>) -> Side {
    let count = seconds.len().max(1) as f64;
    let mean = |value: fn(&Second) -> Option<f32>| {
        seconds.iter().filter_map(|s| value(s)).map(f64::from).fold(0.0, |sum, v| sum + v) / count
    };
    let losses = seconds.iter().map(|second| lost(second, about));
    let (due, lost) = losses.fold((0, 0), |(due, lost), s| (due + u64::from(s.due), lost + u64::from(s.lost)));
    let asked_kbps = mean(|s| s.asked_kbps);
    Side {
        seconds: u32::try_from(seconds.len()).unwrap_or(u32::MAX),
        due,
        lost,
        frozen_ms: seconds.iter().filter_map(|s| s.frozen_ms).map(u64::from).sum(),
        queue_ms: mean(|s| s.queue_ms),
        asked_kbps,
        sent_kbps: mean(|s| s.sent_kbps),
        bits_per_pixel: pixels.filter(|pixels| *pixels > 0.0).map(|pixels| asked_kbps * 1000.0 / pixels),
    }
}
