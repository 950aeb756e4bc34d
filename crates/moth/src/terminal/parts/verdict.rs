//! The verdict in a sentence with its numbers, and the next action on one key with what it costs.

use std::time::Duration;

use moth_core::Snapshot;
use moth_core::action::Action;
use moth_core::proposal::Proposal;
use moth_core::suspects::{Evidence, Fault, Weighed};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use crate::terminal::dialogs::choice::Kind;
use crate::terminal::style::format::{clock, fit, wrap};
use crate::terminal::style::palette::Palette;

/// Columns of the bar at the left. Ours.
const BAR: usize = 2;

/// With more rows there is room for who comes second. Ours.
const TALL: u16 = 12;
/// Evidence on who comes second. Ours.
const OF_SECOND: usize = 3;

/// Who is the likeliest after the one at fault.
fn runner_up(snapshot: &Snapshot) -> Option<&Weighed> {
    let verdict = &snapshot.verdict;
    let suspect = verdict.suspects.iter().find(|suspect| suspect.fault == verdict.fault)?;
    suspect.weighed.iter().find(|weighed| Some(weighed.cause) != verdict.cause)
}

fn told_of(second: &Weighed) -> impl Iterator<Item = &Evidence> {
    second.evidence.iter().filter(|evidence| evidence.bans.abs() >= 0.05).take(OF_SECOND)
}

/// Rows it wants, at most so many.
pub(in crate::terminal) fn rows(snapshot: &Snapshot, width: u16, most: u16) -> u16 {
    let sentence = wrap(&snapshot.verdict.sentence, usize::from(width).saturating_sub(BAR + 2)).len();
    let evidence = if most > 8 { snapshot.verdict.evidence.len().min(3) } else { 0 };
    let second = if most > TALL { runner_up(snapshot).map_or(0, |second| 1 + told_of(second).count()) } else { 0 };
    let wanted =
        second + 1 + sentence + evidence + snapshot.verdict.proposals.len().min(3) * if most > 8 { 2 } else { 1 };
    let columns = usize::from(width).saturating_sub(BAR + 2);
    let of_other = |sentence: &str| if most > 8 { 2 + wrap(sentence, columns).len() } else { 1 };
    let wanted = wanted + snapshot.verdict.others().iter().map(|other| of_other(&other.sentence)).sum::<usize>();
    // It does not shrink below this, so that the lanes do not jump when trouble comes.
    u16::try_from(wanted).unwrap_or(most).max(if most > 8 { 9 } else { 4 }).min(most)
}

/// The key of an action.
pub(in crate::terminal) fn key_of(action: &Action) -> char {
    Kind::of(action).key()
}

/// What its key does, in a word or two.
pub(in crate::terminal) fn key_words(proposal: &Proposal) -> &'static str {
    if proposal.possible { "do it" } else { "how it is done" }
}

/// What a verdict is drawn with beside itself.
#[derive(Clone, Copy)]
pub(in crate::terminal) struct Around<'a> {
    pub palette: Palette,
    /// Where broadcasters publish to, while none does.
    pub publish_to: Option<&'a str>,
    /// Changes can be made: it is no replay, and nobody looks back.
    pub takes_changes: bool,
    /// It is how things stood in this second, and not now.
    pub looks_back_at: Option<usize>,
}

pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, around: Around<'_>, snapshot: &Snapshot) {
    let palette = around.palette;
    let verdict = &snapshot.verdict;
    let tone = palette.fault(verdict.fault);
    let columns = usize::from(area.width).saturating_sub(BAR);
    let roomy = area.height > 6;

    let head = match verdict.fault {
        Fault::None => vec![Span::styled(
            if snapshot.on_air_since.is_some() { "nothing at fault" } else { "waiting" },
            palette.strong(),
        )],
        fault => vec![
            Span::styled(format!("{} at fault", fault.word()), tone.patch(palette.strong())),
            Span::styled(
                format!(
                    "  {}  {:.0} % sure  since {} ({})",
                    verdict.cause.map_or("cause unknown", |c| c.words()),
                    verdict.confidence * 100.0,
                    clock(verdict.since.since(moth_core::Moment::START)),
                    clock(snapshot.at.since(verdict.since)),
                ),
                tone,
            ),
        ],
    };
    let mut lines = vec![Line::from(head)];
    if let (Some(second), Some(head)) = (around.looks_back_at, lines.first_mut()) {
        let then = format!("at {}  ", clock(Duration::from_secs(second as u64)));
        head.spans.insert(0, Span::styled(then, palette.strong()));
    }
    lines.extend(wrap(&verdict.sentence, columns).into_iter().map(Line::from));
    if let (None, Some(address), None) = (snapshot.on_air_since, around.publish_to, around.looks_back_at) {
        lines.push(Line::from(vec![
            Span::raw("Publish to "),
            Span::styled(address, palette.strong()),
            Span::raw(" with any stream key."),
        ]));
    }
    if roomy && verdict.fault != Fault::None {
        lines.extend(verdict.evidence.iter().take(3).map(|evidence| evidence_line(evidence, palette, columns)));
    }
    for notice in snapshot.notices.iter().take(if roomy && verdict.fault == Fault::None { 4 } else { 0 }) {
        let told = format!("{} ({})", notice.text, notice.origin.word());
        for (n, row) in wrap(&told, columns.saturating_sub(9)).into_iter().enumerate() {
            let lead = if n == 0 { "no loss  " } else { "         " };
            lines.push(Line::from(vec![Span::styled(lead, palette.faint()), Span::raw(row)]));
        }
    }
    // The second fault has its place whatever the first has to say.
    let others = other_lines(snapshot, around, columns, roomy);
    let rows = usize::from(area.height).saturating_sub(others.len());
    for proposal in verdict.proposals.iter().take(3) {
        let next = proposal_lines(proposal, around, columns, roomy);
        if lines.len() + next.len() <= rows && lines.len() < rows {
            lines.extend(next);
        }
    }
    lines.truncate(rows);
    lines.extend(others);
    if let Some(second) = runner_up(snapshot).filter(|_| area.height > TALL) {
        let share = (second.share * 100.0).min(99.0);
        let share = if share < 1.0 { "under 1 %".into() } else { format!("{share:.0} %") };
        let told = format!("the next likeliest: {}, {share}", second.cause.words());
        lines.push(Line::styled(told, palette.strong()));
        lines.extend(told_of(second).map(|evidence| evidence_line(evidence, palette, columns)));
    }
    for (i, line) in lines.into_iter().take(area.height.into()).enumerate() {
        let row = Rect { y: area.y + u16::try_from(i).unwrap_or(0), height: 1, ..area };
        let bar = Line::styled(if verdict.fault == Fault::None { "│ " } else { "┃ " }, tone);
        frame.render_widget(bar, Rect { width: 2, ..row });
        let text = Rect { x: row.x + 2, width: row.width.saturating_sub(2), ..row };
        frame.render_widget(line, text);
    }
}

