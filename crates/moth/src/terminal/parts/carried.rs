//! What the broadcast itself has carried: a bound, where nothing was measured.

use moth_core::Snapshot;
use moth_core::rate::Bitrate;

/// What was carried counts if it was for so many seconds in a row. Ours: several keyframe intervals.
const STEADY_S: usize = 10;

/// What the broadcast that is on carried at the least in its best ten seconds in a row; `None` before there were as many.
pub(in crate::terminal) fn carried(snapshot: &Snapshot) -> Option<Bitrate> {
    let history = &snapshot.history;
    let sent = |at: usize| history.get(at).and_then(|second| second.sent_kbps);
    let least = |from: usize| (from..from + STEADY_S).try_fold(f32::MAX, |least, at| Some(least.min(sent(at)?)));
    // An hour is enough to know what the line bears.
    let first = history.len().saturating_sub(3600);
    let best = (first..history.len().saturating_sub(STEADY_S)).filter_map(least).reduce(f32::max)?;
    Some(Bitrate::from_kbps(best as u64)).filter(|rate| *rate > Bitrate::ZERO)
}

/// The same in a sentence.
pub(in crate::terminal) fn carried_sentence(snapshot: &Snapshot) -> Option<String> {
    let carried = carried(snapshot)?;
    Some(format!(
        "This broadcast was carried at {carried} for {STEADY_S} s and more (measured): the upload has at least that. How much more it has, only a test says, as no more was asked of it."
    ))
}
