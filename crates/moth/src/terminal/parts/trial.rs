//! The newest change and how far it is proved; what is looked for on the wire; and what the keeper does.

use std::time::Duration;

use moth_core::keeper::Mode;
use moth_core::suspects::Fault;
use moth_core::trial::{LONGEST_S, Outcome, SETTLE_S, Trial};
use moth_core::{Origin, Snapshot};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use crate::terminal::style::format::{clock, fit, number, wrap};
use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::paint;

/// A trial that is over is shown for this much longer. Ours.
const STAYS: Duration = Duration::from_secs(120);
/// Columns of the bar that shows how far it is. Ours.
const BAR: usize = 16;

fn shown(snapshot: &Snapshot) -> Option<&Trial> {
    let trial = snapshot.newest_trial()?;
    let age = snapshot.at.since(trial.since);
    (age < Duration::from_secs((LONGEST_S + SETTLE_S) as u64) + STAYS).then_some(trial)
}

/// Where the sentences begin. Ours.
const INDENT: usize = 9;

/// The trial's sentence, in as many rows as it takes, and its figures.
fn told(trial: &Trial, snapshot: &Snapshot, columns: usize) -> Vec<(String, bool)> {
    let columns = columns.saturating_sub(INDENT);
    let sentence = wrap(&trial.sentence, columns).into_iter().map(|row| (row, false));
    let figures = wrap_parts(&figures(trial, snapshot), columns).into_iter().map(|row| (row, true));
    sentence.chain(figures).collect()
}

/// Parts side by side, in as many rows as they take; none is cut.
fn wrap_parts(parts: &[String], columns: usize) -> Vec<String> {
    let mut rows: Vec<String> = Vec::new();
    for part in parts {
        match rows.last_mut() {
            Some(row) if row.width() + 2 + part.width() <= columns => {
                row.push_str("  ");
                row.push_str(part);
            }
            _ => rows.push(fit(part, columns)),
        }
    }
    rows
}

/// Rows it wants in so many columns.
pub(in crate::terminal) fn rows(snapshot: &Snapshot, is_roomy: bool, columns: u16) -> u16 {
    let rows = lines(snapshot, (Palette::Plain, false), is_roomy, columns.into()).len();
    u16::try_from(rows).unwrap_or(u16::MAX)
}

pub(in crate::terminal) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    palette: Palette,
    (takes_changes, is_roomy): (bool, bool),
    snapshot: &Snapshot,
) {
    paint(frame, area, lines(snapshot, (palette, takes_changes), is_roomy, area.width.into()));
}

fn lines(
    snapshot: &Snapshot,
    (palette, takes_changes): (Palette, bool),
    is_roomy: bool,
    columns: usize,
) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    // Behind its word, in as many rows as it takes; with little room in one.
    let told_of = |word: &str, text: &str| -> Vec<Line<'static>> {
        let rows = wrap(text, columns.saturating_sub(INDENT));
        let rows = if is_roomy { rows } else { vec![fit(text, columns.saturating_sub(INDENT))] };
        let lead = |n: usize| format!("{:INDENT$}", if n == 0 { word } else { "" });
        let line = |(n, row)| Line::from(vec![Span::styled(lead(n), palette.faint()), Span::raw(row)]);
        rows.into_iter().enumerate().map(line).collect()
    };
    let trial = shown(snapshot);
    if let Some(trial) = trial {
        lines.push(head(trial, (palette, takes_changes), snapshot, columns));
        for (row, is_figure) in if is_roomy { told(trial, snapshot, columns) } else { Vec::new() } {
            let style = if is_figure { palette.faint() } else { Style::new() };
            lines.push(Line::styled(format!("{:INDENT$}{row}", ""), style));
        }
    }
    if let Some(awaited) = &snapshot.awaited {
        lines.extend(told_of("by hand", &format!("{}: {}", awaited.action.words(), awaited.sentence)));
    }
    if snapshot.keeper.mode != Mode::Off && (is_roomy || trial.is_none()) {
        lines.extend(told_of("keeper", &format!("({}) {}", snapshot.keeper.mode.word(), snapshot.keeper.says)));
    }
    lines
}

