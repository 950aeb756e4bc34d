//! Lanes on one shared time axis, so that cause and loss line up under each other.

use moth_core::history::Second;
use moth_core::suspects::Fault;
use moth_core::{Snapshot, State};
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};

use super::letters;
use super::time_view::TimeView;
use crate::terminal::style::format::{clock, fit, number, with_unit};
use crate::terminal::style::palette::{Palette, state_mark};

/// Columns for the lanes' names, and for their values at the right. Ours.
const NAMES: u16 = 12;
const VALUES: u16 = 15;
/// Bars in eighths of a row.
pub(in crate::terminal) const EIGHTHS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// How a lane is drawn.
pub(in crate::terminal) enum Kind {
    /// The connection's state, by its mark.
    State,
    /// Frames lost in each column.
    Losses(Fault, fn(&Second) -> Option<u32>),
    /// A quantity as bars, up to a top (or the highest seen), and perhaps a line of what was asked.
    Bars { value: fn(&Second) -> Option<f32>, asked: Option<fn(&Second) -> Option<f32>>, top: Option<f32> },
}

pub(in crate::terminal) struct Lane {
    pub(in crate::terminal) name: &'static str,
    pub(in crate::terminal) unit: &'static str,
    pub(in crate::terminal) kind: Kind,
    /// Rows it wants at least, and at most.
    pub(in crate::terminal) rows: (u16, u16),
}

fn lanes(snapshot: &Snapshot) -> Vec<Lane> {
    let bars = |name, unit, value, top, rows| Lane { name, unit, kind: Kind::Bars { value, asked: None, top }, rows };
    let losses = |name, fault, value| Lane { name, unit: "frames", kind: Kind::Losses(fault, value), rows: (1, 1) };
    let mut lanes = vec![
        losses("lagged", Fault::Rendering, |s| s.lagged),
        losses("skipped", Fault::Encoder, |s| s.skipped),
        losses("dropped", Fault::Network, |s| s.dropped),
        Lane { name: "connection", unit: "", kind: Kind::State, rows: (1, 1) },
        Lane {
            name: "carried",
            unit: "kb/s",
            kind: Kind::Bars { value: |s| s.sent_kbps, asked: Some(|s| s.asked_kbps), top: None },
            rows: (2, 7),
        },
        bars("queue", "ms", |s| s.queue_ms, Some(snapshot.queue_limit_ms as f32), (1, 4)),
        bars("round trip", "ms", |s| s.rtt_ms, None, (1, 4)),
        bars("CPU", "%", |s| s.cpu.map(|v| v * 100.0), Some(100.0), (1, 3)),
    ];
    if snapshot.gpu_percent.value.is_some() {
        lanes.push(bars("GPU", "%", |s| s.gpu.map(|v| v * 100.0), Some(100.0), (1, 3)));
    }
    lanes
}

/// The seconds behind each column.
pub(in crate::terminal) struct Columns<'a> {
    snapshot: &'a Snapshot,
    first: usize,
    per: usize,
    count: usize,
}

impl<'a> Columns<'a> {
    pub(in crate::terminal) fn new(snapshot: &'a Snapshot, view: &TimeView, count: usize) -> Self {
        let per = view.seconds_per_column();
        let span = per * count;
        let end = snapshot.history.len();
        // The newest second is at the right; the cursor pulls the window back when it leaves it.
        // What was before it stays in sight as well.
        let ahead = span - span / 4;
        let end = view.cursor.map_or(end, |cursor| end.min((cursor + ahead).max(span.min(end))));
        // Columns keep to whole multiples, so that old ones do not change when time passes.
        let end = end.div_ceil(per) * per;
        Self { snapshot, first: end.saturating_sub(span), per, count }
    }

