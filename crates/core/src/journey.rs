//! The frame's journey: render → encode → send → ingest, each stage with its budget, what it used, and
//! what it lost.

use serde::Serialize;

use crate::figure::Figure;
use crate::suspects::Fault;

/// One stage of the journey.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Stage {
    /// `render`, `encode`, `send` or `ingest`.
    pub name: &'static str,
    /// What a stage may use: milliseconds, or kb/s at the ingest.
    pub budget: Figure<f64>,
    /// What it uses, in the same unit.
    pub used: Figure<f64>,
    /// Frames it lost within [`crate::facts::NOW`].
    pub lost_now: Figure<u64>,
    /// Frames it lost since the start.
    pub lost_total: Figure<u64>,
    /// The word for a frame lost here: `lagged`, `skipped`, `dropped`; at the ingest the word is
    /// `delivered`, and the count is of those.
    pub word: &'static str,
    /// The fault this stage stands for.
    pub fault: Fault,
}

impl Stage {
    /// The share of the budget in use, if both are known.
    #[must_use]
    pub fn share(&self) -> Option<f64> {
        match (self.used.value, self.budget.value) {
            (Some(used), Some(budget)) if budget > 0.0 => Some(used / budget),
            _ => None,
        }
    }
}
