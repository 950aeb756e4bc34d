//! Skipped frames, read off the timestamps: gaps of whole frame intervals.
//!
//! Timestamps are whole milliseconds, so intervals wobble by one. Some muxers space frames unevenly (measured: 21 and 43 ms
//! in turn at 30 frames/s) while as many come as the clock asks for: there, frames are counted against the clock, and single
//! intervals prove nothing. The rate is the broadcaster's own word once that much was seen, else the fastest that was seen
//! to last.

use std::collections::VecDeque;

use crate::figure::Trust;

/// Intervals that are looked at: about a second of frames. Ours.
const MEMORY: usize = 61;
/// A gap longer than this is a pause or a restart, not skipped frames, in milliseconds. Ours.
const PAUSE_MS: i64 = 2000;
/// After so many like steps in a row a rate is known;
const KNOWN: usize = 6;
/// and after so many it has changed to a lower one. Below so many steps nothing is missing yet. Ours.
const SETTLED: usize = 12;
/// Steps are alike if they differ by no more than this, in milliseconds. Ours.
const ALIKE_MS: i64 = 2;
/// So near to the stated rate is that rate, as a share. Ours.
const NEAR: f64 = 0.06;
/// Against the clock, fewer missing frames than this in a second, or than this share of those due, are its own wobble. Ours.
const WOBBLE: f64 = 2.0;
const WOBBLE_SHARE: f64 = 0.04;
/// A rate varies of itself if more than this share of its frames is missing, in gaps of so many lengths: an encoder that is
/// too slow leaves out two or three lengths. Ours.
const VARIES_SHARE: f64 = 0.5;
const VARIES_LENGTHS: usize = 5;

/// Learns the frame interval and finds gaps in it.
#[derive(Debug, Clone, Default)]
pub(super) struct Cadence {
    last_ms: Option<u32>,
    steps: VecDeque<i64>,
    stated_interval_ms: Option<f64>,
    /// The stated rate was seen, or gaps of whole intervals of it.
    is_stated_seen: bool,
    /// An interval that lasted.
    settled_ms: Option<f64>,
    /// Frames and milliseconds since frames were last counted against the clock.
    counted: (u32, i64),
}

impl Cadence {
    /// Takes the broadcaster's word for its frame rate, in frames per second.
    pub(super) fn state_rate(&mut self, fps: f64) {
        if (1.0..=1000.0).contains(&fps) && self.stated_interval_ms != Some(1000.0 / fps) {
            self.stated_interval_ms = Some(1000.0 / fps);
            self.is_stated_seen = false;
            // Steps of another rate prove nothing of this one.
            self.steps.clear();
            self.settled_ms = None;
        }
    }

    /// Forgets the last frame: the broadcaster left, and its clock may start anew.
    pub(super) fn interrupt(&mut self) {
        self.last_ms = None;
        self.steps.clear();
        self.counted = (0, 0);
    }

    /// The clock leaps before the next frame: how far says nothing of frames.
    pub(super) fn leap(&mut self) {
        self.last_ms = None;
        self.counted = (0, 0);
    }

    /// Takes a frame's timestamp (milliseconds modulo 2³²) and gives the number of frames that are
    /// missing just before it, or found missing by it.
    pub(super) fn frame(&mut self, time_ms: u32) -> u64 {
        let Some(last) = self.last_ms.replace(time_ms) else { return 0 };
        let step = i64::from(time_ms.wrapping_sub(last).cast_signed());
        if !(0..=PAUSE_MS).contains(&step) {
            self.steps.clear();
            self.counted = (0, 0);
            return 0;
        }
        let (interval, is_steady) = (self.known_interval_ms(), self.is_steady());
        self.steps.push_back(step);
        if self.steps.len() > MEMORY {
            self.steps.pop_front();
        }
        self.learn();
        let Some(interval) = interval.filter(|_| self.steps.len() > SETTLED && !self.varies()) else {
            self.counted = (0, 0);
            return 0;
        };
        if is_steady {
            self.counted = (0, 0);
            return missing_in(step, interval);
        }
        self.counted = (self.counted.0 + 1, self.counted.1 + step);
        let due = self.counted.1 as f64 / interval;
        if self.counted.1 < 1000 {
            return 0;
        }
        let missing = due - f64::from(self.counted.0);
        self.counted = (0, 0);
        if missing < WOBBLE.max(due * WOBBLE_SHARE) { 0 } else { missing.round() as u64 }
    }

