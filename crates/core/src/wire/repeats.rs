//! Repeats: inter frames that show the last picture again because the scene was not ready in time.
//!
//! What gives one away depends on the encoder, and much that is not late looks alike. Measured by `scripts/corpus` on real
//! encoders, 60 frames/s, repeats at one frame in five:
//!
//! - With B-frames, or looking ahead without them (x264, x265): a repeat, or its twin, weighs 1–12 % of what a moving
//!   frame of its kind weighs; between the two there is a gap in which no frame lies. But B-frames of a picture that moves
//!   evenly weigh as little while every frame is new: where the frames of a kind do not part into two heaps, nothing is
//!   known.
//! - Without B-frames and without looking ahead (x264 with `zerolatency`), a repeat is refined until it weighs as much as
//!   any frame; but it is coded finer than the frame before, by 1.4 steps of the quantiser and more (60–90 % of repeats,
//!   0–4 % of others). Other encoders' quantisers leap by themselves (10 % of frames): how often this stream's does is
//!   learnt before anything is read off it.
//!
//! A source with fewer pictures a second than the stream repeats by design, at a beat; lateness has none. A beat that was
//! there from the beginning, or since the scene changed, is the source's own. What lies between, a source that itself is
//! irregular, cannot be told from lateness on the wire.

use std::collections::VecDeque;

use serde::Serialize;

use crate::figure::Trust;
use crate::reading::{Prediction, VideoFrame};

/// So many frames behind a keyframe are not like those that follow.
const SETTLES: usize = 4;
/// Frames seen after one before it is judged.
const AFTER: usize = 6;
/// Frames before one that it is compared with.
const BEFORE: usize = 12;
/// Frames are compared over so many seconds.
const REACH_S: f64 = 4.0;
/// The longest run of repeats that is lateness, in seconds; longer, it is a picture that stands still.
const LONGEST_RUN_S: f64 = 0.9;
/// Below so many bytes for each thousand pixels a frame holds no moving picture (700 bytes at 720 lines: the largest
/// repeat measured had 670).
const STILL_BYTES: f64 = 0.76;
/// Pixels of a picture whose size nobody stated: 720 lines.
const PIXELS: f64 = 921_600.0;
/// Between light and heavy frames there is a gap of so many octaves in which there is none.
const GAP: f64 = 0.6;
/// The middle one of the heavy frames weighs so many times the heaviest of the light ones.
const APART: f64 = 3.0;
/// A frame that weighs more than this share of a moving one is no light one.
const CERTAIN: f64 = 0.35;
/// Frames of a kind weigh alike if the middle one weighs no more than so many times the lightest.
const ALIKE: f64 = 2.5;
/// The light ones are no more than this share: a picture that mostly stands still hides whether it is late.
const MOST_LIGHT: f64 = 0.62;
/// A quantiser that falls by so much from one frame to the next, in tenths, and
const FALLS: f64 = 14.0;
/// lies so far below those before, refines.
const FINER: f64 = 10.0;
/// A stream whose quantiser does that of itself in more than this share of frames cannot be read by it.
const NOISY: f64 = 0.012;
/// The quantiser is learnt over so many seconds, beginning so long after the first frame.
const LEARN_S: f64 = 2.8;
const SETTLE_S: f64 = 0.7;
/// With so little repeated for so long, in seconds, a picture is one that moves at the full rate.
const FULL_RATE_S: f64 = 1.6;
/// The same where every frame is predicted from those before; and at least so many frames.
const ALIKE_S: f64 = 2.5;
const ALIKE_FRAMES: f64 = 75.0;
const FULL_RATE: f64 = 0.03;
/// An inter frame so many times as heavy as the middle one is another scene; so is a keyframe that comes before this share of
/// the usual distance.
const CUT: f64 = 6.0;
const EARLY: f64 = 0.9;
/// Runs of repeats from which a beat, or its absence, is read; over so many seconds of one scene.
const RUNS: usize = 6;
const SCENE_S: f64 = 2.4;
/// Repeats that come at a beat share a phase: the mean of their phases is longer than chance makes it once in so many tries, all
/// beats that are tried taken together (Rayleigh's test, N. I. Fisher, *Statistical Analysis of Circular Data*, 1993, section
/// 4.3); and never below this, nor above that.
const ONCE_IN: f64 = 50.0;
const IN_PHASE: (f64, f64) = (0.5, 0.95);
/// The share of all that goes up and down which one frequency has by chance once in a thousand times (Fisher's table, 100
/// frequencies).
const BEAT_SHARE: f64 = 0.13;
/// Repeats among frames predicted from both sides stand for their twins, too: a beat is seen only among so many.
const MANY: usize = 15;
/// Frames of a kind that one is weighed against, and what of them weighs as a moving one does: three of four may repeat.
const WEIGHED_AGAINST: usize = 60;
const HEAVY: f64 = 0.75;
/// A source with no more than this share of the pictures cannot be told from one that is late, if neither was ever seen in time.
const MOST_REPEATED: f64 = 0.4;
/// Runs within so many seconds belong together.
pub(super) const RUNS_S: f64 = 5.0;

