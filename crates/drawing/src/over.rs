//! Two broadcasts, or two stretches, drawn over each other on one axis: so long after its own beginning each.

use moth_core::history::Second;
use moth_evening::comparison::on_air;
use moth_evening::curve::{CARRIED, LOST, ROUND_TRIP};

use crate::sheet::{Anchor, Sheet, Writing};
use crate::ticks::{clock, number, times, top};

/// Room for the names before the plots, and for what the lines mean behind them, in pixels. Ours.
const NAMES: f64 = 118.0;
const VALUES: f64 = 60.0;
/// The height of a plot, and what lies between two, in pixels. Ours.
const TALL: f64 = 62.0;
const GAP: f64 = 12.0;

/// Draws both; gives where they end. Of each only the time on air counts.
pub(crate) fn draw(sheet: &mut Sheet, mut y: f64, sides: [&[Second]; 2]) -> f64 {
    let sides = sides.map(on_air);
    let long = sides.iter().map(Vec::len).max().unwrap_or(0);
    if long == 0 {
        return y;
    }
    let faint = Writing::new(11.0, sheet.theme.faint());
    sheet.text(sheet.left(), y + 10.0, faint, "Over each other, by the time on air: A dashed, B drawn through");
    y += 22.0;
    let (left, right) = (sheet.left() + NAMES, sheet.right() - VALUES);
    let begun = y;
    for quantity in [LOST, CARRIED, ROUND_TRIP] {
        // A column for two pixels.
        let columns = ((right - left) / 2.0) as usize;
        let points = sides.each_ref().map(|side| quantity.points(side, long, columns));
        let most = points.iter().flatten().map(|(_, value)| *value).fold(0.0, f64::max);
        if points.iter().all(Vec::is_empty) {
            continue;
        }
        let scale = top(if most > 0.0 { most } else { 1.0 });
        let (ceiling, foot) = (y, y + TALL);
        sheet.text(sheet.left(), ceiling + 12.0, Writing::new(13.0, sheet.theme.ink()), quantity.name);
        sheet.text(sheet.left(), ceiling + 26.0, faint, quantity.unit);
        sheet.line(vec![(left, foot), (right, foot)], sheet.theme.rule(), 0.8);
        sheet.text(right + 6.0, ceiling + 9.0, Writing::new(9.5, sheet.theme.faint()), &number(scale));
        sheet.text(right + 6.0, foot, Writing::new(9.5, sheet.theme.faint()), "0");
        let x = |at_s: f64| left + at_s / long as f64 * (right - left);
        let at = |(at_s, value): (f64, f64)| (x(at_s), foot - (value / scale).clamp(0.0, 1.0) * TALL);
        let ink = sheet.theme.ink();
        let first: Vec<_> = points[0].iter().map(|point| at(*point)).collect();
        for pair in first.chunks(2) {
            // Every other piece is left out.
            if let [from, to] = pair {
                sheet.line(vec![*from, *to], ink, 1.1);
            }
        }
        let (_, colour) = sheet.theme.quantity();
        let second: Vec<_> = points[1].iter().map(|point| at(*point)).collect();
        if second.len() > 1 {
            sheet.line(second, colour, 1.6);
        }
        y = foot + GAP;
    }
    let foot = y - GAP + 4.0;
    let writing = Writing::new(10.0, sheet.theme.ink()).at(Anchor::Middle);
    for at in times(0.0, long as f64, 8) {
        let x = left + f64::from(at) / long as f64 * (right - left);
        sheet.rule((x, begun), (x, foot));
        sheet.text(x, foot + 12.0, writing, &clock(f64::from(at)));
    }
    foot + 28.0
}
