//! The frame's journey: render → encode → send → ingest, each stage with its budget, what it used, and
//! what it lost.

use serde::{Deserialize, Deserializer, Serialize};

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

/// A stage as it is read back: its words follow from the fault it stands for.
#[derive(Deserialize)]
struct Kept {
    budget: Figure<f64>,
    used: Figure<f64>,
    lost_now: Figure<u64>,
    lost_total: Figure<u64>,
    fault: Fault,
}

impl<'a> Deserialize<'a> for Stage {
    fn deserialize<D: Deserializer<'a>>(from: D) -> Result<Self, D::Error> {
        let Kept { budget, used, lost_now, lost_total, fault } = Kept::deserialize(from)?;
        Ok(Self::new(fault, [budget, used], [lost_now, lost_total]))
    }
}

impl Stage {
    /// The stage that a fault is in, the ingest for [`Fault::None`]: its budget and what it uses of it, and what it lost within
    /// [`crate::facts::NOW`] and since the start.
    #[must_use]
    pub fn new(fault: Fault, [budget, used]: [Figure<f64>; 2], [lost_now, lost_total]: [Figure<u64>; 2]) -> Self {
        let (name, word) = match fault {
            Fault::Rendering => ("render", "lagged"),
            Fault::Encoder => ("encode", "skipped"),
            Fault::Network => ("send", "dropped"),
            Fault::None => ("ingest", "delivered"),
        };
        Self { name, budget, used, lost_now, lost_total, word, fault }
    }

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
            Stage::new(Fault::Network, [budget, used], [lost, lost]).share()
        };
        assert_eq!(share(Some(500.0), Some(2000.0)), Some(0.25));
        assert_eq!(
            (share(None, Some(2000.0)), share(Some(500.0), None), share(Some(1.0), Some(0.0))),
            (None, None, None)
        );
    }
}
