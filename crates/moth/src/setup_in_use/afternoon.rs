//! What the demo's servers and line were measured at in the afternoon before: by the demo itself, with its stand-ins.

use jiff::{SignedDuration, Timestamp};
use moth_store::results::{Kept, Results};

use crate::failure::Failure;

/// Two tests, as the demo kept them when they were made in it.
const MEASURED: &str = include_str!("afternoon.jsonl");
/// The newest is so old. Ours: the afternoon before an evening.
const AGO: SignedDuration = SignedDuration::from_hours(4);

/// Puts them where results are kept.
///
/// # Errors
/// [`Failure`] if that cannot be written.
pub(crate) fn put_in(results: &Results, now: Timestamp) -> Result<(), Failure> {
    let measured: Vec<Kept> = MEASURED.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let Some(newest) = measured.iter().map(|kept| kept.date).max() else { return Ok(()) };
    let fail = |error| Failure::Results { path: results.path().to_owned(), what: "kept", error };
    for mut kept in measured {
        let before = newest.duration_since(kept.date);
        kept.date = now.checked_sub(AGO + before).unwrap_or(kept.date);
        results.add(&kept).map_err(fail)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_afternoon_has_a_test_of_all_servers_and_one_of_the_line() {
        let dir = tempfile::tempdir().unwrap();
        let results = Results::below(dir.path());
        let now: Timestamp = "2026-11-27T20:00:00Z".parse().unwrap();
        put_in(&results, now).unwrap();
        let history = results.read().unwrap();
        assert_eq!((history.kept.len(), history.unread), (2, 0));
        let (kept, servers) = history.newest_routes("nocturne").unwrap();
        assert_eq!(servers.len(), 6);
        assert!(kept.date < now && now.duration_since(kept.date) < SignedDuration::from_hours(5));
        assert!(history.newest_uplink().is_some());
    }
}
