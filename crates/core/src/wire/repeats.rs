//! Repeats: pictures shown again because the scene was not ready in time.
//!
//! What a frame weighs does not tell: an encoder spends as much on refining a repeat as on a calm picture. How much each
//! picture differs from the one before does. Measured by `scripts/corpus` on real encoders, repeats at one frame in twenty to
//! one in two: a repeat differs by 0–0.45 of what the moving pictures around it do (what is left is refinement: most at low
//! bitrates), others by 0.6 and more, as long as the picture moves evenly.
//!
//! [`lateness`] tells repeats of a scene that was late from those of a source with fewer pictures; [`beat`] finds those that come
//! at one.

mod beat;
mod lateness;

use std::collections::VecDeque;

use serde::{Deserialize, Serialize};

use crate::figure::Trust;
use crate::reading::PictureChange;
use beat::{BEATS, has_beat};
use lateness::JUMP;

/// Pictures further apart, in milliseconds, do not follow on each other. Ours.
const MOST_BETWEEN_MS: i32 = 500;
/// Pictures seen after one before it is judged. Ours.
const AFTER: usize = 6;
/// New pictures before one that it is compared with, and how many of them there must be. Ours.
const BEFORE: usize = 8;
const BEFORE_LEAST: usize = 4;
/// Judgements are looked back upon for so many seconds. Ours.
const REACH_S: f64 = 4.0;
/// The longest run of repeats that is lateness, in seconds; longer, it is a picture that stands still. Ours.
const LONGEST_RUN_S: f64 = 0.9;
/// A picture that changes by less, in levels, does not move: noise and refinement do as much. Ours.
const STILL: f64 = 0.3;
/// A picture that changes by less than this share of what those around it do is a repeat (measured: above).
const REPEAT: f64 = 0.45;
/// A picture that changes by more than this share of what those around it do is a new one (measured: above).
const NEW: f64 = 0.6;
/// By less than this share of what those before did, it is a repeat whatever follows. Ours.
const NOTHING: f64 = 0.08;
/// One that changes by so many times as much as those around it begins another scene, if it was not late. Ours.
const CUT: f64 = 4.0;
/// One that changes by so many levels, and twice as much as those before, may be another scene. (Measured: cuts 50–63.) Ours.
const ANOTHER: f64 = 25.0;
/// A picture changes by more than others if it does by so many times. Ours.
const PAST: f64 = 1.03;
/// No jump counts for more: behind a longer hitch is another picture altogether. Ours.
const MOST_JUMP: f64 = 0.7;
/// New pictures on each side that it is measured against. Ours.
const NEAR: usize = 2;
/// Where none is near, it is measured against the last so many, if they are no older than this, in seconds. Ours.
const IN_TIME: usize = 24;
const IN_TIME_S: f64 = 12.0;
/// With so little repeated for so long, in seconds, a picture is one that moves at the full rate. Ours.
const FULL_RATE_S: f64 = 1.2;
const FULL_RATE: f64 = 0.03;
/// Runs within so many seconds belong together. Ours.
pub(super) const RUNS_S: f64 = 5.0;

/// Whether the picture moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Moving {
    /// It does.
    Yes,
    /// Nothing moves, and a repeat would look no different.
    Still,
}

/// How a picture is judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Judgement {
    New,
    Repeat,
    /// Another scene.
    Cut,
    /// It may be any.
    Unknown,
}

#[derive(Debug, Clone, Copy)]
struct Change {
    /// When it is shown, in milliseconds modulo 2³².
    shown_ms: u32,
    /// By how much it differs from the one before, in levels: sample by sample, which shows a repeat best,
    fine: f64,
    /// and block by block, which shows best by how far things have moved.
    coarse: f64,
}

#[derive(Debug, Clone, Copy)]
struct Judged {
    change: Change,
    look: Judgement,
    /// It changes by more than a repeat and less than what is plainly new.
    is_between: bool,
    /// Repeats just before it.
    behind: u64,
}

