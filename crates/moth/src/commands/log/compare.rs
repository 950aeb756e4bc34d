//! `moth log compare`: two broadcasts, or two stretches, on equal terms.

use std::fmt::Write;

use moth_core::history::Second;
use moth_core::sentence::capitalised;
use moth_drawing::evening::{Evening, Stretch};
use moth_drawing::ticks::clock;
use moth_drawing::{Format, comparison, export};
use moth_evening::comparison::{Called, Comparison, compare, value};
use serde::Serialize;

use super::Desk;
use super::export::evening;
use crate::cli::Span;
use crate::cli::log::LogCompareOptions;
use crate::drawings::of_a_recording::said;
use crate::failure::{Failure, Outcome};
use crate::logbook::opened::Opened;
use crate::logbook::sides::{Part, Sides};
use crate::system::out;

/// A comparison in JSON.
#[derive(Debug, Serialize)]
struct Told<'a> {
    sentence: &'a str,
    first: Side,
    second: Side,
    seconds: usize,
    confidence: f64,
    differences: Vec<Differs>,
}

#[derive(Debug, Serialize)]
struct Side {
    nr: i64,
    from_s: f64,
    until_s: f64,
    on_air_s: usize,
    asked_kbps: Option<f64>,
}

#[derive(Debug, Serialize)]
struct Differs {
    what: &'static str,
    first: Option<f64>,
    second: Option<f64>,
    more_at_least: Option<f64>,
    more_at_most: Option<f64>,
    told: bool,
}

pub(super) fn run(desk: &Desk<'_>, options: &LogCompareOptions) -> Outcome {
    if let Some(to) = &options.chart {
        Format::of(to)?;
        export::check(to, options.pen.force)?;
    }
    let first = desk.open(&options.first)?;
    let second = options.second.as_ref().map(|given| desk.open(given)).transpose()?;
    let other = second.as_ref().unwrap_or(&first);
    let sides = match options.around {
        Some(at_s) => Sides::around(&first, at_s)?,
        None => {
            let part = |opened: &Opened, span: Option<Span>| {
                Part::of(&opened.seconds, span.map(|span| (span.from_s, span.until_s)))
            };
            Sides::of(&first, part(&first, options.stretch)?, other, part(other, options.against)?)
        }
    };
    let cut = |opened: &Opened, part: Part| -> Vec<Second> { part.cut(&opened.seconds).to_vec() };
    let compared = compare(&cut(&first, sides.parts[0]), &cut(other, sides.parts[1]));
    let sentence = compared.sentence(sides.called());
    if let Some(to) = &options.chart {
        let hide = |evening: Evening| if options.pen.anonymous { evening.anonymous() } else { evening };
        let evenings = [hide(evening(desk, &first, None)?), hide(evening(desk, other, None)?)];
        let side = |n: usize| comparison::Side { evening: &evenings[n], stretch: stretch(sides.parts[n]) };
        // Titles are names as well.
        let told = if options.pen.anonymous { compared.sentence(Called::BY_LETTER) } else { sentence.clone() };
        let drawing = comparison::draw(side(0), side(1), Some(&told), options.pen.theme());
        drawing.write(to, options.pen.force)?;
    }
    if options.json {
        return out::json(&told(&compared, &sentence, &sides, [&first, other]));
    }
    out::text(&text(&compared, &sentence, &sides))?;
    options.chart.as_deref().map_or(Ok(()), said)
}

fn stretch(part: Part) -> Stretch {
    Stretch { from_s: part.from as f64, until_s: part.until as f64 }
}

fn told<'a>(compared: &Comparison, sentence: &'a str, sides: &Sides, opened: [&Opened; 2]) -> Told<'a> {
    let side = |n: usize| Side {
        nr: opened[n].listed.nr,
        from_s: sides.parts[n].from as f64,
        until_s: sides.parts[n].until as f64,
        on_air_s: compared.on_air[n],
        asked_kbps: compared.asked_kbps[n],
    };
    let named: Vec<_> = compared.told().map(|difference| difference.measure).collect();
    let differs = compared.differences.iter().map(|difference| Differs {
        what: difference.measure.slug(),
        first: difference.means[0],
        second: difference.means[1],
        more_at_least: difference.more.map(|more| more.0),
        more_at_most: difference.more.map(|more| more.1),
        told: named.contains(&difference.measure),
    });
    Told {
        sentence,
        first: side(0),
        second: side(1),
        seconds: compared.seconds,
        confidence: 0.95,
        differences: differs.collect(),
    }
}

fn text(compared: &Comparison, sentence: &str, sides: &Sides) -> String {
    let mut text = format!("{sentence}\n\n");
    let _ = writeln!(
        text,
        "A: {}\nB: {}\nBoth for {} on air; with 95 % confidence B has more or less than A:\n",
        sides.words[0],
        sides.words[1],
        clock(compared.seconds as f64)
    );
    if !sides.origins.is_empty() {
        let _ = writeln!(text, "{}.\n", capitalised(&sides.origins.join("; ")));
    }
    for difference in &compared.differences {
        let measure = difference.measure;
        let known = |mean: Option<f64>| mean.map_or_else(|| "not known".into(), |mean| value(measure, mean));
        let [a, b] = difference.means.map(known);
        let mark = if compared.told().any(|told| told.measure == measure) { "◆" } else { " " };
        let _ = writeln!(
            text,
            "{mark} {:<16} {a:>10} {b:>10}  {:<13}  {}",
            measure.words(),
            measure.unit(),
            difference.span()
        );
    }
    text
}

/// Two parts that cannot be compared.
impl From<crate::logbook::sides::NoPart> for Failure {
    fn from(no: crate::logbook::sides::NoPart) -> Self {
        Self::Stretch { length_s: no.length as f64 }
    }
}
