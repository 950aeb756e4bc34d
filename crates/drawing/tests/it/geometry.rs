//! Lengths and places are what the figures are: read back out of the shapes by the marks of their own axes.

use crate::common::{Label, climb, evening, labels, line, number, picture, points, servers};
use moth_core::history::Second;
use moth_core::suspects::Fault;
use moth_drawing::climb::{Climb, Outcome, Step, Try};
use moth_drawing::evening::{Evening, Stretch};
use moth_drawing::{Theme, climb, comparison, line, picture, servers};
use moth_plan::measurement::quantile;
use proptest::prelude::*;
use roxmltree::Document;

/// A tenth of a pixel is the finest there is; two roundings.
const FINE: f64 = 0.21;

/// What an axis says: where on it a value stands, from the first and the last of its marks.
struct Axis {
    from: (f64, f64),
    to: (f64, f64),
}

impl Axis {
    fn at(&self, value: f64) -> f64 {
        self.from.1 + (value - self.from.0) / (self.to.0 - self.from.0) * (self.to.1 - self.from.1)
    }
}

/// A number as it is written, thousands apart.
fn value(text: &str) -> Option<f64> {
    text.replace([' ', '\u{a0}'], "").parse().ok()
}

/// An axis across, whose marks stand in the middle below it, in the row that begins with these words.
fn across(labels: &[Label], words: &str) -> Axis {
    let row = labels.iter().find(|label| label.text == words).unwrap_or_else(|| panic!("{words}")).baseline;
    let marks: Vec<(f64, f64)> = labels
        .iter()
        .filter(|label| (label.baseline - row).abs() < FINE)
        .filter_map(|label| Some((value(&label.text)?, f64::midpoint(label.left, label.right))))
        .collect();
    assert_eq!(marks.len(), 5, "{words}: {marks:?}");
    Axis { from: marks[0], to: marks[4] }
}

/// Lines of two points.
fn lines(document: &Document<'_>) -> Vec<[(f64, f64); 2]> {
    let all = document.descendants().filter(|node| node.has_tag_name("polyline")).map(points);
    all.filter_map(|points| <[(f64, f64); 2]>::try_from(points).ok()).collect()
}

/// Upright lines of such a length, from left to right as they were drawn.
fn upright(document: &Document<'_>, length: f64) -> Vec<f64> {
    let is =
        |[from, to]: &[(f64, f64); 2]| (from.0 - to.0).abs() < FINE && ((to.1 - from.1).abs() - length).abs() < FINE;
    lines(document).into_iter().filter(is).map(|[from, _]| from.0).collect()
}

/// Left, upper, right and lower edge of every box.
fn boxes(document: &Document<'_>) -> Vec<[f64; 4]> {
    let all = document.descendants().filter(|node| node.has_tag_name("rect"));
    all.map(|node| {
        let [x, y, w, h] = ["x", "y", "width", "height"].map(|name| number(node, name) / 10.0);
        [x, y, x + w, y + h]
    })
    .collect()
}

#[test]
fn a_server_s_band_reaches_to_what_it_carries_and_what_is_planned_goes_through_all() {
    let test = servers();
    let svg = servers::draw(&test, Theme::Light).svg;
    let document = Document::parse(&svg).unwrap();
    let axis = across(&labels(&document), "carried, kb/s");
    // The mark at the end of what is sustained is three pixels higher and lower than a band.
    let (ends, boxes) = (upright(&document, 24.0), boxes(&document));
    let tested: Vec<_> = test.results.iter().filter_map(|result| result.best()).collect();
    assert_eq!((ends.len(), tested.len()), (3, 3), "one that failed has no band");
    for best in tested {
        let sustained = axis.at(best.sustained.kbps());
        assert!(ends.iter().any(|x| (x - sustained).abs() < FINE), "{} at {sustained} of {ends:?}", best.sustained);
        let worst = axis.at(best.p5.kbps());
        let is_firm = |[left, upper, right, lower]: &[f64; 4]| {
            (left - axis.at(0.0)).abs() < FINE && (lower - upper - 18.0).abs() < FINE && (right - worst).abs() < FINE
        };
        assert!(boxes.iter().any(is_firm), "the firm part ends at {}", best.p5);
    }
    let need = test.wanted.headroom.needed_for(test.wanted.planned);
    for rate in [test.wanted.planned, need] {
        let dashes = lines(&document).into_iter().filter(|[from, to]| {
            (from.0 - axis.at(rate.kbps())).abs() < FINE && (from.0 - to.0).abs() < FINE && to.1 - from.1 <= 4.0 + FINE
        });
        assert!(dashes.count() >= 4, "{rate} goes through every band");
    }
}

