//! Servers compared: what each carries, on one scale, with what is planned and what it takes to hold that.

use moth_core::rate::Bitrate;
use moth_plan::measurement::ServerResult;
use moth_plan::ranking::{Grade, Place, rank};

use crate::hatch::{self, Hatch};
use crate::measured::ServersTest;
use crate::page::{self, Words, page};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::{number, top};
/// Room for the servers' names and for their grades, and the heights of a band and of its seconds, in pixels. Ours.
const NAMES: f64 = 150.0;
const GRADES: f64 = 120.0;
const BAND: f64 = 18.0;
const SECONDS: f64 = 22.0;

/// Draws the comparison.
#[must_use]
pub fn draw(test: &ServersTest, theme: Theme) -> Drawing {
    let ranking = rank(&test.results, test.wanted);
    let mut notes = vec![
        "Measured: each server was published to in turn, and what it acknowledged was counted. The firm part of a band is what it \
         carried even in its worst moments (5th percentile of the seconds), the hatched part what it sustains (the median second), \
         all from 0. Below each band are its seconds, first at the planned bitrate, then with more offered."
            .to_owned(),
        "holds: the planned bitrate with headroom, worst moments counted. tight: carried, but with less than the headroom, or with a \
         stall. short: not carried. failed: it could not be tested."
            .to_owned(),
    ];
    if test.is_made_up {
        notes.push("Line and servers are stand-ins: every figure is made up.".into());
    }
    let words = Words { title: ranking.sentence.clone(), source: source(test), notes };
    page(theme, &words, |sheet, y| body(sheet, y, test))
}

pub(crate) fn source(test: &ServersTest) -> String {
    let date = test.date.as_ref().map(|at| format!(", {}", page::date(at)));
    let wanted = test.wanted;
    format!(
        "servers of {} over {}; {} planned, {} to stay free{}",
        test.service,
        test.line,
        wanted.planned,
        wanted.headroom,
        date.unwrap_or_default()
    )
}

/// The bands; gives where they end.
pub(crate) fn body(sheet: &mut Sheet, mut y: f64, test: &ServersTest) -> f64 {
    let (theme, wanted) = (sheet.theme, test.wanted);
    let ranking = rank(&test.results, wanted);
    let need = wanted.headroom.needed_for(wanted.planned);
    let seconds = test.results.iter().flat_map(seconds_of).flatten();
    let most = seconds.chain([need]).max().unwrap_or(need);
    let scale = top(most.kbps());
    let (left, right) = (sheet.left() + NAMES, sheet.right() - GRADES);
    let x = |rate: Bitrate| left + (rate.kbps() / scale).clamp(0.0, 1.0) * (right - left);
    // What is planned, and that with headroom, through all bands.
    let label = Writing::new(11.0, theme.ink()).bold();
    let planned = format!("planned {}", number(wanted.planned.kbps()));
    let with_headroom = format!("with headroom {}", number(need.kbps()));
    sheet.text(x(wanted.planned) - 4.0, y + 12.0, label.at(Anchor::Right), &planned);
    if x(need) + 4.0 + label.width(&with_headroom) <= sheet.right() {
        sheet.text(x(need) + 4.0, y + 12.0, label, &with_headroom);
    }
    let bands_top = y + 4.0;
    y += 26.0;
    for place in &ranking.places {
        let top = y;
        y = draw_place(sheet, y, place, &test.results[place.result], (left, right), &x) + 16.0;
        // Beside the sentences, which they would cross.
        for rate in [wanted.planned, need] {
            sheet.dashed((x(rate), top - 8.0), (x(rate), top + BAND + 8.0), theme.ink());
        }
    }
    sheet.line(vec![(left, y), (right, y)], theme.ink(), 1.0);
    let writing = Writing::new(11.0, theme.ink()).at(Anchor::Middle);
    for n in 0..=4_u32 {
        let value = scale * f64::from(n) / 4.0;
        let at = left + (right - left) * f64::from(n) / 4.0;
        sheet.line(vec![(at, y), (at, y + 5.0)], theme.ink(), 1.0);
        sheet.rule((at, bands_top + 14.0), (at, y));
        sheet.text(at, y + 18.0, writing, &number(value));
    }
    sheet.text(sheet.left(), y + 18.0, Writing::new(11.0, theme.faint()), "carried, kb/s");
    y + 24.0
}

fn seconds_of(result: &ServerResult) -> [Vec<Bitrate>; 2] {
    [&result.planned, &result.above].map(|carried| carried.as_ref().map_or_else(Vec::new, |c| c.per_second.clone()))
}

fn draw_place(
    sheet: &mut Sheet,
    y: f64,
    place: &Place,
    result: &ServerResult,
    (left, right): (f64, f64),
    x: &dyn Fn(Bitrate) -> f64,
) -> f64 {
    let theme = sheet.theme;
    let colour = theme.grade(place.grade);
    let (name, faint) = (Writing::new(13.0, theme.ink()).bold(), Writing::new(10.5, theme.faint()));
    sheet.text(sheet.left(), y + 13.0, name, &name.fit(&result.server, NAMES - 10.0));
    if let Some(region) = &result.region {
        sheet.text(sheet.left(), y + 27.0, faint, &faint.fit(region, NAMES - 10.0));
    }
    if let Some(best) = result.best() {
        let (worst, sustained) = (x(best.p5.min(best.sustained)), x(best.sustained));
        hatch::fill(sheet, (left, y, sustained, y + BAND), Hatch::Rising, 6.0, colour);
        sheet.filled(left, y, worst, y + BAND, colour);
        sheet.line(vec![(sustained, y - 3.0), (sustained, y + BAND + 3.0)], theme.ink(), 2.0);
    }
    let grade = Writing::new(12.0, theme.ink()).bold();
    sheet.text(right + 14.0, y + 13.0, grade, place.grade.word());
    if let Some(holds) = place.holds {
        let least = if place.at_least { "≥ " } else { "" };
        sheet.text(right + 14.0, y + 27.0, faint, &format!("for good {least}{}", number(holds.kbps().round())));
    }
    let mut y = y + BAND + 8.0;
    let [planned, above] = seconds_of(result);
    if !planned.is_empty() || !above.is_empty() {
        draw_seconds(sheet, y, &planned, &above, (left, right));
        y += SECONDS;
    }
    sheet.wrapped(
        left,
        y + 14.0,
        right - left,
        Writing::new(11.5, theme.ink()),
        &format!("{}.", place.sentence.trim_end_matches('.')),
    )
}

/// Every second as a bar: those at the planned bitrate first.
fn draw_seconds(sheet: &mut Sheet, y: f64, planned: &[Bitrate], above: &[Bitrate], (left, right): (f64, f64)) {
    let theme = sheet.theme;
    let most = planned.iter().chain(above).copied().max().unwrap_or_default().kbps().max(1.0);
    let count = planned.len() + above.len() + 2;
    let each = ((right - left) / count as f64).min(12.0);
    for (n, second) in planned.iter().chain(above).enumerate() {
        let gap = if n >= planned.len() { 2.0 } else { 0.0 };
        let x0 = left + (n as f64 + gap) * each;
        let height = (second.kbps() / most * SECONDS).max(0.6);
        sheet.filled(x0, y + SECONDS - height, x0 + each - 1.0, y + SECONDS, theme.quantity().1);
    }
}

/// What a grade looks like.
impl Theme {
    pub(crate) fn grade(self, grade: Grade) -> crate::theme::Colour {
        match grade {
            Grade::Holds => self.quantity().1,
            Grade::Tight => self.warning(),
            Grade::Short => self.bad(),
            Grade::Failed => self.ink(),
        }
    }
}
