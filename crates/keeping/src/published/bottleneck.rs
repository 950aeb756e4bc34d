//! Pacing as in BBR (N. Cardwell and others, *ACM Queue* 14, 2016; draft-cardwell-iccrg-bbr-congestion-control-00): the bitrate follows the
//! fastest delivery of the last ten rounds, is raised by a quarter for one round in eight to look for more, and lowered as much after it.
//!
//! A round is a second here: an encoder heeds no faster. Its bound on what is in flight is TCP's; in its place, a queue that does not go
//! within a round is drained at half the rate (section 4.3.3's drain). A rate that the broadcast did not fill counts only if it is higher
//! (section 4.1.1.3, from the kernel's own delivery rate).

use std::collections::VecDeque;

use moth_core::Moment;
use moth_core::reading::Observation;

use super::Seen;
use crate::FLOOR_KBPS;
use crate::contender::Contender;

/// Section 4.1.1.3: the filter is ten rounds long.
const ROUNDS: usize = 10;
const ROUND_S: f64 = 1.0;
/// Section 4.3.4: the gains of eight rounds.
const GAINS: [f64; 8] = [1.25, 0.75, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0];
/// A queue that is longer than this at a round's end is drained, in milliseconds. Ours.
const QUEUE_MS: f64 = 200.0;
/// At this gain.
const DRAIN: f64 = 0.5;

/// The controller.
#[derive(Debug)]
pub struct Bottleneck {
    ceiling: f64,
    now: f64,
    rounds: VecDeque<f64>,
    round: usize,
    next_at: f64,
    seen: Seen,
}

impl Bottleneck {
    /// With this ceiling, in kb/s of video.
    #[must_use]
    pub fn new(ceiling: f64) -> Self {
        Self { ceiling, now: ceiling, rounds: VecDeque::new(), round: 0, next_at: ROUND_S, seen: Seen::default() }
    }
}

impl Contender for Bottleneck {
    fn begins_kbps(&self) -> f64 {
        self.ceiling
    }

    fn see(&mut self, at: Moment, what: Observation) {
        self.seen.see(at, &what);
    }

    fn decide(&mut self, at: Moment, queue_ms: f64) -> Option<f64> {
        let now = at.seconds();
        if now < self.next_at {
            return None;
        }
        self.next_at = now + ROUND_S;
        let arriving = self.seen.acknowledged_kbps(ROUND_S)?;
        // With a queue, what arrives is what the line carries; without one it is what was asked for, and bursts say more.
        let is_limited = queue_ms < QUEUE_MS;
        let sample = if is_limited {
            self.seen.fastest_kbps(ROUND_S).map_or(arriving, |fast| fast.max(arriving))
        } else {
            arriving
        };
        self.rounds.push_back(sample);
        if self.rounds.len() > ROUNDS {
            self.rounds.pop_front();
        }
        let bandwidth = self.rounds.iter().copied().fold(0.0, f64::max);
        self.round += 1;
        let gain = if queue_ms >= QUEUE_MS { DRAIN } else { GAINS[self.round % GAINS.len()] };
        let next = (bandwidth * gain).clamp(FLOOR_KBPS, self.ceiling);
        if (next - self.now).abs() < 1.0 {
            return None;
        }
        self.now = next;
        Some(next)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::published::tests::{LINE, over};

    #[test]
    fn it_follows_what_is_delivered_drains_what_waits_and_comes_back_within_its_rounds() {
        let rates = over(&mut Bottleneck::new(4000.0));
        let narrow: Vec<f64> = rates
            .iter()
            .filter(|(at, _)| *at > LINE.narrow_from_s + 12.0 && *at < LINE.narrow_until_s)
            .map(|(_, kbps)| *kbps)
            .collect();
        assert!(narrow.iter().all(|kbps| *kbps < 1.6 * LINE.narrow_kbps), "{narrow:?}");
        let back =
            rates.iter().find(|(at, kbps)| *at >= LINE.narrow_until_s && *kbps >= 3990.0).map(|(at, _)| *at).unwrap();
        assert!(back - LINE.narrow_until_s <= 10.0, "{back}");
    }
}
