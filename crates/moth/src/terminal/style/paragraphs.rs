//! Text on a screen: broken into lines, and painted one below the other.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::Line;

use crate::terminal::style::format::wrap;

/// Text broken at spaces into lines of at most so many columns.
pub(in crate::terminal) fn wrapped(what: &str, width: u16, style: Style) -> Vec<Line<'static>> {
    wrap(what, width.into()).into_iter().map(|line| Line::styled(line, style)).collect()
}

/// As many lines as there is room for, from the top.
pub(in crate::terminal) fn paint(frame: &mut Frame<'_>, area: Rect, lines: Vec<Line<'static>>) {
    for (row, line) in lines.into_iter().take(area.height.into()).enumerate() {
        let y = area.y + u16::try_from(row).unwrap_or(0);
        frame.render_widget(line, Rect { y, height: 1, ..area });
    }
}
