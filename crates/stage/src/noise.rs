//! Seeded wavering, so that no two seconds are alike and every run is the same.

use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// A source of noise for one part of an evening.
#[derive(Debug, Clone)]
pub(crate) struct Noise(Pcg64Mcg);

impl Noise {
    /// Noise for the part called `part`; parts do not disturb each other.
    pub(crate) fn new(seed: u64, part: &str) -> Self {
        // FNV-1a: the standard library's hasher may change from release to release.
        let hash =
            part.bytes().fold(0xcbf2_9ce4_8422_2325_u64, |h, b| (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3));
        Self(Pcg64Mcg::seed_from_u64(seed ^ hash))
    }

    /// Evenly from `low` to `high`.
    pub(crate) fn between(&mut self, low: f64, high: f64) -> f64 {
        if high > low { self.0.random_range(low..high) } else { low }
    }

    /// About `mean`, with a share of deviation: the mean of four even draws, so never far off.
    pub(crate) fn about(&mut self, mean: f64, share: f64) -> f64 {
        let draw: f64 = (0..4).map(|_| self.between(-1.0, 1.0)).sum::<f64>() / 4.0;
        mean * (1.0 + draw * share * 2.0)
    }

    /// True with a probability.
    pub(crate) fn chance(&mut self, probability: f64) -> bool {
        self.0.random_bool(probability.clamp(0.0, 1.0))
    }

    /// Bytes that look like coded picture.
    pub(crate) fn fill(&mut self, bytes: &mut [u8]) {
        self.0.fill(bytes);
    }
}
