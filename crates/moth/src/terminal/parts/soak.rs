//! A soak, as it goes and when it is over.

use moth_core::Snapshot;
use moth_core::suspects::Fault;
use moth_rehearsal::finding::lasted;
use moth_rehearsal::soak::{Soak, Soaked};
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use crate::rehearsal::run::Run;
use crate::rehearsal::told;
use crate::terminal::parts::rehearsal_heading::{bar, heading, waiting};
use crate::terminal::parts::rungs::GAVE_WAY;
use crate::terminal::style::format::fit;
use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::wrapped;

pub(in crate::terminal) fn soaking(
    (palette, to_do_at): (Palette, usize),
    run: &Run,
    soak: &Soak,
    snapshot: &Snapshot,
    area: Rect,
) -> Vec<Line<'static>> {
    let (seconds, of) = soak.progress();
    let left = format!("{} left", lasted(of.saturating_sub(seconds)));
    let mut lines = vec![heading(palette, run, "Soak", &left, area)];
    let soaked = soak.soaked();
    if soak.is_running() {
        let told = if seconds == 0 { "Its first seconds do not count.".into() } else { soaked.sentence() };
        lines.push(Line::from(vec![
            Span::styled(bar(seconds, of), palette.quantity()),
            Span::raw(format!(" {}", lasted(seconds))),
        ]));
        lines.extend(wrapped(&told, area.width, palette.strong()));
    } else {
        let told = waiting(run, snapshot);
        lines.extend(wrapped(&told, area.width, palette.strong()));
    }
    let verdict = &snapshot.verdict;
    if verdict.fault != Fault::None {
        let said = format!("{}: {}", verdict.fault.word().to_uppercase(), verdict.sentence);
        lines.extend(wrapped(&said, area.width, palette.fault(verdict.fault)));
    }
    lines.push(Line::default());
    lines.push(Line::styled(
        "Do these one after another, and tick each: it is marked on the lanes of Watch.",
        palette.faint(),
    ));
    let from = soaked.from;
    for (i, to_do) in soaked.to_do.iter().enumerate() {
        let mark = if to_do.done_at.is_some() { '✓' } else { '·' };
        let when = to_do.done_at.map_or(String::new(), |at| format!("  {} into it", lasted(at.saturating_sub(from))));
        let style = if i == to_do_at { palette.key() } else { Style::new() };
        lines.push(Line::from(vec![
            Span::styled(fit(&format!(" {mark} {} ", to_do.text), usize::from(area.width).saturating_sub(20)), style),
            Span::styled(when, palette.faint()),
        ]));
    }
    lines.extend(broke_lines(palette, &soaked, area));
    lines
}

pub(in crate::terminal) fn soak_over(palette: Palette, run: &Run, soaked: &Soaked, area: Rect) -> Vec<Line<'static>> {
    let mut lines = vec![heading(palette, run, "Soak: over", "", area)];
    for (i, sentence) in told::sentences(run).iter().enumerate() {
        lines.extend(wrapped(sentence, area.width, if i == 0 { palette.strong() } else { Style::new() }));
    }
    lines.extend(broke_lines(palette, soaked, area));
    let undone: Vec<&str> = soaked.to_do.iter().filter(|t| t.done_at.is_none()).map(|t| t.text.as_str()).collect();
    if !undone.is_empty() {
        lines.push(Line::default());
        lines.extend(wrapped(&format!("Not done meanwhile: {}.", undone.join("; ")), area.width, palette.faint()));
    }
    lines
}

fn broke_lines(palette: Palette, soaked: &Soaked, area: Rect) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    if soaked.broke.is_empty() {
        return lines;
    }
    lines.push(Line::default());
    lines.push(Line::styled("What broke it", palette.faint()));
    for broke in soaked.broke.iter().rev().take(8) {
        let fault = broke.at_fault.map_or(Fault::None, |(fault, _)| fault);
        let told = format!("{GAVE_WAY} {}", broke.words(soaked.from));
        lines.extend(wrapped(&told, area.width, palette.fault(fault)));
    }
    lines
}