/// A run of repeats that the picture moved on from.
#[derive(Debug, Clone, Copy)]
struct Run {
    /// When it ended, in pictures.
    ended: u64,
    repeats: u64,
    jump: Option<Jump>,
    /// By how much its repeats differ in the mean, as a share of what the pictures before did.
    depth: f64,
    counted: bool,
}

/// How much more the picture behind a run changed than those around that follow on new ones.
#[derive(Debug, Clone, Copy)]
struct Jump {
    /// Than their mean, as a natural logarithm.
    by: f64,
    /// It changed by more than any of them.
    is_past_all: bool,
}

/// Finds repeats.
#[derive(Debug, Clone, Default)]
pub(super) struct Repeats {
    /// The newest pictures' changes, not yet judged.
    waiting: VecDeque<Change>,
    judged: VecDeque<Judged>,
    /// What the last new pictures changed by.
    moved: VecDeque<f64>,
    /// What those that follow on new ones changed by, block by block, and when the last of them was shown, in pictures: what a
    /// scene that is late in every picture is measured against.
    in_time: VecDeque<f64>,
    in_time_at: u64,
    pictures: u64,
    /// When the scene began, in pictures: what was before a cut says nothing of how things move behind it.
    scene: u64,
    fps: f64,
    /// Repeats since the last new picture, and whether they came at once.
    run: u64,
    depth: f64,
    is_sharp: bool,
    /// Pictures in a row that were new, but for a stray one.
    full: f64,
    /// The picture was seen to move at the full rate since the scene began.
    is_full_rate: bool,
    /// The last seconds' runs.
    runs: VecDeque<Run>,
    was_read: bool,
}

impl Repeats {
    /// Takes a picture; gives the repeats that are certain by it: a run counts when the picture moves on.
    pub(super) fn picture(&mut self, change: &PictureChange, fps: f64) -> u64 {
        self.fps = fps.clamp(5.0, 250.0);
        let since_ms = self.waiting.back().map_or(0, |last| change.time_ms.wrapping_sub(last.shown_ms).cast_signed());
        if !(0..MOST_BETWEEN_MS).contains(&since_ms) {
            // Pictures were left out: what was seen before them says nothing of those behind.
            let (runs, pictures, was_read) = (std::mem::take(&mut self.runs), self.pictures, self.was_read);
            *self = Self { fps: self.fps, runs, pictures, was_read, ..Self::default() };
        }
        self.waiting.push_back(Change {
            shown_ms: change.time_ms,
            fine: f64::from(change.hundredths) / 100.0,
            coarse: f64::from(change.coarse_thousandths) / 1000.0,
        });
        let horizon = self.pictures.saturating_sub(self.span(RUNS_S) as u64);
        while self.runs.front().is_some_and(|run| run.ended < horizon) {
            self.runs.pop_front();
        }
        if self.waiting.len() <= AFTER {
            return 0;
        }
        let Some(change) = self.waiting.pop_front() else { return 0 };
        self.pictures += 1;
        let before = median(self.moved.iter().copied());
        self.note(change, self.look(change.fine, before), before)
    }

    fn span(&self, seconds: f64) -> usize {
        (self.fps * seconds) as usize
    }

    /// How a picture is judged by those around it; `before` is the middle one of what the new ones before it changed by.
    fn look(&self, change: f64, before: f64) -> Judgement {
        let mut after: Vec<f64> = self.waiting.iter().map(|change| change.fine).collect();
        after.sort_by(f64::total_cmp);
        let after = after.get(after.len() * 2 / 3).copied().unwrap_or_default();
        if self.moved.len() < BEFORE_LEAST {
            // From slide to slide: what it changes by says nothing of how anything moves.
            return match change {
                _ if change < STILL => Judgement::Unknown,
                _ if change > CUT * after.max(STILL) => Judgement::Cut,
                _ => Judgement::New,
            };
        }
        let follows = self.run > 0 || change < REPEAT * after;
        if change < before * NOTHING || change < REPEAT * before && follows {
            return if before >= STILL { Judgement::Repeat } else { Judgement::Unknown };
        }
        // Behind repeats the scene may have gone on by as many steps more; a picture that is far off changes by less than that,
        // as it has ever less in common with the one before.
        let around = before.max(after);
        let steps = (self.run + 1) as f64;
        let far = (CUT * around * steps.sqrt()).min(2.0 * around * steps);
        if change > CUT * around * steps || change > ANOTHER && change > far {
            return Judgement::Cut;
        }
        if change >= STILL && (change > NEW * before || change > NEW * after) {
            Judgement::New
        } else {
            Judgement::Unknown
        }
    }

