//! A frame's journey, render → encode → send → ingest: what each stage may use, what it used, and what it lost.

use moth_core::State;
use moth_core::figure::Figure;
use moth_core::journey::Stage;
use moth_core::suspects::Fault;

use crate::evening::{Evening, Standing};
use crate::hatch::{self, Hatch};
use crate::page::{self, Words, page};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::number;

/// Between two stages. Ours.
const PATH: f64 = 50.0;
/// The height of a stage's gauge, in pixels. Ours.
const GAUGE: f64 = 18.0;

/// Draws the journey as it stood at a moment.
#[must_use]
pub fn draw(evening: &Evening, standing: &Standing, theme: Theme) -> Drawing {
    let losing: Vec<&str> = standing.losing.iter().map(|fault| fault.word()).collect();
    let title = match (standing.state, losing.is_empty()) {
        (None, _) => "Nobody broadcasts".into(),
        (Some(state), true) => format!("No stage loses frames; the connection is {}", state.word()),
        (Some(state), false) => {
            format!("Frames are lost by the {}; the connection is {}", losing.join(" and the "), state.word())
        }
    };
    let notes = vec![
        "The bar is what a stage used of what it may use: of a frame's time, or, at the ingest, of what is asked. Beside each \
         figure stands how it is known: measured (by the moth or the kernel), reported (by the broadcaster), inferred (read off \
         the wire: likely, not certain)."
            .to_owned(),
    ];
    let words = Words { title, source: page::moment(evening, standing.at_s), notes };
    page(theme, &words, |sheet, y| body(sheet, y, evening, standing))
}

/// The four stages and the paths between them; gives where they end.
pub(crate) fn body(sheet: &mut Sheet, y: f64, evening: &Evening, standing: &Standing) -> f64 {
    let width = (sheet.room() - 3.0 * PATH) / 4.0;
    let mut bottom = y;
    for (n, stage) in standing.stages.iter().enumerate() {
        let x = sheet.left() + n as f64 * (width + PATH);
        let is_losing = stage.fault != Fault::None && standing.losing.contains(&stage.fault);
        bottom = bottom.max(draw_stage(sheet, (x, y, width), stage, is_losing, &evening.server));
        if n < 3 {
            draw_path(sheet, (x + width, y + 24.0 + GAUGE / 2.0), stage, is_losing, standing.state);
        }
    }
    bottom
}

/// The path from one stage to the next: whole, or with a gap where frames are lost on it.
fn draw_path(sheet: &mut Sheet, (x, y): (f64, f64), stage: &Stage, is_losing: bool, state: Option<State>) {
    let theme = sheet.theme;
    let (from, to) = (x + 8.0, x + PATH - 8.0);
    let colour = if is_losing { theme.fault(stage.fault) } else { theme.faint() };
    match (is_losing, state) {
        (true, _) => {
            sheet.line(vec![(from, y), (from + 10.0, y)], colour, 1.6);
            sheet.area(vec![(from + 12.0, y - 4.0), (from + 20.0, y - 4.0), (from + 16.0, y + 5.0)], colour);
            sheet.line(vec![(from + 22.0, y), (to, y)], colour, 1.6);
        }
        (_, None) => sheet.dashed((from, y), (to, y), colour),
        _ => sheet.line(vec![(from, y), (to, y)], colour, 1.2),
    }
    sheet.area(vec![(to, y - 4.0), (to + 6.0, y), (to, y + 4.0)], colour);
}

fn draw_stage(sheet: &mut Sheet, (x, y, width): (f64, f64, f64), stage: &Stage, is_losing: bool, server: &str) -> f64 {
    let theme = sheet.theme;
    let (ink, faint) = (Writing::new(12.0, theme.ink()), Writing::new(10.5, theme.faint()));
    let colour = if is_losing { theme.fault(stage.fault) } else { theme.quantity().1 };
    let name = Writing::new(15.0, theme.ink()).bold();
    sheet.text(x, y + 14.0, name, stage.name);
    let beside = match (is_losing, stage.name) {
        (true, _) => "loses frames",
        (false, "ingest") => server,
        _ => "",
    };
    let at = x + name.width(stage.name) + 8.0;
    let writing = if is_losing { ink.bold() } else { faint };
    sheet.text(at, y + 14.0, writing, &writing.fit(beside, x + width - at));

    let (top, foot) = (y + 24.0, y + 24.0 + GAUGE);
    sheet.outline(x, top, x + width, foot, theme.faint(), 0.8);
    if let Some(share) = stage.share() {
        let to = x + share.clamp(0.0, 1.0) * width;
        if is_losing {
            hatch::fill(sheet, (x, top, to, foot), Hatch::of(stage.fault), 5.0, colour);
        } else {
            sheet.filled(x, top, to, foot, theme.quantity().0);
            sheet.line(vec![(to, top), (to, foot)], colour, 1.6);
        }
        // Past the budget; at the ingest all of what is asked is how it should be.
        if share > 1.0 && stage.name != "ingest" {
            sheet.line(vec![(x + width, top - 4.0), (x + width, foot + 4.0)], theme.ink(), 2.4);
        }
    }
    let unit = if stage.name == "ingest" { "kb/s" } else { "ms" };
    let value = |figure: &Figure<f64>| figure.value.map_or_else(|| "not known".into(), number);
    let used = match (stage.used.value, stage.budget.value) {
        (None, None) => "not available".to_owned(),
        _ => format!("{} of {} {unit}", value(&stage.used), value(&stage.budget)),
    };
    pair(sheet, (x, foot + 18.0, width), &used, stage.used.origin.map_or("", moth_core::Origin::word));
    let total = match stage.lost_total.value {
        Some(total) => format!("{} {}", number(total as f64), stage.word),
        None => format!("{} not available", stage.word),
    };
    pair(sheet, (x, foot + 36.0, width), &total, stage.lost_total.origin.map_or("", moth_core::Origin::word));
    let is_lost = stage.fault != Fault::None;
    if let Some(now) = stage.lost_now.value.filter(|now| is_lost && *now > 0) {
        sheet.text(x, foot + 54.0, ink.bold(), &format!("{} of them in the last 3 s", number(now as f64)));
    }
    foot + 56.0
}

/// A figure at the left, and how it is known at the right, if there is room.
fn pair(sheet: &mut Sheet, (x, y, width): (f64, f64, f64), figure: &str, origin: &str) {
    let (ink, faint) = (Writing::new(12.0, sheet.theme.ink()), Writing::new(10.5, sheet.theme.faint()));
    let figure = ink.fit(figure, width);
    sheet.text(x, y, ink, &figure);
    if ink.width(&figure) + faint.width(origin) + 8.0 <= width {
        sheet.text(x + width, y, faint.at(Anchor::Right), origin);
    }
}
