//! The keys at the foot of a screen, and what they do.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};

use crate::terminal::hits::{Hit, Hits, key_named};
use crate::terminal::style::palette::Palette;

/// Between two keys.
pub(in crate::terminal) fn gap(width: u16) -> &'static str {
    if width >= 100 { "   " } else { " " }
}

/// Draws them in a row, and notes where each is for the mouse.
pub(in crate::terminal) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    palette: Palette,
    keys: &[(&str, &str)],
    hits: Option<&Hits>,
) {
    let gap = gap(area.width);
    let mut spans = vec![Span::raw(" ")];
    let mut x = area.x + 1;
    for (name, what) in keys {
        let pair =
            [Span::styled(format!(" {name} "), palette.key()), Span::styled(format!(" {what}{gap}"), palette.faint())];
        let wide = u16::try_from(pair.iter().map(Span::width).sum::<usize>()).unwrap_or(0);
        if let (Some(hits), Some(key)) = (hits, key_named(name)) {
            hits.note(Rect { x, width: wide - gap.len() as u16, ..area }, Hit::Key(key));
        }
        x = x.saturating_add(wide);
        spans.extend(pair);
    }
    frame.render_widget(Line::from(spans), area);
}