    /// Notes a judgement; gives what became certain by it.
    fn note(&mut self, change: Change, look: Judgement, before: f64) -> u64 {
        self.was_read |= matches!(look, Judgement::New | Judgement::Repeat);
        if self.run == 0 {
            // Where the movement dies down and comes back, as at a turning point, nothing was late.
            self.is_sharp = self.judged.back().is_some_and(|before| before.look == Judgement::New);
        }
        let is_between = before >= STILL && (REPEAT * before..NEW * before).contains(&change.fine);
        self.judged.push_back(Judged { change, look, is_between, behind: self.run });
        if self.judged.len() > self.span(REACH_S) {
            self.judged.pop_front();
        }
        match look {
            Judgement::Unknown => {}
            Judgement::Repeat => {
                self.run += 1;
                let share = change.fine / before.max(STILL);
                self.depth += (share - self.depth) / self.run as f64;
                // A stray one does not spoil it; many do.
                self.full = (self.full - 1.0 / FULL_RATE).max(0.0);
                if self.run as f64 > self.fps * LONGEST_RUN_S {
                    // It stands still: what follows may be another scene.
                    self.stands_still();
                }
            }
            Judgement::Cut => {
                self.moved.clear();
                self.in_time.clear();
                self.run = 0;
                self.scene = self.pictures;
                // Those before it, not yet seen to be lateness, say nothing of the scene behind it.
                self.runs.retain(|run| run.counted);
                (self.full, self.is_full_rate) = (0.0, false);
            }
            Judgement::New => {
                if change.fine > ANOTHER && change.fine > 2.0 * before * (self.run + 1) as f64 {
                    // It may be another scene, whose rate was not seen yet.
                    (self.full, self.is_full_rate) = (0.0, false);
                }
                self.full += 1.0;
                if self.full >= self.fps * FULL_RATE_S && !self.is_full_rate {
                    self.is_full_rate = true;
                    // What was before may have been a slow source, and another scene.
                    self.runs.retain(|run| run.counted);
                }
                let repeats = std::mem::take(&mut self.run);
                // Behind repeats it may have moved by several steps.
                if repeats == 0 || self.moved.len() < BEFORE_LEAST {
                    self.moved.push_back(change.fine);
                }
                if self.judged.iter().rev().nth(1).is_some_and(|before| before.look == Judgement::New) && repeats == 0 {
                    self.in_time.push_back(change.coarse);
                    self.in_time_at = self.pictures;
                    if self.in_time.len() > IN_TIME {
                        self.in_time.pop_front();
                    }
                }
                if self.moved.len() > BEFORE {
                    self.moved.pop_front();
                }
                if repeats > 0 && self.is_sharp {
                    let jump = self.jump(change.coarse);
                    self.runs.push_back(Run { ended: self.pictures, repeats, jump, depth: self.depth, counted: false });
                    return self.count();
                }
            }
        }
        0
    }

    fn stands_still(&mut self) {
        self.moved.clear();
        self.in_time.clear();
        self.run = 0;
    }

