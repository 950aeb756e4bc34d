//! Skipped frames: a picture came before the last one was encoded.

use super::{Case, Cause, Fault, Held, Suspect, frames_lost, likeliest, percent};
use crate::facts::Facts;
use crate::figure::Origin;
use crate::proposal::{Action, Proposal};

/// Fewer skipped frames than this in the window are ordinary: a desktop that scans a disk skips one or two.
const ALARM_FRAMES: f64 = 3.0;
/// A CPU this full leaves work waiting, as a share of all cores.
const CPU_FULL: f64 = 0.9;
/// Another program that takes this share of all cores is worth naming.
const HOG: f64 = 0.25;

pub(super) fn suspect(facts: &Facts, held: &Held) -> Option<Suspect> {
    let lingering = held.has(Fault::Encoder) && facts.skipped_clear > 0.0;
    if facts.skipped < ALARM_FRAMES && !lingering || !facts.skipped_load_known {
        return None;
    }
    let mut preset = Case::new(Cause::PresetHeavy);
    let mut starved = Case::new(Cause::CpuStarved);
    if let (Some(took), Some(budget)) = (facts.encode_ms, facts.interval_ms) {
        let over = took > budget * 0.95;
        let text = format!("a frame takes {took:.1} ms to encode and lasts {budget:.1} ms");
        preset.sign(Origin::Reported, if over { 0.8 } else { -0.6 }, text.clone());
        starved.sign(Origin::Reported, if over { 0.5 } else { -0.4 }, text);
    }
    if let Some(cpu) = facts.cpu {
        let full = cpu > CPU_FULL;
        starved.sign(Origin::Measured, if full { 0.3 } else { -0.9 }, format!("CPU {} in use", percent(cpu)));
    }
    if let (Some((name, share)), Some(cpu)) = (&facts.busiest_other, facts.cpu) {
        let hogged = *share > HOG && cpu > CPU_FULL;
        let text = format!("{name} takes {} of all cores", percent(*share));
        starved.sign(Origin::Measured, if hogged { 1.2 } else { -0.9 }, text.clone());
        preset.sign(Origin::Measured, if hogged { -0.6 } else { 0.2 }, text);
    } else if let (Some(own), Some(cpu)) = (facts.broadcaster_cpu, facts.cpu) {
        let hogged = cpu > CPU_FULL && cpu - own > HOG;
        let text = format!("other programs take {} of all cores", percent((cpu - own).max(0.0)));
        starved.sign(Origin::Measured, if hogged { 1.0 } else { -0.9 }, text.clone());
        preset.sign(Origin::Measured, if hogged { -0.5 } else { 0.3 }, text);
    }

    // An inferred number is never told as fact.
    let known = if facts.skipped_is_inferred { " (inferred from timestamps)" } else { "" };
    let loss = format!("{} skipped{known}", frames_lost(facts.skipped));
    let (cause, confidence, sentence, evidence) = match likeliest(vec![preset, starved], held) {
        Some((case, share)) => {
            let sentence = match (case.cause, &facts.busiest_other) {
                (Cause::CpuStarved, Some((name, taken))) => {
                    format!("{name} takes {} of the CPU the encoder needs: {loss}.", percent(*taken))
                }
                (Cause::CpuStarved, None) => format!("Other programs take the CPU the encoder needs: {loss}."),
                _ => match (facts.encode_ms, facts.interval_ms) {
                    (Some(took), Some(budget)) => {
                        format!("The encoder is too slow: {took:.1} ms for a frame that lasts {budget:.1} ms; {loss}.")
                    }
                    _ => format!("The encoder is too slow for this picture: {loss}."),
                },
            };
            // Skips read off timestamps are likely, not certain.
            (Some(case.cause), 0.97 * share, sentence, case.evidence)
        }
        None => (None, 0.6, format!("The encoder does not keep up: {loss}. Nothing tells why."), Vec::new()),
    };
    let lighter = Proposal {
        action: Action::LighterPreset,
        title: "one step to a lighter encoder preset".into(),
        cost: "picture a little coarser at the same bitrate".into(),
        expected: "each frame takes less time to encode".into(),
        possible: facts.stream.takes_preset,
        dangerous: false,
    };
    let close = facts.busiest_other.as_ref().filter(|_| cause == Some(Cause::CpuStarved)).map(|(name, _)| {
        by_hand(format!("close {name}, or give it a lower priority"), "frames stop being skipped within seconds")
    });
    let rate =
        by_hand("lower the frame rate or the picture size in the broadcaster".into(), "each frame has more time");
    Some(Suspect {
        fault: Fault::Encoder,
        cause,
        confidence,
        harm_frames: facts.skipped,
        sentence,
        evidence,
        proposals: close.into_iter().chain([lighter, rate]).collect(),
    })
}

/// Something the user has to do.
pub(super) fn by_hand(advice: String, expected: &str) -> Proposal {
    Proposal {
        title: advice.clone(),
        action: Action::ByHand { advice },
        cost: "by your own hand".into(),
        expected: expected.into(),
        possible: false,
        dangerous: false,
    }
}