/// Whether the picture moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Moving {
    /// It does.
    Yes,
    /// Every frame is tiny: nothing moves, and a repeat would look no different.
    Still,
}

/// How a frame is judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Look {
    New,
    /// It weighs next to nothing among frames that weigh much.
    Light,
    /// It is coded finer than those before it.
    Refined,
    /// It may be either: keyframes always, and all where nothing can be read.
    Unknown,
}

impl Look {
    fn is_repeat(self) -> bool {
        matches!(self, Self::Light | Self::Refined)
    }
}

#[derive(Debug, Clone, Copy)]
struct Seen {
    /// When it is shown, in milliseconds modulo 2³².
    shown_ms: u32,
    bytes: f64,
    kind: Kind,
    qp_tenths: Option<f64>,
    /// What it weighs of a moving frame of its kind, once that is known.
    weight: Option<f64>,
}

/// Frames of one kind weigh alike while the picture moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// Full of bits whatever the picture does.
    Intra,
    Forward,
    Both,
}

/// What was learnt of this stream's quantiser.
#[derive(Debug, Clone, Default)]
struct Quantiser {
    /// Frames so far among which it was learnt.
    among: u32,
    /// In how many of them it fell.
    fell: u32,
    /// It falls for repeats, and hardly ever by itself.
    tells: bool,
}

/// What a light frame of a kind is.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
enum Border {
    /// It cannot be told: their weights are of all sizes.
    #[default]
    None,
    /// All weigh alike: what will be light weighs less than this share of them.
    Below(f64),
    /// There are two heaps, and this between them.
    Between(f64),
}

/// Finds repeats.
#[derive(Debug, Clone, Default)]
pub(super) struct Repeats {
    seen: VecDeque<Seen>,
    /// How the last few seconds' frames were judged, the newest [`AFTER`] not yet among them.
    looks: VecDeque<(u32, Look)>,
    /// What is a light frame of a kind.
    borders: [Border; 2],
    /// Frames since the borders were looked for.
    since_borders: usize,
    quantiser: Quantiser,
    frames: u64,
    /// Frames since the last keyframe, and between those before.
    since_key: u64,
    key_distance: u64,
    fps: f64,
    pixels: f64,
    /// Repeats since the last new picture.
    run: u64,
    /// Runs of repeats that may yet be a source's beat.
    pending: Vec<(u64, u64)>,
    /// Frames in a row that were new, but for a stray one.
    full: f64,
    /// Frames in a row among which all weighed alike.
    alike: f64,
    /// The picture was seen to move at the full rate since the scene began.
    is_full_rate: bool,
    /// It was, before the scene changed.
    was_full_rate: bool,
    /// When each of the last counted runs ended, in frames.
    ended: VecDeque<u64>,
    was_read: bool,
}