/// What was changed, how long ago, what came of it, and the key that puts it back.
fn head(
    trial: &Trial,
    (palette, takes_changes): (Palette, bool),
    snapshot: &Snapshot,
    columns: usize,
) -> Line<'static> {
    let words = trial.words();
    let style = match (trial.put_back, trial.outcome) {
        (false, Outcome::Helped) => palette.quantity().patch(palette.strong()),
        (false, Outcome::DidNotHelp) => palette.fault(Fault::Network).patch(palette.strong()),
        _ => palette.strong(),
    };
    let mark = match (trial.put_back, trial.outcome) {
        (true, _) => '↶',
        (_, Outcome::Helped) => '●',
        (_, Outcome::DidNotHelp) => '○',
        (_, Outcome::Unclear) => '◌',
    };
    let age = trial.age(snapshot.at);
    let whole = LONGEST_S + SETTLE_S;
    let mut spans = vec![
        Span::styled("trial    ", palette.faint()),
        Span::styled(format!("{mark} {words}"), style),
        Span::raw(format!("  {}  ", trial.title)),
    ];
    if trial.is_over {
        spans.push(Span::styled(format!("{} ago", clock(age)), palette.faint()));
    } else {
        let filled = (age.as_secs() as usize * BAR / whole).min(BAR);
        let bar = format!("{}{}", "━".repeat(filled), "┄".repeat(BAR - filled));
        spans.push(Span::raw(bar));
        spans.push(Span::styled(format!(" {} of {whole} s", age.as_secs()), palette.faint()));
    }
    if snapshot.undo.is_some() && !trial.put_back && takes_changes {
        spans.push(Span::raw("  "));
        spans.push(Span::styled(" u ", palette.key()));
        spans.push(Span::raw(" put it back"));
    }
    if let (Outcome::DidNotHelp, Some(next)) = (trial.outcome, &trial.next) {
        spans.push(Span::raw(format!("  next: {}", next.title)));
    }
    let line = Line::from(spans);
    if line.width() <= columns {
        return line;
    }
    // With little room, the words and the key.
    Line::from(vec![
        Span::styled("trial    ", palette.faint()),
        Span::styled(format!("{mark} {words}"), style),
        Span::raw(fit(&format!("  {}", trial.title), columns.saturating_sub(36))),
        Span::raw("  "),
        Span::styled(if takes_changes { " u " } else { "" }, palette.key()),
    ])
}

/// How the lost frames of a trial are known; of all kinds together, as their weakest.
fn origin(trial: &Trial, snapshot: &Snapshot) -> &'static str {
    let (skipped, lagged) = (snapshot.skipped.origin, snapshot.lagged.origin);
    let origin = match trial.about {
        Fault::Network => Some(Origin::Measured),
        Fault::Encoder => skipped,
        Fault::Rendering => lagged,
        Fault::None => [skipped, lagged].into_iter().flatten().find(|origin| *origin == Origin::Inferred).or(skipped),
    };
    origin.map_or("", Origin::word)
}

/// Preparation and after, side by side.
fn figures(trial: &Trial, snapshot: &Snapshot) -> Vec<String> {
    let (b, a) = (&trial.before, &trial.after);
    if b.seconds == 0 || a.seconds == 0 {
        return vec![format!("what was lost since is counted from {SETTLE_S} s after the change on")];
    }
    let mut parts = vec![
        format!("before → since: lost {:.1} → {:.1} % {}", b.lost_percent(), a.lost_percent(), origin(trial, snapshot)),
        format!("still {:.1} → {:.1} s", b.frozen_ms as f64 / 1000.0, a.frozen_ms as f64 / 1000.0),
        format!("queue {} → {} ms", number(Some(b.queue_ms)), number(Some(a.queue_ms))),
        format!("carried {} → {} kb/s", number(Some(b.sent_kbps)), number(Some(a.sent_kbps))),
    ];
    if let (Some(before), Some(after)) = (b.bits_per_pixel, a.bits_per_pixel) {
        parts.push(format!("picture {before:.3} → {after:.3} bits/px"));
    }
    parts
}
