//! The keys that work here, and what the words and marks mean.

use moth_core::proposal::Action;
use moth_core::{Snapshot, State};
use ratatui::text::{Line, Span};

use super::app::App;
use super::palette::state_mark;
use super::verdict::key_of;

pub(super) fn lines(app: &App, snapshot: &Snapshot) -> Vec<Line<'static>> {
    let palette = app.palette;
    let key = |name: &str, what: &str| {
        Line::from(vec![Span::styled(format!("{name:>9}  "), palette.strong()), Span::raw(what.to_owned())])
    };
    let mut lines = Vec::new();
    let proposals = app.proposals();
    if let Some(first) = proposals.first() {
        lines.push(key("Enter", &first.title));
    }
    for proposal in proposals.iter().filter(|p| !matches!(p.action, Action::ByHand { .. })) {
        lines.push(key(key_of(&proposal.action), &proposal.title));
    }
    if snapshot.undo.is_some() {
        lines.push(key("u", "undo the last change"));
    }
    lines.push(key("← →", "look back and forth (PgUp PgDn by ten, Home start, Esc now)"));
    lines.push(key("+ -", &format!("fewer or more seconds in a column (now {})", app.seconds_per_column())));
    lines.push(key("q", "quit"));
    lines.push(Line::default());
    let word = |name: &str, what: &str| {
        Line::from(vec![Span::styled(format!("{name:>9}  "), palette.faint()), Span::raw(what.to_owned())])
    };
    lines.push(word("lagged", "rendering: the scene was late, the last picture came again"));
    lines.push(word("skipped", "encoder: not done with the last picture, so never encoded"));
    lines.push(word("dropped", "network: encoded, but not carried in time, so not sent"));
    lines.push(word("reported", "said by the broadcaster; measured: by the moth or the kernel"));
    lines.push(word("inferred", "read off the wire: likely, not certain"));
    let states = [State::Steady, State::Strained, State::Losing, State::Dark];
    let marks: Vec<String> = states.iter().map(|s| format!("{} {}", state_mark(Some(*s)), s.word())).collect();
    lines.push(word("marks", &format!("{}  ◆ change  ╵ event", marks.join("  "))));
    lines
}
