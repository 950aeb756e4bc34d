//! Skipped frames: a picture came before the last one was encoded; or every picture is encoded, but slower than real
//! time.

use super::cause::{Cause, Fault};
use super::suspect::{Suspect, Weighed};
use super::weighing::{Cases, Held, frames_lost, percent, weigh};
use crate::by_hand::Hand;
use crate::facts::Facts;
use crate::figure::Origin;
use crate::machine_load::MachineLoad;
use crate::proposal::{Proposal, RAISED, half_rate, lighter_preset, smaller_size, to_priority};

/// Fewer skipped frames than this in the window are ordinary: a desktop that scans a disk skips one or two. Ours.
const ALARM_FRAMES: f64 = 3.0;
/// Frames that come this much later than a few seconds ago, in milliseconds, are encoded slower than real time if they come ever
/// later. Ours: ffmpeg's bunches and a desktop's hiccups, measured, stay under 120 ms.
const BEHIND_MS: f64 = 250.0;
/// Frames come ever later if they do by so many milliseconds a second. Ours: ffmpeg's bunches and a desktop's hiccups, measured, do
/// not grow.
const BEHIND_GROWS: f64 = 40.0;
/// A CPU this full leaves work waiting, as a share of all cores. Ours.
pub(super) const CPU_FULL: f64 = 0.9;
/// Another program that takes this share of all cores is worth naming. Ours.
pub(super) const HOG: f64 = 0.25;
/// What takes less than this share of all cores takes nothing that anyone needs. Ours.
pub(super) const IDLE: f64 = 0.1;
/// An encoder block this busy has nothing left, as a share of its time. Ours.
const BLOCK_FULL: f64 = 0.93;
/// A CPU at less than this share of its most frequency, while it is hot, slows down for its heat. Ours.
const SLOWED: f64 = 0.85;
/// So near the temperature at which the machine slows down, in degrees. Ours.
const HOT_CELSIUS: f64 = 3.0;
/// A write that takes longer than this holds up whoever waits for it, in milliseconds: several frames. Ours.
const WRITE_MS: f64 = 80.0;
/// Share of the time in which something waited for a disk that is not ordinary. Ours.
const DISK_PRESSURE: f64 = 0.35;

use Cause::{CpuStarved, Disk, EncoderFull, Heat, PresetHeavy};

pub(super) fn suspect(facts: &Facts, held: &Held) -> Option<Suspect> {
    let is_held = held.has(Fault::Encoder);
    let behind = facts.behind_ms > BEHIND_MS && facts.behind_grows > BEHIND_GROWS
        || is_held && facts.behind_ms > BEHIND_MS && facts.behind_grows > BEHIND_GROWS / 4.0;
    let lingering = is_held && facts.skipped_clear > 0.0;
    if facts.skipped < ALARM_FRAMES && !behind && !lingering || !facts.skipped_load_known {
        return None;
    }
    let finding = weigh(Fault::Encoder, cases(facts), held, facts.skipped_just > 0.0 || behind);
    let cause = finding.cause();
    let slow = facts.due * (facts.behind_grows / 1000.0).clamp(0.0, 1.0);
    // An inferred number is never told as fact.
    let loss = if facts.skipped >= ALARM_FRAMES || !behind {
        let known = if facts.skipped_is_inferred { " (inferred from timestamps)" } else { "" };
        format!("{} skipped{known}", frames_lost(facts.skipped))
    } else {
        format!(
            "pictures come at {} of real time, {:.1} s late by now (inferred from timestamps)",
            percent(1.0 - (facts.behind_grows / 1000.0).clamp(0.0, 1.0)),
            facts.behind_ms / 1000.0
        )
    };
    let trust = if facts.skipped_is_inferred { facts.skipped_trust.weight() } else { 0.99 };
    Some(Suspect {
        fault: Fault::Encoder,
        cause,
        confidence: match finding.told {
            Some((_, share)) => trust * share,
            None => 0.6,
        },
        harm_frames: facts.skipped_mean + slow,
        sentence: sentence(facts, cause, &loss),
        evidence: finding.evidence(),
        would_change: match cause {
            Some(_) => finding.would_change(),
            None => "What the encoder takes for a frame, reported over the feed, would tell.".into(),
        },
        proposals: proposals(facts, cause),
        weighed: finding.weighed,
    })
}

/// Every cause weighed, whether or not anything is lost.
pub(super) fn weighed(facts: &Facts, held: &Held) -> Vec<Weighed> {
    weigh(Fault::Encoder, cases(facts), held, true).weighed
}

