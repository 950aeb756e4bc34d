//! The Plan screen: the upload shared out, and the map of pictures it pays for.

use moth_core::rate::Bitrate;
use moth_plan::picture::{Cell, Look};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use super::before::Before;
use super::format::fit;
use super::palette::{Palette, look_mark};
use super::paragraphs::{paint, wrapped};
use crate::commands::key;
use crate::setup_in_use::advice::Advice;
use crate::setup_in_use::advice::breach_sentence;
use crate::setup_in_use::advice::budget_sentence;

/// Columns for a size, and for a cell of the map.
const SIZES: usize = 12;
const CELL: usize = 20;
/// Columns of the bar that shows a cell's share of its need, where there is room; twice the need fills it.
const NEED: usize = 16;

pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, before: &Before, palette: Palette) {
    let Some(plan) = before.plan() else {
        let told = "Nothing was measured yet, and a plan without a measurement is a guess. On Routes (3), Enter tests the servers and l measures the line.";
        let mut lines = wrapped(told, area.width, Style::new());
        lines.push(Line::default());
        lines.extend(setup_lines(before, palette, area.width));
        paint(frame, area, lines);
        return;
    };
    let roomy = area.height >= 34;
    let gap = u16::from(roomy);
    let rows = u16::try_from(plan.map.rows.len()).unwrap_or(1) + 1;
    let share = share_lines(&plan, palette, area.width, roomy);
    let [head, _, map, _, foot] = Layout::vertical([
        Constraint::Length(u16::try_from(share.len()).unwrap_or(4)),
        Constraint::Length(gap),
        // On a small screen the map makes room for what the service asks and for the setup.
        Constraint::Length(rows.min(area.height.saturating_sub(if roomy { 10 } else { 14 })).max(4)),
        Constraint::Length(gap),
        Constraint::Min(2),
    ])
    .areas(area);
    paint(frame, head, share);
    draw_map(frame, map, before, &plan, palette);
    let mut lines = under_cursor(before, &plan, palette, area.width, roomy);
    if roomy {
        lines.push(Line::default());
    }
    for breach in &plan.breaches {
        lines.extend(wrapped(
            &format!("! {}", breach_sentence(breach, &before.in_use.service.name)),
            area.width,
            palette.alarm(),
        ));
    }
    if plan.breaches.is_empty() {
        let told = format!("The setup is within everything {} asks for.", before.in_use.service.name);
        lines.extend(wrapped(&told, area.width, Style::new()));
    }
    if roomy {
        lines.push(Line::default());
    }
    lines.extend(setup_lines(before, palette, area.width));
    let viewers =
        format!("Viewers need {} of download and {:.1} GB an hour.", plan.viewers.download, plan.viewers.gb_per_hour);
    lines.extend(wrapped(&viewers, area.width, palette.faint()));
    paint(frame, foot, lines);
}

/// The upload as one band, shared out: video, audio, headroom, household. Each part has its word below it.
fn share_lines(plan: &Advice, palette: Palette, width: u16, roomy: bool) -> Vec<Line<'static>> {
    let columns = usize::from(width).saturating_sub(1).max(10);
    let all = plan.basis.sustained.max(plan.budget.total()).bps() as f64;
    let part = |rate: Bitrate| ((rate.bps() as f64 / all.max(1.0)) * columns as f64).round() as usize;
    let household = plan.setup.household.min(plan.budget.left);
    let free = plan.budget.left.less(household);
    let parts = [
        ("video", '▇', plan.budget.advised(), palette.quantity()),
        ("audio", '▅', plan.budget.audio, palette.fault(moth_core::suspects::Fault::Rendering)),
        ("household", '░', household, palette.faint()),
        ("free", '·', free, palette.faint()),
    ];
    let (mut band, mut words, mut used) = (Vec::new(), String::new(), 0);
    for (word, mark, rate, style) in parts {
        if rate == Bitrate::ZERO {
            continue;
        }
        let wide = if word == "free" {
            columns.saturating_sub(used)
        } else {
            part(rate).max(1).min(columns.saturating_sub(used))
        };
        let label = format!("{word} {rate}");
        // Words stand below where their part begins, as far as they do not push each other away.
        if words.chars().count() <= used {
            words.push_str(&" ".repeat(used - words.chars().count()));
        } else {
            words.push_str("  ");
        }
        words.push_str(&label);
        band.push(Span::styled(mark.to_string().repeat(wide), style));
        used += wide;
    }
    let mut lines = vec![Line::from(band), Line::styled(fit(&words, columns), palette.faint())];
    if roomy {
        lines.push(Line::default());
    }
    lines.extend(wrapped(&budget_sentence(plan), width, palette.strong()));
    lines
}

