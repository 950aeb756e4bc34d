//! The line, filled: what it carried second by second, and how far its round trip climbs while it is full.

use moth_core::rate::{Bitrate, grouped};
use moth_plan::line::{LineReading, LineRun, read};

use crate::measured::LineTest;
use crate::page::{self, Words, page};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::{number, top};
/// Room for the names and for the figures, and the heights of both charts, in pixels. Ours.
const LEFT: f64 = 118.0;
const RIGHT: f64 = 150.0;
const CARRIED: f64 = 120.0;
const TRIPS: f64 = 150.0;

/// Draws what was measured; `None` if nothing was.
#[must_use]
pub fn draw(test: &LineTest, theme: Theme) -> Option<Drawing> {
    let reading = read(&test.runs, &test.around, test.headroom)?;
    let mut notes = vec![
        "Measured: the line was filled with RTMP over TCP, and what was acknowledged was counted; round trips are those of TCP \
         handshakes beside it (rings: idle, dots: full) and of the connection that filled it (small dots). Of the idle ones the \
         median is taken, of the others the mean up to their 95th percentile."
            .to_owned(),
    ];
    if test.is_made_up {
        notes.push("Line and server are stand-ins: every figure is made up.".into());
    }
    let words = Words { title: title(&reading), source: source(test), notes };
    Some(page(theme, &words, |sheet, y| body(sheet, y, test, &reading)))
}

fn title(reading: &LineReading) -> String {
    let at_least = if reading.at_least { "at least " } else { "" };
    let bloat = match (reading.bufferbloat_ms, reading.buffer) {
        (Some(ms), Some(buffer)) => {
            format!("; full, its round trip climbs by {} ms: a {} buffer", number(ms.round()), buffer.word())
        }
        _ => String::new(),
    };
    format!("The line sustains {at_least}{}{bloat}", reading.sustained)
}

pub(crate) fn source(test: &LineTest) -> String {
    let date = test.date.as_ref().map(|at| format!(", {}", page::date(at)));
    format!("{}, to {}{}", test.line, test.server, date.unwrap_or_default())
}

/// What was carried, the round trips, and what they say; gives where it ends.
pub(crate) fn body(sheet: &mut Sheet, mut y: f64, test: &LineTest, reading: &LineReading) -> f64 {
    y = draw_carried(sheet, y + 6.0, &test.runs, reading) + 30.0;
    y = draw_trips(sheet, y, &test.runs, reading) + 14.0;
    let (left, room, ink) = (sheet.left(), sheet.room(), sheet.theme.ink());
    let plain = Writing::new(12.5, ink);
    let mut said = vec![reading.carries.clone()];
    said.extend(reading.held_back.iter().cloned());
    said.push(format!("To try first: {}", reading.first));
    if let Some(rpm) = reading.rpm {
        said.push(format!("Under load there are {} round trips in a minute.", grouped(rpm)));
    }
    for text in said {
        y = sheet.wrapped(left, y + 18.0, room, plain, &text);
    }
    y
}

/// Every second of every run, with the median and the worst moments of all.
fn draw_carried(sheet: &mut Sheet, y: f64, runs: &[LineRun], reading: &LineReading) -> f64 {
    let theme = sheet.theme;
    let (left, right, foot) = (sheet.left() + LEFT, sheet.right() - RIGHT, y + CARRIED);
    let most = runs.iter().flat_map(|run| &run.carried.per_second).max().copied().unwrap_or_default();
    let scale = top(most.kbps());
    let at = |rate: Bitrate| foot - rate.kbps() / scale * CARRIED;
    let seconds: usize = runs.iter().map(|run| run.carried.per_second.len()).sum();
    let each = (right - left) / (seconds + runs.len().saturating_sub(1) * 2).max(1) as f64;
    let mut x = left;
    let faint = Writing::new(11.0, theme.faint());
    for (n, run) in runs.iter().enumerate() {
        let from = x;
        for second in &run.carried.per_second {
            let height = (foot - at(*second)).max(0.6);
            sheet.filled(x, foot - height, x + (each - 1.0).max(each * 0.6), foot, theme.quantity().0);
            sheet.line(
                vec![(x, foot - height), (x + (each - 1.0).max(each * 0.6), foot - height)],
                theme.quantity().1,
                1.4,
            );
            x += each;
        }
        for stall in &run.carried.stalls {
            let at = (from + stall.at_s * each).min(x);
            sheet.line(vec![(at, y), (at, foot)], theme.bad(), 2.0);
            sheet.text(at, y - 3.0, faint.at(Anchor::Middle), "stall");
        }
        let told =
            if runs.len() > 1 { format!("run {}", n + 1) } else { format!("{} s", run.carried.per_second.len()) };
        sheet.text(
            f64::midpoint(from, x),
            foot + 15.0,
            faint.at(Anchor::Middle),
            &faint.fit(&told, (x - from).max(30.0)),
        );
        x += 2.0 * each;
    }
    axis(sheet, (y, foot), "carried", "kb/s", scale);
    // The two figures keep apart from each other.
    let (sustained, worst) = (at(reading.sustained), at(reading.p5));
    for rate in [sustained, worst] {
        sheet.dashed((left, rate), (right, rate), theme.ink());
    }
    let writing = Writing::new(11.0, theme.ink());
    let upper = sustained.min(foot - 32.0);
    let sustained = format!("{} sustained", number(reading.sustained.kbps().round()));
    let worst_moments = format!("{} in the worst", number(reading.p5.kbps().round()));
    sheet.text(right + 8.0, upper + 4.0, writing.bold(), &sustained);
    sheet.text(right + 8.0, worst.max(upper + 14.0) + 4.0, writing, &worst_moments);
    sheet.text(right + 8.0, worst.max(upper + 14.0) + 18.0, writing, "moments");
    foot + 18.0
}