fn cases(facts: &Facts) -> Cases {
    let mut cases = Cases::of(&[PresetHeavy, CpuStarved, EncoderFull, Heat, Disk]);
    let machine = &facts.machine;
    if let (Some(took), Some(budget)) = (facts.encode_ms, facts.interval_ms) {
        let over = took > budget * 0.95;
        let text = format!("a frame takes {took:.1} ms to encode and lasts {budget:.1} ms");
        let (preset, others) = if over { (0.8, 0.5) } else { (-0.6, -0.4) };
        cases.sign(
            Origin::Reported,
            &text,
            &[(PresetHeavy, preset), (CpuStarved, others), (EncoderFull, others), (Heat, others)],
        );
        // Who waits for a disk does not count that as encoding.
        cases.sign(Origin::Reported, &text, &[(Disk, if over { -0.2 } else { 0.5 })]);
    }
    if let Some(speed) = facts.speed.filter(|speed| *speed < 0.97) {
        let text = format!("the broadcaster encodes {speed:.2} s of picture in a second");
        cases.sign(Origin::Reported, &text, &[(PresetHeavy, 0.3), (CpuStarved, 0.2), (EncoderFull, 0.2), (Heat, 0.2)]);
    }
    cpu(facts, &mut cases);
    match machine.gpu_encode {
        Some(busy) if busy > BLOCK_FULL => {
            let text = format!("the GPU's encoder block is {} busy", percent(busy));
            cases.sign(
                Origin::Measured,
                &text,
                &[(EncoderFull, 1.9), (PresetHeavy, -0.6), (CpuStarved, -0.5), (Heat, -0.5), (Disk, -0.4)],
            );
        }
        Some(busy) => {
            let text = format!("the GPU's encoder block is {} busy", percent(busy));
            cases.sign(Origin::Measured, &text, &[(EncoderFull, -1.8)]);
        }
        None => cases.unknown("no GPU tells how busy its encoder block is", &[(EncoderFull, -1.2)]),
    }
    heat(facts, &mut cases);
    disk(facts, &mut cases);
    cases
}

/// Who has the CPU.
fn cpu(facts: &Facts, cases: &mut Cases) {
    let machine = &facts.machine;
    if let Some(cpu) = machine.cpu {
        let full = cpu > CPU_FULL;
        let text = format!("CPU {} in use", percent(cpu));
        cases.sign(Origin::Measured, &text, &[(CpuStarved, if full { 0.3 } else { -0.9 })]);
        if full {
            cases.sign(Origin::Measured, &text, &[(EncoderFull, -0.2), (Disk, -0.3)]);
        }
    }
    let other = match (&machine.busiest_other, machine.broadcaster_cpu.zip(machine.cpu)) {
        (Some((name, share)), _) => Some((format!("{name} takes {} of all cores", percent(*share)), *share)),
        (None, Some((own, cpu))) => {
            let share = (cpu - own).max(0.0);
            Some((format!("other programs take {} of all cores", percent(share)), share))
        }
        (None, None) => None,
    };
    if let (Some((text, share)), Some(cpu)) = (other, machine.cpu) {
        let hogged = share > HOG && cpu > CPU_FULL;
        let (starved, preset) = if hogged { (1.2, -0.6) } else { (-0.9, 0.2) };
        // A full CPU that others hardly use is the broadcaster's own doing.
        let starved = if share < IDLE { starved - 1.0 } else { starved };
        cases.sign(Origin::Measured, &text, &[(CpuStarved, starved), (PresetHeavy, preset)]);
        if hogged {
            cases.sign(Origin::Measured, &text, &[(Heat, -0.4), (Disk, -0.4), (EncoderFull, -0.4)]);
        }
    }
}

/// Whether the machine slows itself down. Shared with rendering, which it slows down as well.
pub(super) fn is_slowed_by_heat(facts: &Facts, machine: &MachineLoad) -> Option<(bool, String)> {
    let hot = machine.below_limit_celsius().map(|below| below < HOT_CELSIUS);
    let slowed = machine.frequency.map(|share| share < SLOWED);
    let told = [
        machine.celsius.zip(machine.limit_celsius).map(|(at, limit)| format!("{at:.0} °C of {limit:.0} °C")),
        machine.frequency.map(|share| format!("clock at {} of its most", percent(share))),
        (facts.throttled > 0.0).then(|| format!("slowed down {:.0} times in 10 s", facts.throttled)),
    ];
    let text = told.into_iter().flatten().collect::<Vec<_>>().join(", ");
    match (facts.throttled > 0.0, hot, slowed) {
        (true, _, Some(false)) => Some((false, text)),
        (true, _, _) | (_, Some(true), Some(true)) => Some((true, text)),
        (_, None, None) => None,
        _ => Some((false, text)),
    }
}

