//! How long to wait before the next connection attempt, and when to give up.

use std::time::Duration;

/// How a lost connection is made again.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reconnect {
    /// The wait before the first try.
    pub first: Duration,
    /// By how much it grows from try to try.
    pub growth: f64,
    /// The longest wait.
    pub longest: Duration,
    /// With no connection for this long it is given up; `None`: never.
    pub total: Option<Duration>,
}

impl Default for Reconnect {
    /// Half a second, as a server process that restarts is back in less; doubled up to eight seconds, as viewers leave
    /// meanwhile; never given up.
    fn default() -> Self {
        Self { first: Duration::from_millis(500), growth: 2.0, longest: Duration::from_secs(8), total: None }
    }
}

/// A delay that grows from try to try, up to a limit.
#[derive(Debug, Default)]
pub(crate) struct Backoff {
    settings: Reconnect,
    tries: u32,
    waited: Duration,
}

impl Backoff {
    pub(crate) fn new(settings: Reconnect) -> Self {
        Self { settings, tries: 0, waited: Duration::ZERO }
    }

    /// The wait before the next try; `None` if it is to be given up.
    pub(crate) fn next(&mut self) -> Option<Duration> {
        if self.settings.total.is_some_and(|total| self.waited >= total) {
            return None;
        }
        let factor = self.settings.growth.max(1.0).powi(self.tries.min(40).cast_signed());
        let seconds = (self.settings.first.as_secs_f64() * factor).min(self.settings.longest.as_secs_f64());
        self.tries += 1;
        let wait = Duration::from_secs_f64(seconds);
        self.waited += wait;
        Some(wait)
    }

    /// A connection has held: begin again with a short wait.
    pub(crate) fn reset(&mut self) {
        (self.tries, self.waited) = (0, Duration::ZERO);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_grow_to_a_limit_and_begin_again() {
        let mut backoff = Backoff::default();
        let waits: Vec<u128> = (0..7).filter_map(|_| backoff.next()).map(|wait| wait.as_millis()).collect();
        assert_eq!(waits, [500, 1000, 2000, 4000, 8000, 8000, 8000]);
        backoff.reset();
        assert_eq!(backoff.next(), Some(Duration::from_millis(500)));
    }

    #[test]
    fn delay_growth_limit_and_total_are_the_users() {
        let second = Duration::from_secs(1);
        let settings = Reconnect { first: second, growth: 1.5, longest: 2 * second, total: Some(5 * second) };
        let mut backoff = Backoff::new(settings);
        let waits: Vec<u128> = std::iter::from_fn(|| backoff.next()).map(|wait| wait.as_millis()).collect();
        assert_eq!(waits, [1000, 1500, 2000, 2000], "then it is given up");
    }
}
