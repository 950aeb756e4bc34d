//! How the broadcast stands, in one line: for a status bar, or a strip of a terminal.

use std::time::Duration;

use moth_core::figure::Origin;
use moth_core::suspects::Fault;
use moth_core::{Snapshot, State};

use crate::terminal::style::format::clock;
use crate::terminal::style::palette::state_mark;

/// The line: what viewers get with its mark, whose fault it is, what was lost in the last three seconds, how long on air, and where.
#[must_use]
pub fn one_line(snapshot: &Snapshot) -> String {
    let Some(state) = snapshot.viewers_state() else { return format!("{} no broadcaster", state_mark(None)) };
    let mut told = vec![format!("{} {}", state_mark(Some(state)), state.word())];
    let verdict = &snapshot.verdict;
    if verdict.fault != Fault::None {
        let cause = verdict.cause.map_or("cause unknown", |cause| cause.words());
        told.push(format!("{}: {cause}", verdict.fault.word()));
    }
    for other in verdict.others() {
        let cause = other.cause.map_or("cause unknown", |cause| cause.words());
        told.push(format!("also {}: {cause}", other.fault.word()));
    }
    let losses = || snapshot.journey.iter().filter(|stage| stage.fault != Fault::None).map(|stage| stage.lost_now);
    if state == State::Losing {
        let lost: u64 = losses().filter_map(|lost| lost.value).sum();
        let is_inferred = losses().any(|lost| lost.value > Some(0) && lost.origin == Some(Origin::Inferred));
        told.push(format!("{lost} lost in 3 s{}", if is_inferred { " (inferred)" } else { "" }));
    }
    let since = snapshot.on_air_since.map_or(Duration::ZERO, |since| snapshot.at.since(since));
    told.push(format!("on air {}", clock(since)));
    told.push(snapshot.server.clone());
    told.join("  ")
}