fn draw_map(frame: &mut Frame<'_>, area: Rect, before: &Before, plan: &Advice, palette: Palette) {
    let map = &plan.map;
    let motion = format!("{:<SIZES$}", map.motion.word());
    let mut head = vec![Span::styled(motion, palette.strong())];
    let room = usize::from(area.width).saturating_sub(SIZES) / map.rates.len().max(1);
    let with_bars = room >= CELL + NEED + 2;
    let wide = if with_bars { CELL + NEED + 2 } else { CELL.min(room).max(8) };
    for fps in &map.rates {
        head.push(Span::styled(format!("{:<wide$}", fit(&format!("{fps} frames/s"), wide)), palette.faint()));
    }
    if usize::from(area.width) > SIZES + wide * map.rates.len() + 40 {
        let told =
            if with_bars { "bits per pixel; the bar: share of the need, ┃ all of it" } else { "bits per pixel" };
        head.push(Span::styled(told, palette.faint()));
    }
    frame.render_widget(Line::from(head), Rect { height: 1, ..area });
    let cursor = before.cell.unwrap_or(map.recommended);
    let room = usize::from(area.height).saturating_sub(1);
    // With less room than rows, those around the cursor are shown.
    let first = cursor.0.saturating_sub(room / 2).min(map.rows.len().saturating_sub(room));
    for (y, (i, row)) in map.rows.iter().enumerate().skip(first).take(room).enumerate() {
        let in_use = |cell: &Cell| cell.size == plan.setup.size && (cell.fps - plan.setup.rate).abs() < 0.01;
        let mut spans = vec![Span::raw(format!("{:>9}   ", map.sizes[i].to_string()))];
        for (j, cell) in row.iter().enumerate() {
            let mark = match ((i, j) == map.recommended, in_use(cell)) {
                (true, _) => '▸',
                (false, true) => '◆',
                (false, false) => ' ',
            };
            let told = format!("{mark}{} {:<6} {:.3}", look_mark(cell.look), cell.look.word(), cell.bits_per_pixel);
            let tone = palette.look(cell.look);
            let style = if (i, j) == cursor { tone.patch(palette.key()) } else { tone };
            let told = fit(&told, wide.min(CELL) - 1);
            let pad = wide.min(CELL).saturating_sub(told.chars().count());
            spans.push(Span::styled(told, style));
            spans.push(Span::raw(" ".repeat(pad)));
            if with_bars {
                spans.push(Span::styled(need_bar(cell), tone));
                spans.push(Span::raw("  "));
            }
        }
        let y = area.y + 1 + u16::try_from(y).unwrap_or(0);
        frame.render_widget(Line::from(spans), Rect { y, height: 1, ..area });
    }
}

/// A cell's share of its need, up to twice of it.
fn need_bar(cell: &Cell) -> String {
    let filled = (cell.share_of_need / 2.0 * NEED as f64).round() as usize;
    (0..NEED)
        .map(|column| match column {
            _ if column == NEED / 2 => '┃',
            _ if column < filled => '▇',
            _ => '·',
        })
        .collect()
}

/// What the cell under the cursor would be, and what the recommended one is for.
fn under_cursor(before: &Before, plan: &Advice, palette: Palette, width: u16, roomy: bool) -> Vec<Line<'static>> {
    let map = &plan.map;
    let Some((row, column)) = before.cell.filter(|cell| *cell != map.recommended) else {
        let mut lines = wrapped(&format!("▸ {}.", map.reason()), width, Style::new());
        for step in map.steps().into_iter().take(if roomy { 4 } else { 1 }) {
            lines.push(Line::styled(fit(&format!("  {step}"), width.into()), palette.faint()));
        }
        return lines;
    };
    let Some(cell) = map.rows.get(row).and_then(|row| row.get(column)) else { return Vec::new() };
    let told = format!(
        "{} at {} frames/s: {} of what {} pictures need, {}: {}.",
        cell.size,
        cell.fps,
        moth_plan::text::percent(cell.share_of_need),
        map.motion.word(),
        cell.look.word(),
        cell.look.meaning()
    );
    wrapped(&told, width, Style::new())
}

/// The setup as it is, and its key.
fn setup_lines(before: &Before, palette: Palette, width: u16) -> Vec<Line<'static>> {
    let (setup, in_use) = (&before.in_use.setup, &before.in_use);
    let encoder =
        [setup.encoder.as_deref(), setup.preset.as_deref()].into_iter().flatten().collect::<Vec<_>>().join(" ");
    let told = format!(
        "Setup {}: {}, server {}; {} at {} frames/s, {} of video, {} of audio, {} {encoder}.",
        in_use.setup_name,
        in_use.service.name,
        setup.server,
        setup.size,
        setup.rate,
        setup.bitrate,
        setup.audio,
        setup.codec
    );
    let mut lines = wrapped(&told, width, palette.faint());
    let key = key::status(in_use.key_status());
    lines.push(Line::styled(fit(&format!("{}: {key}.", in_use.service.name), width.into()), palette.faint()));
    lines
}

/// The marks on this screen, for the help.
pub(super) fn marks() -> String {
    let looks = [Look::Spare, Look::Good, Look::Soft, Look::Blocky].map(|l| format!("{} {}", look_mark(l), l.word()));
    format!("▸ recommended  ◆ the setup's  {}", looks.join("  "))
}
