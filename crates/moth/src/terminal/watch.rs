//! The Watch screen: the frame's journey, the lanes, the verdict, the next action.

use moth_core::Snapshot;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use super::app::App;
use super::format::{clock, fit};
use super::palette::state_mark;
use super::{dialog, journey, lanes, verdict};

/// The smallest terminal it fits on.
pub(super) const SMALLEST: (u16, u16) = (80, 24);

/// Draws the whole screen.
pub(super) fn draw(frame: &mut Frame<'_>, app: &App) {
    let area = frame.area();
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        too_small(frame, area);
        return;
    }
    let Some(snapshot) = &app.snapshot else {
        frame.render_widget(Line::from(" vigilant moth"), area);
        return;
    };
    let roomy = area.height >= 34;
    let gap = u16::from(roomy);
    let verdict_rows = verdict::rows(snapshot, area.width, if roomy { 12 } else { 6 });
    let [head, _, path, _, middle, _, judged, keys] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(gap),
        Constraint::Length(journey::ROWS),
        Constraint::Length(gap),
        Constraint::Min(8),
        Constraint::Length(gap),
        Constraint::Length(verdict_rows),
        Constraint::Length(1),
    ])
    .areas(area);
    header(frame, head, app, snapshot);
    journey::draw(frame, inner(path), app, snapshot);
    lanes::draw(frame, inner(middle), app, snapshot);
    verdict::draw(frame, inner(judged), app, snapshot);
    footer(frame, keys, app, snapshot);
    dialog::draw(frame, area, app, snapshot);
}

/// One column free on both sides.
fn inner(area: Rect) -> Rect {
    Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area }
}

fn too_small(frame: &mut Frame<'_>, area: Rect) {
    let text = format!("The moth needs {}×{}; this is {}×{}.", SMALLEST.0, SMALLEST.1, area.width, area.height);
    for (row, line) in super::format::wrap(&text, area.width.into()).into_iter().enumerate() {
        let y = area.y + u16::try_from(row).unwrap_or(u16::MAX);
        if y < area.bottom() {
            frame.render_widget(Line::from(line), Rect { y, height: 1, ..area });
        }
    }
}

fn header(frame: &mut Frame<'_>, area: Rect, app: &App, snapshot: &Snapshot) {
    let palette = app.palette;
    let name = app.banner.demo.as_ref().map_or_else(String::new, |name| format!("demo: {name}, all made up"));
    let left = vec![
        Span::styled(" vigilant moth ", palette.strong()),
        Span::styled("Watch  ", Style::new()),
        Span::styled(name, palette.fault(moth_core::suspects::Fault::Encoder)),
    ];
    let stream = &snapshot.stream;
    let mut facts = Vec::new();
    if let (Some(width), Some(height)) = (stream.width, stream.height) {
        facts.push(format!("{width}×{height}"));
    }
    if let Some(fps) = stream.fps {
        facts.push(format!("{} frames/s", (fps * 100.0).round() / 100.0));
    }
    if let Some(since) = snapshot.on_air_since {
        facts.push(format!("on air {}", clock(snapshot.at.since(since))));
    }
    let state = match snapshot.state {
        Some(state) => format!(" {} {} ", state_mark(Some(state)), state.word()),
        None => " no broadcaster ".into(),
    };
    let right = vec![
        Span::styled(facts.join("  "), palette.faint()),
        Span::raw("  "),
        Span::styled(state, palette.state(snapshot.state).add_modifier(ratatui::style::Modifier::REVERSED)),
    ];
    let right = Line::from(right).right_aligned();
    let room = usize::from(area.width).saturating_sub(right.width() + 1);
    let left = Line::from(left);
    let left = if left.width() > room { Line::from(fit(&left.to_string(), room)) } else { left };
    frame.render_widget(left, area);
    frame.render_widget(right, area);
}

fn footer(frame: &mut Frame<'_>, area: Rect, app: &App, snapshot: &Snapshot) {
    let palette = app.palette;
    let mut spans = vec![Span::raw(" ")];
    let mut key = |name: &'static str, what: &str| {
        spans.push(Span::styled(format!(" {name} "), palette.key()));
        spans.push(Span::styled(format!(" {what}   "), palette.faint()));
    };
    key("?", "keys and words");
    key("←→", if app.cursor.is_some() { "move the cursor" } else { "look back" });
    if app.cursor.is_some() {
        key("Esc", "back to now");
    }
    if snapshot.undo.is_some() {
        key("u", "undo the last change");
    }
    key("q", "quit");
    frame.render_widget(Line::from(spans), area);
}
