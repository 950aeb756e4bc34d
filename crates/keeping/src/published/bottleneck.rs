//! Pacing as in BBR (N. Cardwell and others, *ACM Queue* 14, 2016; draft-cardwell-iccrg-bbr-congestion-control-00): the bitrate follows the
//! fastest delivery of the last ten rounds, is raised by a quarter for one round in eight to look for more, and lowered as much after it.
//!
//! A round is a second here: an encoder heeds no faster. Its bound on what is in flight is TCP's; in its place, a queue that does not go
//! within a round is drained at half the rate (section 4.3.3's drain). A rate that the broadcast did not fill counts only if it is higher
//! (section 4.1.1.3, from the kernel's own delivery rate).

use std::collections::VecDeque;

use super::{Controller, Seen};

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
#[derive(Debug, Default)]
pub struct Bottleneck {
    rounds: VecDeque<f64>,
    round: usize,
    next_at: f64,
}

impl Controller for Bottleneck {
    fn next(&mut self, now: f64, _kbps: f64, queue_ms: f64, seen: &Seen) -> Option<f64> {
        if now < self.next_at {
            return None;
        }
        self.next_at = now + ROUND_S;
        let arriving = seen.acknowledged_kbps(ROUND_S)?;
        // With a queue, what arrives is what the line carries; without one it is what was asked for, and bursts say more.
        let is_limited = queue_ms < QUEUE_MS;
        let sample =
            if is_limited { seen.fastest_kbps(ROUND_S).map_or(arriving, |fast| fast.max(arriving)) } else { arriving };
        self.rounds.push_back(sample);
        if self.rounds.len() > ROUNDS {
            self.rounds.pop_front();
        }
        let bandwidth = self.rounds.iter().copied().fold(0.0, f64::max);
        self.round += 1;
        let gain = if queue_ms >= QUEUE_MS { DRAIN } else { GAINS[self.round % GAINS.len()] };
        Some(bandwidth * gain)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::published::Published;
    use crate::published::tests::{LINE, over};

    #[test]
    fn it_follows_what_is_delivered_drains_what_waits_and_comes_back_within_its_rounds() {
        let rates = over(&mut Published::<Bottleneck>::new(4000.0));
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
