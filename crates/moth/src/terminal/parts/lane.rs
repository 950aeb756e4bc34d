//! One lane: what it shows, and how it is drawn in so many columns of time.

use moth_core::history::Second;
use moth_core::suspects::Fault;
use moth_core::wire::Heard;
use moth_core::{Snapshot, State};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::letters;
use super::time_view::TimeView;
use crate::terminal::style::format::with_unit;
use crate::terminal::style::palette::{Palette, sound_mark, state_mark};

/// Bars in eighths of a row.
pub(in crate::terminal) const EIGHTHS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// Where somebody broadcast and this was not known.
pub(in crate::terminal) const GAP: char = '┈';
/// A plan or a limit, along the whole lane.
pub(super) const LEVEL: char = '┄';

/// How a lane is drawn.
pub(in crate::terminal) enum Kind {
    /// The connection's state, by its mark.
    State,
    /// How the sound is, by its mark.
    Sound,
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

/// The seconds behind each column.
pub(in crate::terminal) struct Columns<'a> {
    snapshot: &'a Snapshot,
    first: usize,
    per: usize,
    /// Columns that a second takes, while there are fewer seconds than columns.
    wide: usize,
    count: usize,
}

impl<'a> Columns<'a> {
    pub(in crate::terminal) fn new(snapshot: &'a Snapshot, view: &TimeView, count: usize) -> Self {
        let (per, wide) = view.scale(count, snapshot.history.len());
        let span = (count / wide) * per;
        let end = snapshot.history.len();
        // The newest second is at the right; the cursor pulls the window back when it leaves it.
        // What was before it stays in sight as well.
        let ahead = span - span / 4;
        let end = view.cursor.map_or(end, |cursor| end.min((cursor + ahead).max(span.min(end))));
        // Columns keep to whole multiples, so that old ones do not change when time passes.
        let end = end.div_ceil(per) * per;
        Self { snapshot, first: end.saturating_sub(span), per, wide, count }
    }

    /// The seconds of a column; none where there is no history.
    fn seconds(&self, column: usize) -> impl Iterator<Item = &'a Second> {
        let from = self.second_of(column);
        let history = &self.snapshot.history;
        (from..from + self.per).filter_map(move |i| history.get(i))
    }

    pub(super) fn snapshot(&self) -> &'a Snapshot {
        self.snapshot
    }

    /// The second that begins a column, or that it is a part of.
    pub(in crate::terminal) fn second_of(&self, column: usize) -> usize {
        self.first + column / self.wide * self.per
    }

    /// Whether a column is the first of its seconds.
    pub(in crate::terminal) fn begins(&self, column: usize) -> bool {
        column.is_multiple_of(self.wide)
    }

    /// Seconds in a column, and columns that a second takes.
    pub(in crate::terminal) fn scale(&self) -> (usize, usize) {
        (self.per, self.wide)
    }

    /// Whether somebody broadcast in a column's time.
    fn has_broadcast(&self, column: usize) -> bool {
        self.seconds(column).any(|second| second.state.is_some())
    }

    /// The seconds they stand for, from and until.
    pub(in crate::terminal) fn span(&self) -> (usize, usize) {
        (self.first, self.first + self.count.div_ceil(self.wide) * self.per)
    }

    pub(in crate::terminal) fn count(&self) -> usize {
        self.count
    }

    pub(in crate::terminal) fn highest(&self, column: usize, value: fn(&Second) -> Option<f32>) -> Option<f32> {
        self.seconds(column).filter_map(value).reduce(f32::max)
    }

    pub(in crate::terminal) fn column_of(&self, second: usize) -> Option<usize> {
        let column = second.checked_sub(self.first)? / self.per * self.wide;
        (column < self.count).then_some(column)
    }
}

