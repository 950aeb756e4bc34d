//! What happened in the last so many seconds.

use std::collections::VecDeque;
use std::time::Duration;

use crate::moment::Moment;

/// How far back windows reach. Ours.
pub const REACH: Duration = Duration::from_secs(15);

/// A counter that only grows, remembered for [`REACH`]. A counter that falls has been restarted: it goes
/// on from where it was.
#[derive(Debug, Clone, Default)]
pub struct Trail {
    points: VecDeque<(Moment, f64)>,
    raw: Option<f64>,
    total: f64,
}

impl Trail {
    /// Takes the counter's value at `at`. The first value is where counting begins.
    pub fn set(&mut self, at: Moment, raw: f64) {
        let step = match self.raw {
            Some(before) if raw >= before => raw - before,
            Some(_) => raw,
            None => {
                self.points.push_back((at, 0.0));
                0.0
            }
        };
        self.raw = Some(raw);
        self.push(at, step);
    }

    /// Adds to the counter.
    pub fn add(&mut self, at: Moment, step: f64) {
        self.raw = Some(self.raw.unwrap_or(0.0) + step);
        self.push(at, step);
    }

    fn push(&mut self, at: Moment, step: f64) {
        self.total += step;
        match self.points.back_mut() {
            // One point a millisecond is fine enough; it bounds the memory whatever the rate of readings. What comes after the turn of
            // a second is not put with what came before it: each second has its own.
            Some((last, total)) if at.since(*last) < Duration::from_millis(1) && second(at) == second(*last) => {
                *total = self.total;
            }
            _ => self.points.push_back((at, self.total)),
        }
        let horizon = at.before(REACH);
        // One point from before the horizon is kept: it says where the window began.
        while self.points.len() > 2 && self.points[1].0 <= horizon {
            self.points.pop_front();
        }
    }

    /// Whether anything was ever counted.
    #[must_use]
    pub fn is_known(&self) -> bool {
        self.raw.is_some()
    }

    /// All that was counted.
    #[must_use]
    pub fn total(&self) -> f64 {
        self.total
    }

    /// How much was counted in the `span` before `now`.
    #[must_use]
    pub fn within(&self, now: Moment, span: Duration) -> f64 {
        let from = now.before(span);
        // With no point that old, nothing had been counted before: a trail that began high has a point of zero.
        let before = self.points.iter().rev().find(|(at, _)| *at <= from).map_or(0.0, |(_, total)| *total);
        self.total - before
    }

    /// How much was counted from then on, at that very moment as well: of seconds that follow each other, each has what is its own.
    #[must_use]
    pub fn since(&self, from: Moment) -> f64 {
        let before = self.points.iter().rev().find(|(at, _)| *at < from).map_or(0.0, |(_, total)| *total);
        self.total - before
    }
}

fn second(at: Moment) -> u64 {
    at.since(Moment::START).as_secs()
}

/// A value that goes up and down, remembered for [`REACH`].
#[derive(Debug, Clone, Default)]
pub struct Gauge {
    points: VecDeque<(Moment, f64)>,
}

impl Gauge {
    /// Takes the value at `at`.
    pub fn set(&mut self, at: Moment, value: f64) {
        match self.points.back_mut() {
            Some((last, there)) if at.since(*last) < Duration::from_millis(1) => *there = value,
            _ => self.points.push_back((at, value)),
        }
        let horizon = at.before(REACH);
        while self.points.len() > 1 && self.points[0].0 < horizon {
            self.points.pop_front();
        }
    }

    /// Forgets everything.
    pub fn clear(&mut self) {
        self.points.clear();
    }

    /// The newest value, unless it is older than `span`.
    #[must_use]
    pub fn latest(&self, now: Moment, span: Duration) -> Option<f64> {
        self.points.back().filter(|(at, _)| now.since(*at) <= span).map(|(_, value)| *value)
    }

    fn over(&self, now: Moment, span: Duration) -> impl Iterator<Item = f64> {
        let from = now.before(span);
        self.points.iter().rev().take_while(move |(at, _)| *at >= from).map(|(_, value)| *value)
    }

