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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figure::Origin;

    #[test]
    fn a_share_is_known_if_both_of_its_sides_are() {
        let share = |used, budget| {
            let figure = |value| Figure::maybe(value, Origin::Measured);
            let (used, budget) = (figure(used), figure(budget));
            let lost = Figure::known(0, Origin::Measured);
            let (name, word, fault) = ("send", "dropped", Fault::Network);
            Stage { name, budget, used, lost_now: lost, lost_total: lost, word, fault }.share()
        };
        assert_eq!(share(Some(500.0), Some(2000.0)), Some(0.25));
        assert_eq!(
            (share(None, Some(2000.0)), share(Some(500.0), None), share(Some(1.0), Some(0.0))),
            (None, None, None)
        );
    }
}
