//! What the broadcast itself has carried: a bound, where nothing was measured.

use moth_core::Snapshot;
use moth_core::rate::Bitrate;

/// What was carried counts if it was for so many seconds in a row. Ours: several keyframe intervals.
const STEADY_S: usize = 10;

/// What was carried in the first seconds after a change of servers may still be the one's before. Ours: longer than rates are over.
const SETTLED_S: usize = 3;

/// What the broadcast that is on was carried at the least in its best ten seconds in a row; `None` before there were as many.
fn carried(snapshot: &Snapshot) -> Option<Bitrate> {
    best(snapshot, 0)
}

/// The same, of what went to the server in use.
pub(in crate::terminal) fn carried_to_the_server(snapshot: &Snapshot) -> Option<Bitrate> {
    best(snapshot, snapshot.moved.as_ref().map_or(0, |moved| moved.at.seconds() as usize + SETTLED_S))
}

fn best(snapshot: &Snapshot, since: usize) -> Option<Bitrate> {
    let history = &snapshot.history;
    let sent = |at: usize| history.get(at).and_then(|second| second.sent_kbps);
    let least = |from: usize| (from..from + STEADY_S).try_fold(f32::MAX, |least, at| Some(least.min(sent(at)?)));
    // An hour is enough to know what the line bears.
    let first = history.len().saturating_sub(3600).max(since);
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

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::history::Second;
    use moth_core::moment::Moment;
    use moth_core::{Core, Settings};

    #[test]
    fn of_a_server_only_what_went_to_it_counts() {
        let mut snapshot = Core::new(Settings { servers: vec!["Aldmoor".into()] }).snapshot(Moment::START);
        let mut pass = |kbps: f32, seconds: usize| {
            (0..seconds).for_each(|_| snapshot.history.push(Second { sent_kbps: Some(kbps), ..Second::default() }));
            snapshot.clone()
        };
        let short = pass(6000.0, 10);
        assert_eq!(carried(&short), None, "not ten whole seconds yet");
        pass(6000.0, 10);
        let mut moved = pass(2000.0, 20);
        assert_eq!(carried(&moved), Some(Bitrate::from_kbps(6000)));
        moved.moved = Some(moth_core::snapshot::Moved {
            at: Moment::from_ms(20_000),
            from: "Aldmoor".into(),
            to: "Dunmere".into(),
            gap_ms: 0,
            missing_ms: 0,
        });
        assert_eq!(carried(&moved), Some(Bitrate::from_kbps(6000)), "of the upload it is still true");
        assert_eq!(carried_to_the_server(&moved), Some(Bitrate::from_kbps(2000)));
    }
}
