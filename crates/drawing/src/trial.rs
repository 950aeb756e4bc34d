//! A trial: a change, and what was lost before it and since.

use moth_core::sentence::capitalised;
use moth_core::suspects::Fault;
use moth_core::trial::{SETTLE_S, Side, Trial};

use crate::evening::{Evening, Stretch};
use crate::lane::{self, GAP, Lane};
use crate::page::{self, Words, page};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::{clock, number, top};
use crate::time::Time;

/// Drawn before the change at the least, in seconds. Ours.
const BEFORE_S: f64 = 20.0;
/// The height of a bar, in pixels. Ours.
const BAR: f64 = 13.0;

/// Draws what came of a change.
#[must_use]
pub fn draw(evening: &Evening, trial: &Trial, theme: Theme) -> Drawing {
    let title = format!("{}: {}", capitalised(&trial.title), trial.words());
    let mut notes = page::how_known(evening);
    notes.push(format!(
        "What waited when the change was made was made before it: the first {SETTLE_S} s after it are not counted. Both sides are \
         as long as the trouble was seen before, and no longer than was seen since."
    ));
    let words = Words { title, source: page::moment(evening, trial.since.seconds()), notes };
    page(theme, &words, |sheet, y| body(sheet, y, evening, trial))
}

/// The sentence, both sides, and the seconds around the change; gives where it ends.
pub(crate) fn body(sheet: &mut Sheet, mut y: f64, evening: &Evening, trial: &Trial) -> f64 {
    let theme = sheet.theme;
    y = sheet.wrapped(sheet.left(), y + 8.0, sheet.room(), Writing::new(13.0, theme.ink()), &trial.sentence) + 14.0;
    let (before, after) = (&trial.before, &trial.after);
    if before.seconds > 0 && after.seconds > 0 {
        y = draw_sides(sheet, y, before, after, trial) + 18.0;
    }
    let since = trial.since.seconds();
    let stretch = Stretch {
        from_s: (since - f64::from(before.seconds).max(BEFORE_S)).max(0.0).floor(),
        until_s: (since + SETTLE_S as f64 + f64::from(after.seconds)).ceil().min(evening.whole().until_s),
    };
    let time = Time::of(evening, stretch, sheet, 0.0);
    let (lanes_top, kinds) = (y + 14.0, [Fault::Rendering, Fault::Encoder, Fault::Network]);
    y = lanes_top;
    let about = kinds.into_iter().filter(|kind| trial.about == Fault::None || trial.about == *kind);
    let lanes = about.map(Lane::losses).chain([
        Lane::carried(64.0),
        Lane::quantity("queue", "ms", |s| s.queue_ms, Some(evening.queue_limit_ms.max(1.0)), 40.0),
    ]);
    for lane in lanes.filter(|lane| lane.is_known(time.seconds)) {
        y = lane::draw_named(sheet, y, &time, &lane) + GAP;
    }
    let bottom = y - GAP / 2.0;
    y = time.axis(sheet, bottom, lanes_top);
    let x = time.x(since);
    sheet.dashed((x, lanes_top - 2.0), (x, bottom), theme.ink());
    let bold = Writing::new(11.0, theme.ink()).bold();
    // At the right of the line, or at its left where it would run off.
    let told = format!("changed at {}", clock(since));
    if x + 6.0 + bold.width(&told) <= sheet.right() {
        sheet.text(x + 4.0, lanes_top - 4.0, bold, &told);
    } else {
        sheet.text(x - 4.0, lanes_top - 4.0, bold.at(Anchor::Right), &told);
    }
    y
}

/// Figures of both sides as bars, each pair on its own scale.
fn draw_sides(sheet: &mut Sheet, mut y: f64, before: &Side, after: &Side, trial: &Trial) -> f64 {
    let theme = sheet.theme;
    let faint = Writing::new(11.0, theme.faint());
    let told = format!("hollow: {} s before the change; full: {} s since", before.seconds, after.seconds);
    sheet.text(sheet.left(), y + 10.0, faint, &told);
    y += 20.0;
    let seconds = |ms: u64| ms as f64 / 1000.0;
    let mut rows = vec![
        ("lost", "%", Some(before.lost_percent()), Some(after.lost_percent()), 1),
        ("stood still", "s", Some(seconds(before.frozen_ms)), Some(seconds(after.frozen_ms)), 1),
        ("queue", "ms", Some(before.queue_ms), Some(after.queue_ms), 0),
        ("carried", "kb/s", Some(before.sent_kbps), Some(after.sent_kbps), 0),
    ];
    if before.bits_per_pixel.is_some() && after.bits_per_pixel.is_some() {
        rows.push(("picture", "bits/pixel", before.bits_per_pixel, after.bits_per_pixel, 3));
    }
    let (left, right) = (sheet.left() + 118.0, sheet.right() - 120.0);
    for (name, unit, before, after, decimals) in rows {
        let (Some(before), Some(after)) = (before, after) else { continue };
        let scale = top(before.max(after));
        let x = |value: f64| left + (value / scale).clamp(0.0, 1.0) * (right - left);
        sheet.text(sheet.left(), y + BAR + 5.0, Writing::new(13.0, theme.ink()), name);
        sheet.outline(left, y, x(before).max(left + 1.0), y + BAR, theme.quantity().1, 1.2);
        sheet.filled(left, y + BAR + 2.0, x(after).max(left + 1.0), y + 2.0 * BAR + 2.0, theme.quantity().1);
        let value = |value: f64| if decimals == 0 { number(value.round()) } else { format!("{value:.decimals$}") };
        let ink = Writing::new(11.5, theme.ink());
        sheet.text(x(before) + 6.0, y + BAR - 3.0, ink, &format!("{} {unit}", value(before)));
        sheet.text(x(after) + 6.0, y + 2.0 * BAR - 1.0, ink.bold(), &format!("{} {unit}", value(after)));
        y += 2.0 * BAR + 12.0;
    }
    if let Some((least, most)) = trial.less_points {
        let text = format!(
            "Less lost by {} to {} percent of the frames, with 95 % confidence{}.",
            signed(least),
            signed(most),
            if least > 0.0 { "" } else { ": no less may be lost at all" }
        );
        y = sheet.wrapped(sheet.left(), y + 10.0, sheet.room(), Writing::new(12.0, theme.ink()), &text) + 6.0;
    }
    y
}

fn signed(points: f64) -> String {
    if points < 0.0 { format!("−{:.1}", -points) } else { format!("{points:.1}") }
}
