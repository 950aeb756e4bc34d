//! How bad it is for who watches: new pictures a second, and freezes.

use serde::{Deserialize, Serialize};

use crate::figure::Figure;

/// A gap between pictures that is a freeze, in milliseconds, where one is usually `typical_ms`: W3C, *Identifiers for
/// WebRTC's Statistics API*, `freezeCount`.
#[must_use]
pub fn freeze_from_ms(typical_ms: f64) -> f64 {
    (3.0 * typical_ms).max(typical_ms + 150.0)
}

/// Freezes since the start.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Freezes {
    /// How many.
    pub count: u64,
    /// The longest, in milliseconds.
    pub longest_ms: u64,
    /// All together, in milliseconds.
    pub total_ms: u64,
}

impl Freezes {
    /// Counts a freeze of so many milliseconds.
    pub fn add(&mut self, ms: u64) {
        self.count += 1;
        self.longest_ms = self.longest_ms.max(ms);
        self.total_ms += ms;
    }

    /// These freezes and those of another stretch, together.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self {
            count: self.count + other.count,
            longest_ms: self.longest_ms.max(other.longest_ms),
            total_ms: self.total_ms + other.total_ms,
        }
    }
}

/// What viewers get.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Viewers {
    /// New pictures a second, over [`crate::facts::NOW`].
    pub fps: Figure<f64>,
    /// Pictures a second if none were lost.
    pub full_fps: Figure<f64>,
    /// Freezes since the start.
    pub freezes: Freezes,
    /// Milliseconds without a new picture so far, if that is a freeze.
    pub frozen_ms: Option<u64>,
}
