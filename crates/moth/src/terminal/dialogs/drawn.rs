//! What lies over the screen: help, confirmations, and what to do by hand.

use moth_core::Snapshot;
use moth_core::action::Action;
use moth_core::played_back::later;
use moth_core::proposal::Proposal;
use moth_core::sentence::capitalised;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Padding, Paragraph, Wrap};

use super::Dialog;
use super::choice::{self, Choice, Kind};
use super::events;
use crate::cli::meant;
use crate::terminal::dialogs::export::Export;
use crate::terminal::screen::{HelpLines, Screen, Shown, is_small};
use crate::terminal::screens;
use crate::terminal::screens::logbook::Typing;
use crate::terminal::style::format::{number, wrap};
use crate::terminal::style::palette::Palette;

/// Columns a dialog's text may take. Ours.
const COLUMNS: u16 = 74;

/// Draws a dialog over a screen.
pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, dialog: &Dialog, screen: &Screen, shown: Shown<'_>) {
    let Shown { snapshot, palette, .. } = shown;
    let (title, lines) = match dialog {
        Dialog::Help => (" Keys and words ", help(screen, shown)),
        Dialog::Evidence(told) => (" Evidence ", evidence(told, palette)),
        Dialog::Confirm(proposal) => (" Sure? ", confirm(proposal, palette)),
        Dialog::ByHand(proposal) => (" By your own hand ", by_hand(proposal, palette, snapshot)),
        Dialog::Changes(at) => (" Change something ", changes(*at, palette, snapshot)),
        Dialog::Events(at) => (" What happened ", happened(*at, palette, snapshot, area)),
        Dialog::Choose(choice) => (" Change it to ", choose(choice, palette)),
        Dialog::ConfirmQuit => (" Quit? ", quit(palette, shown.model.is_apart)),
        Dialog::Consent(_, words) => (" Publish filler? ", consent(words, palette)),
        Dialog::ConsentRehearsal(words) => (" Rehearse it? ", consent_rehearsal(words, palette)),
        Dialog::EnterUpload(typed) => (" What the upload sustains ", enter_upload(typed, palette)),
        Dialog::EnterToDo(typed) => (" Something more to do ", enter_to_do(typed, palette)),
        Dialog::EnterKey(typed) => (" A new stream key ", enter_key(palette, typed.is_empty())),
        Dialog::EnterLog(what, typed) => (typing_title(*what), enter_log(*what, typed, palette)),
        Dialog::RemoveKept(_, words) => (" Remove it? ", remove_kept(words, palette)),
        Dialog::Over(told) => (" The broadcast is over ", over(told, palette)),
        Dialog::Export(export) => (" Take it away ", take_away(export, palette)),
        Dialog::ForgetKey => (" Forget the stream key? ", forget_key(palette)),
    };
    if is_small(area) {
        return draw_small(frame, area, lines);
    }
    let (lines, title) = in_sight(lines, title, area, dialog, shown);
    let width = (COLUMNS + 4).min(area.width);
    let height = (u16::try_from(lines.len()).unwrap_or(u16::MAX).saturating_add(2)).min(area.height);
    // At the foot, over the verdict: what the question is about stays in sight.
    let y = area.bottom().saturating_sub(height + 1).max(area.y);
    let place = Rect { x: area.x + (area.width - width) / 2, y, width, height };
    frame.render_widget(Clear, place);
    let block = Block::bordered().title(Span::styled(title, palette.strong())).padding(Padding::horizontal(1));
    frame.render_widget(Paragraph::new(lines).block(block), place);
}

/// As much of a long text as there is room for, from where it was gone to; its title says that there is more.
fn in_sight(
    mut lines: Vec<Line<'static>>,
    title: &'static str,
    area: Rect,
    dialog: &Dialog,
    shown: Shown<'_>,
) -> (Vec<Line<'static>>, String) {
    let room = usize::from(area.height.saturating_sub(3));
    if !matches!(dialog, Dialog::Help | Dialog::Evidence(_)) {
        return (lines, title.to_owned());
    }
    let (scroll, total) = (&shown.model.dialog_scroll, lines.len());
    let first = scroll.window(total, room.min(total));
    if total <= room {
        return (lines, title.to_owned());
    }
    lines.drain(..first);
    lines.truncate(room);
    (lines, format!("{title}· rows {} to {} of {total}: ↑ ↓ ", first + 1, first + room))
}

