//! How the connection stands, in a word.

use serde::{Deserialize, Serialize};

/// A queue over this share of its limit is no steady one. Ours.
pub(crate) const STRAINED: f64 = 0.25;

/// The connection's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Every frame is delivered in time.
    Steady,
    /// The queue holds more than a quarter of its limit; nothing is lost.
    Strained,
    /// Frames are being dropped.
    Losing,
    /// No server takes the broadcast.
    Dark,
}

impl State {
    /// The word shown, which is also the one in JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Steady => "steady",
            Self::Strained => "strained",
            Self::Losing => "losing",
            Self::Dark => "dark",
        }
    }
}
