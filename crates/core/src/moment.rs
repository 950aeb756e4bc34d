//! A point in time, as the core knows it.

use std::time::Duration;

use serde::{Deserialize, Serialize};

/// Time since the program began watching, in whole microseconds. The core has no other clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Moment {
    us: u64,
}

impl Moment {
    /// The beginning.
    pub const START: Self = Self { us: 0 };

    /// The moment `duration` after the beginning.
    #[must_use]
    pub fn after(duration: Duration) -> Self {
        Self { us: u64::try_from(duration.as_micros()).unwrap_or(u64::MAX) }
    }

    /// A moment in milliseconds after the beginning.
    #[must_use]
    pub const fn from_ms(ms: u64) -> Self {
        Self { us: ms * 1000 }
    }

    /// Seconds since the beginning.
    #[must_use]
    pub fn seconds(self) -> f64 {
        self.us as f64 / 1e6
    }

    /// Time since `earlier`; zero if `earlier` is later.
    #[must_use]
    pub fn since(self, earlier: Self) -> Duration {
        Duration::from_micros(self.us.saturating_sub(earlier.us))
    }

    /// The moment `duration` before this one, not before the beginning.
    #[must_use]
    pub fn before(self, duration: Duration) -> Self {
        Self { us: self.us.saturating_sub(u64::try_from(duration.as_micros()).unwrap_or(u64::MAX)) }
    }
}
