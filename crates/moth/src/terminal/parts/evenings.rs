//! The list of past broadcasts: each drawn from its beginning to its end, and the one under the cursor in ten lines.

use moth_core::suspects::Fault;
use moth_evening::digest::Slice;
use moth_logbook::Listed;
use moth_logbook::about::Kind;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};

use crate::logbook::row::{bar, blamed_words, lost_words, taken, titled};
use crate::terminal::logbook_view::LogbookView;
use crate::terminal::style::format::{clock, fit, wrap};
use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::paint;

/// Rows of the list at least. Ours.
const FEWEST: u16 = 12;
/// Columns for what was at fault, before a title. Ours.
const FAULTS: usize = 42;

pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, palette: Palette, view: &LogbookView) {
    let bytes: u64 = view.list.iter().map(|one| one.bytes).sum();
    let mut head = vec![Span::styled(taken(view.list.len(), bytes), palette.faint())];
    if !view.words.is_empty() {
        head.push(Span::styled(format!("  with \u{201c}{}\u{201d}", view.words), palette.strong()));
    }
    if view.plan.as_ref().is_some_and(crate::logbook::plan::LogPlan::is_demo) {
        head.push(Span::styled("  All made up; gone when the demo ends.", palette.fault(Fault::Encoder)));
    }
    let mut lines = vec![Line::from(head)];
    for trouble in view.trouble.iter().chain(&view.keeping.trouble) {
        lines.extend(wrap(trouble, area.width.into()).into_iter().map(|line| Line::styled(line, palette.alarm())));
    }
    if view.list.is_empty() {
        let why = if view.words.is_empty() {
            "There is no broadcast in it yet. Every one that is watched is kept here, second by second."
        } else {
            "No broadcast is like that. Esc shows all of them."
        };
        lines.push(Line::default());
        lines.extend(wrap(why, area.width.into()).into_iter().map(Line::from));
        return paint(frame, area, lines);
    }
    lines.push(Line::styled(heading(area.width), palette.faint()));
    let told = told(view, area.width, palette);
    let used = u16::try_from(lines.len()).unwrap_or(0);
    let wanted = u16::try_from(view.list.len()).unwrap_or(u16::MAX);
    let room = area.height.saturating_sub(used);
    let below = u16::try_from(told.len() + 1).unwrap_or(u16::MAX);
    // What is told of one gives way to the list, where there is no room for both.
    let rows = wanted.min(room.saturating_sub(below).max(FEWEST.min(room)));
    // The cursor stays in sight.
    let first = (view.at + 1).saturating_sub(rows.into());
    view.rows.set((Rect { y: area.y + used, height: rows, ..area }, first));
    for (place, one) in view.list.iter().enumerate().skip(first).take(rows.into()) {
        let is_first = view.first == Some(one.nr);
        lines.push(row(one, place == view.at, is_first, area.width, palette));
    }
    lines.push(Line::default());
    lines.extend(told);
    paint(frame, area, lines);
}

fn heading(width: u16) -> String {
    let (began, fault) =
        if is_narrow(width) { ("began      ", "at fault") } else { ("began           ", "what was at fault") };
    let (nr, long, drawn, lost) = ("nr", "on air", "from beginning to end", "lost");
    fit(&format!("  {nr:>4}  {began}  {long:>8}  {drawn:<24}  {lost:>9}  {fault}"), width.into())
}

/// There is no room for the year, and of what was at fault for the stage only.
fn is_narrow(width: u16) -> bool {
    width < 100
}

fn row(one: &Listed, is_under: bool, is_first: bool, width: u16, palette: Palette) -> Line<'static> {
    let digest = &one.digest;
    let lead = match (is_first, is_under) {
        (true, _) => "A ",
        (false, true) => "▸ ",
        (false, false) => "  ",
    };
    let emphasis = if is_under { Modifier::BOLD } else { Modifier::empty() };
    let plain = Style::new().add_modifier(emphasis);
    let when = if is_narrow(width) { "%m-%d %H:%M" } else { "%Y-%m-%d %H:%M" };
    let when = one.on_air_at().strftime(when).to_string();
    let long = clock(std::time::Duration::from_secs(digest.on_air_s.into()));
    let mut spans =
        vec![Span::styled(lead, palette.strong()), Span::styled(format!("{:>4}  {when}  {long:>8}  ", one.nr), plain)];
    spans.extend(digest.slices.iter().map(|slice| Span::styled(bar(*slice).to_string(), tone(*slice, palette))));
    let drawn = 24 - digest.slices.len().min(24);
    spans.push(Span::raw(" ".repeat(drawn)));
    spans.push(Span::styled(format!("  {:>9}  ", lost_words(digest)), plain));
    let used: usize = spans.iter().map(Span::width).sum();
    let room = usize::from(width).saturating_sub(used);
    let fault = digest.blamed.first();
    let mut said = fault.map(blamed_words).unwrap_or_default();
    if is_narrow(width) {
        // That it was a rehearsal matters more than what was lost in it.
        said = match (fault, one.about.kind) {
            (None, _) => String::new(),
            (Some(_), kind @ Kind::Rehearsal) => kind.word().to_owned(),
            (Some(blamed), _) => blamed.fault.word().to_owned(),
        };
    } else if digest.blamed.len() > 1 {
        said.push_str(&format!(" and {} more", digest.blamed.len() - 1));
    }
    let title = titled(one);
    let tone = fault.map_or_else(Style::new, |blamed| palette.fault(blamed.fault));
    // The title is the user's own: where there is room for both, what was at fault is cut before it.
    let left = room.saturating_sub(title.chars().count() + 3);
    if title.is_empty() || !said.is_empty() && left < 20 {
        spans.push(Span::styled(fit(&said, room), tone));
    } else if said.is_empty() {
        spans.push(Span::styled(fit(&title, room), plain));
    } else {
        let said = fit(&said, left);
        // Titles stand below each other, as far as that goes.
        let gap = (FAULTS.saturating_sub(said.chars().count())).clamp(3, 3 + left.saturating_sub(said.chars().count()));
        spans.push(Span::styled(said, tone));
        spans.push(Span::styled(format!("{}{title}", " ".repeat(gap)), plain));
    }
    Line::from(spans)
}

pub(in crate::terminal) fn tone(slice: Slice, palette: Palette) -> Style {
    match slice.worst() {
        Fault::None => palette.faint(),
        fault => palette.fault(fault),
    }
}

/// The broadcast under the cursor.
fn told(view: &LogbookView, width: u16, palette: Palette) -> Vec<Line<'static>> {
    let Some(preview) = &view.preview else { return Vec::new() };
    let mut lines = Vec::new();
    for (n, line) in preview.lines.iter().enumerate() {
        let style = if n == 0 { palette.strong() } else { Style::new() };
        lines.extend(wrap(line, width.into()).into_iter().map(|line| Line::styled(line, style)));
    }
    for line in preview.listed.note.lines() {
        lines.extend(wrap(line, width.into()).into_iter().map(|line| Line::styled(line, palette.faint())));
    }
    lines
}
