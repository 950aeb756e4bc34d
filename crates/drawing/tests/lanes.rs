//! The lanes of a made-up broadcast, read back out of the SVG.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use moth_core::State;
use moth_core::history::Second;
use moth_core::suspects::Fault;
use moth_drawing::evening::{Changed, Evening, Stood};
use moth_drawing::{Format, Theme, lanes, table};
use roxmltree::{Document, Node};

/// A broadcast with a bad stretch, one second of which is far worse than any other.
fn evening(seconds: u32) -> Evening {
    let second = |n: u32| {
        let bad = (seconds / 3..seconds / 3 + 40).contains(&n);
        let worst = n == seconds / 3 + 7;
        Second {
            state: Some(if bad { State::Losing } else { State::Steady }),
            asked_kbps: Some(6160.0),
            sent_kbps: Some(if bad { 3000.0 + (n % 7) as f32 * 90.0 } else { 6150.0 }),
            queue_ms: Some(if bad { 1900.0 } else { 12.0 }),
            rtt_ms: Some(if worst { 873.0 } else { 21.0 + (n % 5) as f32 }),
            due: Some(60),
            dropped: Some(if worst {
                60
            } else if bad {
                20
            } else {
                0
            }),
            skipped: Some(0),
            lagged: None,
            cpu: Some(0.4),
            ..Second::default()
        }
    };
    let from_s = f64::from(seconds / 3);
    Evening {
        source: "a made-up evening".into(),
        began: Some("2026-11-26T21:04:10+01:00[+01:00]".parse().unwrap()),
        seconds: (0..seconds).map(second).collect(),
        queue_limit_ms: 2000.0,
        verdicts: vec![Stood {
            from_s: from_s + 2.0,
            until_s: from_s + 40.0,
            fault: Fault::Network,
            cause: Some("line-short".into()),
            sentence: "The line carries 3 250 of the 6 160 kb/s that are asked of it, & <less> than that at its worst."
                .into(),
            confidence: 0.93,
        }],
        changes: vec![Changed { at_s: from_s + 21.0, what: "bitrate 6 000 → 4 500 kb/s".into() }],
        known: vec!["skipped frames: inferred".into()],
        unseen: vec!["the pictures are HEVC, which are not looked at".into()],
    }
}

/// What is written, where: its left and right edge, its baseline and size, in pixels.
struct Label {
    text: String,
    left: f64,
    right: f64,
    baseline: f64,
    size: f64,
}

fn number(node: Node<'_, '_>, name: &str) -> f64 {
    node.attribute(name).unwrap_or_else(|| panic!("{name} of {node:?}")).parse().unwrap()
}

fn labels(svg: &Document<'_>) -> Vec<Label> {
    let texts = svg.descendants().filter(|node| node.has_tag_name("text"));
    texts
        .map(|node| {
            let text = node.text().unwrap_or_default().trim().to_owned();
            let size = number(node, "font-size") / 10.0;
            let width = moth_drawing::text_width(&text, size, node.attribute("font-weight") == Some("bold"));
            let x = number(node, "x") / 10.0;
            let left = match node.attribute("text-anchor") {
                Some("end") => x - width,
                Some("middle") => x - width / 2.0,
                _ => x,
            };
            Label {
                text,
                left,
                right: left + width,
                // It is lifted by half the height of an x.
                baseline: number(node, "y") / 10.0 - size * 0.547 / 2.0,
                size,
            }
        })
        .collect()
}

/// Whether a drawing is one that could be printed: everything on the page, no text over another.
fn assert_legible(svg: &str) {
    let document = Document::parse(svg).unwrap();
    let root = document.root_element();
    let (width, height) = (number(root, "width"), number(root, "height"));
    let labels = labels(&document);
    assert!(labels.len() > 10);
    for label in &labels {
        let is_inside =
            label.left >= 0.0 && label.right <= width && label.baseline <= height && label.baseline >= label.size;
        assert!(is_inside, "{} is off the page", label.text);
    }
    for (n, one) in labels.iter().enumerate() {
        for other in &labels[n + 1..] {
            let beside = one.right <= other.left || other.right <= one.left;
            // Of a letter's height most is above its baseline.
            let apart = (one.baseline - other.baseline).abs() >= 0.8 * one.size.min(other.size);
            assert!(beside || apart, "{} stands over {}", one.text, other.text);
        }
    }
    for node in document.descendants().filter(|node| node.has_tag_name("rect") || node.has_tag_name("line")) {
        for (name, most) in [("x", width), ("x1", width), ("x2", width), ("y", height), ("y1", height), ("y2", height)]
        {
            if let Some(at) = node.attribute(name) {
                let at: f64 = at.parse().unwrap();
                assert!((0.0..=most * 10.0).contains(&at), "{name} of {node:?}");
            }
        }
    }
}

#[test]
fn everything_is_on_the_page_and_nothing_stands_over_another() {
    for theme in [Theme::Light, Theme::Dark] {
        for seconds in [1, 45, 700, 8 * 3600] {
            let evening = evening(seconds);
            assert_legible(&lanes::draw(&evening, evening.whole(), theme).svg);
        }
    }
    let empty = Evening::default();
    let drawing = lanes::draw(&empty, empty.whole(), Theme::Light);
    assert!(drawing.svg.contains("Nothing was broadcast"));
}