fn evidence(told: &[String], palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    for (n, told) in told.iter().enumerate() {
        let from = lines.len();
        for (i, row) in wrap(told, usize::from(COLUMNS) - if n == 0 { 0 } else { 12 }).into_iter().enumerate() {
            // What follows the first row stands below what is said, not below how much it weighs.
            let indent = if n == 0 || i == 0 { "" } else { "            " };
            lines.push(Line::raw(format!("{indent}{row}")));
        }
        if n == 0 {
            lines.iter_mut().skip(from).for_each(|line| line.style = palette.strong());
        }
    }
    lines
}

/// With no room for more it takes the whole screen, and what can be answered stays at its foot.
fn draw_small(frame: &mut Frame<'_>, area: Rect, mut lines: Vec<Line<'static>>) {
    frame.render_widget(Clear, area);
    let (Some(answers), 1..) = (lines.pop(), area.height) else { return };
    let text = Rect { height: area.height - 1, ..area };
    frame.render_widget(Paragraph::new(lines).wrap(Wrap { trim: true }), text);
    frame.render_widget(answers, Rect { y: area.bottom() - 1, height: 1, ..area });
}

/// What `?` shows on a screen.
fn help(screen: &Screen, shown: Shown<'_>) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    let screens: Vec<&str> = screens::ALL.iter().map(|screen| screen.name).collect();
    (screen.help)(shown, HelpLines { palette: shown.palette, lines: &mut lines, screens: &screens });
    lines
}

fn text(lines: &mut Vec<Line<'static>>, what: &str) {
    lines.extend(wrap(what, usize::from(COLUMNS)).into_iter().map(Line::from));
}

fn answers(palette: Palette, answers: &[(&'static str, &'static str)]) -> Line<'static> {
    let mut spans = Vec::new();
    for (key, what) in answers {
        spans.push(Span::styled(format!(" {key} "), palette.key()));
        spans.push(Span::styled(format!(" {what}   "), Style::new()));
    }
    Line::from(spans)
}

fn confirm(proposal: &Proposal, palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    text(&mut lines, &format!("{}?", capitalised(&proposal.title)));
    text(&mut lines, &format!("It costs: {}.", proposal.cost));
    text(&mut lines, &format!("Expected: {}.", proposal.expected));
    lines.push(Line::default());
    lines.push(answers(palette, &[("y", "do it"), ("n", "leave it as it is")]));
    lines
}

/// What came of playing it back last, in a few words.
fn played_back(snapshot: &Snapshot) -> String {
    match &snapshot.played_back {
        None => "not yet, at this server".into(),
        Some(played) if !played.plays() => "nothing came".into(),
        Some(played) if played.lacks_pictures() => "sound, no picture".into(),
        Some(played) => {
            played.delay_ms.map_or_else(|| "it plays".into(), |ms| format!("it plays, {} later", later(ms)))
        }
    }
}

/// All that can be changed, each on its key, with how it is now.
fn changes(at: usize, palette: Palette, snapshot: &Snapshot) -> Vec<Line<'static>> {
    let stream = &snapshot.stream;
    let unknown = || "not known".to_owned();
    let now = |kind: Kind| match kind {
        Kind::Bitrate => {
            stream.video_bitrate.or(snapshot.intended.video_bitrate).map_or_else(unknown, |b| b.to_string())
        }
        Kind::Server => snapshot.server.clone(),
        Kind::Size => stream.width.zip(stream.height).map_or_else(unknown, |(w, h)| format!("{w}x{h}")),
        Kind::Rate => stream.fps.map_or_else(unknown, |fps| format!("{fps:.0} frames/s")),
        Kind::Keeper => snapshot.keeper.mode.word().into(),
        Kind::Failover => if snapshot.failover { "on" } else { "off" }.into(),
        Kind::Playback => played_back(snapshot),
        Kind::Preset | Kind::Priority | Kind::Hand => String::new(),
    };
    let mut lines = Vec::new();
    for (n, kind) in Kind::ALL.into_iter().enumerate() {
        let (lead, style) = if n == at { ("▸ ", palette.strong()) } else { ("  ", Style::new()) };
        lines.push(Line::from(vec![
            Span::styled(lead, palette.strong()),
            Span::styled(format!(" {} ", kind.key()), palette.key()),
            Span::styled(format!("  {:<32}", kind.words()), style),
            Span::styled(now(kind), palette.faint()),
        ]));
    }
    lines.push(Line::default());
    lines.push(answers(palette, &[("↑ ↓", "choose"), ("Enter", "change it"), ("any other key", "close")]));
    lines
}

