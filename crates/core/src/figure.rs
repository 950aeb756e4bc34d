//! A number and where it came from.

use serde::{Deserialize, Serialize};

/// How a number is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Origin {
    /// The broadcaster said so.
    Reported,
    /// The moth did it or timed it, or the kernel did.
    Measured,
    /// Read off the wire: likely, not certain.
    Inferred,
}

impl Origin {
    /// The word shown beside the number.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Reported => "reported",
            Self::Measured => "measured",
            Self::Inferred => "inferred",
        }
    }
}

/// How far an inferred number can be trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Trust {
    /// Where it was tried against what really happened, it was within a few percent.
    Good,
    /// The order of magnitude holds; single frames may be missed or made up.
    Fair,
    /// Little more than that something happened.
    #[default]
    Poor,
}

impl Trust {
    /// The word shown beside the number.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Fair => "fair",
            Self::Poor => "poor",
        }
    }

    /// The share of certainty that is left to what rests on it. Our own setting.
    #[must_use]
    pub fn weight(self) -> f64 {
        match self {
            Self::Good => 0.97,
            Self::Fair => 0.85,
            Self::Poor => 0.6,
        }
    }
}

/// A value that may not be had. What cannot be had is shown as not available, never as zero.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Figure<T> {
    /// The value, if there is one.
    pub value: Option<T>,
    /// How it is known, if it is.
    pub origin: Option<Origin>,
}

impl<T> Figure<T> {
    /// Not available.
    pub const UNKNOWN: Self = Self { value: None, origin: None };

    /// A known value.
    #[must_use]
    pub fn known(value: T, origin: Origin) -> Self {
        Self { value: Some(value), origin: Some(origin) }
    }

    /// A value that may be there.
    #[must_use]
    pub fn maybe(value: Option<T>, origin: Origin) -> Self {
        let origin = value.is_some().then_some(origin);
        Self { value, origin }
    }
}
