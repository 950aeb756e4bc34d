//! Bitrates, with their unit.

use std::fmt;
use std::time::Duration;

use serde::{Deserialize, Serialize};

/// Bits per second. Shown as `2 250 kb/s` (k is 1000, b is a bit).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Bitrate {
    bits_per_second: u64,
}

impl Bitrate {
    /// Nothing.
    pub const ZERO: Self = Self { bits_per_second: 0 };

    /// From kilobits (1000 bits) per second.
    #[must_use]
    pub const fn from_kbps(kbps: u64) -> Self {
        Self { bits_per_second: kbps.saturating_mul(1000) }
    }

    /// From bits per second.
    #[must_use]
    pub const fn from_bps(bits_per_second: u64) -> Self {
        Self { bits_per_second }
    }

    /// The rate at which `bytes` passed in `span`; zero for an empty span.
    #[must_use]
    pub fn of(bytes: f64, span: Duration) -> Self {
        let seconds = span.as_secs_f64();
        if seconds <= 0.0 {
            Self::ZERO
        } else {
            Self { bits_per_second: (bytes.max(0.0) * 8.0 / seconds).round() as u64 }
        }
    }

    /// Bits per second.
    #[must_use]
    pub const fn bps(self) -> u64 {
        self.bits_per_second
    }

    /// Kilobits per second.
    #[must_use]
    pub fn kbps(self) -> f64 {
        self.bits_per_second as f64 / 1000.0
    }

    /// This rate times a factor.
    #[must_use]
    pub fn scaled(self, factor: f64) -> Self {
        Self { bits_per_second: (self.bits_per_second as f64 * factor.max(0.0)).round() as u64 }
    }

    /// This rate less another, not below zero.
    #[must_use]
    pub fn less(self, other: Self) -> Self {
        Self { bits_per_second: self.bits_per_second.saturating_sub(other.bits_per_second) }
    }

    /// Down to a whole multiple of `step`.
    #[must_use]
    pub fn rounded_down_to(self, step: Self) -> Self {
        let step = step.bits_per_second.max(1);
        Self { bits_per_second: self.bits_per_second / step * step }
    }
}

impl fmt::Display for Bitrate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{} kb/s", grouped(self.bits_per_second.saturating_add(500) / 1000)))
    }
}

/// A whole number with a thin break between thousands, as in `2 250`.
#[must_use]
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shows_its_unit_and_groups_thousands() {
        assert_eq!(Bitrate::from_kbps(2250).to_string(), "2 250 kb/s");
        assert_eq!(Bitrate::from_kbps(160).to_string(), "160 kb/s");
        assert_eq!(grouped(1_234_567), "1 234 567");
    }

    #[test]
    fn counts_bytes_over_time() {
        assert_eq!(Bitrate::of(750_000.0, Duration::from_secs(1)), Bitrate::from_kbps(6000));
        assert_eq!(Bitrate::of(1.0, Duration::ZERO), Bitrate::ZERO);
    }
}