#[test]
fn what_was_lost_and_changed_is_told_with_its_numbers() {
    let evening = evening(700);
    let svg = lanes::draw(&evening, evening.whole(), Theme::Light).svg;
    let document = Document::parse(&svg).unwrap();
    let said: Vec<String> = labels(&document).into_iter().map(|label| label.text).collect();
    let all = said.join("\n");
    for expected in [
        "Of 42\u{a0}000 frames, 840 dropped: 2.0 %",
        "00:00 to 11:40 of a made-up evening, begun 2026-11-26 21:04:10 +01:00",
        "840 in all",
        "60 at worst",
        "873 at most",
        "04:14",
        "bitrate 6 000 → 4 500 kb/s",
        "network, 93 % sure: The line carries 3 250 of the 6 160 kb/s that are asked of it, & <less>",
        "the machine's load; skipped frames: inferred.",
        "Not seen: the pictures are HEVC",
    ] {
        assert!(all.contains(expected), "{expected} in {all}");
    }
    assert!(!said.contains(&"lagged".to_owned()), "what was never known has no lane");
}

#[test]
fn an_extreme_of_one_second_is_still_seen_after_eight_hours() {
    let evening = evening(8 * 3600);
    let svg = lanes::draw(&evening, evening.whole(), Theme::Light).svg;
    assert!(svg.len() < 1 << 20, "{} bytes", svg.len());
    assert!(svg.contains("873 at most") && svg.contains("60 at worst"));
    if let Ok(dir) = std::env::var("MOTH_DRAWINGS") {
        let small = self::evening(700);
        for (name, theme) in [("light", Theme::Light), ("dark", Theme::Dark)] {
            let drawing = lanes::draw(&small, small.whole(), theme);
            std::fs::write(format!("{dir}/{name}.svg"), &drawing.svg).unwrap();
            std::fs::write(format!("{dir}/{name}.pdf"), drawing.bytes(Format::Pdf).unwrap()).unwrap();
        }
        std::fs::write(format!("{dir}/long.svg"), &svg).unwrap();
    }
}

#[test]
fn a_file_is_written_whole_or_not_at_all_and_replaced_only_if_wanted() {
    let dir = tempfile::tempdir().unwrap();
    let evening = evening(60);
    let drawing = lanes::draw(&evening, evening.whole(), Theme::Light);
    for name in ["lanes.svg", "lanes.pdf"] {
        let path = dir.path().join(name);
        drawing.write(&path, false).unwrap();
        let written = std::fs::read(&path).unwrap();
        assert!(written.starts_with(if name.ends_with("svg") { b"<svg" } else { b"%PDF" }));
        let error = drawing.write(&path, false).unwrap_err().to_string();
        assert!(error.contains("is there already") && error.contains("--force"), "{error}");
        std::fs::write(&path, "something else").unwrap();
        drawing.write(&path, true).unwrap();
        assert_eq!(std::fs::read(&path).unwrap().len(), written.len());
    }
    let nowhere = dir.path().join("none").join("lanes.svg");
    assert!(drawing.write(&nowhere, false).unwrap_err().to_string().contains("cannot be written"));
    assert!(
        drawing.write(&dir.path().join("lanes.txt"), false).unwrap_err().to_string().contains("neither .svg nor .pdf")
    );
    assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 2, "nothing else is left");
}

#[test]
fn tables_have_a_row_a_second_and_what_was_not_known_is_empty() {
    let evening = evening(300);
    let csv = String::from_utf8(table::csv(&evening).unwrap()).unwrap();
    let rows: Vec<Vec<&str>> = csv.lines().map(|line| line.split(',').collect()).collect();
    assert_eq!(rows.len(), 301);
    let column = |name: &str| rows[0].iter().position(|column| *column == name).unwrap_or_else(|| panic!("{name}"));
    let cell = |second: usize, name: &str| rows[second + 1][column(name)];
    assert_eq!(cell(107, "dropped_frames"), "60");
    assert_eq!(cell(107, "rtt_ms"), "873.0");
    assert_eq!(cell(107, "cpu_percent"), "40.0");
    assert_eq!((cell(107, "fault"), cell(107, "cause"), cell(99, "fault")), ("network", "line-short", ""));
    assert_eq!(cell(107, "lagged_frames"), "", "it was never known");
    assert_eq!((cell(50, "time_utc"), cell(50, "local_offset")), ("2026-11-26T20:05:00Z", "+01:00"));
    assert_eq!(cell(121, "change"), "bitrate 6 000 → 4 500 kb/s");
    // At its documented place, each column is described.
    let documented = include_str!("../../../docs/tables.md");
    for name in &rows[0] {
        assert!(documented.contains(&format!("`{name}`")), "docs/tables.md describes `{name}`");
    }
    let lines = String::from_utf8(table::json_lines(&evening).unwrap()).unwrap();
    let kinds = |kind: &str| lines.lines().filter(|line| line.starts_with(&format!("{{\"kind\":\"{kind}\","))).count();
    assert_eq!((kinds("second"), kinds("verdict"), kinds("change")), (300, 1, 1));
    assert!(lines.contains("\"lagged_frames\":null"));
}
