//! Above a rehearsal: what it is, where it goes, and what is waited for before it begins.

use moth_core::Snapshot;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};

use crate::rehearsal::run::Run;
use crate::terminal::style::format::fit;
use crate::terminal::style::palette::Palette;

/// Columns of a bar. Ours.
const BAR: usize = 20;

/// Where it goes, above everything while one runs.
pub(in crate::terminal) fn heading(palette: Palette, run: &Run, what: &str, right: &str, area: Rect) -> Line<'static> {
    let to = match (&run.about.simulated, run.about.is_made_up) {
        (_, true) => format!("to {} on the observatory's afternoon, all made up", run.about.server),
        (Some(_), false) => "to a stand-in server: the line is simulated".into(),
        (None, false) => format!("to {}", run.about.server),
    };
    let left = format!("{what} · {to}");
    let room = usize::from(area.width).saturating_sub(right.chars().count() + 2);
    let pad = usize::from(area.width).saturating_sub(fit(&left, room).chars().count() + right.chars().count());
    Line::from(vec![
        Span::styled(fit(&left, room), palette.strong()),
        Span::raw(" ".repeat(pad)),
        Span::styled(right.to_owned(), palette.faint()),
    ])
}

pub(in crate::terminal) fn bar(done: usize, of: usize) -> String {
    let filled = (done * BAR).checked_div(of).unwrap_or(0).min(BAR);
    format!("{}{}", "▇".repeat(filled), "·".repeat(BAR - filled))
}

/// What is waited for before anything is tried.
pub(in crate::terminal) fn waiting(run: &Run, snapshot: &Snapshot) -> String {
    match (&run.about.publish_to, snapshot.on_air_since) {
        (Some(to), None) => format!("Waiting for your broadcaster: have it publish to {to}, with any stream key."),
        (None, None) => "Waiting for the encoder to publish.".into(),
        (_, Some(_)) => format!("The broadcaster is there; {} does not take it yet.", run.about.server),
    }
}
