//! What is in the data is in the drawing: extremes and times, read back out of its texts and its geometry.

use crate::common::{labels, number, points};
use moth_core::State;
use moth_core::history::Second;
use moth_drawing::evening::{Changed, Evening, Stretch};
use moth_drawing::{Theme, lanes};
use proptest::prelude::*;
use roxmltree::Document;

/// A broadcast of any seconds.
fn evening() -> impl Strategy<Value = Evening> {
    let second = (500.0_f32..6000.0, proptest::option::of(1_u32..4000), 0_u32..60, proptest::bool::weighted(0.02));
    let seconds = proptest::collection::vec(second, 30..4000);
    (seconds, proptest::collection::vec(0.02_f64..0.98, 1..6)).prop_map(|(seconds, changes)| {
        let length = seconds.len() as f64;
        let of = |(kbps, frozen, dropped, is_bad): (f32, Option<u32>, u32, bool)| Second {
            state: Some(if is_bad { State::Losing } else { State::Steady }),
            asked_kbps: Some(6000.0),
            sent_kbps: Some(kbps.round()),
            frozen_ms: Some(if is_bad { frozen.unwrap_or(0) } else { 0 }),
            due: Some(60),
            dropped: Some(if is_bad { dropped } else { 0 }),
            ..Second::default()
        };
        let mut at: Vec<f64> = changes.iter().map(|share| (share * length).round()).collect();
        at.sort_unstable_by(f64::total_cmp);
        at.dedup();
        Evening {
            source: "any evening".into(),
            seconds: seconds.into_iter().map(of).collect(),
            queue_limit_ms: 2000.0,
            changes: at.into_iter().map(|at_s| Changed { at_s, what: "something".into() }).collect(),
            ..Evening::default()
        }
    })
}

/// As numbers are written.
fn grouped(value: u64) -> String {
    moth_core::rate::grouped(value)
}

fn clock(seconds: f64) -> String {
    let all = seconds as u64;
    let (hours, minutes, seconds) = (all / 3600, all / 60 % 60, all % 60);
    if hours > 0 { format!("{hours}:{minutes:02}:{seconds:02}") } else { format!("{minutes:02}:{seconds:02}") }
}

/// The dashes of a change that stands there; all have the same place across.
fn has_dashes_at(document: &Document<'_>, x: f64) -> bool {
    let lines = document.descendants().filter(|node| node.has_tag_name("polyline"));
    lines.map(points).filter(|points| points.len() == 2).any(|points| {
        let (from, to) = (points[0], points[1]);
        (from.0 - x).abs() < 0.11 && (to.0 - x).abs() < 0.11 && (to.1 - from.1).abs() <= 4.1
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn the_longest_freeze_the_lowest_rate_and_the_time_of_each_change(evening in evening()) {
        let svg = lanes::draw(&evening, evening.whole(), Theme::Light).svg;
        let document = Document::parse(&svg).unwrap();
        let texts: Vec<String> = labels(&document).into_iter().map(|label| label.text).collect();
        let has = |text: &str| texts.iter().any(|known| known == text);

        let longest = evening.seconds.iter().filter_map(|s| s.frozen_ms).max().unwrap();
        if longest > 0 {
            let told = format!("longest {}", grouped(longest.into()));
            prop_assert!(has(&told), "{} in {:?}", told, texts);
        } else {
            prop_assert!(!has("stood still"), "what never happened has no lane");
        }
        let lowest = evening.seconds.iter().filter_map(|s| s.sent_kbps).fold(f32::INFINITY, f32::min);
        let told = format!("{} lowest", grouped(lowest as u64));
        prop_assert!(has(&told), "{} in {:?}", told, texts);
        let dropped: u64 = evening.seconds.iter().filter_map(|s| s.dropped).map(u64::from).sum();
        let told = format!("{} in all", grouped(dropped));
        prop_assert!(has(&told), "{} in {:?}", told, texts);

        // The axis tells where a time stands: from the first mark to the last.
        let marks: Vec<(f64, f64)> = document
            .descendants()
            .filter(|node| node.has_tag_name("text") && node.attribute("text-anchor") == Some("middle"))
            .filter_map(|node| {
                let mut seconds = 0.0;
                for part in node.text()?.trim().split(':') {
                    seconds = seconds * 60.0 + part.parse::<f64>().ok()?;
                }
                node.text()?.contains(':').then(|| (seconds, number(node, "x") / 10.0))
            })
            .collect();
        let ((t0, x0), (t1, x1)) = (marks[0], marks[marks.len() - 1]);
        prop_assert!(t1 > t0);
        for change in &evening.changes {
            prop_assert!(has(&clock(change.at_s)), "{} in {:?}", change.at_s, texts);
            let x = x0 + (change.at_s - t0) / (t1 - t0) * (x1 - x0);
            prop_assert!(has_dashes_at(&document, x), "a change at {} s stands at {}", change.at_s, x);
        }
    }

    #[test]
    fn a_stretch_holds_its_own_seconds_and_no_others(evening in evening(), from in 0.0_f64..0.5, length in 0.1_f64..0.5) {
        let whole = evening.whole().until_s;
        let stretch = Stretch { from_s: (from * whole).floor(), until_s: ((from + length) * whole).ceil() };
        let svg = lanes::draw(&evening, stretch, Theme::Dark).svg;
        let document = Document::parse(&svg).unwrap();
        let seconds = &evening.seconds[stretch.from_s as usize..stretch.until_s as usize];
        let dropped: u64 = seconds.iter().filter_map(|s| s.dropped).map(u64::from).sum();
        let told = format!("{} in all", grouped(dropped));
        prop_assert!(labels(&document).iter().any(|label| label.text == told), "{}", told);
        let inside = evening.changes.iter().filter(|c| (stretch.from_s..=stretch.until_s).contains(&c.at_s)).count();
        let told = labels(&document).iter().filter(|label| label.text == "something").count();
        prop_assert_eq!(told, inside);
    }
}
