//! Line traces: what a line carries, from one twentieth of a second to the next.
//!
//! The families the keeper was tuned on, and others that were written apart from it and looked at only afterwards.

use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// Values a second. Ours.
pub const PER_SECOND: usize = 20;
/// How long a trace is, in seconds. Ours.
pub const SECONDS: usize = 300;

/// A line trace.
#[derive(Debug, Clone)]
pub struct Trace {
    /// Its family.
    pub family: &'static str,
    /// What the keeper had to do with others of the family.
    pub set: Set,
    /// A steady line, with spikes shorter than the queue.
    pub is_steady: bool,
    /// What the line carries, in kb/s.
    pub kbps: Vec<f64>,
    /// How much the narrow place buffers, in milliseconds at its first rate.
    pub buffer_ms: f64,
    /// The video bitrate the broadcast was set to, in kb/s.
    pub ceiling_kbps: f64,
}

impl Trace {
    /// What the line carries at a time, in kb/s.
    #[must_use]
    pub fn at(&self, seconds: f64) -> f64 {
        self.kbps.get((seconds * PER_SECOND as f64) as usize).or(self.kbps.last()).copied().unwrap_or(0.0)
    }

    /// What it carried on the mean in the `span` before a time, both in seconds, in kb/s.
    #[must_use]
    pub fn mean(&self, seconds: f64, span: f64) -> f64 {
        let index = |seconds: f64| ((seconds.max(0.0) * PER_SECOND as f64) as usize).min(self.kbps.len());
        let values = &self.kbps[index(seconds - span)..index(seconds)];
        values.iter().sum::<f64>() / values.len().max(1) as f64
    }
}

/// What the keeper had to do with a family.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Set {
    /// It was tuned on others of it.
    Known,
    /// It was written apart from the keeper, and no constant was chosen on it.
    HeldOut,
    /// It was published by others, to try controllers with.
    Published,
}

impl Set {
    /// Of a family.
    #[must_use]
    pub fn of(family: &str) -> Self {
        match family {
            family if KNOWN.contains(&family) => Self::Known,
            family if PUBLISHED.contains(&family) => Self::Published,
            _ => Self::HeldOut,
        }
    }
}

/// The families the keeper was tuned on.
pub const KNOWN: [&str; 8] = [
    "steady with spikes",
    "step down",
    "down and up again",
    "slow fade",
    "wireless bursts",
    "competing uploads",
    "outages",
    "daily cable pattern",
];

/// The families held out.
pub const HELD_OUT: [&str; 4] = ["changing regimes", "wandering", "many small senders", "mobile cells"];

/// Families that others have published: test cases for congestion control (RFC 8867, sections 5.1 and 5.2), for a broadcast that asks for
/// what the media there ask for at most, half as much again as the reference capacity, and three quarters of a flow's share of it.
pub const PUBLISHED: [&str; 2] = ["variable capacity", "variable capacity, shared"];
/// From so many seconds on, the capacity is so many times the reference (tables 2 and 3 there); the whole takes so long.
const VARIABLE: (&[(f64, f64)], f64) = (&[(0.0, 1.0), (40.0, 2.5), (60.0, 0.6), (80.0, 1.0)], 100.0);
const SHARED: (&[(f64, f64)], f64) = (&[(0.0, 2.0), (25.0, 1.0), (50.0, 1.75), (75.0, 0.5), (100.0, 1.0)], 125.0);
/// The narrow place there buffers 300 ms (section 4.2).
const PUBLISHED_BUFFER_MS: f64 = 300.0;

struct Draw(Pcg64Mcg);

impl Draw {
    fn between(&mut self, low: f64, high: f64) -> f64 {
        if high > low { self.0.random_range(low..high) } else { low }
    }

    fn chance(&mut self, probability: f64) -> bool {
        self.0.random_bool(probability.clamp(0.0, 1.0))
    }

    /// About normal with mean 0 and deviation 1: the sum of twelve even draws.
    fn normal(&mut self) -> f64 {
        (0..12).map(|_| self.between(0.0, 1.0)).sum::<f64>() - 6.0
    }

