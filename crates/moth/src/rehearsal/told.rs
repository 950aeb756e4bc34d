//! What a rehearsal came to, in sentences.

use moth_rehearsal::figures::Known;
use moth_store::rehearsals::{Rehearsed, What};

use super::run::{About, Run, says_something};
use crate::system::out;

/// Under what it was found, where that has to be said with every result.
#[must_use]
pub fn caveat(about: &About) -> Option<String> {
    if about.is_made_up {
        return Some(
            "Everything here is made up: broadcaster, line, server and machine are stand-ins, and the tries are short."
                .into(),
        );
    }
    let line = about.simulated.as_ref().map(|shape| format!("The line was simulated, after {shape}."));
    let short =
        about.is_short.then(|| "The tries were shorter than is usual: rare losses may have been missed.".to_owned());
    let both: Vec<String> = line.into_iter().chain(short).collect();
    (!both.is_empty()).then(|| both.join(" "))
}

/// Every sentence there is to say of one that is over, the most important first.
#[must_use]
pub fn sentences(run: &Run) -> Vec<String> {
    let Some(over) = &run.over else { return Vec::new() };
    let mut told = match &over.what {
        What::Climb(finding) => {
            let failed = finding.tries.iter().rev().find(|tried| Some(tried.rung) == finding.lowest_failed);
            let because = failed.and_then(|tried| tried.because.clone());
            let first = [finding.left(), Some(finding.sentence()), because, finding.advice(), finding.sure()];
            let more = [finding.lift().map(str::to_owned), finding.ended()];
            first.into_iter().chain(more).flatten().collect::<Vec<_>>()
        }
        What::Soak(soaked) => {
            let because = soaked.broke.first().and_then(|broke| broke.because.clone());
            let all = [Some(soaked.sentence()), because, soaked.sure(), soaked.ended().map(str::to_owned)];
            all.into_iter().flatten().collect()
        }
    };
    told.extend(compared(run.before.as_ref(), over));
    told.extend(says_something(over).then(|| known(over).words()));
    told.extend(caveat(&run.about));
    told.extend(run.not_kept.as_ref().map(|why| format!("It could not be kept: {why}.")));
    told
}

/// How what was found is known.
fn known(over: &Rehearsed) -> Known {
    match &over.what {
        What::Climb(finding) => finding.known,
        What::Soak(soaked) => soaked.known,
    }
}

/// Beside the one before it of its kind.
#[must_use]
pub fn compared(before: Option<&Rehearsed>, now: &Rehearsed) -> Option<String> {
    let before = before?;
    let date = out::date(before.date);
    match (&before.what, &now.what) {
        (What::Climb(then), What::Climb(now)) => Some(match (then.clean(), now.clean()) {
            (Some(then), Some(now)) if then == now => format!("On {date} it was {} as well.", then.words()),
            (Some(then), _) => format!("On {date} it was {}.", then.words()),
            (None, _) => format!("On {date} no rung was clean."),
        }),
        (What::Soak(then), What::Soak(_)) => Some(format!("On {date}: {}", then.sentence())),
        _ => None,
    }
}