#[test]
fn every_second_of_a_line_is_as_high_as_it_carried_and_every_round_trip_has_its_dot() {
    let test = line();
    let svg = line::draw(&test, Theme::Light).unwrap().svg;
    let document = Document::parse(&svg).unwrap();
    let labels = labels(&document);
    // Upwards: from 0 to the top, both beside the axis of that name.
    let upwards = |name: &str| {
        let foot = labels.iter().find(|label| label.text == name).unwrap().baseline + 2.0;
        let marks = labels.iter().filter(|label| label.right < 32.0 + 118.0).filter_map(|label| {
            let at = label.baseline - 4.0;
            Some((value(&label.text)?, at)).filter(|_| (foot - 151.0..foot + 1.0).contains(&at))
        });
        let mut marks: Vec<(f64, f64)> = marks.collect();
        marks.sort_unstable_by(|a, b| b.1.total_cmp(&a.1));
        assert_eq!((marks.len(), marks[0].0), (3, 0.0), "{name}: {marks:?}");
        Axis { from: marks[0], to: marks[2] }
    };
    let carried = upwards("carried");
    let foot = carried.at(0.0);
    let heights: Vec<f64> =
        boxes(&document).into_iter().filter(|b| (b[3] - foot).abs() < FINE && b[0] > 100.0).map(|b| b[1]).collect();
    let seconds: Vec<f64> = test.runs.iter().flat_map(|run| &run.carried.per_second).map(|rate| rate.kbps()).collect();
    assert_eq!(heights.len(), seconds.len());
    for (height, kbps) in heights.iter().zip(&seconds) {
        assert!((height - carried.at(*kbps)).abs() < FINE, "{kbps} kb/s stand at {height}");
    }
    let trips = upwards("round trip");
    let mut dots: Vec<f64> = document
        .descendants()
        .filter(|node| node.has_tag_name("circle"))
        .map(|node| number(node, "cy") / 10.0)
        .collect();
    let all = |values: fn(&moth_plan::line::LineRun) -> &Vec<f64>| test.runs.iter().flat_map(values).copied();
    let measured = all(|run| &run.own_ms).chain(all(|run| &run.idle_ms)).chain(all(|run| &run.full_ms));
    let mut expected: Vec<f64> = measured.map(|ms| trips.at(ms)).collect();
    assert_eq!(dots.len(), expected.len(), "none is left out");
    dots.sort_unstable_by(f64::total_cmp);
    expected.sort_unstable_by(f64::total_cmp);
    for (dot, at) in dots.iter().zip(&expected) {
        assert!((dot - at).abs() < FINE, "{dot} instead of {at}");
    }
}

/// A stretch of any figures.
fn any_seconds() -> impl Strategy<Value = Vec<Second>> {
    let second = (0_u32..8, 500.0_f32..9000.0, 1.0_f32..400.0).prop_map(|(dropped, kbps, rtt)| Second {
        due: Some(60),
        dropped: Some(dropped),
        sent_kbps: Some(kbps),
        rtt_ms: Some(rtt),
        ..Second::default()
    });
    proptest::collection::vec(second, 5..200)
}