impl Repeats {
    /// Takes a frame; gives the repeats that are certain by it: a run counts when the picture moves on.
    pub(super) fn frame(&mut self, frame: &VideoFrame, fps: f64, is_both: bool, pixels: Option<f64>) -> u64 {
        self.frames += 1;
        (self.fps, self.pixels) = (fps.clamp(5.0, 250.0), pixels.unwrap_or(PIXELS));
        let predicted = frame.slices.map(|slices| slices.predicted);
        let kind = match predicted {
            _ if frame.keyframe => Kind::Intra,
            Some(Prediction::Intra) => Kind::Intra,
            Some(Prediction::Both) => Kind::Both,
            Some(Prediction::Forward) => Kind::Forward,
            None if is_both => Kind::Both,
            None => Kind::Forward,
        };
        let bytes = f64::from(frame.bytes.saturating_sub(frame.filler_bytes)).max(1.0);
        let qp_tenths = frame.slices.map(|slices| f64::from(slices.qp_tenths));
        // A scene that changes between keyframes is seen by its weight, or by what it is predicted from.
        self.since_key += 1;
        let is_early = frame.keyframe && (self.since_key as f64) < self.key_distance as f64 * EARLY;
        if frame.keyframe {
            self.key_distance = self.key_distance.max(self.since_key);
            self.since_key = 0;
        }
        let is_cut = is_early || !frame.keyframe && (kind == Kind::Intra || bytes > CUT * self.heavy());
        let shown_ms = frame.time_ms.wrapping_add_signed(frame.composition_ms);
        self.seen.push_back(Seen { shown_ms, bytes, kind, qp_tenths, weight: None });
        while self.seen.len() > self.span(REACH_S) + AFTER {
            self.seen.pop_front();
        }
        if is_cut {
            self.scene_changed();
        }
        if self.since_borders == 0 {
            self.borders = [Kind::Forward, Kind::Both].map(|kind| self.border(kind));
            self.since_borders = 4;
        }
        self.since_borders -= 1;
        let horizon = self.frames.saturating_sub(self.span(RUNS_S) as u64);
        while self.ended.front().is_some_and(|at| *at < horizon) {
            self.ended.pop_front();
        }
        self.follow_one_kind();
        let Some(at) = self.seen.len().checked_sub(AFTER + 1) else { return 0 };
        self.seen[at].weight = self.weight(at);
        let look = self.look(at);
        self.note(self.seen[at].shown_ms, look)
    }

    fn span(&self, seconds: f64) -> usize {
        (self.fps * seconds) as usize
    }

    fn scene_changed(&mut self) {
        self.was_full_rate |= self.is_full_rate;
        self.is_full_rate = false;
        self.full = 0.0;
        self.alike = 0.0;
        self.looks.clear();
        self.pending.clear();
        self.run = 0;
    }

    /// Where every frame is predicted from those before, a repeat may be refined until it weighs as much as any: that the picture
    /// moves at the full rate is shown by weights that are all alike, and neither they nor the quantiser go at a beat.
    fn follow_one_kind(&mut self) {
        let is_alike = matches!(self.borders[0], Border::Below(_)) && self.borders[1] == Border::None;
        self.alike = if is_alike && self.moving() == Some(Moving::Yes) { self.alike + 1.0 } else { 0.0 };
        if self.alike >= (self.fps * ALIKE_S).max(ALIKE_FRAMES) {
            self.alike = 0.0;
            self.is_full_rate |= self.seen.iter().all(|seen| seen.kind != Kind::Both) && !self.goes_up_and_down();
        }
    }

    /// What a frame weighs of a moving one of its kind.
    fn weight(&self, at: usize) -> Option<f64> {
        let this = self.seen[at];
        let mut sizes: Vec<f64> =
            self.seen.iter().rev().filter(|s| s.kind == this.kind).take(WEIGHED_AGAINST).map(|s| s.bytes).collect();
        if this.kind == Kind::Intra || sizes.len() < 8 {
            return None;
        }
        let heavy = ((sizes.len() - 1) as f64 * HEAVY) as usize;
        Some(this.bytes / *sizes.select_nth_unstable_by(heavy, f64::total_cmp).1)
    }

