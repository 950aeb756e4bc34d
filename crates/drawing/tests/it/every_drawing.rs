//! Every drawing there is: on the page, legible, saying what it must, and as it was.

use crate::common::{assert_legible, climb, evening, line, machine, picture, servers, standing, words};
use moth_core::suspects::Fault;
use moth_drawing::evening::Stretch;
use moth_drawing::{Drawing, Format, Theme, climb, comparison, journey, lanes, line, machine, picture, servers, why};

/// Every drawing of a minute and a half.
fn all(theme: Theme) -> Vec<(&'static str, Drawing)> {
    let evening = evening(90);
    let whole = evening.whole();
    let half = |from_s| comparison::Side { evening: &evening, stretch: Stretch { from_s, until_s: from_s + 30.0 } };
    let stood = &evening.verdicts[0];
    vec![
        ("lanes", lanes::draw(&evening, whole, theme)),
        ("journey", journey::draw(&evening, &standing(39.0), theme)),
        ("why", why::draw(&evening, stood, why::around(&evening, stood), theme)),
        ("why-calm", why::draw_calm(&evening, &standing(39.0), Fault::Encoder, whole, theme)),
        ("machine", machine::draw(&evening, &machine(90), whole, theme)),
        ("servers", servers::draw(&servers(), theme)),
        ("line", line::draw(&line(), theme).unwrap()),
        ("picture", picture::draw(&picture(), theme)),
        ("climb", climb::draw(&climb(), theme)),
        ("comparison", comparison::draw(half(0.0), half(30.0), None, theme)),
    ]
}

#[test]
fn everything_is_on_the_page_and_no_text_stands_over_another() {
    for theme in [Theme::Light, Theme::Dark] {
        for (name, drawing) in all(theme) {
            eprintln!("{name}");
            assert_legible(&drawing.svg);
            if let Ok(dir) = std::env::var("MOTH_DRAWINGS") {
                let theme = if theme == Theme::Light { "light" } else { "dark" };
                std::fs::write(format!("{dir}/{name}-{theme}.svg"), &drawing.svg).unwrap();
            }
        }
    }
}

#[test]
fn each_can_be_a_pdf() {
    for (name, drawing) in all(Theme::Light) {
        let pdf = drawing.bytes(Format::Pdf).unwrap();
        assert!(pdf.starts_with(b"%PDF-") && pdf.len() > 4000, "{name}: {} bytes", pdf.len());
    }
}

/// Without the typeface, which says nothing about the drawing.
#[test]
fn they_are_as_they_were() {
    for (name, drawing) in all(Theme::Light) {
        let (before, rest) = drawing.svg.split_once("<style>").unwrap();
        let (_, after) = rest.split_once("</style>").unwrap();
        insta::assert_snapshot!(name, format!("{before}{after}"));
    }
}

#[test]
fn each_says_what_is_to_be_seen_with_its_numbers() {
    let drawings = all(Theme::Light);
    let said = |name: &str| words(&drawings.iter().find(|(known, _)| *known == name).unwrap().1.svg);
    for (name, expected) in [
        (
            "journey",
            &[
                "Frames are lost by the network; the connection is losing",
                "2 100 of 2 000 ms",
                "868 dropped",
                "124 of them in the last 3 s",
                "lagged not available",
                "Aldmoor",
            ][..],
        ),
        (
            "why",
            &[
                "Network: the bitrate is over the line, 93 % sure",
                "93 % \u{a0}the bitrate is over the line",
                "3 250 kb/s carried of 6 160 kb/s asked (measured)",
                "against",
                "▪▪▪",
                "never known here",
                "Next likeliest",
            ],
        ),
        ("why-calm", &["Encoder: nothing is lost", "a frame takes 8.1 ms"]),
        (
            "machine",
            &[
                "vault-sync took up to 52 % of all cores of this machine",
                "lanternist, at most 28 %",
                "vault-sync, at most 52 %",
                "vault-sync, at most 3 400 kb/s",
                "95 at most",
            ],
        ),
        (
            "servers",
            &["Aldmoor", "holds", "tight", "short", "failed", "planned 6 160", "with headroom 8 213", "stand-ins"],
        ),
        ("line", &["a deep buffer", "22 ms idle", "ms bufferbloat", "run 2", "stall", "To try first:"]),
        ("picture", &["▸", "◆", "bits/pixel", "1920x1080", "60 frames/s"]),
        (
            "climb",
            &[
                "4 000 kb/s is held; at 4 500 kb/s the network gives way",
                "▸ 4 000 kb/s",
                "not tried",
                "network: the bitrate is over the line",
                "The line was simulated",
            ],
        ),
        ("comparison", &["A lost 0.00 % of its frames, B 35.56 %", "35.56 %: 640 of 1 800", "median 6 150"]),
    ] {
        let said = said(name);
        for words in expected {
            assert!(said.contains(words), "{name}: {words} in {said}");
        }
    }
}

#[test]
fn what_is_not_there_is_said_and_nothing_is_made_up() {
    let empty = moth_drawing::evening::Evening::default();
    assert!(lanes::draw(&empty, empty.whole(), Theme::Light).svg.contains("Nothing was broadcast"));
    let machine = moth_drawing::load::Machine::default();
    let svg = machine::draw(&empty, &machine, empty.whole(), Theme::Light).svg;
    assert!(svg.contains("Nothing of its load was known"));
    let mut nothing = line();
    nothing.runs.clear();
    assert!(line::draw(&nothing, Theme::Light).is_none());
    let side = comparison::Side { evening: &empty, stretch: empty.whole() };
    assert!(comparison::draw(side, side, None, Theme::Light).svg.contains("no frames to compare"));
}

#[test]
fn names_in_any_script_leave_the_rest_as_it_is() {
    for name in ["Орион", "Ωρίων", "東京", "مرحبا", "🦋 moth"] {
        let mut evening = evening(90);
        evening.server = name.into();
        evening.source = format!("an evening at {name}");
        let drawing = journey::draw(&evening, &standing(39.0), Theme::Light);
        assert!(words(&drawing.svg).contains(name), "{name} is in the SVG, whatever shows it");
        assert_legible(&drawing.svg);
        assert!(drawing.bytes(Format::Pdf).unwrap().len() > 4000, "{name}");
    }
}
