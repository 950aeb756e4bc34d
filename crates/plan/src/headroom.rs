//! Headroom: the share of a line that is left free.

use std::fmt;

use moth_core::rate::Bitrate;
use serde::{Deserialize, Serialize};

/// The share of a line that is left free. It is written in percent wherever people write it, and is a share in every sum: as a
/// type, the one is not taken for the other.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct Headroom {
    /// From 0 to [`MOST_PERCENT`]; anything else only as read from a file, until that is checked.
    percent: f64,
}

/// No more may be left free, in percent. Ours: with less than a tenth there is no broadcast.
pub const MOST_PERCENT: f64 = 90.0;

impl Headroom {
    /// Nothing is left free.
    pub const NONE: Self = Self { percent: 0.0 };

    /// In percent, as it is written.
    #[must_use]
    pub const fn of_percent(percent: f64) -> Self {
        Self { percent }
    }

    /// In percent.
    #[must_use]
    pub fn percent(self) -> f64 {
        self.percent
    }

    /// Whether it is one that may be.
    #[must_use]
    pub fn is_valid(self) -> bool {
        self.percent.is_finite() && (0.0..=MOST_PERCENT).contains(&self.percent)
    }

    /// More of it by so many percent of the line, or less, within what may be.
    #[must_use]
    pub fn more_by(self, percent: f64) -> Self {
        Self { percent: (self.percent + percent).clamp(0.0, MOST_PERCENT) }
    }

    /// As a share, from 0 to 1.
    #[must_use]
    pub fn share(self) -> f64 {
        (self.percent / 100.0).clamp(0.0, 1.0)
    }

    /// What is left of a line to be used.
    #[must_use]
    pub fn leaves_of(self, line: Bitrate) -> Bitrate {
        line.scaled(1.0 - self.share())
    }

    /// What a line must carry so that this is left free of it beside a broadcast.
    #[must_use]
    pub fn needed_for(self, broadcast: Bitrate) -> Bitrate {
        broadcast.scaled(1.0 / (1.0 - self.share()).max(1.0 - MOST_PERCENT / 100.0))
    }
}

impl fmt::Display for Headroom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} %", self.percent)
    }
}

impl Serialize for Headroom {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_f64(self.percent)
    }
}

impl<'de> Deserialize<'de> for Headroom {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        f64::deserialize(from).map(Self::of_percent)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_quarter_free_leaves_three_and_needs_four_thirds() {
        let quarter = Headroom::of_percent(25.0);
        assert_eq!(quarter.leaves_of(Bitrate::from_kbps(8000)), Bitrate::from_kbps(6000));
        assert_eq!(quarter.needed_for(Bitrate::from_kbps(6000)), Bitrate::from_kbps(8000));
        assert_eq!(quarter.to_string(), "25 %");
        assert_eq!(Headroom::of_percent(0.0).needed_for(Bitrate::from_kbps(6000)), Bitrate::from_kbps(6000));
    }

    #[test]
    fn it_stays_within_what_may_be_however_often_a_key_is_pressed_and_nonsense_is_none() {
        let all = std::iter::successors(Some(Headroom::of_percent(25.0)), |h| Some(h.more_by(5.0)));
        assert_eq!(all.take(50).last().map(Headroom::percent), Some(MOST_PERCENT));
        assert_eq!(Headroom::of_percent(3.0).more_by(-5.0).percent(), 0.0);
        for percent in [-1.0, 90.1, f64::NAN, f64::INFINITY] {
            assert!(!Headroom::of_percent(percent).is_valid(), "{percent}");
        }
    }
}