/// What speaks for a cause, or against it.
fn evidence_line(evidence: &Evidence, palette: Palette, columns: usize) -> Line<'static> {
    let word = if evidence.bans >= 0.0 { "for      " } else { "against  " };
    Line::from(vec![
        Span::styled(word, palette.faint()),
        Span::raw(fit(&evidence.text, columns.saturating_sub(22))),
        Span::styled(format!("  {}", evidence.origin.map_or("", |origin| origin.word())), palette.faint()),
    ])
}

/// The faults that cost less at the same time, each with the key of what would mend it.
fn other_lines(snapshot: &Snapshot, around: Around<'_>, columns: usize, roomy: bool) -> Vec<Line<'static>> {
    let verdict = &snapshot.verdict;
    let mut kinds: Vec<Kind> = verdict.proposals.iter().take(3).map(|proposal| Kind::of(&proposal.action)).collect();
    let mut lines = Vec::new();
    for suspect in verdict.others() {
        let tone = around.palette.fault(suspect.fault);
        let cause = suspect.cause.map_or("cause unknown", |cause| cause.words());
        let sure = format!("{:.0} % sure", suspect.confidence * 100.0);
        // A key does one thing at a time: what the first fault has on it, it has.
        let next = suspect.proposals.iter().find(|proposal| !kinds.contains(&Kind::of(&proposal.action)));
        kinds.extend(next.map(|proposal| Kind::of(&proposal.action)));
        if roomy {
            lines.push(Line::from(vec![
                Span::styled(format!("{} at fault as well", suspect.fault.word()), tone.patch(around.palette.strong())),
                Span::styled(format!("  {cause}  {sure}"), tone),
            ]));
            lines.extend(wrap(&suspect.sentence, columns).into_iter().map(Line::raw));
            lines.extend(next.and_then(|next| proposal_lines(next, around, columns, true).into_iter().next()));
        } else {
            let mut line = vec![Span::styled(format!("as well: {}, {cause}  ", suspect.fault.word()), tone)];
            if let Some(next) = next {
                let used: usize = line.iter().map(Span::width).sum();
                line.push(lead(next, around));
                line.push(Span::raw(fit(&format!(" {}", next.title), columns.saturating_sub(used + 3))));
            }
            lines.push(Line::from(line));
        }
    }
    lines
}

/// The key of a proposal; a replay takes no changes, and offers none.
fn lead(proposal: &Proposal, around: Around<'_>) -> Span<'static> {
    if !around.takes_changes {
        return Span::raw("   ");
    }
    Span::styled(format!(" {} ", key_of(&proposal.action)), around.palette.key())
}

fn proposal_lines(proposal: &Proposal, around: Around<'_>, columns: usize, roomy: bool) -> Vec<Line<'static>> {
    let palette = around.palette;
    let lead = lead(proposal, around);
    let is_hand = matches!(proposal.action, Action::ByHand { .. });
    let gap = "      ";
    let hand = if proposal.possible || is_hand || !around.takes_changes { "" } else { " (by hand: this key says how)" };
    let mut title = vec![
        lead,
        Span::raw(gap),
        Span::styled(fit(&format!("{}{hand}", proposal.title), columns.saturating_sub(10)), palette.strong()),
    ];
    let about = match &proposal.action {
        Action::ByHand { .. } if !around.takes_changes => format!("by hand; expected: {}", proposal.expected),
        Action::ByHand { .. } => format!("by your own hand, this key says how; expected: {}", proposal.expected),
        _ => format!("{}; expected: {}", proposal.cost, proposal.expected),
    };
    if roomy {
        let about = wrap(&about, columns.saturating_sub(9)).into_iter();
        std::iter::once(Line::from(title)).chain(about.map(|row| Line::raw(format!("         {row}")))).collect()
    } else {
        let used = Line::from(title.clone()).width();
        // Without its figures rather than with half of them: `a` has all.
        let whole = format!("  {}", proposal.cost);
        let short = whole.split([':', ';']).next().unwrap_or_default().to_owned();
        let fits = [whole, short].into_iter().find(|cost| used + cost.width() <= columns);
        title.extend(fits.map(|cost| Span::styled(cost, palette.faint())));
        vec![Line::from(title)]
    }
}
