//! Weighs the evidence for and against causes.
//!
//! Evidence is weighed in bans (I. J. Good, *Probability and the Weighing of Evidence*, 1950): a weight
//! of +1 makes a suspect ten times likelier, −1 ten times less likely, and independent weights add up.
//! The weights are our own, chosen so that one strong sign outweighs two weak ones, and tried on the
//! seeded evenings; the figures they rest on are in each file.

use super::cause::{Cause, Fault};
use super::suspect::{Evidence, Weighed};
use crate::figure::Origin;

/// What weighing came to.
pub(super) struct WeighedCauses {
    /// The likeliest cause and how likely it is; `None` if nothing is clear.
    pub(super) told: Option<(Cause, f64)>,
    pub(super) weighed: Vec<Weighed>,
}

impl WeighedCauses {
    pub(super) fn cause(&self) -> Option<Cause> {
        self.told.map(|(cause, _)| cause)
    }

    /// The evidence of the cause that was told.
    pub(super) fn evidence(&self) -> Vec<Evidence> {
        let told = self.weighed.first().filter(|_| self.told.is_some());
        told.map(|weighed| weighed.evidence.clone()).unwrap_or_default()
    }

    /// What speaks most for the runner-up, if anything does.
    pub(super) fn would_change(&self) -> String {
        let Some(second) = self.weighed.get(1) else { return String::new() };
        let against = second.evidence.iter().find(|e| e.bans < 0.0);
        match against {
            Some(evidence) => format!(
                "Next likeliest: {} ({}). Against it: {}; were that otherwise, it would be weighed again.",
                second.cause.words(),
                percent(second.share),
                evidence.text
            ),
            None => format!("Next likeliest: {} ({}).", second.cause.words(), percent(second.share)),
        }
    }
}

/// A candidate cause while evidence is gathered.
pub(super) struct Case {
    pub(super) cause: Cause,
    pub(super) lead: f64,
    pub(super) evidence: Vec<Evidence>,
}

impl Case {
    pub(super) fn new(cause: Cause) -> Self {
        Self { cause, lead: 0.0, evidence: Vec::new() }
    }

    /// Adds a sign, if there is one.
    pub(super) fn sign(&mut self, origin: impl Into<Option<Origin>>, bans: f64, text: impl Into<String>) {
        self.evidence.push(Evidence { text: text.into(), origin: origin.into(), bans });
    }

    pub(super) fn bans(&self) -> f64 {
        self.lead + self.evidence.iter().map(|e| e.bans).sum::<f64>()
    }
}

/// A cause already in the verdict starts with this lead, in bans, so that a figure that wavers about a
/// threshold does not make the verdict waver with it. Ours.
const HELD_LEAD: f64 = 0.8;

/// With no new loss, nothing that is weighed outweighs the cause that stands. Ours.
const KEPT_LEAD: f64 = 20.0;

/// Two causes closer to each other than this, in bans (a factor of two), are not told apart. Ours.
const CLEAR_LEAD: f64 = 0.3;

/// Weighs several cases: which is likeliest and how likely it is among them; none is told if even that has no sign for
/// it, or another is about as likely.
///
/// With no loss newer than a moment, a cause that stands is kept: what is measured now may already be the cure.
pub(super) fn weigh(fault: Fault, Cases(mut cases): Cases, held: &Held, is_fresh: bool) -> WeighedCauses {
    let keep = !is_fresh || held.pinned.contains(&fault);
    if keep && let Some(kept) = cases.iter_mut().find(|case| held.has_cause(fault, case.cause)) {
        kept.lead = KEPT_LEAD;
    }
    for case in cases.iter_mut().filter(|case| held.has_cause(fault, case.cause)) {
        case.lead = case.lead.max(HELD_LEAD);
    }
    let odds = |case: &Case| 10_f64.powf(case.bans());
    let all: f64 = cases.iter().map(&odds).sum();
    cases.sort_by(|a, b| b.bans().total_cmp(&a.bans()));
    let second = cases.get(1).map_or(f64::NEG_INFINITY, Case::bans);
    let told = cases.first().filter(|best| best.bans() > 0.0 && best.bans() - second >= CLEAR_LEAD).map(|best| {
        // The share among the cases, tempered by the odds that it is any of them at all.
        (best.cause, odds(best) / all * (odds(best) / (1.0 + odds(best))))
    });
    let weighed = cases
        .into_iter()
        .map(|mut case| {
            case.evidence.sort_by(|a, b| b.bans.abs().total_cmp(&a.bans.abs()));
            Weighed { cause: case.cause, share: 10_f64.powf(case.bans()) / all, evidence: case.evidence }
        })
        .collect();
    WeighedCauses { told, weighed }
}

/// The cases for several causes.
pub(super) struct Cases(pub(super) Vec<Case>);

impl Cases {
    pub(super) fn of(causes: &[Cause]) -> Self {
        Self(causes.iter().map(|cause| Case::new(*cause)).collect())
    }

    /// One sign and what it weighs for each cause it says something about.
    pub(super) fn sign(&mut self, origin: impl Into<Option<Origin>>, text: &str, weights: &[(Cause, f64)]) {
        let origin = origin.into();
        for (cause, bans) in weights {
            if let Some(case) = self.0.iter_mut().find(|case| case.cause == *cause) {
                case.sign(origin, *bans, text);
            }
        }
    }

    /// Takes that something is not known for a sign with these weights.
    pub(super) fn unknown(&mut self, text: &str, weights: &[(Cause, f64)]) {
        self.sign(None, text, weights);
    }
}

/// What is already in the verdict: it stays until its losses have ended.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Held {
    /// What stands, the most harmful first.
    pub standing: Vec<(Fault, Option<Cause>)>,
    /// Faults whose cause is not to change at this moment.
    pub pinned: Vec<Fault>,
}

impl Held {
    pub(super) fn has(&self, fault: Fault) -> bool {
        self.standing.iter().any(|(held, _)| *held == fault)
    }

    pub(super) fn has_cause(&self, fault: Fault, cause: Cause) -> bool {
        self.standing.contains(&(fault, Some(cause)))
    }

    /// The cause that stands for a fault.
    #[must_use]
    pub fn cause(&self, fault: Fault) -> Option<Cause> {
        self.standing.iter().find(|(held, _)| *held == fault).and_then(|(_, cause)| *cause)
    }
}

/// `12 frames in 3 s`
pub(super) fn frames_lost(frames: f64) -> String {
    let frames = frames.round();
    format!("{frames} frame{} in {} s", if frames == 1.0 { "" } else { "s" }, crate::facts::NOW.as_secs())
}

/// `41 %`
pub(super) fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}