    /// The seconds of a column; none where there is no history.
    fn seconds(&self, column: usize) -> impl Iterator<Item = &'a Second> {
        let from = self.first + column * self.per;
        let history = &self.snapshot.history;
        (from..from + self.per).filter_map(move |i| history.get(i))
    }

    /// The seconds they stand for, from and until.
    pub(in crate::terminal) fn span(&self) -> (usize, usize) {
        (self.first, self.first + self.count * self.per)
    }

    pub(in crate::terminal) fn count(&self) -> usize {
        self.count
    }

    pub(in crate::terminal) fn highest(&self, column: usize, value: fn(&Second) -> Option<f32>) -> Option<f32> {
        self.seconds(column).filter_map(value).reduce(f32::max)
    }

    fn column_of(&self, second: usize) -> Option<usize> {
        let column = second.checked_sub(self.first)? / self.per;
        (column < self.count).then_some(column)
    }
}

pub(in crate::terminal) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    palette: Palette,
    view: &TimeView,
    snapshot: &Snapshot,
) {
    let lanes = lanes(snapshot);
    let heights = heights(&lanes, area.height.saturating_sub(2));
    let plot = Rect { x: area.x + NAMES, width: area.width.saturating_sub(NAMES + VALUES), ..area };
    let columns = Columns::new(snapshot, view, plot.width.into());
    view.note_shown(columns.span(), plot);
    let buffer = frame.buffer_mut();
    let mut y = area.y;
    for (lane, rows) in lanes.iter().zip(heights) {
        let strip = Rect { y, height: rows, ..plot };
        // Names and values stand at a lane's foot, where its bars do.
        let foot = y + rows.saturating_sub(1);
        buffer.set_string(area.x, foot, fit(lane.name, usize::from(NAMES) - 1), palette.faint());
        draw_lane(buffer, strip, palette, lane, &columns);
        if rows > 1 && matches!(lane.kind, Kind::Bars { .. }) {
            let top = format!("{} {}", number(Some(f64::from(top_of(lane, &columns)))), lane.unit);
            // At the lane's own edge: it is the scale of the bars beside it.
            let top = format!("{:>1$}", fit(&top, usize::from(NAMES) - 1), usize::from(NAMES) - 1);
            buffer.set_string(area.x, y, top, palette.faint());
        }
        let value = fit(&value_of(lane, view.cursor, snapshot), usize::from(VALUES) - 1);
        buffer.set_string(plot.right() + 1, foot, value, Style::new());
        y += rows;
    }
    draw_axis(buffer, Rect { y, height: 2, ..plot }, area, (palette, view.cursor), &columns);
    if let Some(column) = view.cursor.and_then(|second| columns.column_of(second)) {
        let x = plot.x + u16::try_from(column).unwrap_or(0);
        for row in area.y..y {
            if let Some(cell) = buffer.cell_mut((x, row)) {
                // A bar that fills its cell has one colour twice: reversed it would look the same.
                cell.bg = Color::Reset;
                cell.modifier.insert(Modifier::REVERSED);
            }
        }
    }
}

/// Shares out the rows: each lane its least, then one more each, round and round, up to its most.
fn heights(lanes: &[Lane], mut rows: u16) -> Vec<u16> {
    let mut heights: Vec<u16> = Vec::new();
    for lane in lanes {
        let least = lane.rows.0.min(rows);
        heights.push(least);
        rows -= least;
    }
    while rows > 0 {
        let before = rows;
        for (height, lane) in heights.iter_mut().zip(lanes) {
            if rows > 0 && *height < lane.rows.1 {
                *height += 1;
                rows -= 1;
            }
        }
        if rows == before {
            break;
        }
    }
    heights
}

