//! The inspector finds what is put into a snapshot to be found, and nothing in what the core makes.

use crate::show::{Now, Show};
use moth_core::contradiction::Inspector;
use moth_core::{Figure, Moment, Origin, Snapshot};

/// What an inspector says of a line too short, each of whose snapshots a lie is put into.
fn said_of(lie: impl Fn(&mut Snapshot)) -> Vec<String> {
    let short = Now { carried_kbps: 3000, queue_ms: 1900.0, dropped_per_second: 20, rtt_ms: 420.0, ..Now::default() };
    let (mut show, mut inspector, mut said) = (Show::new(), Inspector::default(), Vec::new());
    for second in 0..40 {
        let now = if (10..18).contains(&second) { short.clone() } else { Now::default() };
        let mut snapshot = show.run(1, &now);
        lie(&mut snapshot);
        said.extend(inspector.look(&snapshot));
    }
    said
}

#[test]
fn what_the_core_says_of_a_line_too_short_contradicts_nothing() {
    assert_eq!(said_of(|_| {}), Vec::<String>::new());
}

#[test]
fn a_shortage_where_nothing_is_short_is_found() {
    let said = said_of(|snapshot| snapshot.sent_kbps = Figure::known(9000.0, Origin::Measured));
    assert!(said.iter().any(|text| text.contains("9000 of")), "{said:?}");
}

#[test]
fn viewers_who_get_more_than_is_delivered_are_found() {
    let said = said_of(|snapshot| snapshot.viewers.fps = Figure::known(50.0, Origin::Measured));
    assert!(said.iter().any(|text| text.contains("viewers get 50.0")), "{said:?}");
}

#[test]
fn nothing_dropped_beside_dropped_frames_is_found() {
    let said = said_of(|snapshot| {
        for suspect in &mut snapshot.verdict.suspects {
            suspect.sentence.push_str("; nothing dropped yet.");
        }
    });
    assert!(said.iter().any(|text| text.contains("nothing dropped yet")), "{said:?}");
}

#[test]
fn a_verdict_that_stands_long_after_its_losses_is_found() {
    let kept = std::cell::RefCell::new(None);
    let said = said_of(|snapshot| {
        let mut kept = kept.borrow_mut();
        if snapshot.at > Moment::from_ms(15_000) {
            snapshot.verdict = kept.get_or_insert_with(|| snapshot.verdict.clone()).clone();
        }
    });
    assert!(said.iter().any(|text| text.contains("network stands, and loses nothing")), "{said:?}");
}
