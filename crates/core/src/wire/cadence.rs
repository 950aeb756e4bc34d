//! Skipped frames, read off the timestamps: gaps of whole frame intervals.
//!
//! Timestamps are whole milliseconds, so intervals wobble by one; the interval is learnt from the frames
//! themselves, and the broadcaster's own word for it is used where it fits what is seen.

use std::collections::VecDeque;

use crate::figure::Trust;

/// Intervals that the learning looks at: about a second of frames.
const MEMORY: usize = 61;
/// A gap longer than this is a pause or a restart, not skipped frames, in milliseconds.
const PAUSE_MS: i64 = 2000;

/// After so many like steps in a row the rate has changed.
const SETTLED: usize = 12;

/// Learns the frame interval and finds gaps in it.
#[derive(Debug, Clone, Default)]
pub(super) struct Cadence {
    last_ms: Option<u32>,
    steps: VecDeque<i64>,
    stated_interval_ms: Option<f64>,
}

impl Cadence {
    /// Takes the broadcaster's word for its frame rate, in frames per second.
    pub(super) fn state_rate(&mut self, fps: f64) {
        if (1.0..=1000.0).contains(&fps) {
            self.stated_interval_ms = Some(1000.0 / fps);
        }
    }

    /// Forgets the last frame: the broadcaster left, and its clock may start anew.
    pub(super) fn interrupt(&mut self) {
        self.last_ms = None;
        self.steps.clear();
    }

    /// Takes a frame's timestamp (milliseconds modulo 2³²) and gives the number of frames that are
    /// missing just before it.
    pub(super) fn frame(&mut self, time_ms: u32) -> u64 {
        let Some(last) = self.last_ms.replace(time_ms) else { return 0 };
        let step = i64::from(time_ms.wrapping_sub(last).cast_signed());
        if !(0..=PAUSE_MS).contains(&step) {
            self.steps.clear();
            return 0;
        }
        // Where no interval fits what is seen, there is nothing for a gap to be a multiple of.
        let missing = match self.interval_ms() {
            Some(interval) if self.steps.len() < SETTLED || self.trust() != Trust::Poor => missing_in(step, interval),
            _ => 0,
        };
        self.steps.push_back(step);
        if self.steps.len() > MEMORY {
            self.steps.pop_front();
        }
        if missing > 0 && self.rate_changed() {
            self.steps.drain(..self.steps.len() - SETTLED);
        }
        missing
    }

    /// Whether the newest steps all agree with each other, which gaps do not. With a stated rate that says
    /// otherwise, an encoder that skips every second frame is the likelier reading.
    fn rate_changed(&self) -> bool {
        let newest = self.steps.iter().rev().take(SETTLED);
        let (low, high) = newest.fold((i64::MAX, i64::MIN), |(low, high), s| (low.min(*s), high.max(*s)));
        self.stated_interval_ms.is_none() && self.steps.len() > SETTLED && high - low <= 1
    }

    /// How far gaps in these timestamps can be trusted: a steady rate shows every one; a rate that varies of itself hides
    /// them, and makes some up.
    pub(super) fn trust(&self) -> Trust {
        let (Some(interval), true) = (self.interval_ms(), self.steps.len() >= SETTLED) else { return Trust::Poor };
        let off = |step: &&i64| {
            let frames = (**step as f64 / interval).round().max(1.0);
            (**step as f64 - frames * interval).abs() > 1.0 + frames * 0.05
        };
        match self.steps.iter().filter(off).count() as f64 / self.steps.len() as f64 {
            share if share < 0.05 => Trust::Good,
            share if share < 0.25 => Trust::Fair,
            _ => Trust::Poor,
        }
    }

    /// The frame interval in milliseconds: learnt, or stated where that fits; `None` until a few frames
    /// have been seen.
    pub(super) fn interval_ms(&self) -> Option<f64> {
        if self.steps.len() < 10 {
            return self.stated_interval_ms;
        }
        let mut sorted: Vec<i64> = self.steps.iter().copied().collect();
        sorted.sort_unstable();
        // The lower quartile, not the middle: with every second frame missing, whole intervals are still
        // the shorter half.
        let typical = sorted[sorted.len() / 4];
        let near: Vec<i64> = sorted.into_iter().filter(|s| (s - typical).abs() <= 1).collect();
        let learnt = near.iter().sum::<i64>() as f64 / near.len() as f64;
        match self.stated_interval_ms {
            Some(stated) if (stated - learnt).abs() <= 1.0_f64.max(stated * 0.06) => Some(stated),
            _ => (learnt >= 1.0).then_some(learnt),
        }
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
    fn the_wrap_of_the_clock_is_an_ordinary_step() {
        let mut cadence = Cadence::default();
        cadence.state_rate(50.0);
        let total: u64 = (0..100_u32).map(|n| cadence.frame((u32::MAX - 1000).wrapping_add(n * 20))).sum();
        assert_eq!(total, 0);
    }
}
