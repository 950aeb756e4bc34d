//! The frame's journey: render → encode → send → ingest, each stage with its budget, what it used and what
//! it lost; the path between them is drawn in the mark of what happens on it.

use moth_core::figure::Figure;
use moth_core::journey::Stage;
use moth_core::rate::grouped;
use moth_core::suspects::Fault;
use moth_core::{Origin, Snapshot};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use crate::terminal::style::format::{fit, number};
use crate::terminal::style::palette::Palette;
use crate::terminal::style::palette::state_mark;

/// Rows the journey takes. Ours.
pub(in crate::terminal) const ROWS: u16 = 4;
/// Columns of the path between two stages, its arrow included.
fn path_columns(area: Rect) -> u16 {
    if area.width < 100 { 4 } else { 6 }
}

pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, palette: Palette, snapshot: &Snapshot) {
    let stages = &snapshot.journey;
    let path = path_columns(area);
    let width = area.width.saturating_sub(path * 3) / 4;
    for (i, stage) in stages.iter().enumerate() {
        let x = area.x + u16::try_from(i).unwrap_or(0) * (width + path);
        draw_stage(frame, Rect { x, width, ..area }, palette, snapshot, stage);
        if i < 3 {
            draw_path(frame, Rect { x: x + width, y: area.y, width: path, height: 1 }, palette, snapshot, i);
        }
    }
}

/// Whether a stage loses frames now.
fn is_losing(stage: &Stage, snapshot: &Snapshot) -> bool {
    stage.fault != Fault::None && snapshot.verdict.suspects.iter().any(|s| s.fault == stage.fault)
}

fn draw_path(frame: &mut Frame<'_>, area: Rect, palette: Palette, snapshot: &Snapshot, after: usize) {
    let stage = &snapshot.journey[after];
    let (mark, style) = match (snapshot.state, stage.fault) {
        (None, _) => ('·', palette.faint()),
        // What leaves the send stage is the connection itself.
        (state, Fault::Network) => (state_mark(state), palette.state(state)),
        _ if is_losing(stage, snapshot) => ('▾', palette.fault(stage.fault)),
        _ => ('─', palette.faint()),
    };
    let text: String = std::iter::repeat_n(mark, usize::from(area.width).saturating_sub(3)).chain(['▸']).collect();
    frame.render_widget(Line::styled(format!(" {text}"), style), area);
}

fn draw_stage(frame: &mut Frame<'_>, area: Rect, palette: Palette, snapshot: &Snapshot, stage: &Stage) {
    let losing = is_losing(stage, snapshot);
    let tone = if losing { palette.fault(stage.fault) } else { Style::new() };
    let row = |n: u16| Rect { y: area.y + n, height: 1, ..area };
    let columns = usize::from(area.width);

    let mut title = vec![Span::styled(stage.name.to_owned(), tone.add_modifier(Modifier::BOLD))];
    if stage.name == "ingest" {
        title.push(Span::styled(fit(&format!("  {}", snapshot.server), columns.saturating_sub(6)), tone));
    } else if losing {
        title.push(Span::styled(if columns < 20 { "  losing" } else { "  losing frames" }, tone));
    }
    frame.render_widget(Line::from(title), row(0));

    frame.render_widget(gauge(stage, columns, if losing { tone } else { palette.quantity() }, palette.faint()), row(1));

    let unit = if stage.name == "ingest" { "kb/s" } else { "ms" };
    let figures = match (stage.used.value, stage.budget.value) {
        (None, None) => "not available".to_owned(),
        (used, budget) => {
            let roomy = format!("{} of {} {unit}", number(used), number(budget));
            if roomy.width() <= columns { roomy } else { format!("{}/{} {unit}", number(used), number(budget)) }
        }
    };
    let origin = |figure: Figure<f64>| figure.origin.map_or("", |o| o.word());
    frame.render_widget(both(&figures, origin(stage.used), columns, Style::new(), palette.faint()), row(2));

    let lost = match stage.lost_total.value {
        None if columns < 20 => format!("{} n/a", stage.word),
        None => format!("{} not available", stage.word),
        Some(total) => format!("{} {}", stage.word, grouped(total)),
    };
    // At the ingest nothing is lost; before it, the last seconds tell whether it goes on.
    let now = stage.lost_now.value.filter(|now| *now > 0).map(|now| {
        let how = if stage.lost_now.origin == Some(Origin::Inferred) { ", inferred" } else { "" };
        format!("{now} in 3 s{how}")
    });
    // An inferred number says how far it can be trusted.
    let trust = match stage.fault {
        Fault::Rendering => snapshot.wire.repeated_trust,
        _ => Some(snapshot.wire.skipped_trust),
    };
    let origin = match (stage.lost_total.origin, trust) {
        (Some(Origin::Inferred), Some(trust)) => format!("inferred, {} trust", trust.word()),
        (origin, _) => origin.map_or("", |o| o.word()).to_owned(),
    };
    let (right, style) = match &now {
        Some(now) => (now.as_str(), tone.add_modifier(Modifier::BOLD)),
        None => (origin.as_str(), palette.faint()),
    };
    frame.render_widget(both(&lost, right, columns, tone, style), row(3));
}

/// A text at the left, and one at the right if there is room for both.
fn both(left: &str, right: &str, columns: usize, left_style: Style, right_style: Style) -> Line<'static> {
    let left = fit(left, columns);
    let gap = columns.saturating_sub(left.width() + right.width());
    if gap < 2 {
        return Line::styled(left, left_style);
    }
    Line::from(vec![
        Span::styled(left, left_style),
        Span::raw(" ".repeat(gap)),
        Span::styled(right.to_owned(), right_style),
    ])
}

/// The share of the budget in use, drawn as a thread that fills; past the budget it ends in a mark.
fn gauge(stage: &Stage, columns: usize, filled: Style, empty: Style) -> Line<'static> {
    let Some(share) = stage.share() else {
        return Line::styled("╌".repeat(columns), empty);
    };
    let full = (share.clamp(0.0, 1.0) * columns as f64).round() as usize;
    let mut bar = "━".repeat(full.min(columns));
    // At the ingest the budget is what is asked: all of it carried is how it should be.
    if share > 1.0 && stage.name != "ingest" {
        bar = format!("{}╋", "━".repeat(columns.saturating_sub(1)));
    }
    let rest = columns.saturating_sub(bar.width());
    Line::from(vec![Span::styled(bar, filled), Span::styled("╌".repeat(rest), empty)])
}
