//! The lanes of a broadcast on one time axis, with its verdicts and changes: what was carried, what was lost, and when.

use moth_core::suspects::Fault;

use crate::evening::{Changed, Evening, Lost, Stood, Stretch};
use crate::hatch::{self, Hatch};
use crate::lane::{self, GAP, Lane};
use crate::names::letters;
use crate::page::{self, Words, page};
use crate::sheet::{Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::{clock, number};
use crate::time::Time;

/// Verdicts and changes told below; more are counted. Ours.
const MOST_TOLD: usize = 24;
/// Where their words begin, behind their names and times. Ours.
const TOLD_AT: f64 = 178.0;

/// The lanes there are, from the scene to the server, with the machine below.
fn lanes(evening: &Evening, time: &Time<'_>) -> Vec<Lane> {
    let all = [
        Lane::losses(Fault::Rendering),
        Lane::losses(Fault::Encoder),
        Lane::losses(Fault::Network),
        Lane { name: "stood still", unit: "ms", kind: lane::Kind::Still, height: 34.0 },
        Lane::state(),
        Lane::carried(110.0),
        Lane::quantity("queue", "ms", |s| s.queue_ms, Some(evening.queue_limit_ms.max(1.0)), 54.0),
        Lane::quantity("round trip", "ms", |s| s.rtt_ms, None, 54.0),
        Lane::quantity("CPU", "%", |s| s.cpu.map(|share| share * 100.0), Some(100.0), 44.0),
        Lane::quantity("GPU", "%", |s| s.gpu.map(|share| share * 100.0), Some(100.0), 44.0),
    ];
    all.into_iter().filter(|lane| lane.is_known(time.seconds)).collect()
}

/// Draws a stretch of a broadcast.
#[must_use]
pub fn draw(evening: &Evening, stretch: Stretch, theme: Theme) -> Drawing {
    let mut notes = page::how_known(evening);
    notes.insert(1, page::COLUMNS.into());
    let seconds = evening.within(stretch);
    let from_s = stretch.from_s.max(0.0).floor();
    let drawn = Stretch { from_s, until_s: from_s + seconds.len() as f64 };
    let words = Words { title: title(&Lost::of(seconds)), source: page::stretch(evening, drawn), notes };
    page(theme, &words, |sheet, y| {
        let y = body(sheet, y, evening, stretch, 1.0);
        let mut y = y + 4.0;
        for row in told(evening, stretch) {
            y = row.draw(sheet, y);
        }
        y
    })
}

/// The lanes, so much of their height, and their axis; gives where they end.
pub(crate) fn body(sheet: &mut Sheet, mut y: f64, evening: &Evening, stretch: Stretch, tall: f64) -> f64 {
    let time = Time::of(evening, stretch, sheet, 0.0);
    let top = y;
    let verdicts: Vec<_> = evening.verdicts_in(stretch).collect();
    if !verdicts.is_empty() {
        draw_verdicts(sheet, y, &time, &verdicts);
        y += 26.0 + GAP;
    }
    for lane in lanes(evening, &time) {
        // Their words need this much.
        let lane = Lane { height: (lane.height * tall).max(26.0), ..lane };
        y = lane::draw_named(sheet, y, &time, &lane) + GAP;
    }
    let bottom = y - GAP / 2.0;
    y = time.axis(sheet, bottom, top);
    time.changes(sheet, &changes_in(evening, stretch), top, bottom);
    y
}

pub(crate) fn changes_in(evening: &Evening, stretch: Stretch) -> Vec<&Changed> {
    evening.changes.iter().filter(|change| (stretch.from_s..=stretch.until_s).contains(&change.at_s)).collect()
}

/// What is to be seen, in words.
pub(crate) fn title(lost: &Lost) -> String {
    let kinds = [("dropped", lost.dropped), ("skipped", lost.skipped), ("lagged", lost.lagged)];
    let told: Vec<String> = kinds
        .iter()
        .filter(|(_, count)| *count > 0)
        .map(|(kind, count)| format!("{} {kind}", number(*count as f64)))
        .collect();
    let due = number(lost.due as f64);
    match (lost.due, told.is_empty()) {
        (0, _) => "Nothing was broadcast".into(),
        (_, true) => format!("Of {due} frames none was lost, as far as was known"),
        (_, false) => format!("Of {due} frames, {}: {}", told.join(", "), percent(lost.percent(lost.all()))),
    }
}

pub(crate) fn percent(share: f64) -> String {
    if share < 0.1 { "under 0.1 %".into() } else { format!("{share:.1} %") }
}

fn draw_verdicts(sheet: &mut Sheet, y: f64, time: &Time<'_>, verdicts: &[&Stood]) {
    let theme = sheet.theme;
    sheet.text(sheet.left(), y + 17.0, Writing::new(13.0, theme.ink()), "at fault");
    for (n, stood) in verdicts.iter().enumerate() {
        let (x0, x1) = (time.x(stood.from_s), time.x(stood.until_s).max(time.x(stood.from_s) + 1.5));
        hatch::fill(sheet, (x0, y, x1, y + 24.0), Hatch::of(stood.fault), 5.0, theme.fault(stood.fault));
        // Its number, and its stage where there is room: neither is told by the colour alone.
        let writing = Writing::new(11.0, theme.ink()).bold();
        let number = (n + 1).to_string();
        let both = format!("{number} {}", stood.fault.word());
        let told = [both, number].into_iter().find(|text| writing.width(text) + 6.0 <= x1 - x0);
        if let Some(told) = told {
            let width = writing.width(&told);
            sheet.filled(x0 + 1.5, y + 5.0, x0 + width + 5.5, y + 19.0, theme.ground());
            sheet.text(x0 + 3.5, y + 16.0, writing, &told);
        }
    }
}

/// Something told below the lanes: its name there, its time, its words.
pub(crate) struct Row {
    name: String,
    times: String,
    words: String,
}

impl Row {
    /// Draws it from a baseline on; gives its last.
    pub(crate) fn draw(&self, sheet: &mut Sheet, y: f64) -> f64 {
        let (left, ink) = (sheet.left(), sheet.theme.ink());
        let (plain, bold) = (Writing::new(12.0, ink), Writing::new(12.0, ink).bold());
        sheet.text(left, y + 18.0, bold, &self.name);
        sheet.text(left + 34.0, y + 18.0, plain, &self.times);
        sheet.wrapped(left + TOLD_AT, y + 18.0, sheet.room() - TOLD_AT, plain, &self.words)
    }
}

/// The verdicts and changes in words.
pub(crate) fn told(evening: &Evening, stretch: Stretch) -> Vec<Row> {
    let (verdicts, changes): (Vec<_>, _) = (evening.verdicts_in(stretch).collect(), changes_in(evening, stretch));
    let mut rows = Vec::new();
    for (n, stood) in verdicts.iter().take(MOST_TOLD).enumerate() {
        rows.push(Row {
            name: (n + 1).to_string(),
            times: format!("{} to {}", clock(stood.from_s), clock(stood.until_s)),
            words: format!("{}, {:.0} % sure: {}", stood.fault.word(), stood.confidence * 100.0, stood.sentence),
        });
    }
    for (n, change) in changes.iter().take(MOST_TOLD).enumerate() {
        rows.push(Row { name: letters(n), times: clock(change.at_s), words: change.what.clone() });
    }
    let more = verdicts.len().saturating_sub(MOST_TOLD) + changes.len().saturating_sub(MOST_TOLD);
    if more > 0 {
        let words = format!("and {more} more; a shorter stretch shows them");
        rows.push(Row { name: "…".into(), times: String::new(), words });
    }
    rows
}
