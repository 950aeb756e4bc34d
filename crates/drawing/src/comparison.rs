//! Two broadcasts, or two stretches of one, side by side on the same scales.

use moth_core::history::Second;
use moth_core::suspects::Fault;

use crate::evening::{Evening, Lost, Stretch};
use crate::hatch::{self, Hatch};
use crate::over;
use crate::page::{self, Words, page};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::{clock, number, top};
/// Room for what is compared and for the figures, and the height of a bar, in pixels. Ours.
const NAMES: f64 = 118.0;
const VALUES: f64 = 210.0;
const BAR: f64 = 14.0;

/// One side of a comparison.
#[derive(Debug, Clone, Copy)]
pub struct Side<'a> {
    /// The broadcast.
    pub evening: &'a Evening,
    /// Which part of it.
    pub stretch: Stretch,
}

impl Side<'_> {
    fn seconds(&self) -> &[Second] {
        self.evening.within(self.stretch)
    }

    fn words(&self) -> String {
        page::stretch(self.evening, self.stretch)
    }
}

/// Draws two sides; `sentence` is what the comparison comes to, if anybody weighed it.
#[must_use]
pub fn draw(first: Side<'_>, second: Side<'_>, sentence: Option<&str>, theme: Theme) -> Drawing {
    let shares = [first, second].map(|side| {
        let lost = Lost::of(side.seconds());
        (lost.due, lost.percent(lost.all()))
    });
    let title = match (sentence, shares) {
        (Some(sentence), _) => sentence.to_owned(),
        (None, [(0, _), _] | [_, (0, _)]) => "One side has no frames to compare".into(),
        (None, [(_, a), (_, b)]) => format!("A lost {a:.2} % of its frames, B {b:.2} %"),
    };
    let mut notes = vec![
        "Of lost frames the bar is their share of those due. Of a quantity the thin line reaches from its 5th to its 95th percentile \
         over the seconds, the thick one from the 25th to the 75th, and the mark between them is the median."
            .to_owned(),
    ];
    notes.extend(page::how_known(first.evening).into_iter().take(1).map(|known| format!("A. {known}")));
    notes.extend(page::how_known(second.evening).into_iter().take(1).map(|known| format!("B. {known}")));
    let source = format!("A: {}. B: {}.", first.words(), second.words());
    page(theme, &Words { title, source, notes }, |sheet, y| {
        let y = over::draw(sheet, y, [first.seconds(), second.seconds()]);
        body(sheet, y, first, second)
    })
}

/// Rows of both sides; gives where they end.
pub(crate) fn body(sheet: &mut Sheet, mut y: f64, first: Side<'_>, second: Side<'_>) -> f64 {
    let faint = Writing::new(11.0, sheet.theme.faint());
    let lengths = [first, second].map(|side| clock(side.seconds().len() as f64));
    sheet.text(sheet.left(), y + 10.0, faint, &format!("A, hollow: {}; B, full: {}", lengths[0], lengths[1]));
    y += 24.0;
    let sides = [first.seconds(), second.seconds()];
    let kinds: [LostKind; 3] = [
        ("dropped", Fault::Network, |s| s.dropped),
        ("skipped", Fault::Encoder, |s| s.skipped),
        ("lagged", Fault::Rendering, |s| s.lagged),
    ];
    // One scale for all kinds: a single frame must not look like a bad evening.
    let shares = kinds.iter().flat_map(|(_, fault, _)| sides.map(Lost::of).map(|lost| lost.percent(lost.by(*fault))));
    let scale = top(shares.fold(1.0, f64::max));
    for (name, fault, known) in kinds {
        if sides.iter().any(|side| side.iter().any(|s| known(s).is_some())) {
            y = draw_lost(sheet, y, (name, fault, known), sides, scale);
        }
    }
    let quantities: [Quantity; 6] = [
        ("asked", "kb/s", |s| s.asked_kbps),
        ("carried", "kb/s", |s| s.sent_kbps),
        ("queue", "ms", |s| s.queue_ms),
        ("round trip", "ms", |s| s.rtt_ms),
        ("CPU", "%", |s| s.cpu.map(|share| share * 100.0)),
        ("GPU", "%", |s| s.gpu.map(|share| share * 100.0)),
    ];
    for (name, unit, value) in quantities {
        let known = sides.map(|side| sorted(side, value));
        if known.iter().any(|values| !values.is_empty()) {
            y = draw_quantity(sheet, y, (name, unit), &known);
        }
    }
    y
}

/// A quantity: its name, its unit, and how much there was in a second.
type Quantity = (&'static str, &'static str, fn(&Second) -> Option<f32>);

fn sorted(seconds: &[Second], value: fn(&Second) -> Option<f32>) -> Vec<f64> {
    let mut values: Vec<f64> = seconds.iter().filter_map(value).filter(|v| v.is_finite()).map(f64::from).collect();
    values.sort_unstable_by(f64::total_cmp);
    values
}

