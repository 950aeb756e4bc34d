//! Before against after: what can be said of a change from the frames lost on both sides of it, and how surely.
//!
//! Losses come in runs: a full queue drops a group of pictures at a time, and a wireless dip lasts for seconds. Frames
//! therefore do not count as independent trials; blocks of [`BLOCK`] do, which are longer than the queue's limit and
//! than a keyframe interval together. Whether blocks that lose more than the mean of both sides lie before the change
//! by chance alone is answered exactly: Fisher's test (R. A. Fisher, *Statistical Methods for Research Workers*, 1934,
//! section 21.02) on blocks over and not over a common value, as in Mood's median test (A. M. Mood, *Introduction to
//! the Theory of Statistics*, 1950). It is asked at few, fixed times ([`LOOKS`]), and each time a small share of the
//! chance of an error is spent: who looks every second finds something some time.
//!
//! The interval is Welch's on the blocks' means (B. L. Welch, *Biometrika* 34, 1947). A side that lost nothing may
//! still lose up to three in as many frames as were seen (J. A. Hanley, A. Lippman-Hand, *JAMA* 249, 1983).

use crate::student::{Confidence, student};

/// Seconds in a block. Ours.
pub const BLOCK: usize = 4;
/// Seconds after the change at which something may be said; the last ends a trial. Ours.
pub const LOOKS: [usize; 4] = [20, 28, 40, 60];
/// The chance of an error that is spent at each look. Ours.
const CHANCE: f64 = 0.012;
/// A change that matters at least halves the loss. Ours.
const MATTERS: f64 = 0.5;
/// Where less than this share of frames is lost, there is nothing to halve. Ours.
const LEAST_SHARE: f64 = 0.001;

/// One second's frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct LostSecond {
    /// Frames that were due.
    pub due: u32,
    /// How many of the frames due were lost.
    pub lost: u32,
}

/// What before and after say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Says {
    /// Fewer frames are lost, and chance alone hardly does that.
    Fewer,
    /// The loss was not halved, and chance hardly hides that it was.
    NotFewer,
    /// More frames are lost than before.
    More,
    /// It cannot be told.
    Unclear,
}

/// Before against after.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Weighing {
    /// Share of frames lost before, from 0 to 1.
    pub before: f64,
    /// Share of frames lost after, from 0 to 1.
    pub after: f64,
    /// How much less is lost, as a share of frames: with 95 % confidence between these two.
    pub less: (f64, f64),
    /// How likely chance alone puts the bad blocks so much before the change.
    pub chance: f64,
    /// What the comparison says by now.
    pub says: Says,
}

/// Weighs what was lost before against what was lost after, on the same length: the end of `before` against the
/// beginning of `after`. Something is said only at [`LOOKS`]; in between, `says` is unclear. `None` with less than two
/// blocks on a side.
#[must_use]
pub fn weigh(before: &[LostSecond], after: &[LostSecond]) -> Option<Weighing> {
    let blocks = before.len().min(after.len()) / BLOCK;
    if blocks < 2 {
        return None;
    }
    let before = shares(&before[before.len() - blocks * BLOCK..]);
    let is_look = LOOKS.contains(&after.len());
    let due_after: u64 = after[..blocks * BLOCK].iter().map(|s| u64::from(s.due)).sum();
    let after = shares(&after[..blocks * BLOCK]);
    let (mean_before, mean_after) = (mean(&before), mean(&after));
    let pooled = f64::midpoint(mean_before, mean_after);
    let over = |side: &[f64]| side.iter().filter(|share| **share > pooled).count();
    let (bad_before, bad_after) = (over(&before), over(&after));
    let chance = fisher(bad_before, bad_after, blocks);
    let chance_worse = fisher(bad_after, bad_before, blocks);
    let less = interval(&before, &after, due_after);
    let says = match () {
        () if !is_look => Says::Unclear,
        () if mean_before >= LEAST_SHARE && chance < CHANCE && mean_after <= MATTERS * mean_before => Says::Fewer,
        () if mean_after >= LEAST_SHARE && chance_worse < CHANCE && mean_before <= MATTERS * mean_after => Says::More,
        () if mean_before >= LEAST_SHARE && less.1 < MATTERS * mean_before => Says::NotFewer,
        () => Says::Unclear,
    };
    Some(Weighing { before: mean_before, after: mean_after, less, chance, says })
}

