//! What strangers can cause is told sparingly: whoever connects and hangs up a thousand times a second fills no log, no recording
//! and no screen.

use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use tokio::time::Instant;

/// Told so often. Ours.
const MOST: u32 = 3;
/// In so long. Ours.
const EACH: Duration = Duration::from_secs(60);

#[derive(Debug, Default)]
struct Inside {
    since: Option<Instant>,
    told: u32,
    left_out: u64,
}

/// One kind of thing that is told at most three times a minute.
#[derive(Debug, Default)]
pub struct Sparing(Mutex<Inside>);

impl Sparing {
    /// It happened: `None` if it is only counted, else how many were only counted since it was last told.
    pub fn tell(&self) -> Option<LeftOut> {
        // Nothing that holds the lock can leave it half changed.
        let mut inside = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if inside.since.is_none_or(|since| since.elapsed() >= EACH) {
            (inside.since, inside.told) = (Some(Instant::now()), 0);
        }
        if inside.told == MOST {
            inside.left_out += 1;
            return None;
        }
        inside.told += 1;
        Some(LeftOut(std::mem::take(&mut inside.left_out)))
    }
}

/// How many were only counted; as words that end a sentence.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LeftOut(u64);

impl std::fmt::Display for LeftOut {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.0 {
            0 => Ok(()),
            1 => f.write_str(" (and one like it before)"),
            count => write!(f, " (and {count} like it before)"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn what_happens_all_the_time_is_told_three_times_a_minute_and_counted() {
        let sparing = Sparing::default();
        let mut told = Vec::new();
        for _ in 0..1210 {
            told.extend(sparing.tell().map(|left_out| left_out.to_string()));
            tokio::time::advance(Duration::from_millis(100)).await;
        }
        let more = " (and 597 like it before)";
        assert_eq!(told, ["", "", "", more, "", "", more, "", ""]);
    }
}
