//! How the keeper stands, for a screen or a line.

use serde::{Deserialize, Serialize};

use super::{Keeper, Mode};
use crate::figure::{Figure, Origin};
use crate::rate::Bitrate;

/// How the keeper stands.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KeeperView {
    /// What it may do.
    pub mode: Mode,
    /// It rests, because the bitrate was changed by hand.
    pub rests: bool,
    /// What it does and why, in a sentence; empty if it is off.
    pub says: String,
    /// What it holds to be the most the line carries, in kb/s.
    pub estimate_kbps: Figure<f64>,
}

impl Keeper {
    /// How it stands.
    #[must_use]
    pub fn view(&self) -> KeeperView {
        KeeperView {
            mode: self.mode(),
            rests: self.rests(),
            says: self.says().to_owned(),
            estimate_kbps: Figure::maybe(self.estimate().map(Bitrate::kbps), Origin::Inferred),
        }
    }
}
