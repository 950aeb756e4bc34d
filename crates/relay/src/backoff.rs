//! How long to wait before the next connection attempt.

use std::time::Duration;

/// The first wait: a server process that restarts is back in less than a second.
const FIRST: Duration = Duration::from_millis(500);
/// The longest wait: viewers leave, so the moth keeps asking.
const LONGEST: Duration = Duration::from_secs(8);

/// A delay that doubles from try to try, up to a limit.
#[derive(Debug, Default)]
pub(crate) struct Backoff {
    tries: u32,
}

impl Backoff {
    /// The wait before the next try.
    pub(crate) fn next(&mut self) -> Duration {
        let wait = FIRST.saturating_mul(1 << self.tries.min(10)).min(LONGEST);
        self.tries += 1;
        wait
    }

    /// A connection has held: begin again with a short wait.
    pub(crate) fn reset(&mut self) {
        self.tries = 0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_grow_to_a_limit_and_begin_again() {
        let mut backoff = Backoff::default();
        let waits: Vec<u128> = (0..7).map(|_| backoff.next().as_millis()).collect();
        assert_eq!(waits, [500, 1000, 2000, 4000, 8000, 8000, 8000]);
        backoff.reset();
        assert_eq!(backoff.next(), FIRST);
    }
}