    fn learn(&mut self) {
        for count in [KNOWN, SETTLED].into_iter().filter(|count| self.steps.len() >= *count) {
            let newest = self.steps.iter().rev().take(count);
            let (low, high) = newest.clone().fold((i64::MAX, i64::MIN), |(low, high), s| (low.min(*s), high.max(*s)));
            let mean = newest.sum::<i64>() as f64 / count as f64;
            let is_news = self.settled_ms.is_none_or(|settled| count == SETTLED || mean < settled);
            if high - low <= ALIKE_MS && low > 0 && is_news {
                self.settled_ms = Some(mean);
            }
        }
        let Some(stated) = self.stated_interval_ms.filter(|_| self.steps.len() >= MEMORY / 2) else { return };
        let mean = self.mean_ms();
        if mean < stated * (1.0 - NEAR) {
            // More come than were stated: the word is wrong.
            self.stated_interval_ms = None;
            return;
        }
        let single = self.steps.iter().filter(|step| (**step as f64 - stated).abs() <= 1.5).count();
        self.is_stated_seen |= mean < stated * (1.0 + NEAR / 2.0)
            || single * 10 >= self.steps.len() && self.off(stated) * 10 <= self.steps.len();
    }

    fn mean_ms(&self) -> f64 {
        self.steps.iter().sum::<i64>() as f64 / self.steps.len().max(1) as f64
    }

    /// How many steps are no whole number of these intervals.
    fn off(&self, interval: f64) -> usize {
        let is_off = |step: &&i64| {
            let frames = (**step as f64 / interval).round().max(1.0);
            (**step as f64 - frames * interval).abs() > 1.0 + frames.min(4.0) * 0.05
        };
        self.steps.iter().filter(is_off).count()
    }

    fn is_steady(&self) -> bool {
        let Some(interval) = self.known_interval_ms() else { return false };
        self.steps.len() >= SETTLED && self.off(interval) * 10 <= self.steps.len()
    }

    /// Whether frames come when there is something new, and not at a rate.
    fn varies(&self) -> bool {
        let Some(interval) = self.known_interval_ms() else { return true };
        let mut lengths: Vec<u64> = self.steps.iter().map(|step| missing_in(*step, interval)).collect();
        let missing: u64 = lengths.iter().sum();
        let share = missing as f64 / (missing as f64 + lengths.len() as f64);
        lengths.sort_unstable();
        lengths.dedup();
        share > VARIES_SHARE && lengths.len() >= VARIES_LENGTHS
    }

    /// How far gaps in these timestamps can be trusted: a steady rate shows every one; against the clock a few hide; a rate
    /// that varies of itself hides them all, and makes some up.
    pub(super) fn trust(&self) -> Trust {
        match () {
            () if self.known_interval_ms().is_none() || self.steps.len() < SETTLED || self.varies() => Trust::Poor,
            () if self.is_steady() => Trust::Good,
            () => Trust::Fair,
        }
    }

    /// The interval gaps are measured by, in milliseconds; `None` where no rate is known to be the one that was meant.
    fn known_interval_ms(&self) -> Option<f64> {
        match (self.stated_interval_ms, self.settled_ms) {
            (Some(stated), _) if self.is_stated_seen => Some(stated),
            (_, Some(settled)) => {
                // Twelve whole milliseconds are a coarse measure: all like steps there are make a finer one.
                let near = |step: &&i64| (**step as f64 - settled).abs() <= 1.5;
                let (sum, count) = self.steps.iter().filter(near).fold((0, 0), |(sum, count), s| (sum + s, count + 1));
                Some(if count >= SETTLED { sum as f64 / count as f64 } else { settled })
            }
            _ => None,
        }
    }

    /// The frame interval in milliseconds: as stated, if that was seen, or learnt; until then as stated; `None` until a few
    /// frames have been seen.
    pub(super) fn interval_ms(&self) -> Option<f64> {
        let seen = || (self.steps.len() >= 10).then(|| self.mean_ms()).filter(|ms| *ms >= 1.0);
        self.known_interval_ms()
            .or_else(|| seen().filter(|_| self.steps.len() >= MEMORY / 2))
            .or(self.stated_interval_ms)
            .or_else(seen)
    }
}