    /// By how much more the picture behind a run changed than those around that follow on new ones.
    fn jump(&self, coarse: f64) -> Option<Jump> {
        let on_new = |judged: &&Judged| judged.look == Judgement::New && judged.behind == 0;
        let before: Vec<Change> = self
            .judged
            .iter()
            .rev()
            .skip(1)
            .take(BEFORE * 2 + self.span(LONGEST_RUN_S))
            .filter(on_new)
            .take(NEAR)
            .map(|judged| judged.change)
            .collect();
        let new = NEW * 0.8 * median(before.iter().map(|change| change.fine));
        let mut after = Vec::new();
        let mut follows_new = true;
        for next in &self.waiting {
            let is_new = next.fine > new;
            if is_new && follows_new && after.len() < NEAR {
                after.push(*next);
            }
            follows_new = is_new;
        }
        // As the movement grows or dies down, what is between stands in the middle of both.
        let logarithm = |change: f64| change.max(0.001).ln();
        let most = before.iter().chain(&after).map(|change| change.coarse).fold(0.0, f64::max);
        let mean = |changes: Vec<Change>| {
            let count = changes.len() as f64;
            (count > 0.0).then(|| changes.into_iter().map(|change| logarithm(change.coarse)).sum::<f64>() / count)
        };
        let usual = match (mean(before), mean(after)) {
            (Some(before), Some(after)) => (before + after) / 2.0,
            (None, None) => logarithm(median(self.was_in_time()?.iter().copied())),
            (one, other) => one.or(other)?,
        };
        let by = (logarithm(coarse) - usual).clamp(-MOST_JUMP, MOST_JUMP);
        Some(Jump { by, is_past_all: coarse > PAST * most })
    }

    /// What pictures in time changed by, where the scene was in time a while ago.
    fn was_in_time(&self) -> Option<&VecDeque<f64>> {
        let is_near = self.pictures - self.in_time_at <= self.span(IN_TIME_S) as u64;
        (self.is_full_rate && is_near && self.in_time.len() >= IN_TIME / 2).then_some(&self.in_time)
    }

    /// Counts what is certain by now.
    fn count(&mut self) -> u64 {
        if !self.is_lateness() {
            return 0;
        }
        let new = self.runs.iter_mut().filter(|run| !run.counted && run.jump.is_none_or(|jump| jump.by > -JUMP));
        new.map(|run| {
            run.counted = true;
            run.repeats
        })
        .sum()
    }

    /// The last few seconds' pictures of this scene, the newest first.
    fn of_scene(&self) -> impl DoubleEndedIterator<Item = &Judged> + ExactSizeIterator {
        self.judged.iter().rev().take((self.pictures - self.scene) as usize)
    }

    /// How many of the last few seconds' pictures of this scene repeat, and how many are known.
    fn shares(&self) -> (usize, usize) {
        self.of_scene().fold((0, 0), |(repeats, known), judged| {
            (
                repeats + usize::from(judged.look == Judgement::Repeat),
                known + usize::from(judged.look != Judgement::Unknown),
            )
        })
    }

    /// Whether the repeats, or if they are the more, the new pictures come at a beat, in this scene or through a film's cuts;
    /// `None` if there are too few to tell.
    fn beat(&self) -> Option<bool> {
        let (scene, all) = (self.of_scene().len(), self.judged.len());
        let in_scene = self.beat_of(scene);
        if in_scene == Some(true) || scene == all { in_scene } else { self.beat_of(all) }
    }

    /// Whether they do in so many of the newest pictures.
    fn beat_of(&self, pictures: usize) -> Option<bool> {
        let interval = 1000.0 / self.fps;
        let newest = self.judged.back()?.change.shown_ms;
        let at = |judged: &Judged| f64::from(newest.wrapping_sub(judged.change.shown_ms).cast_signed()) / interval;
        let looked_at = self.judged.iter().rev().take(pictures);
        let of = |look: Judgement| looked_at.clone().filter(|judged| judged.look == look).map(at).collect();
        let (repeats, new): (Vec<f64>, Vec<f64>) = (of(Judgement::Repeat), of(Judgement::New));
        let rare = if repeats.len() < new.len() { repeats } else { new };
        (rare.len() >= BEATS).then(|| has_beat(&rare, pictures as f64))
    }

