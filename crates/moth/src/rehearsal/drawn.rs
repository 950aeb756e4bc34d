//! A climb as plain data to be drawn.

use moth_drawing::climb::{Climb, Outcome, Step, Try};
use moth_rehearsal::climb::Tried;
use moth_rehearsal::finding::ClimbFinding;
use moth_store::rehearsals::{Rehearsed, What};

use crate::measuring::tested::here;

/// One that is kept, with what has to be said with every result; `None` if it is a soak.
#[must_use]
pub(crate) fn climb(rehearsed: &Rehearsed, caveat: Option<String>) -> Option<Climb> {
    let What::Climb(finding) = &rehearsed.what else { return None };
    let said = [finding.advice(), finding.sure(), finding.lift().map(str::to_owned), finding.ended()];
    let notes = said.into_iter().chain([Some(finding.known.words()), caveat]);
    let to = rehearsed.simulated.as_ref().map_or_else(|| rehearsed.server.clone(), |_| "a stand-in server".into());
    Some(Climb {
        of: finding.climb.word().into(),
        steps: steps(finding),
        confirmed: finding.highest_clean,
        sentence: finding.sentence(),
        source: format!("off air, to {to}"),
        began: Some(here(rehearsed.date)),
        notes: notes.flatten().collect(),
    })
}

fn steps(finding: &ClimbFinding) -> Vec<Step> {
    let rungs = finding.rungs.iter().enumerate();
    rungs
        .map(|(rung, value)| {
            let tries = finding.tries.iter().enumerate().filter(|(_, tried)| tried.rung == rung);
            Step { name: value.words(), tries: tries.map(|(n, tried)| one(n + 1, tried)).collect() }
        })
        .collect()
}

fn one(order: usize, tried: &Tried) -> Try {
    let outcome = match (tried.held, tried.at_fault) {
        (true, _) => Outcome::Held,
        (false, Some((fault, cause))) => Outcome::GaveWay { fault, cause },
        (false, None) => Outcome::Unclear,
    };
    // Losses come in runs, so that a share of single frames says nothing of how sure it is.
    Try { order, seconds: tried.seconds as f64, lost_percent: tried.lost * 100.0, between: None, outcome }
}