/// Whole frames missing in a step of whole milliseconds.
fn missing_in(step_ms: i64, interval_ms: f64) -> u64 {
    // Both ends are rounded to a millisecond, so a step may be one off; a gap must be clearly longer.
    if step_ms as f64 <= interval_ms * 1.5 + 1.0 {
        return 0;
    }
    ((step_ms as f64 / interval_ms).round() as u64).saturating_sub(1)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn missing(cadence: &mut Cadence, fps: f64, from: u64, frames: u64, skip: impl Fn(u64) -> bool) -> u64 {
        (from..from + frames)
            .filter(|n| !skip(*n))
            .map(|n| cadence.frame((n as f64 * 1000.0 / fps).round() as u32))
            .sum()
    }

    #[test]
    fn rounding_is_not_mistaken_for_gaps_at_any_usual_rate() {
        for fps in [10.0, 15.0, 23.976, 24.0, 25.0, 29.97, 30.0, 48.0, 50.0, 59.94, 60.0, 120.0, 144.0] {
            assert_eq!(missing(&mut Cadence::default(), fps, 0, 5000, |_| false), 0, "at {fps} frames/s");
        }
    }

    #[test]
    fn missing_frames_are_counted_exactly() {
        let mut cadence = Cadence::default();
        assert_eq!(missing(&mut cadence, 60.0, 0, 600, |_| false), 0);
        assert_eq!(missing(&mut cadence, 60.0, 600, 600, |n| n % 7 == 0), 86);
        let mut stated = Cadence::default();
        stated.state_rate(30.0);
        assert_eq!(missing(&mut stated, 30.0, 0, 300, |n| (100..104).contains(&n)), 4);
    }

    #[test]
    fn a_pause_a_restart_and_a_changed_rate_are_no_skipped_frames() {
        let mut cadence = Cadence::default();
        missing(&mut cadence, 60.0, 0, 300, |_| false);
        assert_eq!(cadence.frame(60_000), 0);
        assert_eq!(cadence.frame(0), 0);
        cadence.interrupt();
        assert_eq!(missing(&mut cadence, 30.0, 0, 300, |_| false), 0);
        // Unannounced, a lower rate looks like gaps until it has lasted a little.
        assert!(missing(&mut cadence, 15.0, 150, 300, |_| false) < 14);
    }

    #[test]
    fn a_rate_that_varies_of_itself_has_no_gaps_and_little_trust() {
        let mut cadence = Cadence::default();
        let mut ms = 0;
        let mut told = 0;
        for n in 0..600_u32 {
            ms += 17 + (n * 7919) % 53;
            told += cadence.frame(ms);
        }
        assert_eq!(cadence.trust(), Trust::Poor);
        assert!(told < 10, "{told} before it was known");
        let mut steady = Cadence::default();
        missing(&mut steady, 60.0, 0, 600, |n| n % 9 == 0);
        assert_eq!(steady.trust(), Trust::Good, "gaps of whole frames are no doubt");
    }

    #[test]
    fn uneven_timestamps_of_as_many_frames_as_the_clock_asks_for_hide_no_gap() {
        // As a muxer writes them that has B-frames and looks ahead: bunched at first, then 21, 43 and 36 ms in turn.
        for stated in [None, Some(30.0)] {
            let mut cadence = Cadence::default();
            stated.inspect(|fps| cadence.state_rate(*fps));
            let mut ms = 0;
            let told: u64 = (0..420)
                .map(|n| {
                    ms += if n < 4 { 0 } else { [21, 43, 36][n % 3] };
                    cadence.frame(ms)
                })
                .sum();
            assert_eq!(told, 0, "stated {stated:?}");
            assert!((29.0..31.0).contains(&(1000.0 / cadence.interval_ms().unwrap())));
        }
        // Eight milliseconds of jitter at 60 frames/s.
        let mut cadence = Cadence::default();
        cadence.state_rate(60.0);
        let jitter = |n: u64| ((n * 7919) % 17) as f64 - 8.0;
        let at = |n: u64| (1000.0 + n as f64 * 1000.0 / 60.0 + jitter(n)).round() as u32;
        assert_eq!((0..900).map(|n| cadence.frame(at(n))).sum::<u64>(), 0);
        // Frames that are truly missing are still found, if not to the frame.
        let told: u64 = (900..1800).filter(|n| n % 6 != 0).map(|n| cadence.frame(at(n))).sum();
        assert!((120..=160).contains(&told), "{told} of 150");
    }

    #[test]
    fn half_the_stated_rate_is_a_loss_for_as_long_as_it_lasts() {
        let mut cadence = Cadence::default();
        cadence.state_rate(60.0);
        assert_eq!(missing(&mut cadence, 60.0, 0, 300, |_| false), 0);
        let told = missing(&mut cadence, 60.0, 300, 830, |n| n % 2 == 1);
        assert!((400..=415).contains(&told), "{told} of 415");
        // Until another rate is stated.
        cadence.state_rate(30.0);
        assert!(missing(&mut cadence, 30.0, 565, 400, |_| false) <= 1);
    }

    #[test]
    fn a_rate_that_was_stated_and_never_seen_is_no_loss() {
        let mut cadence = Cadence::default();
        cadence.state_rate(60.0);
        assert_eq!(missing(&mut cadence, 30.0, 0, 600, |_| false), 0);
        assert!((29.0..31.0).contains(&(1000.0 / cadence.interval_ms().unwrap())));
    }

    #[test]
    fn frames_that_come_when_something_is_new_leave_no_gap() {
        let mut cadence = Cadence::default();
        cadence.state_rate(60.0);
        missing(&mut cadence, 60.0, 0, 120, |_| false);
        let told = missing(&mut cadence, 60.0, 120, 1200, |n| (n * n / 7 + n / 5) % 11 > 2);
        assert_eq!(cadence.trust(), Trust::Poor);
        assert!(told < 90, "{told} before it was known");
    }

    #[test]
    fn the_wrap_of_the_clock_is_an_ordinary_step() {
        let mut cadence = Cadence::default();
        cadence.state_rate(50.0);
        let total: u64 = (0..100_u32).map(|n| cadence.frame((u32::MAX - 1000).wrapping_add(n * 20))).sum();
        assert_eq!(total, 0);
    }
}
