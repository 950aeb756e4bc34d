//! That a rehearsal with this setup was cut off.

use moth_store::rehearsals::{Rehearsed, What};

use super::SetupInUse;
use crate::system::out;

/// Says, before anything else is done with a setup, that a rehearsal was cut off, and keeps what it had found.
pub(crate) fn take_up(in_use: &SetupInUse) -> Option<String> {
    let cut_off = in_use.rehearsals.take_up().ok()??;
    Some(words(&cut_off))
}

/// Says that a rehearsal was cut off, and what that left behind.
pub(crate) fn words(cut_off: &Rehearsed) -> String {
    let (found, left) = match &cut_off.what {
        What::Climb(finding) => (finding.sentence(), finding.left()),
        What::Soak(soaked) => (soaked.sentence(), None),
    };
    let left = left.map_or_else(String::new, |left| format!(" {left}"));
    format!("A rehearsal ({}) was cut off on {}: {found}{left}", cut_off.word(), out::date(cut_off.date))
}