    /// How a frame is judged by those around it.
    fn look(&mut self, at: usize) -> Look {
        let this = self.seen[at];
        let border = match this.kind {
            Kind::Intra => return Look::Unknown,
            Kind::Forward => self.borders[0],
            Kind::Both => self.borders[1],
        };
        if self.moving() != Some(Moving::Yes) {
            return Look::Unknown;
        }
        let refined = self.refined(at);
        // Behind a keyframe there is little left to say, whatever the picture does.
        let is_settled = self.seen.iter().take(at).rev().take(SETTLES).all(|seen| seen.kind != Kind::Intra);
        match border {
            Border::Between(border) | Border::Below(border) if this.weight.is_some_and(|weight| weight < border) => {
                // The last one before a keyframe is light of itself where there are frames predicted from both sides.
                let is_last = self.seen.iter().skip(at + 1).take(AFTER - 1).any(|seen| seen.kind == Kind::Intra);
                let has_both = self.seen.iter().any(|seen| seen.kind == Kind::Both);
                let is_told = this.kind == Kind::Both || !has_both || self.borders[1] != Border::None && !is_last;
                if is_settled && is_told { Look::Light } else { Look::Unknown }
            }
            _ if refined == Some(true) => Look::Refined,
            Border::Between(border) => {
                let is_heavy = this.weight.is_some_and(|weight| weight > CERTAIN || weight > border * APART);
                if is_heavy { Look::New } else { Look::Unknown }
            }
            // Where nothing is light, repeats may be refined until they weigh as much as any: frames predicted from both
            // sides show that there are none, or a quantiser that is known to tell.
            Border::Below(_) if this.kind == Kind::Both => Look::New,
            // Among those, a repeat or its twin is one of them: the others need not be known.
            _ if this.kind == Kind::Forward && self.borders[1] != Border::None => Look::New,
            _ if refined.is_some() => Look::New,
            _ => Look::Unknown,
        }
    }

    /// Whether a frame is coded finer than those before it; `None` if this stream does not tell.
    fn refined(&mut self, at: usize) -> Option<bool> {
        if self.seen.iter().any(|seen| seen.kind == Kind::Both) {
            return None;
        }
        let this = self.seen[at].qp_tenths?;
        let inter = |seen: &&Seen| seen.kind == Kind::Forward;
        let before: Vec<&Seen> = self.seen.iter().take(at).rev().filter(inter).take(BEFORE).collect();
        let after = self.seen.iter().skip(at + 1).filter(inter);
        // Behind a keyframe the quantiser finds its place again.
        let settled = self.seen.iter().take(at).rev().take(SETTLES).all(|seen| seen.kind == Kind::Forward);
        if before.len() < BEFORE / 2 || !settled {
            return Some(false);
        }
        let finer = median(before.iter().filter_map(|seen| seen.qp_tenths)) - this;
        let falls = before.first()?.qp_tenths? - this;
        let usual = median(before.iter().copied().chain(after).map(|seen| seen.bytes));
        let is_lighter = self.seen[at].bytes < usual * 0.7;
        let found = finer >= FINER && (falls >= FALLS || is_lighter);
        if self.frames < self.span(SETTLE_S) as u64 {
            return None;
        }
        let quantiser = &mut self.quantiser;
        if quantiser.tells {
            return Some(found);
        }
        quantiser.among += 1;
        quantiser.fell += u32::from(found);
        // It is learnt anew for as long as it tells nothing: the picture may become another.
        if f64::from(quantiser.among) >= self.fps * LEARN_S {
            quantiser.tells = f64::from(quantiser.fell) <= NOISY * f64::from(quantiser.among);
            (quantiser.among, quantiser.fell) = (0, 0);
            // It did not fall, and nothing goes at a beat: all this time every picture was new.
            self.is_full_rate |= self.quantiser.tells && self.borders[0] != Border::None && !self.goes_up_and_down();
        }
        None
    }

