//! The keys at the foot of a screen, and what they do.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Clear;

use crate::terminal::hits::{Hit, Hits, key_named};
use crate::terminal::style::format::wrap;
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

/// Something that is said in the place of the keys: all of it, in as many rows as it takes.
pub(in crate::terminal) fn tell(frame: &mut Frame<'_>, area: Rect, palette: Palette, what: &str) {
    let rows = wrap(what, usize::from(area.width.saturating_sub(2)).max(1));
    let height = u16::try_from(rows.len()).unwrap_or(u16::MAX).min(area.bottom());
    let place = Rect { y: area.bottom() - height, height, ..area };
    frame.render_widget(Clear, place);
    for (y, row) in (place.y..place.bottom()).zip(rows) {
        frame.render_widget(Line::styled(format!(" {row}"), palette.strong()), Rect { y, height: 1, ..place });
    }
}