    /// Exponential, with a mean.
    fn wait(&mut self, mean: f64) -> f64 {
        -mean * self.between(1e-9, 1.0).ln()
    }
}

/// A trace of a family, from a seed.
#[must_use]
pub fn trace(family: &'static str, seed: u64) -> Trace {
    let mut draw = Draw(Pcg64Mcg::seed_from_u64(seed));
    let count = SECONDS * PER_SECOND;
    let ceiling_kbps = draw.between(2500.0, 8000.0);
    let total = ceiling_kbps + 160.0;
    let base = total * draw.between(1.25, 2.2);
    let second = |index: usize| index as f64 / PER_SECOND as f64;
    let is_deep = draw.chance(0.5);
    let buffer_ms = if is_deep { draw.between(300.0, 1200.0) } else { draw.between(20.0, 80.0) };
    let mut kbps = vec![base; count];
    match family {
        "variable capacity" | "variable capacity, shared" => {
            let ((steps, whole_s), reference) =
                if family == PUBLISHED[0] { (VARIABLE, total / 1.5) } else { (SHARED, total / 0.75) };
            // Begun anywhere in it: each broadcast meets it elsewhere.
            let begun = draw.between(0.0, whole_s);
            for (i, value) in kbps.iter_mut().enumerate() {
                let at = (second(i) + begun) % whole_s;
                let ratio = steps.iter().rev().find(|(from, _)| *from <= at).map_or(1.0, |(_, ratio)| *ratio);
                *value = reference * ratio;
            }
        }
        "steady with spikes" => {
            // Each shorter than the queue, and the line has room to catch up before the next.
            let mut at = draw.between(5.0, 20.0);
            while at < SECONDS as f64 {
                let (long, depth) = (draw.between(0.2, 1.4), draw.between(0.0, 0.6));
                fill(&mut kbps, at, at + long, |_| base * depth);
                at += long + draw.between(12.0, 40.0);
            }
        }
        "step down" => {
            let (at, to) = (draw.between(30.0, 150.0), total * draw.between(0.3, 0.95));
            fill(&mut kbps, at, 1e9, |_| to);
        }
        "down and up again" => {
            let mut at = draw.between(20.0, 60.0);
            while at < SECONDS as f64 {
                let (long, to) = (draw.between(20.0, 90.0), total * draw.between(0.3, 0.9));
                fill(&mut kbps, at, at + long, |_| to);
                at += long + draw.between(40.0, 120.0);
            }
        }
        "slow fade" => {
            let (at, long, to) = (draw.between(10.0, 60.0), draw.between(40.0, 150.0), total * draw.between(0.3, 0.8));
            fill(&mut kbps, at, 1e9, |s| base + (to - base) * ((s - at) / long).min(1.0));
        }
        "wireless bursts" => {
            let mut at = draw.between(5.0, 20.0);
            while at < SECONDS as f64 {
                let (long, depth) = (draw.wait(0.8).min(4.0), draw.between(0.05, 0.7));
                fill(&mut kbps, at, at + long, |_| base * depth);
                at += long + draw.wait(12.0).max(1.0);
            }
            for value in &mut kbps {
                *value *= draw.between(0.85, 1.1);
            }
        }
        "competing uploads" => {
            let mut at = draw.wait(40.0);
            while at < SECONDS as f64 {
                let (long, takes) = (draw.between(10.0, 80.0), draw.between(0.3, 0.65));
                // Another sender takes its share within a few round trips.
                fill(&mut kbps, at, at + long, |s| base * (1.0 - takes * ((s - at) / 2.0).min(1.0)));
                at += long + draw.wait(50.0);
            }
        }
        "outages" => {
            let mut at = draw.between(20.0, 80.0);
            while at < SECONDS as f64 {
                let long = draw.between(1.0, 12.0);
                fill(&mut kbps, at, at + long, |_| 0.0);
                at += long + draw.between(50.0, 150.0);
            }
        }
        "daily cable pattern" => {
            // An evening's slow swing, hastened, and a modem that sends in turns.
            let (period, depth, phase) =
                (draw.between(120.0, 280.0), draw.between(0.2, 0.6), draw.between(0.0, std::f64::consts::TAU));
            let middle = total * draw.between(1.0, 1.5);
            for (i, value) in kbps.iter_mut().enumerate() {
                let swing = 1.0 + depth * (second(i) / period * std::f64::consts::TAU + phase).sin();
                *value = middle * swing * draw.between(0.8, 1.2);
            }
        }
        "changing regimes" => {
            let mut at = 0.0;
            while at < SECONDS as f64 {
                let (long, level) = (draw.wait(35.0).max(3.0), total * (0.25 + 0.45 * draw.normal()).exp());
                let wavers = draw.between(0.0, 0.2);
                let jitter: Vec<f64> = (0..64).map(|_| draw.between(1.0 - wavers, 1.0 + wavers)).collect();
                fill(&mut kbps, at, at + long, |s| level * jitter[(s * 10.0) as usize % 64]);
                at += long;
            }
        }
        "wandering" => {
            // An Ornstein–Uhlenbeck process of the logarithm.
            let (pull, shakes) = (1.0 / draw.between(20.0, 80.0), draw.between(0.03, 0.09));
            let middle = (total * draw.between(1.1, 1.6)).ln();
            let (mut level, dt) = (middle, 1.0 / PER_SECOND as f64);
            for value in &mut kbps {
                level += pull * (middle - level) * dt + shakes * dt.sqrt() * draw.normal();
                *value = level.exp();
            }
        }
        "many small senders" => {
            // Heavy-tailed on and off times of ten others behind the same router.
            let line = total * draw.between(1.6, 2.6);
            for _ in 0..10 {
                let takes = line * draw.between(0.02, 0.09);
                let mut at = draw.between(0.0, 30.0);
                while at < SECONDS as f64 {
                    let long = 2.0 * draw.between(0.01, 1.0).powf(-1.0 / 1.4);
                    fill_with(&mut kbps, at, at + long, |value| value - takes);
                    at += long + 6.0 * draw.between(0.01, 1.0).powf(-1.0 / 1.5);
                }
            }
            kbps.iter_mut().for_each(|value| *value = (*value - base + line).max(0.15 * line));
        }
        _ => {
            // A moving transmitter: levels per cell, a fade into each change, and scheduling by the tenth of a second.
            let mut at = 0.0;
            let mut from = total * 1.4;
            while at < SECONDS as f64 {
                let (long, to) = (draw.between(15.0, 60.0), total * draw.between(0.5, 2.2));
                let begin = from;
                fill(&mut kbps, at, at + long, |s| begin + (to - begin) * ((s - at) / 6.0).min(1.0));
                (at, from) = (at + long, to);
            }
            let slots: Vec<f64> = (0..count / 2 + 1).map(|_| draw.between(0.7, 1.3)).collect();
            kbps.iter_mut().enumerate().for_each(|(i, value)| *value *= slots[i / 2]);
        }
    }
    Trace {
        family,
        set: Set::of(family),
        is_steady: family == "steady with spikes",
        kbps,
        buffer_ms: if PUBLISHED.contains(&family) { PUBLISHED_BUFFER_MS } else { buffer_ms },
        ceiling_kbps,
    }
}

