//! How fast a peer is listened to. What it costs to understand a message does not depend on its size, so that a peer which
//! sends tiny ones could keep the program busy with them alone; it is read no faster than any broadcaster speaks, and what it
//! says beyond that waits in its own connection.

use std::time::Duration;

use tokio::time::{Instant, sleep};

/// A token bucket of messages: it fills steadily, and is emptied by what comes.
#[derive(Debug)]
pub struct TokenBucket {
    per_s: f64,
    most: f64,
    left: f64,
    at: Instant,
}

impl TokenBucket {
    /// So many messages a second, and at the most so many at once.
    #[must_use]
    pub fn new(per_s: u32, most: u32) -> Self {
        Self { per_s: f64::from(per_s), most: f64::from(most), left: f64::from(most), at: Instant::now() }
    }

    /// So many came.
    pub fn took(&mut self, messages: u64) {
        let now = Instant::now();
        let filled = now.duration_since(self.at).as_secs_f64() * self.per_s;
        self.left = (self.left + filled).min(self.most) - messages as f64;
        self.at = now;
    }

    /// Whether more came than it is listened to for now.
    #[must_use]
    pub fn is_ahead(&self) -> bool {
        self.left < 0.0
    }

    /// Waits until it is listened to again.
    pub async fn ready(&mut self) {
        if self.is_ahead() {
            sleep(Duration::from_secs_f64(-self.left / self.per_s)).await;
            self.took(0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn beyond_a_burst_it_is_listened_to_no_faster_than_its_pace() {
        let mut pace = TokenBucket::new(1000, 500);
        let start = Instant::now();
        for _ in 0..35 {
            pace.took(100);
            pace.ready().await;
        }
        // 3 500 messages, 500 of them at once.
        let took = start.elapsed().as_secs_f64();
        assert!((2.99..3.02).contains(&took), "{took}");
    }

    #[tokio::test(start_paused = true)]
    async fn who_speaks_slowly_never_waits() {
        let mut pace = TokenBucket::new(1000, 500);
        for _ in 0..1000 {
            tokio::time::advance(Duration::from_millis(2)).await;
            pace.took(1);
            assert!(!pace.is_ahead());
        }
    }
}
