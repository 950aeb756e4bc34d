//! The lanes of a made-up broadcast, read back out of the SVG.

use crate::common::{assert_legible, evening, labels};
use moth_drawing::evening::Evening;
use moth_drawing::{Theme, lanes};
use roxmltree::Document;

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
        "Of 42 000 frames, 840 dropped: 2.0 %",
        "00:00 to 11:40 of a made-up evening, begun 2026-11-26 21:04:10 +01:00",
        "840 in all",
        "60 at worst",
        "873 at most",
        "04:14",
        "bitrate 6 000 → 4 500 kb/s",
        "network, 93 % sure: The line to Aldmoor carries 3 250 of the 6 160 kb/s that are asked of it, & <less>",
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