/// Round trips in the order in which they were measured: idle, then full.
fn draw_trips(sheet: &mut Sheet, y: f64, runs: &[LineRun], reading: &LineReading) -> f64 {
    let theme = sheet.theme;
    let (left, right, foot) = (sheet.left() + LEFT, sheet.right() - RIGHT, y + TRIPS);
    let all = |values: fn(&LineRun) -> &[f64]| -> Vec<f64> {
        runs.iter().flat_map(|run| values(run).iter().copied()).filter(|ms| ms.is_finite()).collect()
    };
    let (idle, full, own) = (all(|r| &r.idle_ms), all(|r| &r.full_ms), all(|r| &r.own_ms));
    let most = idle.iter().chain(&full).chain(&own).copied().fold(1.0, f64::max);
    let scale = top(most);
    let at = |ms: f64| foot - (ms / scale).clamp(0.0, 1.0) * TRIPS;
    // A third of the width for the idle line.
    let border = left + (right - left) / 3.0;
    let spread =
        |n: usize, count: usize, from: f64, to: f64| from + (to - from) * (n as f64 + 0.5) / count.max(1) as f64;
    for (n, ms) in own.iter().enumerate() {
        sheet.dot(spread(n, own.len(), border + 10.0, right), at(*ms), 1.6, theme.faint(), true);
    }
    for (n, ms) in idle.iter().enumerate() {
        sheet.dot(spread(n, idle.len(), left, border - 10.0), at(*ms), 3.0, theme.quantity().1, false);
    }
    for (n, ms) in full.iter().enumerate() {
        sheet.dot(spread(n, full.len(), border + 10.0, right), at(*ms), 3.0, theme.bad(), true);
    }
    sheet.line(vec![(border, y), (border, foot)], theme.rule(), 1.0);
    axis(sheet, (y, foot), "round trip", "ms", scale);
    let faint = Writing::new(11.0, theme.faint()).at(Anchor::Middle);
    sheet.text(f64::midpoint(left, border), foot + 15.0, faint, "idle");
    sheet.text(f64::midpoint(border, right), foot + 15.0, faint, "full, in the order they were measured");
    let writing = Writing::new(11.0, theme.ink());
    if let Some(ms) = reading.idle_rtt_ms {
        sheet.dashed((left, at(ms)), (right, at(ms)), theme.ink());
        sheet.text(right + 8.0, at(ms) + 4.0, writing, &format!("{} ms idle", number(ms.round())));
    }
    if let (Some(idle), Some(full), Some(bloat)) = (reading.idle_rtt_ms, reading.full_rtt_ms, reading.bufferbloat_ms) {
        sheet.dashed((border, at(full)), (right, at(full)), theme.ink());
        let upper = at(full).min(at(idle) - 32.0);
        sheet.text(right + 8.0, upper + 4.0, writing, &format!("{} ms full", number(full.round())));
        sheet.text(right + 8.0, upper + 18.0, writing.bold(), &format!("{} ms bufferbloat", number(bloat.round())));
    }
    foot + 18.0
}

/// An axis from nothing to its top, with what it is.
fn axis(sheet: &mut Sheet, (y, foot): (f64, f64), name: &str, unit: &str, scale: f64) {
    let theme = sheet.theme;
    let (left, right) = (sheet.left() + LEFT, sheet.right() - RIGHT);
    sheet.text(sheet.left(), foot - 2.0, Writing::new(13.0, theme.ink()), name);
    sheet.text(sheet.left(), foot - 18.0, Writing::new(10.0, theme.faint()), unit);
    sheet.line(vec![(left, foot), (right, foot)], theme.ink(), 1.0);
    let faint = Writing::new(10.0, theme.faint()).at(Anchor::Right);
    for n in 0..=2_u32 {
        let at = foot - (foot - y) * f64::from(n) / 2.0;
        sheet.line(vec![(left - 4.0, at), (left, at)], theme.faint(), 0.8);
        sheet.rule((left, at), (right, at));
        sheet.text(left - 7.0, at + 4.0, faint, &number(scale * f64::from(n) / 2.0));
    }
}