pub(in crate::terminal) fn draw_lane(
    buffer: &mut Buffer,
    strip: Rect,
    palette: Palette,
    lane: &Lane,
    columns: &Columns<'_>,
) {
    if strip.height == 0 {
        return;
    }
    let top = top_of(lane, columns);
    for column in 0..columns.count {
        let x = strip.x + u16::try_from(column).unwrap_or(0);
        match &lane.kind {
            Kind::State => {
                let worst = columns.seconds(column).filter_map(|s| s.state).max_by_key(|s| severity(*s));
                let has_time = columns.seconds(column).next().is_some();
                if has_time {
                    put(buffer, x, strip.y, state_mark(worst), palette.state(worst));
                }
            }
            Kind::Losses(fault, value) => {
                let mut known = columns.seconds(column).map(value).peekable();
                if known.peek().is_none() {
                    continue;
                }
                let lost = known.fold(None, |sum: Option<u32>, v| v.map_or(sum, |v| Some(sum.unwrap_or(0) + v)));
                match lost {
                    None => put(buffer, x, strip.y, ' ', Style::new()),
                    Some(0) => put(buffer, x, strip.y, '·', palette.faint()),
                    // One lost frame is seen; a full bar is half of 60 frames/s gone.
                    Some(n) => {
                        let eighths = (n as usize).div_ceil(4).clamp(1, 8);
                        put(buffer, x, strip.y, EIGHTHS[eighths], palette.fault(*fault));
                    }
                }
            }
            Kind::Bars { value, asked, .. } => {
                if let Some(value) = columns.highest(column, *value) {
                    draw_bar(buffer, strip, x, value / top, palette.quantity());
                }
                if let Some(asked) = asked.and_then(|asked| columns.highest(column, asked)) {
                    draw_level(buffer, strip, x, asked / top, Style::new());
                }
            }
        }
    }
}

/// What the top of a lane stands for, in its unit.
pub(in crate::terminal) fn top_of(lane: &Lane, columns: &Columns<'_>) -> f32 {
    match lane.kind {
        Kind::Bars { value, asked, top: None } => {
            let highest = |value| (0..columns.count).filter_map(|c| columns.highest(c, value)).fold(0.0, f32::max);
            plain_above(highest(value).max(asked.map_or(0.0, highest)))
        }
        Kind::Bars { top: Some(top), .. } => top.max(1.0),
        Kind::State | Kind::Losses(..) => 1.0,
    }
}

/// The next plain number, as a scale has them.
pub(in crate::terminal) fn plain_above(value: f32) -> f32 {
    let value = value.max(1.0);
    let decade = 10_f32.powf(value.log10().floor());
    let plain = [1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 10.0, 12.0];
    plain.into_iter().map(|step| step * decade).find(|top| *top >= value * 1.02).unwrap_or(value)
}

fn severity(state: State) -> u8 {
    match state {
        State::Steady => 0,
        State::Strained => 1,
        State::Losing => 2,
        State::Dark => 3,
    }
}

fn put(buffer: &mut Buffer, x: u16, y: u16, c: char, style: Style) {
    if let Some(cell) = buffer.cell_mut((x, y)) {
        cell.set_char(c).set_style(style);
    }
}

/// A bar from the strip's foot; anything above nothing is seen.
fn draw_bar(buffer: &mut Buffer, strip: Rect, x: u16, share: f32, style: Style) {
    let full = f32::from(strip.height) * 8.0;
    let mut eighths = (share.clamp(0.0, 1.0) * full).round() as usize;
    if share > 0.0 {
        eighths = eighths.max(1);
    }
    for row in 0..strip.height {
        let here = eighths.saturating_sub(usize::from(row) * 8).min(8);
        if here > 0 {
            let style = if here == 8 { letters::solid(style) } else { style };
            put(buffer, x, strip.bottom() - 1 - row, EIGHTHS[here], style);
        }
    }
}

/// A line at a height, where no bar covers it.
fn draw_level(buffer: &mut Buffer, strip: Rect, x: u16, share: f32, style: Style) {
    let row = (share.clamp(0.0, 0.999) * f32::from(strip.height)) as u16;
    let y = strip.bottom() - 1 - row;
    if buffer.cell((x, y)).is_some_and(|cell| cell.symbol() == " ") {
        put(buffer, x, y, '‾', style);
    }
}

