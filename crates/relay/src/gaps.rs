//! Gaps between the pictures that were sent: what viewers see of dropped and skipped frames.

use std::collections::VecDeque;

use moth_core::moment::Moment;
use moth_core::viewers::{Freezes, freeze_from_ms};

/// Steps between pictures that the usual step is learnt from. Ours.
const MEMORY: usize = 31;
/// A longer step of the clock is a broadcaster that began anew, in milliseconds. Ours.
const RESTART_MS: i64 = 600_000;

/// Pictures of which none is missing, but which are sent so much later than their time, in milliseconds, stand still all the
/// same: players of live broadcasts keep a few seconds in hand (RFC 8216, section 6.3.3: at least three target durations).
const IN_HAND_MS: u64 = 5000;

/// Follows the timestamps of what is sent.
#[derive(Debug, Default)]
pub(crate) struct Gaps {
    last: Option<(Moment, u32)>,
    steps: VecDeque<i64>,
    freezes: Freezes,
}

impl Gaps {
    /// A picture is sent.
    pub(crate) fn sent(&mut self, now: Moment, time_ms: u32) {
        let Some((at, last)) = self.last.replace((now, time_ms)) else { return };
        let step = i64::from(time_ms.wrapping_sub(last).cast_signed());
        if !(0..=RESTART_MS).contains(&step) {
            return;
        }
        let passed_ms = u64::try_from(now.since(at).as_millis()).unwrap_or(u64::MAX);
        if passed_ms > step.unsigned_abs() + IN_HAND_MS {
            self.freezes.add(passed_ms);
            return;
        }
        if self.steps.len() >= MEMORY / 3 && step as f64 >= freeze_from_ms(self.typical_ms()) {
            self.freezes.add(step.unsigned_abs());
            // One freeze says nothing of what is usual.
            return;
        }
        self.steps.push_back(step);
        if self.steps.len() > MEMORY {
            self.steps.pop_front();
        }
    }

    fn typical_ms(&self) -> f64 {
        self.steps.iter().sum::<i64>() as f64 / self.steps.len().max(1) as f64
    }

    pub(crate) fn freezes(&self) -> Freezes {
        self.freezes
    }

    /// Milliseconds since the last picture, if that is a freeze.
    pub(crate) fn open_ms(&self, now: Moment) -> Option<u64> {
        let (at, _) = self.last?;
        let ms = u64::try_from(now.since(at).as_millis()).unwrap_or(u64::MAX);
        (self.steps.len() >= MEMORY / 3 && ms as f64 >= freeze_from_ms(self.typical_ms())).then_some(ms)
    }

    /// The broadcast is over.
    pub(crate) fn end(&mut self) {
        self.last = None;
        self.steps.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_gaps_that_are_seen_count() {
        let mut gaps = Gaps::default();
        let mut send = |ms: u64| gaps.sent(Moment::from_ms(ms), u32::try_from(ms).unwrap());
        (0..100).for_each(|n| send(n * 20));
        // 140 ms late: a stutter. 400 ms: a freeze.
        send(2120);
        (107..200).for_each(|n| send(n * 20));
        (220..230).for_each(|n| send(n * 20));
        assert_eq!(gaps.freezes(), Freezes { count: 1, longest_ms: 420, total_ms: 420 });
        assert_eq!(gaps.open_ms(Moment::from_ms(4600)), None);
        assert_eq!(gaps.open_ms(Moment::from_ms(5580)), Some(1000));
        // Held up: for two seconds nobody sees it, for twenty everybody does.
        (230..330).for_each(|n| gaps.sent(Moment::from_ms(2000 + n * 20), u32::try_from(n * 20).unwrap()));
        assert_eq!(gaps.freezes().count, 1);
        (330..430).for_each(|n| gaps.sent(Moment::from_ms(22_000 + n * 20), u32::try_from(n * 20).unwrap()));
        assert_eq!(gaps.freezes(), Freezes { count: 2, longest_ms: 20_020, total_ms: 20_440 });
        gaps.end();
        assert_eq!(gaps.open_ms(Moment::from_ms(39_000)), None);
    }
}
