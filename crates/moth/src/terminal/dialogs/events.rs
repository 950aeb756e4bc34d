//! Everything that happened, with its whole text: what the lanes have only marks for.

use std::time::Duration;

use crossterm::event::KeyCode;
use moth_core::Snapshot;
use moth_core::history::Mark;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use super::Dialog;
use crate::terminal::model::Model;
use crate::terminal::reaction::Reaction;
use crate::terminal::style::format::{clock, wrap};
use crate::terminal::style::palette::Palette;

/// Columns of the time before a text.
const TIME: usize = 12;

/// The list, on what happened last, or last before the cursor.
pub(in crate::terminal) fn open(model: &Model) -> Reaction {
    let Some(snapshot) = model.shown() else { return Reaction::none() };
    let until = model.view.cursor.map_or(f64::INFINITY, |second| second as f64 + 1.0);
    match snapshot.marks.iter().rposition(|mark| mark.at.seconds() <= until) {
        Some(at) => Reaction::open(Dialog::Events(at)),
        None => Reaction::tell("nothing has happened yet"),
    }
}

/// What a key does in it: Enter goes to when it happened.
pub(super) fn key(model: &mut Model, at: usize, code: KeyCode) -> Reaction {
    let Some(snapshot) = model.shown().cloned() else { return Reaction::none() };
    let last = snapshot.marks.len().saturating_sub(1);
    let to = match code {
        KeyCode::Up => at.saturating_sub(1),
        KeyCode::Down => (at + 1).min(last),
        KeyCode::PageUp => at.saturating_sub(10),
        KeyCode::PageDown => (at + 10).min(last),
        KeyCode::Home => 0,
        KeyCode::End => last,
        KeyCode::Enter => {
            let newest = snapshot.history.len().saturating_sub(1);
            let second = snapshot.marks.get(at).map(|mark| mark.at.seconds() as usize);
            model.view.cursor = second.filter(|second| *second < newest);
            return Reaction::none();
        }
        _ => return Reaction::none(),
    };
    Reaction::open(Dialog::Events(to))
}

/// As much of the list as has room, what is under the cursor among it.
pub(super) fn lines(
    snapshot: &Snapshot,
    at: usize,
    palette: Palette,
    (columns, rows): (usize, usize),
) -> Vec<Line<'static>> {
    let marks = &snapshot.marks;
    let told = |n: usize| marks.get(n).map_or_else(Vec::new, |mark| one(mark, n == at, palette, columns));
    let mut lines = told(at);
    let (mut above, mut below) = (at, at + 1);
    // Both ways in turn, as long as whole texts fit.
    loop {
        let before = lines.len();
        if let Some(next) = above.checked_sub(1) {
            let more = told(next);
            if lines.len() + more.len() <= rows {
                lines.splice(0..0, more);
                above = next;
            }
        }
        if below < marks.len() {
            let more = told(below);
            if lines.len() + more.len() <= rows {
                lines.extend(more);
                below += 1;
            }
        }
        if lines.len() == before {
            break;
        }
    }
    lines.truncate(rows.max(1));
    lines
}

fn one(mark: &Mark, is_under: bool, palette: Palette, columns: usize) -> Vec<Line<'static>> {
    let (lead, style) = if is_under { ("▸ ", palette.strong()) } else { ("  ", Style::new()) };
    let sign = if mark.is_change { "◆" } else { "╵" };
    let when = clock(Duration::from_secs_f64(mark.at.seconds().max(0.0)));
    let row = |n: usize, text: String| {
        let (lead, when) = if n == 0 { (lead, format!("{when:>7} {sign} ")) } else { ("  ", " ".repeat(TIME - 2)) };
        Line::from(vec![
            Span::styled(lead, palette.strong()),
            Span::styled(when, palette.faint()),
            Span::styled(text, style),
        ])
    };
    wrap(&mark.text, columns.saturating_sub(TIME)).into_iter().enumerate().map(|(n, text)| row(n, text)).collect()
}