fn name(sheet: &mut Sheet, y: f64, name: &str, unit: &str) {
    let theme = sheet.theme;
    sheet.text(sheet.left(), y + 17.0, Writing::new(13.0, theme.ink()), name);
    sheet.text(sheet.left(), y + 31.0, Writing::new(10.0, theme.faint()), unit);
}

/// A kind of lost frames: its word, its stage, and how many there were in a second.
type LostKind = (&'static str, Fault, fn(&Second) -> Option<u32>);

fn draw_lost(sheet: &mut Sheet, y: f64, (kind, fault, known): LostKind, sides: [&[Second]; 2], scale: f64) -> f64 {
    let theme = sheet.theme;
    let lost = sides.map(Lost::of);
    let share = lost.map(|lost| lost.percent(lost.by(fault)));
    let (left, right) = (sheet.left() + NAMES, sheet.right() - VALUES);
    name(sheet, y, kind, "% of frames");
    for n in 0..2 {
        let (y0, y1) = (y + n as f64 * (BAR + 4.0), y + n as f64 * (BAR + 4.0) + BAR);
        let x = left + share[n] / scale * (right - left);
        let colour = theme.fault(fault);
        if n == 0 {
            hatch::fill(sheet, (left, y0, x.max(left + 1.0), y1), Hatch::Empty, 5.0, colour);
        } else {
            sheet.filled(left, y0, x.max(left + 1.0), y1, colour);
        }
        let told = if sides[n].iter().any(|s| known(s).is_some()) {
            format!("{:.2} %: {} of {}", share[n], number(lost[n].by(fault) as f64), number(lost[n].due as f64))
        } else {
            "not available".into()
        };
        value(sheet, y1, n, &told);
    }
    axis(sheet, y + 2.0 * BAR + 6.0, scale)
}

/// From nothing to the top of a scale; gives where the next row begins.
fn axis(sheet: &mut Sheet, foot: f64, scale: f64) -> f64 {
    let faint = Writing::new(9.5, sheet.theme.faint());
    let (left, right) = (sheet.left() + NAMES, sheet.right() - VALUES);
    sheet.line(vec![(left, foot), (right, foot)], sheet.theme.rule(), 0.8);
    sheet.text(left, foot + 11.0, faint, "0");
    sheet.text(right, foot + 11.0, faint.at(Anchor::Right), &number(scale));
    foot + 22.0
}

fn value(sheet: &mut Sheet, foot: f64, n: usize, told: &str) {
    let writing = Writing::new(11.5, sheet.theme.ink());
    let x = sheet.right() - VALUES + 12.0;
    sheet.text(x, foot - 3.0, writing.bold(), ["A", "B"][n]);
    sheet.text(x + 16.0, foot - 3.0, writing, &writing.fit(told, VALUES - 28.0));
}

fn draw_quantity(sheet: &mut Sheet, y: f64, (kind, unit): (&str, &str), known: &[Vec<f64>; 2]) -> f64 {
    use moth_plan::measurement::quantile;
    let theme = sheet.theme;
    let most = known.iter().filter_map(|values| values.last()).copied().fold(0.0, f64::max);
    let scale = top(most);
    let (left, right) = (sheet.left() + NAMES, sheet.right() - VALUES);
    let x = |value: f64| left + (value / scale).clamp(0.0, 1.0) * (right - left);
    name(sheet, y, kind, unit);
    for (n, values) in known.iter().enumerate() {
        let foot = y + n as f64 * (BAR + 4.0) + BAR;
        let middle = foot - BAR / 2.0;
        if values.is_empty() {
            value(sheet, foot, n, "not available");
            continue;
        }
        let at = |share: f64| quantile(values, share);
        let (_, colour) = theme.quantity();
        sheet.line(vec![(x(at(0.05)), middle), (x(at(0.95)), middle)], colour, 1.2);
        let (low, high) = (x(at(0.25)), x(at(0.75)).max(x(at(0.25)) + 2.0));
        if n == 0 {
            sheet.filled(low, middle - 4.0, high, middle + 4.0, theme.ground());
            sheet.outline(low, middle - 4.0, high, middle + 4.0, colour, 1.2);
        } else {
            sheet.filled(low, middle - 4.0, high, middle + 4.0, colour);
        }
        sheet.line(vec![(x(at(0.5)), middle - 7.0), (x(at(0.5)), middle + 7.0)], theme.ink(), 2.4);
        let told = |value: f64| number(if value.abs() < 10.0 { value } else { value.round() });
        value(sheet, foot, n, &format!("median {}, {} to {}", told(at(0.5)), told(at(0.05)), told(at(0.95))));
    }
    axis(sheet, y + 2.0 * BAR + 6.0, scale)
}