    /// Runs of repeats that were counted within the last [`RUNS_S`].
    pub(super) fn runs(&self) -> u32 {
        u32::try_from(self.runs.iter().filter(|run| run.counted).count()).unwrap_or(u32::MAX)
    }

    /// Whether the picture moves; `None` before there is enough to tell.
    pub(super) fn moving(&self) -> Option<Moving> {
        if self.judged.len() < self.span(0.5) {
            return None;
        }
        let recent: Vec<f64> = self.judged.iter().rev().take(self.span(2.0)).map(|judged| judged.change.fine).collect();
        let moves = recent.iter().filter(|change| **change >= STILL).count();
        Some(if moves * 5 >= recent.len() { Moving::Yes } else { Moving::Still })
    }

    /// How far what is read now can be trusted; `None` if nothing can.
    pub(super) fn trust(&self) -> Option<Trust> {
        if !self.is_even() {
            return None;
        }
        // What is plain: nothing repeats, or nearly everything that does is followed by a jump.
        let jumps = self.runs.iter().filter(|run| run.jump.is_some_and(|jump| jump.by >= JUMP)).count();
        let is_plain = self.shares().0 == 0 || self.is_lateness() && jumps * 4 >= self.runs.len() * 3;
        Some(if is_plain { Trust::Good } else { Trust::Fair })
    }

    /// Whether anything was ever read.
    pub(super) fn was_read(&self) -> bool {
        self.was_read
    }

    /// New pictures a second of a source that has fewer than the stream, and at a beat, all along.
    pub(super) fn source_rate(&self, fps: f64) -> Option<f64> {
        let (repeats, known) = self.shares();
        if known < self.span(1.5) || repeats * 20 < known || self.is_lateness() || self.beat() != Some(true) {
            return None;
        }
        Some((fps * (known - repeats) as f64 / known as f64).round())
    }
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

    /// A scene that moves on with every frame interval, at a pace that wavers a little; `drawn` says which interval's picture is
    /// shown in each.
    fn show(repeats: &mut Repeats, slots: std::ops::Range<u64>, drawn: impl Fn(u64) -> u64) -> u64 {
        slots
            .map(|n| {
                let (before, now) = (drawn(n.max(1) - 1), drawn(n));
                let moved = now.saturating_sub(before) as f64;
                // What differs grows less than what has moved, and a repeat is refined.
                let waver = 1.0 + (noise(n) % 100) as f64 / 500.0;
                let hundredths = if moved > 0.0 { 400.0 * moved.powf(0.4) * waver } else { 12.0 * waver };
                let coarse = if moved > 0.0 { 600.0 * moved.powf(0.6) * waver } else { 10.0 };
                let change = PictureChange {
                    time_ms: (n * 50 / 3) as u32,
                    hundredths: hundredths as u16,
                    coarse_thousandths: coarse as u16,
                };
                repeats.picture(&change, 60.0)
            })
            .sum()
    }

    /// Late now and then: the picture before is shown again, and the next one is in time.
    fn late(one_in: u64) -> impl Fn(u64) -> u64 {
        move |n| (0..=n).rev().find(|slot| !noise(slot + 77).is_multiple_of(one_in)).unwrap_or(0)
    }