/// Draws a lane; `top` is what its upper edge stands for.
pub(in crate::terminal) fn draw_lane(
    buffer: &mut Buffer,
    strip: Rect,
    palette: Palette,
    (lane, top): (&Lane, f32),
    columns: &Columns<'_>,
) {
    if strip.height == 0 {
        return;
    }
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
            Kind::Sound => {
                // What is worst in a column's time is seen.
                let worst = columns.seconds(column).filter_map(|s| s.sound).max_by_key(|heard| trouble(*heard));
                match worst {
                    Some(heard) => put(buffer, x, strip.y, sound_mark(heard), palette.sound(heard)),
                    None if columns.has_broadcast(column) => put(buffer, x, strip.y, GAP, palette.faint()),
                    None => {}
                }
            }
            Kind::Losses(fault, value) => {
                let mut known = columns.seconds(column).map(value).peekable();
                if known.peek().is_none() {
                    continue;
                }
                let lost = known.fold(None, |sum: Option<u32>, v| v.map_or(sum, |v| Some(sum.unwrap_or(0) + v)));
                match lost {
                    None if columns.has_broadcast(column) => put(buffer, x, strip.y, GAP, palette.faint()),
                    None => {}
                    Some(0) => put(buffer, x, strip.y, '·', palette.faint()),
                    // One lost frame is seen; a full bar is half of 60 frames/s gone.
                    Some(n) => {
                        let eighths = (n as usize).div_ceil(4).clamp(1, 8);
                        draw_bar(buffer, strip, x, eighths as f32 / 8.0, palette.fault(*fault));
                    }
                }
            }
            Kind::Bars { value, asked, .. } => {
                match columns.highest(column, *value) {
                    Some(value) => draw_bar(buffer, strip, x, value / top, palette.quantity()),
                    None if columns.has_broadcast(column) => put(buffer, x, strip.bottom() - 1, GAP, palette.faint()),
                    None => {}
                }
                if let Some(asked) = asked.and_then(|asked| columns.highest(column, asked)) {
                    draw_level(buffer, strip, x, asked / top, Style::new());
                }
            }
        }
    }
}

/// What a lane shows in one second, in words.
pub(in crate::terminal) fn value_in(lane: &Lane, second: &Second) -> String {
    match &lane.kind {
        Kind::State => second.state.map_or("no broadcaster", State::word).into(),
        Kind::Sound => sound_words(second.sound).into(),
        Kind::Losses(_, value) => value(second).map_or("not available".into(), |lost| format!("{lost} in 1 s")),
        Kind::Bars { value, .. } => with_unit(value(second).map(f64::from), lane.unit),
    }
}

/// How the sound is, and in how far that is known.
pub(super) fn sound_words(heard: Option<Heard>) -> &'static str {
    match heard {
        None => "not known",
        Some(Heard::Silent) => "seems silent",
        Some(Heard::Drifting) => "seems to drift",
        Some(heard) => heard.word(),
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
        Kind::State | Kind::Sound | Kind::Losses(..) => 1.0,
    }
}

/// The next plain number, as a scale has them.
pub(in crate::terminal) fn plain_above(value: f32) -> f32 {
    let value = value.max(1.0);
    let decade = 10_f32.powf(value.log10().floor());
    let plain = [1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 10.0, 12.0];
    plain.into_iter().map(|step| step * decade).find(|top| *top >= value * 1.02).unwrap_or(value)
}

fn trouble(heard: Heard) -> usize {
    Heard::ALL.iter().position(|one| *one == heard).unwrap_or(0)
}

fn severity(state: State) -> u8 {
    match state {
        State::Steady => 0,
        State::Strained => 1,
        State::Losing => 2,
        State::Dark => 3,
    }
}

pub(super) fn put(buffer: &mut Buffer, x: u16, y: u16, c: char, style: Style) {
    if let Some(cell) = buffer.cell_mut((x, y)) {
        cell.set_char(c).set_style(style);
    }
}

/// A bar from the strip's foot; anything above nothing is seen.
pub(super) fn draw_bar(buffer: &mut Buffer, strip: Rect, x: u16, share: f32, style: Style) {
    let full = f32::from(strip.height) * 8.0;
    let mut eighths = (share.clamp(0.0, 1.0) * full).round() as usize;
    if share > 0.0 {
        eighths = eighths.max(1);
    }
    for row in 0..strip.height {
        let here = eighths.saturating_sub(usize::from(row) * 8).min(8);
        let y = strip.bottom() - 1 - row;
        match here {
            0 => {}
            8 => letters::fill_cell(buffer, (x, y), style),
            part => put(buffer, x, y, EIGHTHS[part], style),
        }
    }
}

/// The row of a share of a strip's height.
pub(super) fn row_of(strip: Rect, share: f32) -> u16 {
    strip.bottom() - 1 - (share.clamp(0.0, 0.999) * f32::from(strip.height)) as u16
}

/// A line at a height, where no bar covers it.
fn draw_level(buffer: &mut Buffer, strip: Rect, x: u16, share: f32, style: Style) {
    let y = row_of(strip, share);
    if buffer.cell((x, y)).is_some_and(|cell| cell.symbol() == " ") {
        put(buffer, x, y, '‾', style);
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