    /// Whether the frames' weights, or their quantisers, go up and down at a beat.
    fn goes_up_and_down(&self) -> bool {
        let weights: Vec<f64> =
            self.seen.iter().filter_map(|seen| seen.weight).map(|weight| weight.log2().clamp(-3.0, 1.0)).collect();
        let quantisers: Vec<f64> =
            self.seen.iter().filter(|seen| seen.weight.is_some()).filter_map(|seen| seen.qp_tenths).collect();
        let falls: Vec<f64> = quantisers.windows(2).map(|pair| pair[1] - pair[0]).collect();
        goes_at_a_beat(&weights) || goes_at_a_beat(&falls)
    }

    /// Notes a judgement; gives what became certain by it.
    fn note(&mut self, shown_ms: u32, look: Look) -> u64 {
        self.was_read |= look != Look::Unknown;
        self.looks.push_back((shown_ms, look));
        if self.looks.len() > self.span(REACH_S) {
            self.looks.pop_front();
        }
        if look == Look::Unknown {
            return 0;
        }
        if look.is_repeat() {
            self.run += 1;
            // A stray one does not spoil it; many do.
            self.full = (self.full - 1.0 / FULL_RATE).max(0.0);
            return 0;
        }
        // Without frames predicted from both sides, weights alone do not show it.
        self.full += if self.borders[1] != Border::None || self.quantiser.tells { 1.0 } else { 0.0 };
        self.is_full_rate |= self.full >= self.fps * FULL_RATE_S;
        let run = std::mem::take(&mut self.run);
        if run == 0 {
            return 0;
        }
        if run as f64 > self.fps * LONGEST_RUN_S {
            // It stood still: what follows may be another scene.
            self.pending.clear();
            return 0;
        }
        self.pending.push((self.frames, run));
        if !self.is_lateness() {
            return 0;
        }
        let count = self.pending.iter().map(|(_, run)| run).sum();
        self.ended.extend(self.pending.drain(..).map(|(at, _)| at));
        count
    }

    /// Whether the runs so far are a scene that was late, and not a source with fewer pictures.
    fn is_lateness(&mut self) -> bool {
        let horizon = self.frames.saturating_sub(self.span(RUNS_S) as u64);
        self.pending.retain(|(at, _)| *at >= horizon);
        let (repeats, light, known) = self.judged();
        let is_refined = light * 2 < repeats;
        if !self.is_full_rate && !self.was_full_rate {
            // Never seen in time: whether it is late, or made so, cannot be told.
            return false;
        }
        if self.is_full_rate && !is_refined {
            return true;
        }
        // Not seen at the full rate since the scene changed, or read off the quantiser alone: only what has no
        // beat is late, what is short, and what mostly moves.
        let lasts = known >= self.span(if self.was_full_rate { SCENE_S / 2.0 } else { SCENE_S });
        let runs = if self.was_full_rate && !is_refined { RUNS / 2 } else { RUNS };
        let short = self.pending.iter().filter(|(_, run)| *run <= 3).count();
        self.pending.len() >= runs
            && lasts
            && repeats as f64 <= MOST_REPEATED * known as f64
            && short * 10 >= self.pending.len() * 8
            && self.beat() == Some(false)
    }

    /// How many of the last few seconds' frames repeat, how many of those are light, and how many are known.
    fn judged(&self) -> (usize, usize, usize) {
        self.looks.iter().fold((0, 0, 0), |(repeats, light, known), (_, look)| {
            (
                repeats + usize::from(look.is_repeat()),
                light + usize::from(*look == Look::Light),
                known + usize::from(*look != Look::Unknown),
            )
        })
    }

