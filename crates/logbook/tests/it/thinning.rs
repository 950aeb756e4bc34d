//! Of a long broadcast nothing that matters is lost over time.

use crate::common::{about, at, told};
use moth_core::history::{History, Second};
use moth_core::{Moment, State};
use moth_logbook::{Logbook, Pen};

const HOURS: usize = 12;

#[test]
fn every_stall_of_twelve_hours_is_found_a_year_later_and_the_rest_is_small() {
    let dir = tempfile::tempdir().unwrap();
    let mut logbook = Logbook::open(&dir.path().join("logbook.sqlite")).unwrap();
    // An evening of a minute, whose last second goes on with other seconds behind it.
    let model = told(60, |_| false);
    let stalls = [1234, 20_000, 20_001, 43_100];
    let mut history = History::default();
    let mut pen = Pen::new(about("2025-10-02T20:00:00Z[UTC]", "a"));
    for at in 0..HOURS * 3600 {
        let mut second = *model[59].history.get(50).unwrap();
        let wavers = ((at * 7919) % 1000) as f32;
        second.sent_kbps = Some(5900.0 + wavers / 10.0);
        second.rtt_ms = Some(if at == 7000 { 480.0 } else { 20.0 + wavers / 100.0 });
        if stalls.contains(&at) {
            second = Second { dropped: Some(50), state: Some(State::Losing), frozen_ms: Some(900), ..second };
        }
        history.push(second);
        if at % 15 == 0 || at + 1 == HOURS * 3600 {
            let mut snapshot = model[59].clone();
            (snapshot.history, snapshot.at) = (history.clone(), Moment::from_ms(at as u64 * 1000 + 1000));
            pen.take(&snapshot);
            if at % 240 == 0 {
                pen.write(&mut logbook).unwrap();
            }
        }
    }
    pen.end(&mut logbook).unwrap();
    let nr = pen.nr().unwrap();
    let (before, listed) = (logbook.kept(nr).unwrap(), logbook.listed(nr).unwrap());
    let day_after = at("2025-10-03T20:00:00Z[UTC]").timestamp();
    assert!(!logbook.thin_one(day_after).unwrap(), "it is not old");
    let year_after = at("2026-10-02T20:00:00Z[UTC]").timestamp();
    assert!(logbook.thin_one(year_after).unwrap());
    assert!(!logbook.thin_one(year_after).unwrap(), "once");
    logbook.check().unwrap();
    let (after, thinned) = (logbook.kept(nr).unwrap(), logbook.listed(nr).unwrap());
    assert_eq!(after.seconds.len(), HOURS * 3600);
    for stall in stalls {
        assert_eq!(after.seconds[stall - 15..stall + 15], before.seconds[stall - 15..stall + 15], "{stall}");
        // What stood there can be looked at as before.
        let close = Moment::from_ms((stall / 15 * 15) as u64 * 1000 + 1000);
        assert!(logbook.moment(nr, close).unwrap().is_some(), "{stall}");
    }
    assert_eq!(after.seconds[7000].rtt_ms, Some(480.0), "an extreme that cost nothing");
    let sum = |kept: &moth_logbook::Kept| kept.seconds.iter().filter_map(|s| s.sent_kbps).map(f64::from).sum::<f64>();
    assert!((sum(&after) / sum(&before) - 1.0).abs() < 1e-6);
    assert_eq!(thinned.digest.lost, listed.digest.lost);
    assert!(thinned.bytes * 3 < listed.bytes * 2, "{} of {}", thinned.bytes, listed.bytes);
}