/// The share of the frames due that was lost, from 0 to 1.
#[must_use]
pub fn share(seconds: &[LostSecond]) -> f64 {
    let due: u64 = seconds.iter().map(|second| u64::from(second.due)).sum();
    let lost: u64 = seconds.iter().map(|second| u64::from(second.lost.min(second.due))).sum();
    if due == 0 { 0.0 } else { lost as f64 / due as f64 }
}

/// The share lost in each block.
fn shares(seconds: &[LostSecond]) -> Vec<f64> {
    seconds.chunks(BLOCK).map(share).collect()
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len().max(1) as f64
}

/// How likely it is that at least so many of all bad blocks lie on the first of two sides of `blocks` each.
fn fisher(bad_here: usize, bad_there: usize, blocks: usize) -> f64 {
    let bad = bad_here + bad_there;
    let all = choose(2 * blocks, bad);
    (bad_here..=bad.min(blocks)).map(|here| choose(blocks, here) * choose(blocks, bad - here) / all).sum()
}

/// In how many ways `some` of `all` can be chosen; exact up to 2⁵³, which 30 of 60 are close to.
fn choose(all: usize, some: usize) -> f64 {
    if some > all {
        return 0.0;
    }
    (0..some).fold(1.0, |ways, i| ways * (all - i) as f64 / (i + 1) as f64)
}

/// How much less is lost after, with 95 % confidence.
fn interval(before: &[f64], after: &[f64], due_after: u64) -> (f64, f64) {
    let count = before.len() as f64;
    let spread = |side: &[f64]| {
        let mean = mean(side);
        side.iter().map(|share| (share - mean).powi(2)).sum::<f64>() / (count - 1.0) / count
    };
    let (one, two) = (spread(before), spread(after));
    let degrees = if one + two > 0.0 {
        (one + two).powi(2) / ((one.powi(2) + two.powi(2)) / (count - 1.0)).max(f64::MIN_POSITIVE)
    } else {
        2.0 * (count - 1.0)
    };
    let rare = 3.0 / due_after.max(3) as f64;
    let half = (student(Confidence::P95, degrees) * (one + two).sqrt()).max(rare);
    let middle = mean(before) - mean(after);
    (middle - half, middle + half)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seconds(lost: &[u32]) -> Vec<LostSecond> {
        lost.iter().map(|lost| LostSecond { due: 60, lost: *lost }).collect()
    }

    #[test]
    fn chances_are_those_of_the_tables() {
        // The lady who tastes tea: four cups of each kind, all told right, is 1 in 70 (Fisher, 1935).
        assert!((fisher(4, 0, 4) - 1.0 / 70.0).abs() < 1e-12);
        assert!((fisher(3, 1, 4) - 17.0 / 70.0).abs() < 1e-12);
        assert!((fisher(0, 4, 4) - 1.0).abs() < 1e-12, "anything is at least as likely as nothing");
        assert_eq!(choose(60, 30).round(), 118_264_581_564_861_424.0_f64.round());
    }

    #[test]
    fn a_steady_loss_that_ends_is_told_after_twenty_seconds_and_not_before() {
        let before = seconds(&[3; 60]);
        for length in 8..60 {
            let told = weigh(&before, &seconds(&vec![0; length])).unwrap();
            let expected = if LOOKS.contains(&length) { Says::Fewer } else { Says::Unclear };
            assert_eq!(told.says, expected, "{length} s");
            assert!((told.before - 0.05).abs() < 1e-9 && told.after == 0.0);
            assert!(told.less.0 < 0.05 && told.less.1 > 0.05 && told.less.0 > 0.03, "{told:?}");
        }
        assert_eq!(weigh(&before, &seconds(&[0; 7])), None, "too short for anything");
    }

    #[test]
    fn a_loss_that_stays_is_told_and_one_that_grows() {
        let (before, same) = (seconds(&[3; 60]), seconds(&[3; 20]));
        assert_eq!(weigh(&before, &same).unwrap().says, Says::NotFewer);
        assert_eq!(weigh(&seconds(&[0; 60]), &same).unwrap().says, Says::More);
        assert_eq!(weigh(&seconds(&[0; 60]), &seconds(&[0; 60])).unwrap().says, Says::Unclear, "nothing to mend");
    }

    #[test]
    fn one_burst_that_passed_proves_nothing() {
        let mut before = vec![0; 50];
        before.extend([30; 10]);
        assert_eq!(weigh(&seconds(&before), &seconds(&[0; 60])).unwrap().says, Says::Unclear);
        // Nor is it on the same length if the trouble is ten seconds old.
        assert_eq!(weigh(&seconds(&[30; 10]), &seconds(&[0; 60])).unwrap().says, Says::Unclear);
    }
}
