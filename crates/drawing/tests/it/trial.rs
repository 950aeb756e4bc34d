//! What came of a change, drawn: from a broadcast that was told to the core.

use crate::common::{assert_legible, labels, points, words};
use crate::show::{Now, Show};
use moth_core::Bitrate;
use moth_core::action::Action;
use moth_core::reading::Observation;
use moth_core::trial::Trial;
use moth_drawing::evening::Evening;
use moth_drawing::{Format, Theme, trial};
use roxmltree::Document;

/// Half a minute of losses, a lower bitrate, and what came of it.
fn lowered(afterwards: &Now) -> (Evening, Trial) {
    let mut show = Show::new();
    show.run(20, &Now::default());
    let short = Now { carried_kbps: 4000, dropped_per_second: 10, queue_ms: 1900.0, ..Now::default() };
    show.run(30, &short);
    let action = Action::SetBitrate { video: Bitrate::from_kbps(3500) };
    show.tell(Observation::Acted { action, failed: None, back: None });
    let snapshot = show.run(45, afterwards);
    let history = &snapshot.history;
    let seconds = (0..history.len()).map(|n| *history.get(n).unwrap()).collect();
    let evening = Evening { seconds, queue_limit_ms: 2000.0, source: "a broadcast".into(), ..Evening::default() };
    (evening, snapshot.newest_trial().unwrap().clone())
}

/// Lengths of the two bars of a row, the hollow one first.
fn bars(document: &Document<'_>, name: &str) -> [f64; 2] {
    let row = labels(document).into_iter().find(|label| label.text == name).unwrap().baseline;
    let near = |y: f64| (row - 20.0..row + 12.0).contains(&y);
    let mut hollow = document.descendants().filter(|node| node.has_tag_name("polyline")).map(points);
    let hollow = hollow.find(|points| points.len() == 5 && near(points[0].1) && near(points[2].1)).unwrap();
    let full = document.descendants().filter(|node| node.has_tag_name("rect"));
    let full =
        full.filter(|node| near(crate::common::number(*node, "y") / 10.0) && crate::common::number(*node, "x") > 0.0);
    let full = full.map(|node| crate::common::number(node, "width") / 10.0).next().unwrap();
    [hollow[1].0 - hollow[0].0, full]
}

#[test]
fn a_change_that_helped_shows_both_sides_to_one_scale() {
    let (evening, trial) = lowered(&Now { carried_kbps: 3600, ..Now::default() });
    assert!(trial.less_points.is_some_and(|(least, _)| least > 0.0), "{trial:?}");
    for theme in [Theme::Light, Theme::Dark] {
        assert_legible(&trial::draw(&evening, &trial, theme).svg);
    }
    let drawing = trial::draw(&evening, &trial, Theme::Light);
    let document = Document::parse(&drawing.svg).unwrap();
    let said = words(&drawing.svg).replace('\n', " ");
    for expected in [
        "Less lost by",
        "with 95 % confidence.",
        "changed at 00:50",
        "hollow: ",
        &format!("{:.1} %", trial.before.lost_percent()),
    ] {
        assert!(said.contains(expected), "{expected} in {said}");
    }
    assert!(said.contains(trial.words()), "what it came to is in the title: {said}");
    assert!(!said.contains("skipped"), "losses that it is not about have no lane");
    let [before, after] = bars(&document, "carried");
    let measured = trial.before.sent_kbps / trial.after.sent_kbps;
    assert!((before / after - measured).abs() < 0.01, "{before} to {after}, {measured} times");
    let [before, after] = bars(&document, "lost");
    assert!(before > 50.0 && after <= 1.0, "nothing is lost since: {before} and {after}");
    assert!(drawing.bytes(Format::Pdf).unwrap().starts_with(b"%PDF-"));
}

#[test]
fn a_change_that_did_not_help_is_not_drawn_as_if_it_had() {
    let (evening, trial) =
        lowered(&Now { carried_kbps: 4000, dropped_per_second: 10, queue_ms: 1900.0, ..Now::default() });
    let drawing = trial::draw(&evening, &trial, Theme::Light);
    let said = words(&drawing.svg).replace('\n', " ");
    let document = Document::parse(&drawing.svg).unwrap();
    let [before, after] = bars(&document, "lost");
    assert!((before - after).abs() < 1.0, "as much is lost since: {before} and {after}");
    assert!(said.contains(": no less may be lost at all"), "{said}");
    assert!(!trial.words().contains("helped"), "{}", trial.words());
}
