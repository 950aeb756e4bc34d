//! What of the screen answers to the mouse: noted while it is drawn, looked up when it is clicked.

use std::cell::RefCell;

use crossterm::event::KeyCode;
use ratatui::layout::{Position, Rect};

/// What a click comes to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Hit {
    /// To turn to a screen, by its place.
    Screen(usize),
    /// The same as this key.
    Key(KeyCode),
    /// To look back at a second: that of the first column, the seconds of each, and the columns of one.
    Time { first: usize, per: usize, wide: usize },
    /// To go to a row of the list, by the place of the first that is shown.
    Row { first: usize },
}

/// Where each is on the screen that was drawn last.
#[derive(Debug, Default)]
pub(super) struct Hits(RefCell<Vec<(Rect, Hit)>>);

impl Hits {
    /// Another screen is drawn.
    pub(super) fn clear(&self) {
        self.0.borrow_mut().clear();
    }

    pub(super) fn note(&self, place: Rect, hit: Hit) {
        self.0.borrow_mut().push((place, hit));
    }

    /// What is there, and how far from its left and upper edge.
    pub(super) fn at(&self, column: u16, row: u16) -> Option<(Hit, u16, u16)> {
        let hits = self.0.borrow();
        let (place, hit) = hits.iter().rev().find(|(place, _)| place.contains(Position { x: column, y: row }))?;
        Some((*hit, column - place.x, row - place.y))
    }
}

/// The key that a foot names, if it is one: of several, the first.
pub(super) fn key_named(name: &str) -> Option<KeyCode> {
    Some(match name {
        "Enter" => KeyCode::Enter,
        "Esc" => KeyCode::Esc,
        "Tab" => KeyCode::Tab,
        "Space" => KeyCode::Char(' '),
        "↑↓ Enter" => KeyCode::Enter,
        _ => {
            let mut words = name.split(' ');
            let mut chars = words.next()?.chars();
            let key = chars.next().filter(|c| c.is_ascii_graphic())?;
            // Ranges and arrows are no key.
            if chars.next().is_some() {
                return None;
            }
            KeyCode::Char(key)
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_drawn_last_is_met_and_keys_are_those_that_are_named() {
        let hits = Hits::default();
        hits.note(Rect::new(0, 0, 10, 2), Hit::Screen(1));
        hits.note(Rect::new(4, 1, 2, 1), Hit::Key(KeyCode::Enter));
        assert_eq!(hits.at(5, 1), Some((Hit::Key(KeyCode::Enter), 1, 0)));
        assert_eq!((hits.at(3, 1), hits.at(10, 0)), (Some((Hit::Screen(1), 3, 1)), None));
        hits.clear();
        assert_eq!(hits.at(5, 1), None);
        let named = ["e E", "Enter", "←→", "1-7", "↑↓", "< >"].map(key_named);
        let (e, less) = (Some(KeyCode::Char('e')), Some(KeyCode::Char('<')));
        assert_eq!(named, [e, Some(KeyCode::Enter), None, None, None, less]);
    }
}
