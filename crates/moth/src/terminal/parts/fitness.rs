//! The Machine screen below the load: what would hurt a broadcast, with evidence and one thing to do.

use moth_plan::check::Check;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use crate::system::out::date;
use crate::terminal::parts::scroll::Scroll;
use crate::terminal::preparation::{Preparation, TestUnderWay};
use crate::terminal::style::format::{fit, wrap};
use crate::terminal::style::palette::{Palette, weight_mark};
use crate::terminal::style::paragraphs::wrapped;

/// Columns for a finding's mark, weight and subject. Ours.
const SUBJECTS: usize = 24;

pub(in crate::terminal) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    (preparation, scroll): (&Preparation, &Scroll),
    is_on_air: bool,
    palette: Palette,
) {
    let mut lines: Vec<Line<'static>> = Vec::new();
    match (&preparation.check, preparation.running) {
        (_, TestUnderWay::Machine) => lines.push(Line::styled("looking at the machine…", palette.strong())),
        (None, _) => lines.push(Line::raw("r looks at the machine: links, load, heat, memory, disk, names.")),
        (Some(check), _) => {
            let check = &if is_on_air { check.lasting() } else { check.as_ref().clone() };
            let told = check.sentence();
            let told = if is_on_air { format!("Beside its load: {}", lowered(&told)) } else { told };
            // What is above is now; this is as old as it is.
            let when =
                preparation.checked.map_or(String::new(), |at| format!(" Looked at {}; r looks again.", date(at)));
            let told = format!("{told}{when}");
            lines.extend(findings(check, told, palette, area.width));
        }
    }
    scroll.paint(frame, area, lines, palette);
}

/// As it stands behind a colon.
fn lowered(sentence: &str) -> String {
    let mut letters = sentence.chars();
    letters.next().map_or_else(String::new, |first| first.to_lowercase().chain(letters).collect())
}

fn findings(check: &Check, told: String, palette: Palette, width: u16) -> Vec<Line<'static>> {
    let columns = usize::from(width).saturating_sub(SUBJECTS);
    let mut lines = wrapped(&told, width, palette.strong());
    lines.push(Line::default());
    for finding in &check.findings {
        let style = palette.weight(finding.weight);
        let subject = format!("{} {:6} {}", weight_mark(finding.weight), finding.weight.word(), finding.subject);
        for (i, text) in wrap(&finding.evidence, columns).into_iter().enumerate() {
            let left = if i == 0 { fit(&subject, SUBJECTS - 1) } else { String::new() };
            lines.push(Line::from(vec![Span::styled(format!("{left:SUBJECTS$}"), style), Span::raw(text)]));
        }
        for (i, text) in finding.to_do.iter().flat_map(|to_do| wrap(to_do, columns.saturating_sub(2))).enumerate() {
            let lead = if i == 0 { "→ " } else { "  " };
            lines.push(Line::styled(format!("{:SUBJECTS$}{lead}{text}", ""), style));
        }
    }
    if !check.unread.is_empty() {
        lines.push(Line::default());
        let names: Vec<String> =
            check.unread.iter().map(|unread| format!("{} ({})", unread.subject, unread.why)).collect();
        let told = format!("Not readable here: {}.", names.join("; "));
        lines.extend(wrap(&told, width.into()).into_iter().map(|text| Line::styled(text, palette.faint())));
    }
    lines.into_iter().map(|line| line.style(Style::new())).collect()
}
