//! Text that is longer than its room: which rows of it are seen.

use std::cell::Cell;

use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::Line;

use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::paint;

/// How far a text is scrolled.
#[derive(Debug, Default)]
pub(in crate::terminal) struct Scroll {
    at: Cell<usize>,
    /// Rows of the text, and rows there were for it, when it was drawn last.
    drawn: Cell<(usize, usize)>,
}

impl Scroll {
    /// Another text: from its beginning.
    pub(in crate::terminal) fn reset(&self) {
        self.at.set(0);
        self.drawn.set((0, 0));
    }

    fn last(&self) -> usize {
        let (total, room) = self.drawn.get();
        total.saturating_sub(room)
    }

    /// Whether there is more of the text than is seen.
    pub(in crate::terminal) fn is_needed(&self) -> bool {
        self.last() > 0
    }

    /// By so many rows, as far as there is text.
    pub(in crate::terminal) fn by(&self, rows: isize) {
        self.at.set(self.at.get().saturating_add_signed(rows).min(self.last()));
    }

    /// What a key does that turns pages; `false` if it does not, or if all is seen.
    pub(in crate::terminal) fn key(&self, code: KeyCode) -> bool {
        let page = isize::try_from(self.drawn.get().1.saturating_sub(1).max(1)).unwrap_or(1);
        match code {
            _ if !self.is_needed() => return false,
            KeyCode::PageUp => self.by(-page),
            KeyCode::PageDown => self.by(page),
            _ => return false,
        }
        true
    }

    /// The first row that is seen of so many, where there is room for fewer.
    pub(in crate::terminal) fn window(&self, total: usize, room: usize) -> usize {
        self.drawn.set((total, room));
        self.at.set(self.at.get().min(self.last()));
        self.at.get()
    }

    /// Paints lines, with a word on what is above and below where they are more than there is room for.
    pub(in crate::terminal) fn paint(
        &self,
        frame: &mut Frame<'_>,
        area: Rect,
        mut lines: Vec<Line<'static>>,
        palette: Palette,
    ) {
        let (total, room) = (lines.len(), usize::from(area.height));
        if total <= room || room < 2 {
            self.drawn.set((total, total));
            return paint(frame, area, lines);
        }
        // The last row says where one is.
        let first = self.window(total, room - 1);
        let (above, below) = (first, total - first - (room - 1));
        lines.drain(..first);
        lines.truncate(room - 1);
        let told = match (above, below) {
            (0, below) => format!("PgDn: {below} more rows"),
            (above, 0) => format!("PgUp: {above} rows above"),
            (above, below) => format!("PgUp: {above} rows above, PgDn: {below} more"),
        };
        lines.push(Line::styled(told, palette.faint()).right_aligned());
        paint(frame, area, lines);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_goes_as_far_as_there_is_text_and_no_further() {
        let scroll = Scroll::default();
        assert!(!scroll.key(KeyCode::PageDown), "nothing was drawn yet");
        assert_eq!(scroll.window(30, 10), 0);
        assert!(scroll.key(KeyCode::PageDown));
        assert_eq!(scroll.window(30, 10), 9);
        scroll.by(100);
        assert_eq!(scroll.window(30, 10), 20);
        // A larger window shows more of the end.
        assert_eq!(scroll.window(30, 25), 5);
        scroll.by(-100);
        assert_eq!(scroll.window(30, 25), 0);
        assert_eq!(scroll.window(8, 25), 0);
        assert!(!scroll.key(KeyCode::PageDown), "all of it is seen");
    }
}