    /// Whether the repeats, or if they are the more, the new pictures come at a beat; `None` if there are too few to tell.
    fn beat(&self) -> Option<bool> {
        let (repeats, _, known) = self.judged();
        let is_rare = |look: &Look| if repeats * 2 < known { look.is_repeat() } else { *look == Look::New };
        let (first, _) = self.looks.front()?;
        let interval = 1000.0 / self.fps;
        let at = |shown: &u32| f64::from(shown.wrapping_sub(*first).cast_signed()) / interval;
        let events: Vec<f64> =
            self.looks.iter().filter(|(_, look)| is_rare(look)).map(|(shown, _)| at(shown)).collect();
        let has_both = self.borders[1] != Border::None;
        if events.len() < if has_both && !self.was_full_rate { MANY } else { RUNS } {
            return None;
        }
        Some(!has_both && self.goes_up_and_down() || has_beat(&events, self.looks.len() as f64))
    }

    /// What a light frame of this kind is.
    fn border(&self, kind: Kind) -> Border {
        let mut weights: Vec<f64> =
            self.seen.iter().filter(|seen| seen.kind == kind).filter_map(|seen| seen.weight).collect();
        if weights.len() < self.span(0.4).max(12) {
            return Border::None;
        }
        weights.sort_by(f64::total_cmp);
        let most = (weights.len() as f64 * MOST_LIGHT) as usize;
        let middle_of_heavy = |light: usize| weights[light + (weights.len() - light) / 2];
        // All alike: what will be light lies far below the lightest.
        if weights[0] * ALIKE >= middle_of_heavy(0) {
            return Border::Below(weights[0] / 2.0);
        }
        let gaps = (1..=most).map(|light| ((weights[light] / weights[light - 1]).log2(), light));
        let Some((gap, light)) = gaps.max_by(|a, b| a.0.total_cmp(&b.0)) else { return Border::None };
        let is_apart = weights[light - 1] * APART <= middle_of_heavy(light);
        if gap >= GAP && is_apart {
            Border::Between((weights[light] * weights[light - 1]).sqrt())
        } else {
            Border::None
        }
    }

    /// What a moving frame weighs, in bytes: the middle one of the heavier half.
    fn heavy(&self) -> f64 {
        let mut sizes: Vec<f64> =
            self.seen.iter().rev().take(64).filter(|s| s.kind != Kind::Intra).map(|s| s.bytes).collect();
        if sizes.len() < 16 {
            return f64::INFINITY;
        }
        let at = sizes.len() * 17 / 20;
        *sizes.select_nth_unstable_by(at, f64::total_cmp).1
    }

    /// Runs of repeats that ended within the last [`RUNS_S`].
    pub(super) fn runs(&self) -> u32 {
        u32::try_from(self.ended.len()).unwrap_or(u32::MAX)
    }

    /// Whether the picture moves; `None` before there is enough to tell.
    pub(super) fn moving(&self) -> Option<Moving> {
        let heavy = self.heavy();
        if heavy.is_infinite() {
            return None;
        }
        Some(if heavy < STILL_BYTES * self.pixels / 1000.0 { Moving::Still } else { Moving::Yes })
    }

    /// How far what is read now can be trusted; `None` if nothing can.
    pub(super) fn trust(&self) -> Option<Trust> {
        let recent = self.looks.iter().rev().take(self.span(1.0));
        let (mut known, mut all) = (0, 0);
        for (_, look) in recent {
            all += 1;
            known += usize::from(*look != Look::Unknown);
        }
        if known * 2 < all || all < 8 {
            return None;
        }
        let (repeats, light, _) = self.judged();
        let is_one_kind = self.seen.iter().all(|seen| seen.kind != Kind::Both);
        let is_apart = matches!(self.borders[0], Border::Between(_));
        Some(if is_one_kind && is_apart && light * 4 >= repeats * 3 { Trust::Good } else { Trust::Fair })
    }

    /// Whether anything was ever read.
    pub(super) fn was_read(&self) -> bool {
        self.was_read
    }

    /// New pictures a second of a source that has fewer than the stream, and at a beat, all along.
    pub(super) fn source_rate(&self, fps: f64) -> Option<f64> {
        let (repeats, _, known) = self.judged();
        if self.is_full_rate || known < self.span(1.5) || repeats * 20 < known || self.beat() != Some(true) {
            return None;
        }
        Some((fps * (known - repeats) as f64 / known as f64).round())
    }
}

