//! Which seconds of a broadcast are looked at: where the cursor is, and how many seconds a column stands for.

use std::cell::Cell;

use crossterm::event::KeyCode;
use moth_core::Snapshot;
use ratatui::layout::Rect;

/// Seconds that one column of the lanes may stand for. Ours.
const ZOOMS: [usize; 7] = [1, 2, 5, 15, 60, 300, 900];

/// A second takes no more columns than this, however few there are. Ours.
const WIDEST: usize = 4;

/// Where on the time axis one looks.
#[derive(Debug, Default)]
pub(in crate::terminal) struct TimeView {
    /// The second under the cursor; `None` is now.
    pub cursor: Option<usize>,
    zoom: usize,
    /// The whole broadcast is looked at, however long it is by now.
    is_whole: bool,
    /// Seconds in a column of the lanes, and columns of a second, when they were drawn last.
    scale: Cell<(usize, usize)>,
    /// The seconds that the lanes showed when they were drawn last: from, until.
    shown: Cell<(usize, usize)>,
    /// Where they were drawn.
    place: Cell<Rect>,
}

impl TimeView {
    /// Seconds in a column, as it was drawn last.
    pub(in crate::terminal) fn seconds_per_column(&self) -> usize {
        self.scale.get().0.max(1)
    }

    /// How many seconds each of so many columns stands for, of a broadcast that is so long; and how many of them stand for one
    /// second, while there are few.
    pub(in crate::terminal) fn scale(&self, columns: usize, seconds: usize) -> (usize, usize) {
        let per = if self.is_whole {
            let fits = ZOOMS.into_iter().find(|per| per * columns >= seconds);
            fits.unwrap_or_else(|| seconds.div_ceil(columns.max(1)))
        } else {
            ZOOMS[self.zoom]
        };
        let wide = if per == 1 { (columns / seconds.max(1)).clamp(1, WIDEST) } else { 1 };
        (per, wide)
    }

    /// Columns that a second takes, as it was drawn last.
    pub(in crate::terminal) fn columns_per_second(&self) -> usize {
        self.scale.get().1.max(1)
    }

    /// Whether the whole broadcast is looked at.
    pub(in crate::terminal) fn is_whole(&self) -> bool {
        self.is_whole
    }

    /// The lanes were drawn, from this second until that, with so many in a column.
    pub(in crate::terminal) fn note_shown(&self, span: (usize, usize), place: Rect, scale: (usize, usize)) {
        self.scale.set(scale);
        self.shown.set(span);
        self.place.set(place);
    }

    /// Where the lanes were drawn last.
    pub(in crate::terminal) fn place(&self) -> Rect {
        self.place.get()
    }

    /// The seconds that the lanes showed when they were drawn last: from, until.
    pub(in crate::terminal) fn shown(&self) -> (usize, usize) {
        self.shown.get()
    }

    /// What a key does; `false` if it means nothing here.
    pub(in crate::terminal) fn key(&mut self, code: KeyCode, snapshot: Option<&Snapshot>) -> bool {
        match code {
            KeyCode::Left => self.move_cursor(-1, snapshot),
            KeyCode::Right => self.move_cursor(1, snapshot),
            KeyCode::PageUp => self.move_cursor(-10, snapshot),
            KeyCode::PageDown => self.move_cursor(10, snapshot),
            KeyCode::Char('n') => self.seek_mark(true, snapshot),
            KeyCode::Char('N') => self.seek_mark(false, snapshot),
            KeyCode::Home => self.cursor = Some(0),
            KeyCode::End | KeyCode::Esc => self.cursor = None,
            KeyCode::Char('-') => self.turn_zoom(1),
            KeyCode::Char('+' | '=') => self.turn_zoom(-1),
            KeyCode::Char('v') => self.is_whole = !self.is_whole,
            _ => return false,
        }
        true
    }

    /// One step from what is seen.
    fn turn_zoom(&mut self, by: isize) {
        if std::mem::take(&mut self.is_whole) {
            self.zoom = ZOOMS.iter().position(|per| *per >= self.seconds_per_column()).unwrap_or(ZOOMS.len() - 1);
        }
        self.zoom = self.zoom.saturating_add_signed(by).min(ZOOMS.len() - 1);
    }

    fn move_cursor(&mut self, columns: i64, snapshot: Option<&Snapshot>) {
        let Some(snapshot) = snapshot else { return };
        let last = snapshot.history.len().saturating_sub(1);
        let from = i64::try_from(self.cursor.unwrap_or(last)).unwrap_or(i64::MAX);
        let step = i64::try_from(self.seconds_per_column()).unwrap_or(1) * columns;
        let to = usize::try_from(from.saturating_add(step).max(0)).unwrap_or(0);
        self.cursor = (to < last).then_some(to);
    }

    /// The mark before or after the cursor.
    fn seek_mark(&mut self, forth: bool, snapshot: Option<&Snapshot>) {
        let Some(snapshot) = snapshot else { return };
        let last = snapshot.history.len().saturating_sub(1);
        let here = self.cursor.unwrap_or(last);
        let marks = || snapshot.marks.iter().map(|mark| mark.at.seconds() as usize);
        self.cursor = if forth {
            marks().find(|at| *at > here && *at < last)
        } else {
            marks().rev().find(|at| *at < here).or(self.cursor)
        };
    }
}
