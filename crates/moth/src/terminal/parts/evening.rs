//! A past broadcast: drawn from its beginning to its end with what happened in it, and told in ten lines.

use std::time::Duration;

use moth_core::suspects::Fault;
use moth_evening::digest::Slice;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};

use super::evenings::tone;
use crate::logbook::opened::{Opened, Station, What};
use crate::logbook::row::bar;
use crate::terminal::style::format::{clock, fit, wrap};
use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::paint;

pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, palette: Palette, opened: &Opened, at: usize) {
    let width = usize::from(area.width);
    let mut lines = Vec::new();
    for (n, line) in opened.lines.iter().enumerate() {
        let style = if n == 0 { palette.strong() } else { Style::new() };
        lines.extend(wrap(line, width).into_iter().map(|line| Line::styled(line, style)));
    }
    for line in opened.listed.note.lines() {
        lines.extend(wrap(line, width).into_iter().map(|line| Line::styled(line, palette.faint())));
    }
    lines.push(Line::default());
    lines.extend(strip(opened, width, at, palette));
    lines.push(Line::default());
    let room = usize::from(area.height).saturating_sub(lines.len());
    let first = (at + 1).saturating_sub(room.max(1));
    for (place, station) in opened.stations.iter().enumerate().skip(first).take(room.max(1)) {
        lines.push(row(station, place == at, width, palette));
    }
    // What happened goes before what is told, where there is no room for both.
    let over = lines.len().saturating_sub(area.height.into());
    lines.drain(1..(1 + over).min(lines.len()));
    paint(frame, area, lines);
}

/// The whole length: what was lost, what was at fault, what was changed, and where the cursor is.
fn strip(opened: &Opened, width: usize, at: usize, palette: Palette) -> Vec<Line<'static>> {
    let seconds = &opened.seconds;
    let first = seconds.iter().position(|second| second.state.is_some()).unwrap_or(0);
    let end = seconds.iter().rposition(|second| second.state.is_some()).map_or(first, |last| last + 1);
    let long = end.saturating_sub(first);
    if long == 0 || width == 0 {
        return Vec::new();
    }
    let edge = |column: usize| first + long * column / width;
    let column_of = |at_s: f64| ((at_s - first as f64).max(0.0) * width as f64 / long as f64) as usize;
    let slice = |column: usize| {
        let from = edge(column).min(end - 1);
        Slice::of(&seconds[from..edge(column + 1).max(from + 1)])
    };
    let bars = (0..width).map(|column| {
        let slice = slice(column);
        Span::styled(bar(slice).to_string(), tone(slice, palette))
    });
    let mut below: Vec<(char, Style)> = vec![(' ', Style::new()); width];
    for station in &opened.stations {
        let (letter, style) = mark(station.what, palette);
        let until = column_of(station.until_s).max(column_of(station.at_s));
        for cell in below.iter_mut().take(until.min(width - 1) + 1).skip(column_of(station.at_s).min(width - 1)) {
            // A change is never hidden by what stood meanwhile.
            if cell.0 != '◆' {
                *cell = (letter, style);
            }
        }
    }
    if let Some(station) = opened.stations.get(at)
        && let Some(cell) = below.get_mut(column_of(station.at_s).min(width - 1))
    {
        cell.1 = cell.1.add_modifier(Modifier::REVERSED);
    }
    let below = below.into_iter().map(|(letter, style)| Span::styled(letter.to_string(), style));
    let time = |at: usize| clock(Duration::from_secs(at as u64));
    let (from, until) = (time(first), time(end));
    let gap = width.saturating_sub(from.len() + until.len());
    vec![
        Line::from(bars.collect::<Vec<_>>()),
        Line::from(below.collect::<Vec<_>>()),
        Line::styled(format!("{from}{}{until}", " ".repeat(gap)), palette.faint()),
    ]
}

/// What stands for something that happened.
fn mark(what: What, palette: Palette) -> (char, Style) {
    match what {
        What::Verdict(fault) => {
            let letter = match fault {
                Fault::Network => 'N',
                Fault::Encoder => 'E',
                Fault::Rendering => 'R',
                Fault::None => ' ',
            };
            (letter, palette.fault(fault))
        }
        What::Change => ('◆', palette.strong()),
        What::Mark => ('╵', palette.faint()),
    }
}

fn row(station: &Station, is_under: bool, width: usize, palette: Palette) -> Line<'static> {
    let time = |at_s: f64| clock(Duration::from_secs(at_s.max(0.0) as u64));
    let when = if station.until_s > station.at_s {
        format!("{} to {}", time(station.at_s), time(station.until_s))
    } else {
        time(station.at_s)
    };
    let (letter, style) = mark(station.what, palette);
    let words = fit(&station.words, width.saturating_sub(26));
    let emphasis = if is_under { Modifier::BOLD } else { Modifier::empty() };
    Line::from(vec![
        Span::styled(if is_under { "▸ " } else { "  " }, palette.strong()),
        Span::styled(format!("{when:>19}  "), Style::new().add_modifier(emphasis)),
        Span::styled(format!("{letter} "), style),
        Span::styled(words, Style::new().add_modifier(emphasis)),
    ])
}
