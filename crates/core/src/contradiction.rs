//! What a snapshot may not say, whatever happens: sentences that its own numbers contradict.
//!
//! The evaluation, the evenings' tests and the runs with real programs look at every snapshot with this.

use std::collections::VecDeque;
use std::time::Duration;

use crate::facts::{CLEAR, NOW};
use crate::moment::Moment;
use crate::snapshot::{Snapshot, State};
use crate::suspects::{Cause, Fault};

/// So long after the last loss of its stage a verdict may stand: [`CLEAR`], and what was read off the wire becomes certain up to
/// this much later. Ours.
const STANDS: Duration = CLEAR.saturating_add(Duration::from_secs(3));

/// Pictures that come so many milliseconds later than a few seconds before are losses to come: less than what a verdict is told of.
/// Ours.
const BEHIND_MS: f64 = 100.0;

/// Where the totals stood at one moment.
#[derive(Debug, Clone, Copy)]
struct Totals {
    at: Moment,
    delivered: u64,
    dropped: u64,
    skipped: u64,
    lagged: u64,
}

/// Looks at one snapshot after another, and says what in them cannot be true.
#[derive(Debug, Clone, Default)]
pub struct Inspector {
    /// The totals of the last seconds, oldest first.
    past: VecDeque<Totals>,
    /// When each stage last lost a frame, or was in a state in which it loses some: network, encoder, rendering.
    lost_at: [Option<Moment>; 3],
}

impl Inspector {
    /// What this snapshot says that is not so; best asked several times a second, in order of time.
    pub fn look(&mut self, snapshot: &Snapshot) -> Vec<String> {
        let mut found = Vec::new();
        self.note(snapshot);
        self.on_sentences(snapshot, &mut found);
        self.on_viewers(snapshot, &mut found);
        self.on_standing(snapshot, &mut found);
        if !(0.0..=1.0).contains(&snapshot.verdict.confidence) {
            found.push(format!("{} sure", snapshot.verdict.confidence));
        }
        if !snapshot.accounts.video.balances() || !snapshot.accounts.audio.balances() {
            found.push(format!("the accounts do not balance: {:?}", snapshot.accounts));
        }
        found.iter_mut().for_each(|text| *text = format!("at {:.1} s: {text}", snapshot.at.seconds()));
        found
    }

    fn note(&mut self, snapshot: &Snapshot) {
        let now = Totals {
            at: snapshot.at,
            delivered: snapshot.accounts.video.delivered,
            dropped: snapshot.accounts.video.dropped,
            skipped: snapshot.skipped.value.unwrap_or(0),
            lagged: snapshot.lagged.value.unwrap_or(0),
        };
        let before = self.past.back().copied();
        let more = |of: fn(&Totals) -> u64| of(&now) > before.as_ref().map_or(0, of);
        // A queue that fills, and a picture that comes ever later, are losses to come.
        let fills = snapshot.state.is_some_and(|state| state != State::Steady);
        let behind = snapshot.wire.behind_ms.is_some_and(|ms| ms > BEHIND_MS);
        for (lost_at, loses) in self.lost_at.iter_mut().zip([
            more(|t| t.dropped) || fills,
            more(|t| t.skipped) || behind,
            more(|t| t.lagged),
        ]) {
            if loses {
                *lost_at = Some(snapshot.at);
            }
        }
        self.past.push_back(now);
        // One from before the window stays, to count from.
        while self.past.get(1).is_some_and(|second| snapshot.at.since(second.at) >= NOW) {
            self.past.pop_front();
        }
    }

    fn on_sentences(&self, snapshot: &Snapshot, found: &mut Vec<String>) {
        let dropped = self.past.back().map_or(0, |now| now.dropped);
        // The first is from before the window.
        let dropped_now = dropped - self.past.get(1).map_or(dropped, |then| then.dropped.min(dropped));
        let (asked, sent) = (snapshot.asked_kbps.value.unwrap_or(0.0), snapshot.sent_kbps.value.unwrap_or(0.0));
        for suspect in &snapshot.verdict.suspects {
            let says = |words: &str| suspect.sentence.contains(words);
            let narrow = !matches!(suspect.cause, Some(Cause::ServerAway | Cause::ServerRefuses));
            if suspect.fault == Fault::Network && narrow && sent >= asked && says(" of the ") && says(" asked") {
                found.push(format!("{sent:.0} of {asked:.0} kb/s are carried, but: {}", suspect.sentence));
            }
            if says("nothing dropped yet") && dropped > 0 || says("nothing dropped in the last") && dropped_now > 0 {
                found.push(format!("{dropped} are dropped, {dropped_now} of them now, but: {}", suspect.sentence));
            }
            if suspect.sentence.contains("-0.0") || suspect.sentence.contains("NaN") {
                found.push(format!("no number: {}", suspect.sentence));
            }
        }
    }

    fn on_viewers(&self, snapshot: &Snapshot, found: &mut Vec<String>) {
        let (Some(fps), Some(from), Some(to)) = (snapshot.viewers.fps.value, self.past.front(), self.past.back())
        else {
            return;
        };
        let Some(since) = snapshot.on_air_since else { return };
        // A newcomer's first second says little, and one looked at seldom is not to be judged.
        let (span, on_air) = (to.at.since(from.at), to.at.since(since));
        if on_air < NOW || span < NOW || span > NOW * 2 {
            return;
        }
        let reached = to.delivered.saturating_sub(from.delivered) as f64 / NOW.as_secs_f64();
        if fps > reached + 1.0 {
            found.push(format!("viewers get {fps:.1} pictures a second of {reached:.1} delivered"));
        }
    }

    fn on_standing(&self, snapshot: &Snapshot, found: &mut Vec<String>) {
        let stages = [Fault::Network, Fault::Encoder, Fault::Rendering];
        for (fault, lost_at) in stages.into_iter().zip(self.lost_at) {
            let stands = snapshot.verdict.suspects.iter().find(|suspect| suspect.fault == fault);
            let Some(suspect) = stands else { continue };
            if lost_at.is_none_or(|at| snapshot.at.since(at) > STANDS) {
                found.push(format!("{} stands, and loses nothing: {}", fault.word(), suspect.sentence));
            }
        }
    }
}