fn heat(facts: &Facts, cases: &mut Cases) {
    match is_slowed_by_heat(facts, &facts.machine) {
        Some((true, text)) => {
            cases.sign(
                Origin::Measured,
                &text,
                &[(Heat, 2.0), (PresetHeavy, -0.8), (CpuStarved, -0.3), (Disk, -0.3), (EncoderFull, -0.3)],
            );
        }
        Some((false, text)) => cases.sign(Origin::Measured, &text, &[(Heat, -1.8)]),
        None => cases.unknown("no sensor tells of heat", &[(Heat, -1.2)]),
    }
}

fn disk(facts: &Facts, cases: &mut Cases) {
    let (write, pressure) = (facts.machine.disk_write_ms, facts.machine.disk_pressure);
    let slow = write.is_some_and(|ms| ms > WRITE_MS) || pressure.is_some_and(|share| share > DISK_PRESSURE);
    let text = match (write, pressure) {
        (Some(ms), Some(share)) => {
            format!("a write takes {ms:.0} ms, something waits for a disk {} of the time", percent(share))
        }
        (Some(ms), None) => format!("a write to the disk takes {ms:.0} ms"),
        (None, Some(share)) => format!("something waits for a disk {} of the time", percent(share)),
        (None, None) => "how long writes to the disk take is not known".into(),
    };
    if write.is_none() && pressure.is_none() {
        return cases.unknown(&text, &[(Disk, -1.6)]);
    }
    let bans = if slow { 1.6 } else { -1.6 };
    cases.sign(Origin::Measured, &text, &[(Disk, bans)]);
    if slow {
        cases.sign(Origin::Measured, &text, &[(PresetHeavy, -0.6), (CpuStarved, -0.2)]);
    }
}

fn sentence(facts: &Facts, cause: Option<Cause>, loss: &str) -> String {
    match (cause, &facts.machine.busiest_other) {
        (Some(CpuStarved), Some((name, taken))) if *taken >= IDLE => {
            format!("{name} takes {} of the CPU the encoder needs: {loss}.", percent(*taken))
        }
        // It has let go, or they are many: whoever happens to be busiest is not accused.
        (Some(CpuStarved), Some((_, taken))) => format!(
            "Other programs took the CPU the encoder needs, and none of them takes more than {} now: {loss}.",
            percent(*taken)
        ),
        (Some(CpuStarved), None) => format!("Other programs take the CPU the encoder needs: {loss}."),
        (Some(EncoderFull), _) => match &facts.machine.gpu_encode_other {
            Some((name, share)) => {
                format!("The GPU's encoder block is full, and {name} takes {} of it: {loss}.", percent(*share))
            }
            None => format!("The GPU's encoder block has nothing left: {loss}."),
        },
        (Some(Heat), _) => {
            let (_, text) = is_slowed_by_heat(facts, &facts.machine).unwrap_or_default();
            format!("The machine slows itself down for its heat ({text}): {loss}.")
        }
        (Some(Disk), _) => {
            let who =
                facts.machine.disk_busiest.as_ref().map_or(String::new(), |(name, _)| format!(", {name} writes most"));
            format!("The disk holds the broadcaster up{who}: {loss}.")
        }
        (Some(_), _) => match (facts.encode_ms, facts.interval_ms) {
            (Some(took), Some(budget)) if took > budget * 0.95 => {
                format!("The encoder is too slow: {took:.1} ms for a frame that lasts {budget:.1} ms; {loss}.")
            }
            _ => format!("The encoder is too slow for this picture: {loss}."),
        },
        (None, _) => format!("The encoder does not keep up: {loss}. Nothing tells why."),
    }
}

fn proposals(facts: &Facts, cause: Option<Cause>) -> Vec<Proposal> {
    let lighter = lighter_preset(&facts.stream);
    let first = match cause {
        Some(CpuStarved) => {
            let other = facts.machine.busiest_other.as_ref();
            other.map(|(name, taken)| Hand::CloseProgram((*taken >= IDLE).then(|| name.clone())))
        }
        Some(EncoderFull) => {
            Some(Hand::FreeEncoder(facts.machine.gpu_encode_other.as_ref().map(|(name, _)| name.clone())))
        }
        Some(Heat) => Some(Hand::Cool),
        Some(Disk) => Some(Hand::OtherDisk),
        _ => None,
    };
    let priority = (cause == Some(CpuStarved)).then(|| to_priority(RAISED));
    let picture = [half_rate(&facts.stream), smaller_size(&facts.stream)].into_iter().flatten();
    first.map(|hand| hand.proposal()).into_iter().chain([lighter]).chain(priority).chain(picture).collect()
}
