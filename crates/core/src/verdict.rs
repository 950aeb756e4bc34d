//! What is at fault, held while it holds.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::facts::Facts;
use crate::figure::Origin;
use crate::moment::Moment;
use crate::proposal::Proposal;
use crate::suspects::{Cause, Evidence, Fault, Held, Suspect, suspects};

/// What is at fault, and why.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Verdict {
    /// The most harmful fault, or [`Fault::None`].
    pub fault: Fault,
    /// Its cause, if that can be told.
    pub cause: Option<Cause>,
    /// How sure, from 0 to 1.
    pub confidence: f64,
    /// Since when it stands.
    pub since: Moment,
    /// In a sentence, with its numbers.
    pub sentence: String,
    /// The numbers it rests on, the weightiest first.
    pub evidence: Vec<Evidence>,
    /// What would change this verdict.
    pub would_change: String,
    /// What to do, best first.
    pub proposals: Vec<Proposal>,
    /// Every suspect, the most harmful first; the first is the one above.
    pub suspects: Vec<Suspect>,
}

impl Verdict {
    /// The faults that cost less at the same time.
    #[must_use]
    pub fn others(&self) -> &[Suspect] {
        self.suspects.get(1..).unwrap_or_default()
    }

    /// What to do, best first: about this fault, then about each that costs less at the same time.
    #[must_use]
    pub fn all_proposals(&self) -> Vec<&Proposal> {
        let mut all: Vec<&Proposal> = self.proposals.iter().collect();
        for proposal in self.others().iter().flat_map(|suspect| &suspect.proposals) {
            if !all.iter().any(|known| known.action == proposal.action) {
                all.push(proposal);
            }
        }
        all
    }
}

/// Another cause must have been likelier for this long before it takes a standing one's place: the load on a machine is
/// read once a second, and what ends a trouble is seen before the trouble is seen to end. Ours.
const OUTWEIGHED: Duration = Duration::from_millis(1600);

/// A broadcaster that sends neither picture nor sound for so long, in seconds, has fallen silent: it sends many a second. Ours.
const SILENT_S: f64 = 2.0;

/// Keeps the verdict from one moment to the next.
#[derive(Debug, Clone)]
pub(crate) struct Judge {
    held: Held,
    since: Moment,
    /// Causes that would take a standing one's place, and since when.
    challengers: Vec<(Fault, Option<Cause>, Moment)>,
}

impl Default for Judge {
    fn default() -> Self {
        Self { held: Held::default(), since: Moment::START, challengers: Vec::new() }
    }
}

impl Judge {
    /// One that knows nothing from before then.
    pub(crate) fn beginning(at: Moment) -> Self {
        Self { since: at, ..Self::default() }
    }

    /// What these facts give rise to; a standing cause gives way only to one that lasts.
    fn suspects(&mut self, now: Moment, facts: &Facts) -> Vec<Suspect> {
        self.held.pinned.clear();
        let found = suspects(facts, &self.held);
        let before = std::mem::take(&mut self.challengers);
        for suspect in &found {
            let Some(standing) = self.held.cause(suspect.fault) else { continue };
            if suspect.cause == Some(standing) {
                continue;
            }
            let same = |c: &&(Fault, Option<Cause>, Moment)| (c.0, c.1) == (suspect.fault, suspect.cause);
            let since = before.iter().find(same).map_or(now, |(_, _, since)| *since);
            if now.since(since) < OUTWEIGHED {
                self.held.pinned.push(suspect.fault);
                self.challengers.push((suspect.fault, suspect.cause, since));
            }
        }
        if self.held.pinned.is_empty() { found } else { suspects(facts, &self.held) }
    }

    /// The verdict on these facts as it would be, and nothing is held for it.
    pub(crate) fn would_judge(&self, now: Moment, facts: &Facts) -> Verdict {
        self.clone().judge(now, facts)
    }

