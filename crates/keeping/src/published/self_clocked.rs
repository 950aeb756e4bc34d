//! Self-clocked rate adaptation for multimedia (SCReAM, RFC 8298): the sender's media rate control of section 4.1.3 with the queue's
//! delay against a target, and what is acknowledged as the clock.
//!
//! The network congestion control of section 4.1.2 is TCP's here: its congestion window cannot be set from outside. What is left is the
//! part that sets the encoder: it goes up by a ramp that takes five seconds and more, less near where congestion was last, and down where
//! the queue says so.

use super::{Controller, Seen};

/// Section 4.1.1.1: the queue delay that is aimed at, in milliseconds (its upper bound, as ours is a whole broadcast's queue).
const TARGET_MS: f64 = 400.0;
/// Over this the rate goes down for what waits before the network, in milliseconds (section 4.1.3, where it is 20 ms of packets; ours is more,
/// as a keyframe alone makes as much).
const QUEUE_HIGH_MS: f64 = 200.0;
/// Section 4.1.1.1: the rate after a loss, as a share of what it was.
const BETA_R: f64 = 0.9;
/// The rate is adjusted so often, in seconds.
const ADJUST_S: f64 = 0.2;
/// A ramp from the least to the most takes so long, in seconds: RAMP_UP_SPEED is 200 kb/s each second there, for streams of a megabit.
const RAMP_KBPS_S: f64 = 200.0;
/// The guard against what precedes congestion, and against what waits.
const GUARD: f64 = 0.1;
const TX_QUEUE_FACTOR: f64 = 1.0;

/// The controller.
#[derive(Debug, Default)]
pub struct SelfClocked {
    /// Where it was when congestion came last: it goes up slowly near there. The ceiling before that.
    inflexion: Option<f64>,
    adjusted: f64,
    inflected: Option<f64>,
    lost: Option<f64>,
}

impl SelfClocked {
    /// Congestion came; what arrives then is where it came, unless it came a moment ago.
    fn inflect(&mut self, now: f64, arriving: f64) {
        if self.inflected.is_none_or(|at| now - at > 5.0) {
            (self.inflexion, self.inflected) = (Some(arriving), Some(now));
        }
    }
}

impl Controller for SelfClocked {
    fn next(&mut self, now: f64, kbps: f64, queue_ms: f64, seen: &Seen) -> Option<f64> {
        let arriving = seen.acknowledged_kbps(1.0)?;
        let next = if seen.has_lost() && self.lost.is_none_or(|at| now - at > 1.0) {
            self.lost = Some(now);
            self.inflect(now, arriving);
            kbps * BETA_R
        } else if now - self.adjusted < ADJUST_S {
            return None;
        } else {
            let before_ms = seen.queue_ms(ADJUST_S)?;
            let trend = ((queue_ms - before_ms) / TARGET_MS).clamp(0.0, 1.0);
            if queue_ms > QUEUE_HIGH_MS || queue_ms > 0.25 * TARGET_MS && trend > 0.0 {
                self.inflect(now, arriving);
                // Down to what arrives, less what guards against more of it and what must drain.
                let guard = 1.0 - GUARD * trend;
                let drain = (1.0 - TX_QUEUE_FACTOR * queue_ms / 1000.0 * GUARD).max(0.5);
                kbps.min(arriving * guard * drain)
            } else {
                // As far from the inflexion as its scale says: at it, a fifth of the speed.
                let inflexion = *self.inflexion.get_or_insert(kbps);
                let off = (kbps - inflexion) / inflexion;
                let scale = (4.0 * off).powi(2).clamp(0.2, 1.0);
                kbps + RAMP_KBPS_S * ADJUST_S * scale
            }
        };
        self.adjusted = now;
        Some(next)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::published::Published;
    use crate::published::tests::{LINE, over};

    #[test]
    fn it_goes_below_what_arrives_when_it_waits_and_climbs_no_faster_than_its_ramp() {
        let rates = over(&mut Published::<SelfClocked>::new(4000.0));
        let within = |rates: &[(f64, f64)], from: f64, until: f64| -> Vec<f64> {
            rates.iter().filter(|(at, _)| *at > from && *at < until).map(|(_, kbps)| *kbps).collect()
        };
        let narrow = within(&rates, LINE.narrow_from_s + 5.0, LINE.narrow_until_s);
        assert!(narrow.iter().all(|kbps| *kbps < 1.15 * LINE.narrow_kbps), "{narrow:?}");
        let climb: Vec<_> = rates.iter().filter(|(at, _)| *at > LINE.narrow_until_s).collect();
        for pair in climb.windows(2) {
            let most = RAMP_KBPS_S * (pair[1].0 - pair[0].0) + 1.0;
            assert!(pair[1].1 - pair[0].1 <= most, "{pair:?}");
        }
        assert!(climb.last().is_some_and(|(_, kbps)| *kbps > 3990.0), "it comes back");
    }
}