fn choose(choice: &Choice, palette: Palette) -> Vec<Line<'static>> {
    let mut lines = vec![Line::styled(capitalised(choice.kind.words()), palette.faint())];
    lines.extend(choice::lines(choice, palette, usize::from(COLUMNS)));
    lines.push(Line::default());
    lines.push(answers(palette, &[("↑ ↓", "choose"), ("Enter", "do it"), ("Esc", "leave it as it is")]));
    lines
}

fn take_away(export: &Export, palette: Palette) -> Vec<Line<'static>> {
    let mut lines = export.lines(palette, usize::from(COLUMNS));
    lines.push(answers(palette, &[("Enter", "write the file"), ("Esc", "leave it")]));
    lines
}

fn consent(words: &str, palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    text(&mut lines, &format!("{words}."));
    lines.push(Line::default());
    lines.push(answers(palette, &[("y", "publish it"), ("n", "leave it")]));
    lines
}

fn consent_rehearsal(words: &str, palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    text(&mut lines, &format!("{words}."));
    lines.push(Line::default());
    lines.push(answers(palette, &[("y", "begin"), ("n", "leave it")]));
    lines
}

fn enter_upload(typed: &str, palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    text(
        &mut lines,
        "As your provider says, or another test; upload, not download. It counts until the moth is quit. Empty: what was measured.",
    );
    lines.push(Line::from(vec![Span::styled(typed.to_owned(), palette.strong()), Span::raw("▏")]));
    // Said back before it counts.
    let said = match meant::bitrate(typed) {
        _ if typed.trim().is_empty() => String::new(),
        Ok((rate, None)) => format!("= {rate}"),
        Ok((rate, Some(why))) => format!("= {rate} ({why})"),
        Err(error) => format!("× {error}"),
    };
    text(&mut lines, &said);
    lines.push(answers(palette, &[("Enter", "plan with it"), ("Esc", "leave it")]));
    lines
}

fn enter_to_do(typed: &str, palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    text(&mut lines, "It goes into the setup's list, and is there the next time as well.");
    lines.push(Line::from(vec![Span::styled(typed.to_owned(), palette.strong()), Span::raw("▏")]));
    lines.push(Line::default());
    lines.push(answers(palette, &[("Enter", "add it"), ("Esc", "leave it")]));
    lines
}

fn typing_title(what: Typing) -> &'static str {
    match what {
        Typing::Words => " Find ",
        Typing::Title(_) => " A title ",
        Typing::Note(_) => " A note ",
    }
}

fn enter_log(what: Typing, typed: &str, palette: Palette) -> Vec<Line<'static>> {
    let (told, enter) = match what {
        Typing::Words => {
            ("Words of a title or a note, a date like 2026-11-20 or friday, a setup, what was at fault.", "find")
        }
        Typing::Title(_) => ("It is shown in the list.", "keep it"),
        Typing::Note(_) => ("Whatever is worth knowing in a month.", "keep it"),
    };
    let mut lines = Vec::new();
    text(&mut lines, told);
    let shown = wrap(&format!("{typed}▏"), usize::from(COLUMNS));
    // Where one types stays in sight.
    let first = shown.len().saturating_sub(8);
    lines.extend(shown.into_iter().skip(first).map(|line| Line::styled(line, palette.strong())));
    lines.push(Line::default());
    lines.push(answers(palette, &[("Enter", enter), ("Esc", "leave it")]));
    lines
}

fn remove_kept(words: &str, palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    text(&mut lines, &format!("{}. It is gone for good then.", capitalised(words)));
    lines.push(Line::default());
    lines.push(answers(palette, &[("y", "remove it"), ("n", "keep it")]));
    lines
}

