//! The Google congestion control (draft-ietf-rmcat-gcc-02): the delay's gradient tells over-use, and the rate goes down to 0.85 of what
//! arrives and up by 8 % a second, or slowly near where it was last too much.
//!
//! The gradient is that of the moth's queue: packets' arrival times are not known over TCP. Of the draft are the adaptive threshold (section
//! 5.4), the states (5.5) with their constants, and the loss-based part (6) with dropped frames in the place of lost packets.

use super::{Controller, Seen};

/// Section 5.4: the threshold's first value and bounds in milliseconds, and how fast it grows and falls.
const THRESHOLD_MS: f64 = 12.5;
const THRESHOLD_BOUNDS_MS: (f64, f64) = (6.0, 600.0);
const K_UP: f64 = 0.01;
const K_DOWN: f64 = 0.000_18;
/// Section 5.4: over-use lasts so long before it counts, in milliseconds.
const OVERUSE_MS: f64 = 10.0;
/// Section 5.5: up by so much a second, and down to so much of what arrives.
const ETA: f64 = 1.08;
const BETA: f64 = 0.85;
/// Section 5.5: no more than so many times what arrives.
const OF_ARRIVING: f64 = 1.5;
/// Section 5.5: a response takes 100 ms more than a round trip, in which near the last over-use half a packet is added.
const RESPONSE_S: f64 = 0.2;
const PACKET_KBIT: f64 = 9.6;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum State {
    #[default]
    Increase,
    Hold,
    Decrease,
}

/// The controller.
#[derive(Debug)]
pub struct Gradient {
    looked: Option<f64>,
    threshold_ms: f64,
    over_for_ms: f64,
    state: State,
    /// Mean and variance of what arrived at the last decreases, in kb/s (section 5.5).
    at_decrease: Option<(f64, f64)>,
}

impl Default for Gradient {
    fn default() -> Self {
        Self { looked: None, threshold_ms: THRESHOLD_MS, over_for_ms: 0.0, state: State::default(), at_decrease: None }
    }
}

impl Controller for Gradient {
    fn next(&mut self, now: f64, kbps: f64, queue_ms: f64, seen: &Seen) -> Option<f64> {
        let dt = now - self.looked.replace(now)?;
        let arriving = seen.acknowledged_kbps(0.5)?;
        // How much the delay grew over a fifth of a second: a frame's or two's.
        let grew_ms = queue_ms - seen.queue_ms(0.2)?;
        let k = if grew_ms.abs() < self.threshold_ms { K_DOWN } else { K_UP };
        if grew_ms.abs() - self.threshold_ms <= 15.0 {
            let moved = self.threshold_ms + dt * 1000.0 * k * (grew_ms.abs() - self.threshold_ms);
            self.threshold_ms = moved.clamp(THRESHOLD_BOUNDS_MS.0, THRESHOLD_BOUNDS_MS.1);
        }
        let is_over = grew_ms > self.threshold_ms;
        self.over_for_ms = if is_over { self.over_for_ms + dt * 1000.0 } else { 0.0 };
        self.state = match (is_over, grew_ms < -self.threshold_ms, self.state) {
            (true, ..) if self.over_for_ms > OVERUSE_MS => State::Decrease,
            (_, true, _) => State::Hold,
            (false, false, State::Decrease) => State::Hold,
            (false, false, _) => State::Increase,
            (true, ..) => self.state,
        };
        let mut next = match self.state {
            State::Hold => kbps,
            State::Decrease => {
                let (mean, variance) = self.at_decrease.unwrap_or((arriving, 0.0));
                let off = arriving - mean;
                self.at_decrease = Some((mean + 0.05 * off, 0.95 * (variance + 0.05 * off * off)));
                self.over_for_ms = 0.0;
                (BETA * arriving).min(kbps)
            }
            State::Increase => {
                let near = self
                    .at_decrease
                    .filter(|(mean, variance)| (arriving - mean).abs() <= 3.0 * variance.sqrt().max(50.0));
                if arriving
                    > self.at_decrease.map_or(f64::MAX, |(mean, variance)| mean + 3.0 * variance.sqrt().max(50.0))
                {
                    self.at_decrease = None;
                }
                let more = match near {
                    Some(_) => kbps + (dt / RESPONSE_S).min(1.0) * 0.5 * PACKET_KBIT,
                    None => kbps * ETA.powf(dt.min(1.0)),
                };
                // What is not sent cannot arrive: the bound holds where more is asked for than arrives.
                more.min((OF_ARRIVING * arriving).max(kbps))
            }
        };
        if seen.has_lost() {
            // Section 6: over a tenth lost, half of that is taken off; frames are lost in groups, which is always more.
            next = next.min(kbps * 0.9);
        }
        Some(next)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::published::Published;
    use crate::published::tests::{LINE, over};
    use crate::tryout::AUDIO_KBPS;

    #[test]
    fn it_goes_down_to_most_of_what_arrives_when_the_queue_grows_and_climbs_as_fast_as_the_draft_has_it() {
        let rates = over(&mut Published::<Gradient>::new(4000.0));
        let soon = rates.iter().filter(|(at, _)| *at > LINE.narrow_from_s && *at < LINE.narrow_from_s + 4.0);
        let down = soon.map(|(_, kbps)| *kbps).fold(f64::MAX, f64::min);
        assert!((0.6..0.95).contains(&(down / (LINE.narrow_kbps - AUDIO_KBPS))), "{down}");
        let lowest = rates.iter().map(|(_, kbps)| *kbps).fold(f64::MAX, f64::min);
        let back =
            rates.iter().find(|(at, kbps)| *at > LINE.narrow_until_s && *kbps >= 3990.0).map(|(at, _)| *at).unwrap();
        let took_s = back - LINE.narrow_until_s;
        // No faster than 8 % a second all the way, and no slower than half a packet in a response's time (section 5.5).
        let at_best_s = (4000.0 / lowest).ln() / ETA.ln();
        let at_worst_s = (4000.0 - lowest) / (0.5 * PACKET_KBIT / RESPONSE_S);
        assert!((0.9 * at_best_s..1.1 * at_worst_s).contains(&took_s), "{at_best_s} {took_s} {at_worst_s}");
    }
}
