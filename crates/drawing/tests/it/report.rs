//! The pages of a report on a made-up broadcast.

use crate::common::{assert_legible, evening, words};
use moth_core::suspects::{Cause, Fault};
use moth_drawing::evening::Evening;
use moth_drawing::{Paper, report};

/// All pages' words as one text.
fn said(evening: &Evening) -> String {
    let pages = report::draw(evening, Paper::A4);
    pages.iter().map(|page| words(&page.svg).replace('\n', " ")).collect::<Vec<_>>().join(" ")
}

#[test]
fn every_page_is_legible_on_either_paper_and_numbered() {
    for paper in [Paper::A4, Paper::Letter] {
        for seconds in [1, 90, 700, 8 * 3600] {
            let pages = report::draw(&evening(seconds), paper);
            assert!((2..9).contains(&pages.len()), "{} pages", pages.len());
            for (n, page) in pages.iter().enumerate() {
                assert_legible(&page.svg);
                assert!(page.svg.contains(&format!("page {} of {}", n + 1, pages.len())));
            }
            if let Ok(dir) = std::env::var("MOTH_DRAWINGS") {
                let pdf = report::pdf(&evening(seconds), paper).unwrap();
                std::fs::write(format!("{dir}/report-{paper:?}-{seconds}.pdf"), pdf).unwrap();
            }
        }
    }
}

#[test]
fn it_begins_with_what_a_provider_can_check() {
    let said = said(&evening(700));
    for expected in [
        "On 2026-11-26 from 21:04:10 to 21:15:50 +01:00 a live broadcast went to Aldmoor; from 21:08:03 to 21:08:43, 840 of 42 000 \
         video frames (2.0 %) could not be delivered in time and were dropped.",
        "There 3 281 kb/s were acknowledged on the mean and 3 000 kb/s in the lowest second, of 6 160 kb/s that were offered; in the \
         rest of the broadcast it was 6 150 kb/s; the round trip was 23 ms at the median and 873 ms at most, against 23 ms at the \
         median of the rest.",
        "At 21:08:12 the likeliest cause was: the bitrate is over the line (93 % sure), as this was seen: 3 250 kb/s carried of 6 160 \
         kb/s asked.",
        "Whether frames were lagged is not known.",
        "For viewers the picture stood still for 1.4 s in all, for 1 433 ms at the longest.",
        "The network was at fault once, for 00:38 in all",
        "At 21:08:24: bitrate 6 000 → 4 500 kb/s.",
        "Not seen: the pictures are HEVC",
        "a deep buffer",
        "Brackwater-on-the",
        "vault-sync",
    ] {
        assert!(said.contains(expected), "{expected} in {said}");
    }
}

#[test]
fn of_the_broadcasters_own_losses_it_says_that_the_line_had_no_part_in_them() {
    let mut evening = evening(300);
    for second in &mut evening.seconds {
        (second.dropped, second.skipped, second.lagged) = (Some(0), Some(1), Some(0));
        second.state = Some(moth_core::State::Steady);
    }
    evening.verdicts[0].fault = Fault::Encoder;
    evening.verdicts[0].cause = Some(Cause::PresetHeavy);
    evening.verdicts[0].also = vec![(Fault::Rendering, Some(Cause::GpuSaturated))];
    let said = said(&evening);
    for expected in [
        "of its 17 700 video frames none was dropped.",
        "300 frames were lost by the encoder and 0 by the rendering: line and server had no part in that.",
        "The encoder was at fault once",
        "Meanwhile the rendering was at fault as well: the GPU is full.",
    ] {
        assert!(said.contains(expected), "{expected} in {said}");
    }
}

#[test]
fn with_nothing_known_nothing_is_made_up() {
    let said = said(&Evening::default());
    for expected in [
        "Nothing was broadcast.",
        "How much was carried is not known.",
        "Nothing was changed.",
        "Nothing of its load was known.",
        "None that belongs to this broadcast is kept",
    ] {
        assert!(said.contains(expected), "{expected} in {said}");
    }
}

#[test]
fn without_names_none_is_anywhere_in_it() {
    let said = said(&evening(700).anonymous());
    for name in [
        "Aldmoor",
        "Oswin",
        "Brackwater",
        "Thornwick",
        "Greywater",
        "attic0",
        "vault-sync",
        "shader-cache",
        "lanternist",
        "dana",
        "made-up",
    ] {
        assert!(!said.contains(name), "{name} in {said}");
    }
    for expected in ["server A", "program", "words left out", "a recorded broadcast", "840 of 42 000 video frames"] {
        assert!(said.contains(expected), "{expected} in {said}");
    }
}