fn happened(at: usize, palette: Palette, snapshot: &Snapshot, area: Rect) -> Vec<Line<'static>> {
    let room = (usize::from(COLUMNS), usize::from(area.height.saturating_sub(8)));
    let mut lines = events::lines(snapshot, at, palette, room);
    lines.push(Line::default());
    lines.push(answers(palette, &[("↑ ↓", "another"), ("Enter", "go there"), ("Esc", "close")]));
    lines
}

fn over(told: &[String], palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    for (n, told) in told.iter().enumerate() {
        let from = lines.len();
        text(&mut lines, told);
        if n == 0 {
            lines.iter_mut().skip(from).for_each(|line| line.style = palette.strong());
        }
    }
    lines.push(Line::default());
    lines.push(answers(palette, &[("any key", "close; the Logbook screen has it")]));
    lines
}

fn enter_key(palette: Palette, is_empty: bool) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    text(&mut lines, "Type or paste it. It is not shown, and kept where only you can read it.");
    text(&mut lines, if is_empty { "Nothing is entered yet." } else { "Something is entered." });
    lines.push(Line::default());
    lines.push(answers(palette, &[("Enter", "keep it in the place of the one before"), ("Esc", "leave it")]));
    lines
}

fn forget_key(palette: Palette) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    text(&mut lines, "Without it the moth cannot broadcast to this service until a key is set again.");
    lines.push(Line::default());
    lines.push(answers(palette, &[("y", "forget it"), ("n", "keep it")]));
    lines
}

fn quit(palette: Palette, is_apart: bool) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    if is_apart {
        text(
            &mut lines,
            "The broadcast does not need this screen: left, it goes on, and `moth attach` opens a screen on it again. Ended, it is over for your viewers.",
        );
        lines.push(Line::default());
        let l = ("l", "leave it running");
        lines.push(answers(palette, &[l, ("y", "end the broadcast"), ("n", "stay")]));
        return lines;
    }
    text(&mut lines, "The broadcast goes through the moth: quitting ends it for your viewers.");
    lines.push(Line::default());
    lines.push(answers(palette, &[("y", "end the broadcast and quit"), ("n", "stay")]));
    lines
}

fn by_hand(proposal: &Proposal, palette: Palette, snapshot: &Snapshot) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    if let Action::SetBitrate { video } = &proposal.action {
        text(&mut lines, &format!("In your broadcaster's output settings, set the video bitrate to {video}."));
        text(&mut lines, "Some broadcasters take it while live; others want the stream stopped and started.");
        lines.push(Line::default());
        text(
            &mut lines,
            &format!(
                "On the wire now: {} kb/s of video (measured over 2 s). It falls once it is done.",
                number(snapshot.video_kbps.value)
            ),
        );
    } else if let Action::SetSize { width, height } = &proposal.action {
        text(
            &mut lines,
            &format!("In your broadcaster's picture settings, set the size that is sent to {width}x{height}."),
        );
        text(&mut lines, "Most broadcasters want the stream stopped and started for it.");
    } else if let Action::SetRate { fps } = &proposal.action {
        text(&mut lines, &format!("In your broadcaster's picture settings, set the frame rate to {fps} frames/s."));
        text(&mut lines, "Most broadcasters want the stream stopped and started for it.");
    } else if proposal.action == Action::LighterPreset {
        text(&mut lines, "In your broadcaster's output settings, choose the next faster (lighter) encoder preset.");
        text(&mut lines, "Most broadcasters want the stream stopped and started for it.");
    } else {
        text(&mut lines, &format!("{}.", capitalised(&proposal.title)));
    }
    for (i, step) in proposal.steps.iter().enumerate() {
        text(&mut lines, &format!("{}. {step}", i + 1));
    }
    text(&mut lines, &format!("Expected: {}.", proposal.expected));
    lines.push(Line::default());
    let enter = if matches!(proposal.action, Action::ByHand { .. }) {
        "done: prove that it helped"
    } else {
        "I do it now: look for it on the wire"
    };
    lines.push(answers(palette, &[("Enter", enter), ("any other key", "close")]));
    lines
}
