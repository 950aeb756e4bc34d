//! Whether there is a broadcast to look at: a server that takes it, and a broadcaster that stays.

use std::time::Duration;

use moth_core::moment::Moment;
use moth_core::suspects::{Cause, Fault};
use moth_core::{Snapshot, State};

/// A server must take the broadcast within this. Ours.
const TAKEN_WITHIN: Duration = Duration::from_secs(30);
/// A broadcaster that is away for longer is gone: it is run again, or reconnects, sooner. Ours.
pub(crate) const AWAY_WITHIN: Duration = Duration::from_secs(15);

/// What there is before anything is looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Beginning {
    /// No broadcaster yet, or no server that takes it yet.
    NotYet,
    /// A server takes it: steadily or not, as a line that does not bear the setup as it is, is what this is for.
    Taken,
    /// No server will; why, if a verdict says.
    NoServer(Option<String>),
}

impl Beginning {
    pub(crate) fn of(snapshot: &Snapshot) -> Self {
        if snapshot.state.is_some_and(|state| state != State::Dark) {
            return Self::Taken;
        }
        let has_waited = snapshot.on_air_since.is_some_and(|since| snapshot.at.since(since) > TAKEN_WITHIN);
        // What says no will say no again.
        if has_waited || snapshot.verdict.cause == Some(Cause::ServerRefuses) {
            let verdict = &snapshot.verdict;
            return Self::NoServer((verdict.fault != Fault::None).then(|| verdict.sentence.clone()));
        }
        Self::NotYet
    }
}

/// Since when the broadcaster is away, if it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Away(Option<Moment>);

impl Away {
    /// Whether it has been away for longer than this.
    pub(crate) fn is_longer(&mut self, snapshot: &Snapshot, than: Duration) -> bool {
        self.0 = snapshot.on_air_since.is_none().then(|| self.0.unwrap_or(snapshot.at));
        self.0.is_some_and(|since| snapshot.at.since(since) > than)
    }
}