/// Values at the cursor, or now.
fn value_of(lane: &Lane, cursor: Option<usize>, snapshot: &Snapshot) -> String {
    if let Some(second) = cursor.and_then(|cursor| snapshot.history.get(cursor)) {
        return match &lane.kind {
            Kind::State => second.state.map_or("no broadcaster", State::word).into(),
            Kind::Losses(_, value) => value(second).map_or("not available".into(), |lost| format!("{lost} in 1 s")),
            Kind::Bars { value, .. } => with_unit(value(second).map(f64::from), lane.unit),
        };
    }
    let figure = match lane.name {
        "carried" => snapshot.sent_kbps,
        "queue" => snapshot.queue_ms,
        "round trip" => snapshot.rtt_ms,
        "CPU" => snapshot.cpu_percent,
        "GPU" => snapshot.gpu_percent,
        _ => {
            return match &lane.kind {
                Kind::State => snapshot.state.map_or("no broadcaster", State::word).into(),
                _ => {
                    let stage = snapshot.journey.iter().find(|stage| stage.word == lane.name);
                    let lost = stage.map(|s| (s.lost_now.value, s.lost_total.value));
                    match lost {
                        Some((Some(now), _)) => format!("{now} in 3 s"),
                        _ => "not available".into(),
                    }
                }
            };
        }
    };
    with_unit(figure.value, lane.unit)
}

pub(in crate::terminal) fn draw_axis(
    buffer: &mut Buffer,
    strip: Rect,
    area: Rect,
    (palette, cursor): (Palette, Option<usize>),
    columns: &Columns<'_>,
) {
    // A tick each so many seconds, at least ten columns apart.
    let each =
        [10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600].into_iter().find(|s| s / columns.per >= 12).unwrap_or(3600);
    for column in 0..columns.count {
        let second = columns.first + column * columns.per;
        let x = strip.x + u16::try_from(column).unwrap_or(0);
        let is_tick = second.is_multiple_of(each);
        put(buffer, x, strip.y, if is_tick { '┬' } else { '─' }, palette.faint());
        let label = clock(std::time::Duration::from_secs(second as u64));
        if is_tick && usize::from(strip.right() - x) > label.len() {
            buffer.set_string(x, strip.y + 1, label, palette.faint());
        }
    }
    let snapshot = columns.snapshot;
    for mark in &snapshot.marks {
        if let Some(column) = columns.column_of(mark.at.seconds() as usize) {
            let x = strip.x + u16::try_from(column).unwrap_or(0);
            let (c, style) = if mark.is_change { ('◆', palette.strong()) } else { ('╵', Style::new()) };
            put(buffer, x, strip.y, c, style);
        }
    }
    buffer.set_string(area.x, strip.y, fit("time, marks", usize::from(NAMES) - 1), palette.faint());
    let right = cursor.map_or_else(
        || format!("now {}", clock(snapshot.at.since(moth_core::Moment::START))),
        |second| format!("at {}", clock(std::time::Duration::from_secs(second as u64))),
    );
    buffer.set_string(strip.right() + 1, strip.y, right, Style::new());
    // Beside the labels: what the newest mark up to the cursor says.
    let until = cursor.map_or(f64::INFINITY, |second| second as f64 + 1.0);
    if let Some(mark) = snapshot.marks.iter().rev().find(|m| m.at.seconds() <= until) {
        let text = format!(" {} {} ", clock(mark.at.since(moth_core::Moment::START)), mark.text);
        let text = fit(&text, usize::from(strip.width / 2));
        let width = u16::try_from(unicode_width::UnicodeWidthStr::width(text.as_str())).unwrap_or(0);
        buffer.set_string(strip.right() + VALUES - width.min(strip.width), strip.y + 1, text, Style::reset());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_scale_ends_in_a_plain_number_above_all_that_is_drawn() {
        for (value, top) in
            [(0.0, 1.2), (6326.0, 7000.0), (5900.0, 7000.0), (352.0, 400.0), (100.0, 120.0), (9.9, 12.0)]
        {
            assert!((plain_above(value) - top).abs() < top * 1e-4, "{value}: {}", plain_above(value));
        }
    }
}