/// Any climb: steps with tries, of which some gave way.
fn any_climb() -> impl Strategy<Value = Climb> {
    let one = (0.0_f64..20.0, 0.0_f64..1.0, any::<bool>());
    let step = proptest::collection::vec(one, 0..4);
    proptest::collection::vec(step, 1..8).prop_map(|steps| {
        let mut order = 0;
        let mut tried = |(lost, spread, held): (f64, f64, bool)| {
            order += 1;
            let outcome = if held { Outcome::Held } else { Outcome::GaveWay { fault: Fault::Network, cause: None } };
            let between = Some((lost * (1.0 - spread), lost * (1.0 + spread) + 0.1));
            Try { order, seconds: 60.0, lost_percent: lost, between, outcome }
        };
        let step = |(n, tries): (usize, Vec<_>)| Step {
            name: format!("{} 000 kb/s", n + 1),
            tries: tries.into_iter().map(&mut tried).collect(),
        };
        Climb { steps: steps.into_iter().enumerate().map(step).collect(), ..climb() }
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn medians_of_two_sides_stand_where_the_axis_says(a in any_seconds(), b in any_seconds()) {
        let sides = [a, b].map(|seconds| Evening { seconds, ..evening(30) });
        let whole = |evening| comparison::Side { evening, stretch: Evening::whole(evening) };
        let svg = comparison::draw(whole(&sides[0]), whole(&sides[1]), None, Theme::Light).svg;
        let document = Document::parse(&svg).unwrap();
        let labels = labels(&document);
        let medians = upright(&document, 14.0);
        for (name, of) in [("carried", Second::sent_kbps as fn(&Second) -> f64), ("round trip", Second::rtt_ms)] {
            let row = labels.iter().find(|label| label.text == name).unwrap();
            // The scale ends at the number that is right below both bars.
            let top = labels
                .iter()
                .filter(|label| label.baseline > row.baseline && label.baseline < row.baseline + 40.0)
                .filter(|label| (label.size - 9.5).abs() < 0.1)
                .filter_map(|label| Some((value(&label.text)?, label.right)))
                .fold((0.0, 0.0), |most, mark| if mark.0 > most.0 { mark } else { most });
            let axis = Axis { from: (0.0, 32.0 + 118.0), to: top };
            for side in &sides {
                let mut values: Vec<f64> = side.seconds.iter().map(of).collect();
                values.sort_unstable_by(f64::total_cmp);
                let at = axis.at(quantile(&values, 0.5));
                prop_assert!(medians.iter().any(|x| (x - at).abs() < FINE), "{} at {} of {:?}", name, at, medians);
            }
        }
    }

    #[test]
    fn a_try_stands_at_what_was_lost_with_whiskers_as_wide_as_it_is_unsure(climb in any_climb()) {
        let svg = climb::draw(&climb, Theme::Dark).svg;
        let document = Document::parse(&svg).unwrap();
        let axis = across(&labels(&document), "frames lost, %");
        let dots: Vec<f64> = document
            .descendants()
            .filter(|node| node.has_tag_name("circle"))
            .map(|node| number(node, "cx") / 10.0)
            .collect();
        let peaks: Vec<f64> = document
            .descendants()
            .filter(|node| node.has_tag_name("polygon"))
            .map(points)
            .map(|points| points[2].0)
            .collect();
        let ends = upright(&document, 8.0);
        let tries: Vec<&Try> = climb.steps.iter().flat_map(|step| &step.tries).collect();
        prop_assert_eq!(dots.len() + peaks.len(), tries.len());
        for tried in tries {
            let marks = if tried.outcome == Outcome::Held { &dots } else { &peaks };
            let (least, most) = tried.between.unwrap();
            for (stands, percent) in [(marks, tried.lost_percent), (&ends, least), (&ends, most)] {
                let at = axis.at(percent);
                // The numbers of this axis are written to a tenth.
                prop_assert!(stands.iter().any(|x| (x - at).abs() < 3.0), "{} % at {} of {:?}", percent, at, stands);
            }
        }
    }
}

#[test]
fn one_picture_is_recommended_and_the_one_that_is_sent_is_marked() {
    let picture = picture();
    let document = picture::draw(&picture, Theme::Light).svg;
    let document = Document::parse(&document).unwrap();
    let (row, column) = picture.map.recommended;
    let labels = labels(&document);
    let head = labels.iter().find(|label| label.text == format!("{} frames/s", picture.map.rates[column])).unwrap();
    let name = labels.iter().find(|label| label.text == picture.map.sizes[row].to_string()).unwrap();
    let marked: Vec<&Label> =
        labels.iter().filter(|label| label.text.starts_with('▸') && !label.text.contains("recommended")).collect();
    assert_eq!(marked.len(), 1);
    // A cell is 44 pixels high at the most and begins half a column left of its head's middle.
    assert!((marked[0].baseline - name.baseline).abs() < 30.0, "in the row of {}", name.text);
    assert!((marked[0].left - f64::midpoint(head.left, head.right)).abs() < 150.0, "below {}", head.text);
    let sent = labels.iter().filter(|label| label.text.contains('◆') && !label.text.contains("sent now"));
    assert_eq!(sent.count(), 1);
}

/// What a column shows of a second.
trait Shown {
    fn sent_kbps(&self) -> f64;
    fn rtt_ms(&self) -> f64;
}

impl Shown for Second {
    fn sent_kbps(&self) -> f64 {
        self.sent_kbps.unwrap().into()
    }

    fn rtt_ms(&self) -> f64 {
        self.rtt_ms.unwrap().into()
    }
}

#[test]
fn a_stretch_beyond_the_end_is_what_there_is_of_it() {
    let evening = evening(60);
    for (from_s, until_s, seconds) in [(-5.0, 4.0, 4), (50.0, 1e9, 10), (70.0, 80.0, 0), (20.0, 10.0, 0)] {
        assert_eq!(evening.within(Stretch { from_s, until_s }).len(), seconds, "{from_s} to {until_s}");
    }
}