/// Whether values go up and down at a beat: Fisher's test of the largest of all frequencies faster than once in ten frames
/// (R. A. Fisher, *Proceedings of the Royal Society A* 125, 1929).
fn goes_at_a_beat(values: &[f64]) -> bool {
    let count = values.len();
    if count < 60 {
        return false;
    }
    let mean = values.iter().sum::<f64>() / count as f64;
    let power = |n: usize| {
        let turn = std::f64::consts::TAU * n as f64 / count as f64;
        let add = |sum: (f64, f64), (at, value): (usize, &f64)| {
            let (sin, cos) = (turn * at as f64).sin_cos();
            (sum.0 + (value - mean) * sin, sum.1 + (value - mean) * cos)
        };
        let (sin, cos) = values.iter().enumerate().fold((0.0, 0.0), add);
        sin * sin + cos * cos
    };
    let (most, all) =
        (count / 10..=count / 2).map(power).fold((0.0, 0.0), |(most, all), p| (f64::max(most, p), all + p));
    most > BEAT_SHARE * all
}

/// Whether what happened at these frames, of so many, happened at a beat.
fn has_beat(events: &[f64], frames: f64) -> bool {
    let needed = ((frames * ONCE_IN).ln() / events.len() as f64).sqrt().clamp(IN_PHASE.0, IN_PHASE.1);
    // Every beat from once in the whole time to every second frame, so close to each other that none is missed.
    let beats = (2..=(frames as usize)).map(|n| n as f64 / (2.0 * frames));
    let in_phase = |beat: f64| {
        let turn = std::f64::consts::TAU * beat;
        let (sin, cos) = events.iter().map(|at| (turn * at).sin_cos()).fold((0.0, 0.0), |a, b| (a.0 + b.0, a.1 + b.1));
        f64::hypot(sin, cos) / events.len() as f64
    };
    // Events more than a beat apart in the mean prove no beat: any few lie near some slow one.
    let usual = events.len() as f64 / frames;
    events.len() >= RUNS && beats.filter(|beat| *beat > usual * 0.7).any(|beat| in_phase(beat) > needed)
}