/// Every so many seeds of every family.
#[must_use]
pub fn traces(families: &[&'static str], seeds: std::ops::Range<u64>) -> Vec<Trace> {
    families.iter().flat_map(|family| seeds.clone().map(|seed| trace(family, seed))).collect()
}

fn fill(kbps: &mut [f64], from: f64, to: f64, value: impl Fn(f64) -> f64) {
    for (i, place) in kbps.iter_mut().enumerate() {
        let second = i as f64 / PER_SECOND as f64;
        if second >= from && second < to {
            *place = value(second);
        }
    }
}

fn fill_with(kbps: &mut [f64], from: f64, to: f64, value: impl Fn(f64) -> f64) {
    for (i, place) in kbps.iter_mut().enumerate() {
        let second = i as f64 / PER_SECOND as f64;
        if second >= from && second < to {
            *place = value(*place);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all() -> Vec<Trace> {
        [&KNOWN[..], &HELD_OUT, &PUBLISHED].into_iter().flat_map(|families| traces(families, 0..20)).collect()
    }

    #[test]
    fn every_trace_is_whole_and_the_same_again_from_its_seed() {
        for trace in all() {
            assert_eq!(trace.kbps.len(), SECONDS * PER_SECOND, "{}", trace.family);
            assert!(trace.kbps.iter().all(|kbps| kbps.is_finite() && *kbps >= 0.0), "{}", trace.family);
        }
        for family in KNOWN.into_iter().chain(HELD_OUT).chain(PUBLISHED) {
            assert_eq!(trace(family, 7).kbps, trace(family, 7).kbps);
            assert_ne!(trace(family, 7).kbps, trace(family, 8).kbps, "{family}: another seed is another evening");
        }
    }

    #[test]
    fn what_is_called_steady_has_room_but_for_spikes_shorter_than_the_queue() {
        for trace in traces(&["steady with spikes"], 0..40) {
            let total = trace.ceiling_kbps + 160.0;
            let short = |kbps: &f64| *kbps < total;
            let runs = trace.kbps.split(|kbps| !short(kbps));
            let longest = runs.map(<[f64]>::len).max().unwrap_or(0) as f64 / PER_SECOND as f64;
            assert!((0.1..1.5).contains(&longest), "{longest} s");
        }
    }

    #[test]
    fn a_line_is_asked_at_a_time_and_over_a_span_and_its_last_value_stays() {
        let trace = Trace {
            family: "by hand",
            set: Set::Known,
            is_steady: false,
            kbps: [vec![1000.0; PER_SECOND], vec![3000.0; PER_SECOND]].concat(),
            buffer_ms: 0.0,
            ceiling_kbps: 0.0,
        };
        assert_eq!((trace.at(0.5), trace.at(1.0), trace.at(99.0)), (1000.0, 3000.0, 3000.0));
        assert_eq!((trace.mean(2.0, 2.0), trace.mean(2.0, 1.0), trace.mean(1.5, 1.0)), (2000.0, 3000.0, 2000.0));
        assert_eq!(trace.mean(0.0, 1.0), 0.0, "before the beginning there is nothing");
    }

    #[test]
    fn the_published_cases_have_the_steps_they_were_published_with() {
        for (family, ratios, whole_s) in
            [(PUBLISHED[0], [0.6, 1.0, 2.5], 100.0), (PUBLISHED[1], [0.5, 1.0, 1.75], 125.0)]
        {
            let trace = trace(family, 3);
            let total = trace.ceiling_kbps + 160.0;
            let reference = if family == PUBLISHED[0] { total / 1.5 } else { total / 0.75 };
            for ratio in ratios {
                assert!(trace.kbps.iter().any(|kbps| (kbps / reference - ratio).abs() < 1e-9), "{family} {ratio}");
            }
            assert_eq!(trace.at(10.0), trace.at(10.0 + whole_s));
            assert_eq!((trace.set, trace.buffer_ms), (Set::Published, 300.0));
        }
    }

    #[test]
    fn outages_carry_nothing_and_pass_and_a_step_down_stays_down() {
        let dark = |trace: &Trace| trace.kbps.iter().filter(|kbps| **kbps == 0.0).count() as f64 / PER_SECOND as f64;
        for trace in traces(&["outages"], 0..20) {
            assert!((1.0..100.0).contains(&dark(&trace)), "{} s", dark(&trace));
            assert!(trace.at(0.0) > 0.0);
        }
        for trace in traces(&["step down"], 0..20) {
            let falls = trace.kbps.windows(2).filter(|pair| pair[1] < pair[0]).count();
            let rises = trace.kbps.windows(2).filter(|pair| pair[1] > pair[0]).count();
            assert_eq!((falls, rises), (1, 0));
        }
    }
}