    /// The verdict on these facts.
    pub(crate) fn judge(&mut self, now: Moment, facts: &Facts) -> Verdict {
        let suspects = self.suspects(now, facts);
        let fault = suspects.first().map_or(Fault::None, |s| s.fault);
        let cause = suspects.first().and_then(|s| s.cause);
        if (fault, cause) != self.held.standing.first().copied().unwrap_or((Fault::None, None)) {
            self.since = now;
        }
        self.held.standing = suspects.iter().map(|s| (s.fault, s.cause)).collect();
        let first = suspects.first().cloned();
        match first {
            Some(suspect) => Verdict {
                fault,
                cause,
                confidence: suspect.confidence.clamp(0.0, 1.0),
                since: self.since,
                sentence: suspect.sentence,
                evidence: suspect.evidence,
                would_change: suspect.would_change,
                proposals: suspect.proposals,
                suspects,
            },
            None => Verdict {
                fault,
                cause,
                confidence: calm_confidence(facts),
                since: self.since,
                sentence: calm_sentence(facts),
                evidence: calm_evidence(facts),
                would_change: String::new(),
                proposals: Vec::new(),
                suspects,
            },
        }
    }
}

/// How sure one can be that nothing is wrong: dropped frames are counted for certain, skipped ones only
/// inferred, lagged ones only known if the broadcaster tells; and a minute says more than a second.
fn calm_confidence(facts: &Facts) -> f64 {
    if !facts.broadcasting {
        return 0.0;
    }
    let sources = match (facts.lagged, facts.lagged_inferred) {
        (Some(_), None) => 0.98,
        (Some(_), Some(trust)) => 0.9 + 0.05 * trust.weight(),
        (None, _) => 0.9,
    };
    sources * (facts.on_air_s / (facts.on_air_s + 1.0))
}

fn calm_sentence(facts: &Facts) -> String {
    if !facts.broadcasting {
        "Nobody broadcasts.".into()
    } else if facts.silent_s > SILENT_S {
        format!(
            "Neither picture nor sound has come from the broadcaster for {:.0} s: it stands still, or the way to it is broken.",
            facts.silent_s
        )
    } else if !facts.link_up {
        format!("Connecting to {}.", facts.server)
    } else if facts.queue_share() > 0.25 {
        format!("The connection has fallen behind by {:.0} ms; nothing is lost yet.", facts.queue_ms)
    } else if facts.lagged.is_some() && facts.lagged_inferred.is_none() {
        format!("Every frame arrives at {}.", facts.server)
    } else {
        format!("Every frame offered arrives at {}.", facts.server)
    }
}

fn calm_evidence(facts: &Facts) -> Vec<Evidence> {
    if !facts.broadcasting || !facts.link_up || facts.silent_s > SILENT_S {
        return Vec::new();
    }
    vec![Evidence {
        text: format!("{} carried of {} asked, {:.0} ms queued", facts.sent, facts.asked, facts.queue_ms),
        origin: Some(Origin::Measured),
        bans: 1.0,
    }]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figure::Trust;

    #[test]
    fn that_nothing_is_wrong_is_surer_the_more_is_known_and_the_longer_it_was_seen() {
        let sure = |on_air_s, lagged: Option<f64>, lagged_inferred| {
            calm_confidence(&Facts { broadcasting: true, on_air_s, lagged, lagged_inferred, ..Facts::default() })
        };
        let hour = 3600.0;
        let (reported, seen, unknown) =
            (sure(hour, Some(0.0), None), sure(hour, Some(0.0), Some(Trust::Good)), sure(hour, None, None));
        assert!(reported > seen && seen > unknown, "{reported} {seen} {unknown}");
        assert!((0.97..0.98).contains(&reported) && (0.89..0.9).contains(&unknown), "{reported} {unknown}");
        assert!((sure(1.0, Some(0.0), None) - 0.49).abs() < 1e-9, "a second says half of it");
        assert!(seen > sure(hour, Some(0.0), Some(Trust::Poor)));
        let nobody = Facts { on_air_s: hour, lagged: Some(0.0), ..Facts::default() };
        assert_eq!(calm_confidence(&nobody), 0.0, "nobody broadcasts");
    }
}