/// The middle one; zero of none.
fn median(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    if values.is_empty() {
        return 0.0;
    }
    let at = values.len() / 2;
    *values.select_nth_unstable_by(at, f64::total_cmp).1
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::Slices;

    /// Frames as an encoder sends them that has two frames between others, at 60 a second, each with its share of weight; a
    /// repeat weighs a fiftieth.
    fn show(repeats: &mut Repeats, frames: std::ops::Range<u64>, is_late: impl Fn(u64) -> bool) -> u64 {
        frames
            .map(|n| {
                let keyframe = n % 120 == 0;
                let predicted = match n % 3 {
                    _ if keyframe => Prediction::Intra,
                    0 => Prediction::Forward,
                    _ => Prediction::Both,
                };
                let whole = if predicted == Prediction::Forward { 16_000 } else { 4000 };
                let bytes = (whole as f64 * (0.8 + (n * 7919 % 41) as f64 / 100.0)) as u32;
                let bytes = if is_late(n) && !keyframe { bytes / 50 } else { bytes };
                let slices = Some(Slices { predicted, qp_tenths: 300 });
                let frame =
                    VideoFrame { time_ms: (n * 50 / 3) as u32, bytes, keyframe, slices, ..VideoFrame::default() };
                repeats.frame(&frame, 60.0, false, None)
            })
            .sum()
    }

    /// The same from an encoder that refines repeats until they weigh as much as any, without frames between others.
    fn refine(repeats: &mut Repeats, frames: std::ops::Range<u64>, is_late: impl Fn(u64) -> bool) -> u64 {
        frames
            .map(|n| {
                let keyframe = n % 120 == 0;
                let predicted = if keyframe { Prediction::Intra } else { Prediction::Forward };
                // Any beat in what it weighs would be the source's own.
                let noise = noise(n);
                let bytes = 8000 + (noise % 2000) as u32;
                let qp_tenths = 300 + (noise % 5) as u16 - if is_late(n) { 20 } else { 0 };
                let slices = Some(Slices { predicted, qp_tenths });
                let frame =
                    VideoFrame { time_ms: (n * 50 / 3) as u32, bytes, keyframe, slices, ..VideoFrame::default() };
                repeats.frame(&frame, 60.0, false, None)
            })
            .sum()
    }

    /// One frame in ten, at no beat.
    fn now_and_then(n: u64) -> bool {
        noise(n + 77).is_multiple_of(10)
    }

    /// Sebastiano Vigna's finisher of SplitMix64: no beat is left of the count.
    fn noise(n: u64) -> u64 {
        let n = n.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        let n = (n ^ n >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let n = (n ^ n >> 27).wrapping_mul(0x94d0_49bb_1331_11eb);
        n ^ n >> 31
    }

    #[test]
    fn light_frames_among_heavy_ones_are_repeats_once_the_full_rate_was_seen() {
        let mut repeats = Repeats::default();
        assert_eq!(show(&mut repeats, 0..300, |_| false), 0);
        let truly = (300..900).filter(|n| now_and_then(*n) && n % 120 != 0).count() as u64;
        let told = show(&mut repeats, 300..900, now_and_then);
        assert!(told.abs_diff(truly) * 100 <= truly * 15, "{told} of {truly}");
        assert!(repeats.runs() >= 3 && repeats.trust() == Some(Trust::Fair));
    }

    #[test]
    fn a_source_that_repeats_at_a_beat_is_slow_and_not_late_whatever_its_rate() {
        for source in [10, 12, 15, 20, 24, 25, 30, 40, 48, 50] {
            let mut repeats = Repeats::default();
            let again = |n: u64| n * source / 60 == (n.max(1) - 1) * source / 60;
            assert_eq!(show(&mut repeats, 0..1800, again), 0, "{source} in 60");
        }
    }

    #[test]
    fn what_never_was_in_time_cannot_be_told_from_an_irregular_source() {
        let mut repeats = Repeats::default();
        assert_eq!(show(&mut repeats, 0..1200, now_and_then), 0);
    }

    #[test]
    fn an_encoder_that_refines_is_read_by_its_quantiser() {
        let mut repeats = Repeats::default();
        assert_eq!(refine(&mut repeats, 0..300, |_| false), 0);
        let told = refine(&mut repeats, 300..900, now_and_then);
        assert!((20..=70).contains(&told), "{told}");
    }

    #[test]
    fn calm_frames_that_weigh_next_to_nothing_are_no_repeats() {
        // As of a pan that moves evenly: between heavy ones, 25 to 300 bytes, of all sizes.
        let mut repeats = Repeats::default();
        let told: u64 = (0..1800_u64)
            .map(|n| {
                let keyframe = n % 120 == 0;
                let (predicted, bytes) = match n % 4 {
                    _ if keyframe => (Prediction::Intra, 90_000),
                    0 => (Prediction::Forward, 12_000 + (n * 7919 % 4000) as u32),
                    _ => (Prediction::Both, 25 + (n * 7919 % 277) as u32),
                };
                let slices = Some(Slices { predicted, qp_tenths: 300 });
                let frame =
                    VideoFrame { time_ms: (n * 50 / 3) as u32, bytes, keyframe, slices, ..VideoFrame::default() };
                repeats.frame(&frame, 60.0, false, None)
            })
            .sum();
        assert_eq!(told, 0);
    }

    #[test]
    fn a_slide_a_second_is_a_still_picture() {
        let mut repeats = Repeats::default();
        let told: u64 = (0..1200_u64)
            .map(|n| {
                let bytes = if n % 60 == 0 { 60_000 } else { 41 };
                repeats.frame(&VideoFrame { bytes, ..VideoFrame::default() }, 60.0, false, None)
            })
            .sum();
        assert_eq!((told, repeats.moving()), (0, Some(Moving::Still)));
    }
}