    /// The lowest of the values made from `from` to `to`.
    #[must_use]
    pub fn lowest_between(&self, from: Moment, to: Moment) -> Option<f64> {
        self.points.iter().filter(|(at, _)| (from..=to).contains(at)).map(|(_, value)| *value).reduce(f64::min)
    }

    /// The mean of the values in the `span` before `now`.
    #[must_use]
    pub fn mean(&self, now: Moment, span: Duration) -> Option<f64> {
        let (sum, count) = self.over(now, span).fold((0.0, 0_u32), |(sum, count), v| (sum + v, count + 1));
        (count > 0).then(|| sum / f64::from(count))
    }

    /// The highest of the values in the `span` before `now`.
    #[must_use]
    pub fn highest(&self, now: Moment, span: Duration) -> Option<f64> {
        self.over(now, span).reduce(f64::max)
    }

    /// The lowest of the values in the `span` before `now`.
    #[must_use]
    pub fn lowest(&self, now: Moment, span: Duration) -> Option<f64> {
        self.over(now, span).reduce(f64::min)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECOND: Duration = Duration::from_secs(1);

    #[test]
    fn a_trail_counts_what_fell_into_the_window() {
        let mut trail = Trail::default();
        for i in 0..=40_u32 {
            trail.set(Moment::from_ms(u64::from(i) * 100), f64::from(i));
        }
        let now = Moment::from_ms(4000);
        assert_eq!(trail.within(now, SECOND), 10.0);
        assert_eq!(trail.within(now, 100 * SECOND), 40.0);
        assert_eq!(trail.within(Moment::from_ms(9000), SECOND), 0.0);
    }

    #[test]
    fn each_second_has_what_was_counted_in_it_whatever_comes_at_its_turn() {
        let mut trail = Trail::default();
        let at = |us| Moment::after(Duration::from_micros(us));
        // Less than a millisecond apart, the last before a turn, at it and just after it.
        let (mut counted, mut seconds) = (0.0, 0.0);
        for second in 1..=12_u64 {
            let turn = second * 1_000_000;
            trail.add(at(turn - 300), 1.0);
            // The second is closed before what comes at its end is taken.
            seconds += trail.since(at(turn - 1_000_000));
            trail.add(at(turn), 1.0);
            trail.add(at(turn + 200), 1.0);
            counted += 3.0;
        }
        seconds += trail.since(at(12_000_000));
        assert_eq!(seconds, counted);
    }

    #[test]
    fn a_trail_that_began_high_counts_from_there_and_survives_a_restart() {
        let mut trail = Trail::default();
        trail.set(Moment::from_ms(0), 5000.0);
        trail.set(Moment::from_ms(500), 5003.0);
        trail.set(Moment::from_ms(1000), 2.0);
        assert_eq!(trail.total(), 5.0);
        assert_eq!(trail.within(Moment::from_ms(1000), 2 * SECOND), 5.0);
    }

    #[test]
    fn a_trail_of_steps_counts_the_first_one_too() {
        let mut trail = Trail::default();
        trail.add(Moment::from_ms(900), 7.0);
        assert_eq!(trail.within(Moment::from_ms(1000), SECOND), 7.0);
        assert_eq!(trail.within(Moment::from_ms(2000), SECOND), 0.0);
    }

    #[test]
    fn windows_do_not_grow_without_end() {
        let (mut trail, mut gauge) = (Trail::default(), Gauge::default());
        for ms in 0..100_000 {
            trail.add(Moment::from_ms(ms), 1.0);
            gauge.set(Moment::from_ms(ms), 1.0);
        }
        assert!(trail.points.len() <= 15_003 && gauge.points.len() <= 15_003);
    }

    #[test]
    fn a_gauge_knows_its_span() {
        let mut gauge = Gauge::default();
        for (i, v) in [9.0, 1.0, 2.0, 3.0].into_iter().enumerate() {
            gauge.set(Moment::from_ms(i as u64 * 500), v);
        }
        let now = Moment::from_ms(1500);
        assert_eq!(gauge.mean(now, SECOND), Some(2.0));
        assert_eq!(gauge.highest(now, SECOND), Some(3.0));
        assert_eq!(gauge.lowest(now, 2 * SECOND), Some(1.0));
        assert_eq!(gauge.latest(Moment::from_ms(9000), SECOND), None);
    }
}
