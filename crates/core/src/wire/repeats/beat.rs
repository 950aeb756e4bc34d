//! Whether something happens at a beat.

/// Events from which a beat is read. Ours.
pub(super) const BEATS: usize = 6;
/// Repeats that come at a beat share a phase: the mean of their phases is longer than chance makes it once in so many tries, all
/// beats that are tried taken together (Rayleigh's test, N. I. Fisher, *Statistical Analysis of Circular Data*, 1993, section
/// 4.3); and never below this, nor above that. Ours.
const ONCE_IN: f64 = 50.0;
const IN_PHASE: (f64, f64) = (0.5, 0.95);

/// Whether what happened at these frames, of so many, happened at a beat.
pub(super) fn has_beat(events: &[f64], frames: f64) -> bool {
    let needed = ((frames * ONCE_IN).ln() / events.len() as f64).sqrt().clamp(IN_PHASE.0, IN_PHASE.1);
    // Every beat from once in the whole time to every second frame, so close to each other that none is missed.
    let beats = (2..=(frames as usize)).map(|n| n as f64 / (2.0 * frames));
    let in_phase = |beat: f64| {
        let turn = std::f64::consts::TAU * beat;
        let (sin, cos) = events.iter().map(|at| (turn * at).sin_cos()).fold((0.0, 0.0), |a, b| (a.0 + b.0, a.1 + b.1));
        f64::hypot(sin, cos) / events.len() as f64
    };
    // Events more than a beat apart in the mean prove no beat: any few lie near some slow one.
    let usual = events.len() as f64 / frames;
    events.len() >= BEATS && beats.filter(|beat| *beat > usual * 0.7).any(|beat| in_phase(beat) > needed)
}