    /// Sebastiano Vigna's finisher of SplitMix64: no beat is left of the count.
    fn noise(n: u64) -> u64 {
        let n = n.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        let n = (n ^ n >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let n = (n ^ n >> 27).wrapping_mul(0x94d0_49bb_1331_11eb);
        n ^ n >> 31
    }

    #[test]
    fn pictures_shown_again_while_the_scene_goes_on_are_counted() {
        for one_in in [20, 10, 5] {
            let mut repeats = Repeats::default();
            assert_eq!(show(&mut repeats, 0..300, |n| n), 0);
            assert_eq!((repeats.trust(), repeats.moving()), (Some(Trust::Good), Some(Moving::Yes)));
            let truly = (300..900).filter(|n| noise(n + 77).is_multiple_of(one_in)).count() as u64;
            let told = show(&mut repeats, 300..900, late(one_in));
            assert!(told.abs_diff(truly) * 100 <= truly * 15, "{told} of {truly}");
            assert!(repeats.runs() >= 3 && repeats.trust() == Some(Trust::Good));
        }
    }

    #[test]
    fn what_is_late_from_the_first_picture_on_is_told_too() {
        let mut repeats = Repeats::default();
        assert!(show(&mut repeats, 0..600, late(8)) > 40);
    }

    #[test]
    fn a_source_with_fewer_pictures_is_slow_and_not_late_whatever_its_rate() {
        for source in [10, 12, 15, 20, 24, 25, 30, 40, 48, 50] {
            let mut repeats = Repeats::default();
            // Each of its pictures moves by one step: nothing is left out, but shown longer.
            let told = show(&mut repeats, 0..1800, |n| n * source / 60);
            assert_eq!(told, 0, "{source} in 60");
            if (24..60).contains(&source) {
                assert_eq!(repeats.source_rate(60.0), Some(source as f64));
            }
        }
    }

    #[test]
    fn a_scene_that_falls_to_half_its_rate_is_late_with_every_picture() {
        let mut repeats = Repeats::default();
        show(&mut repeats, 0..300, |n| n);
        let told = show(&mut repeats, 300..540, |n| n / 2 * 2);
        assert!((90..=120).contains(&told), "{told} of 120");
    }

    #[test]
    fn a_source_that_leaves_pictures_out_at_a_beat_is_not_told_from_the_first_picture_on() {
        let mut repeats = Repeats::default();
        assert_eq!(show(&mut repeats, 0..1800, |n| n - u64::from(n % 5 == 4)), 0);
    }

    /// A picture that has nothing in common with the one before.
    fn cut(repeats: &mut Repeats, slot: u64) -> u64 {
        let time_ms = (slot * 50 / 3) as u32;
        repeats.picture(&PictureChange { time_ms, hundredths: 5000, coarse_thousandths: 45_000 }, 60.0)
    }

    #[test]
    fn a_source_that_leaves_pictures_out_at_a_beat_is_not_told_behind_a_cut_from_one_in_time() {
        for before in [|n| n, |n| n * 2 / 5] {
            let mut repeats = Repeats::default();
            show(&mut repeats, 0..300, before);
            let told = cut(&mut repeats, 300) + show(&mut repeats, 301..900, |n| n - u64::from(n % 5 == 4));
            assert_eq!(told, 0);
        }
    }

    #[test]
    fn what_was_behind_a_cut_is_not_accused_of_what_was_before_it() {
        // A slow source that jumps, at a beat; then a scene in time.
        let mut repeats = Repeats::default();
        show(&mut repeats, 0..300, |n| n - u64::from(n % 5 == 4));
        // The cut is seen also where the picture stood before it,
        show(&mut repeats, 300..320, |_| 299);
        let told = cut(&mut repeats, 320) + show(&mut repeats, 321..600, |n| n - u64::from(n == 450));
        assert_eq!(told, 0);
        // and where it is not, what is in time behind it says nothing of what was before.
        let mut repeats = Repeats::default();
        show(&mut repeats, 0..300, |n| n - u64::from(n % 5 == 4));
        assert_eq!(show(&mut repeats, 300..600, |n| n - u64::from(n == 450)), 0);
    }

    #[test]
    fn a_hitch_ends_in_a_jump_and_a_pause_does_not() {
        let mut repeats = Repeats::default();
        show(&mut repeats, 0..300, |n| n);
        let hitch = |n: u64| if n % 100 < 30 { n / 100 * 100 - 1 } else { n };
        assert_eq!(show(&mut repeats, 300..700, hitch), 120);
        let mut repeats = Repeats::default();
        let pauses = |n: u64| n / 100 * 70 + (n % 100).saturating_sub(30);
        assert_eq!(show(&mut repeats, 0..1800, pauses), 0);
    }

    #[test]
    fn a_slide_a_second_is_a_still_picture() {
        let mut repeats = Repeats::default();
        let told: u64 = (0..1200_u32)
            .map(|n| {
                let hundredths = if n % 60 == 0 { 6000 } else { 0 };
                repeats
                    .picture(&PictureChange { time_ms: n * 50 / 3, hundredths, coarse_thousandths: hundredths }, 60.0)
            })
            .sum();
        assert_eq!((told, repeats.moving()), (0, Some(Moving::Still)));
    }

    /// Changes as they were noted of a clip: hundredths and thousandths of a level.
    fn read(text: &str) -> Vec<(f64, f64)> {
        let pair = |pair: &str| {
            let (fine, coarse) = pair.split_once('/').unwrap();
            (fine.parse().unwrap(), coarse.parse().unwrap())
        };
        text.split_whitespace().map(pair).collect()
    }

    /// Pictures of these changes, in hundredths and thousandths of a level; what is told of them.
    fn told_of(changes: impl Iterator<Item = (f64, f64)>) -> u64 {
        let mut repeats = Repeats::default();
        let each = changes.zip(0_u32..).map(|((hundredths, coarse), n)| {
            let change =
                PictureChange { time_ms: n * 50 / 3, hundredths: hundredths as u16, coarse_thousandths: coarse as u16 };
            repeats.picture(&change, 60.0)
        });
        each.sum()
    }

    #[test]
    fn a_thing_that_circles_by_whole_dots_is_not_late_where_it_turns() {
        // A small picture circling over a still one, encoded by x264 and decoded again (`scripts/corpus`, kind `orbit`): where
        // both ways turn at once, it moves in some pictures only. Before that it is shown to move evenly.
        let pairs = read(include_str!("repeats/turns.txt"));
        let calm = pairs[..40].iter().cycle().take(200);
        assert_eq!(told_of(calm.chain(&pairs).copied()), 0);
    }

    #[test]
    fn a_face_that_moves_unevenly_is_not_late_where_it_moves_least() {
        for seed in 0..8 {
            // Now and then it moves by a third of what it mostly does: the end of a range that has no gap.
            let wide = |n: u64| (noise(n * 31 + seed * 7919) % 1000) as f64 / 1000.0;
            let told = told_of((0..1800).map(|n| {
                let share = (1.1 * (wide(n) + wide(n + 5_000) + wide(n + 9_000) - 1.5)).exp();
                (300.0 * share, 2300.0 * share)
            }));
            assert_eq!(told, 0, "seed {seed}");
        }
    }

    #[test]
    fn slides_of_half_a_second_between_pieces_of_film_are_no_hitches() {
        // Photographs for half a second each between pieces of film, encoded by x264 and decoded again (`scripts/corpus`, kind
        // `cuts-of-half-seconds`).
        assert_eq!(told_of(read(include_str!("repeats/slides.txt")).into_iter()), 0);
    }

    #[test]
    fn behind_a_cut_no_picture_is_judged_by_those_before_it() {
        // The last seconds of one clip and the first of another (`scripts/corpus`): a film of 48 pictures a second that jumps
        // behind each repeat, a page that scrolls in bursts, slides that move behind a clock that stood still, and an automaton
        // behind one that moved at the full rate.
        for (cut, text) in include_str!("repeats/cuts.txt").split("\n\n").enumerate() {
            assert_eq!(told_of(read(text).into_iter()), 0, "cut {cut}");
        }
    }

    #[test]
    fn what_was_left_out_makes_no_run() {
        let mut repeats = Repeats::default();
        show(&mut repeats, 0..300, |n| n);
        // Nothing was looked at for four seconds; another picture stands there.
        assert_eq!(show(&mut repeats, 540..600, |_| 540), 0);
        assert_eq!(repeats.trust(), None);
    }
}
