//! The Watch screen: the frame's journey, the lanes, the verdict, the next action.

use crossterm::event::KeyCode;
use moth_core::rate::Bitrate;
use moth_core::wire::Heard;
use moth_core::{Snapshot, State};
use moth_plan::text::Size;
use moth_store::config::SetupEntry;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};

use crate::terminal::dialogs::choice::Kind;
use crate::terminal::dialogs::export::Subject;
use crate::terminal::dialogs::{Dialog, changing, events};
use crate::terminal::model::Model;
use crate::terminal::parts::lane::GAP;
use crate::terminal::parts::verdict::key_of;
use crate::terminal::parts::{journey, lanes, trial, verdict, viewers, waiting};
use crate::terminal::reaction::Reaction;
use crate::terminal::screen::{HelpLines, Keys, Screen, Shown, nothing_else};
use crate::terminal::style::palette::{sound_mark, state_mark};
use crate::terminal::wish::Wish;

pub(in crate::terminal) const SCREEN: Screen =
    Screen { name: "Watch", draw, keys, help, exports, key, turned_to: nothing_else };

fn draw(frame: &mut Frame<'_>, area: Rect, Shown { model, snapshot, palette }: Shown<'_>) {
    if let Some(address) = waiting::address(model, snapshot) {
        let gap = u16::from(area.height >= 32);
        let area = Rect { y: area.y + gap, height: area.height - gap, ..inner(area) };
        return waiting::draw(frame, area, palette, (model, snapshot), address);
    }
    let past = model.looked_back_at(snapshot);
    let looks_back_at = model.second_looked_at(past.as_ref());
    let snapshot = past.as_ref().unwrap_or(snapshot);
    let roomy = area.height >= 32;
    let has_delay = roomy && looks_back_at.is_none();
    let gap = u16::from(roomy);
    let most = match area.height {
        ..32 => 6,
        32..54 => 12,
        54.. => 20,
    };
    let verdict_rows = verdict::rows(snapshot, area.width, most);
    let tried_rows = trial::rows(snapshot, roomy, area.width.saturating_sub(2));
    let [_, path, _, seen, middle, _, tried, judged] = Layout::vertical([
        Constraint::Length(gap),
        Constraint::Length(journey::ROWS),
        Constraint::Length(gap),
        Constraint::Length(1 + u16::from(has_delay)),
        Constraint::Min(8),
        Constraint::Length(gap),
        Constraint::Length(tried_rows),
        Constraint::Length(verdict_rows),
    ])
    .areas(area);
    let takes_changes = model.takes_changes() && looks_back_at.is_none();
    let publish_to = model.banner.publish_to.as_deref();
    let around = verdict::Around { palette, publish_to, takes_changes, looks_back_at };
    journey::draw(frame, inner(path), palette, snapshot);
    let seen = inner(seen);
    viewers::draw(frame, Rect { height: 1, ..seen }, palette, model.view.cursor, snapshot);
    let service_s = model.preparation.as_ref().and_then(|before| before.in_use.service.delay_s);
    // Of a past second it is not kept.
    let delay = Rect { y: seen.y + 1, height: seen.height - 1, ..seen };
    viewers::draw_delay(frame, delay, palette, (snapshot, service_s));
    lanes::draw(frame, inner(middle), palette, &model.view, snapshot);
    trial::draw(frame, inner(tried), palette, (takes_changes, roomy), snapshot);
    verdict::draw(frame, inner(judged), around, snapshot);
}

/// One column free on both sides.
fn inner(area: Rect) -> Rect {
    Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area }
}

fn keys(Shown { model, snapshot, .. }: Shown<'_>) -> Keys {
    if waiting::address(model, snapshot).is_some() {
        let mut keys = vec![("y", "copy the address")];
        keys.extend(is_named(model).then_some(("w", "keep as a setup")));
        keys.extend(model.leads_back.then_some(("g", "back to the setups")));
        return keys;
    }
    let (takes_changes, looks_back) = (model.takes_changes(), model.view.cursor.is_some());
    let mut keys = Vec::new();
    keys.extend(takes_changes.then_some(("a", "change")));
    keys.push(("←→", if looks_back { "move the cursor" } else { "look back" }));
    keys.extend(way_back(model));
    keys.extend((snapshot.undo.is_some() && takes_changes).then_some(("u", "undo the last change")));
    keys.push(("e E", "export, report"));
    keys.push(("m", "what happened"));
    keys
}

/// What Esc does while one looks back.
pub(super) fn way_back(model: &Model) -> Option<(&'static str, &'static str)> {
    let back = if model.kept().is_some() { "back to the logbook" } else { "back to now" };
    model.view.cursor.map(|_| ("Esc", back))
}

fn help(Shown { model, snapshot, .. }: Shown<'_>, mut help: HelpLines<'_>) {
    if waiting::address(model, snapshot).is_some() {
        help.key("y", "copy the address to publish to, if your terminal lets programs copy");
        if model.leads_back {
            help.key("g", "back to the list of setups");
        }
    }
    // What was done is done: a replay takes no changes.
    let takes_changes = model.takes_changes();
    let proposals = if takes_changes { model.proposals() } else { Vec::new() };
    if let Some(first) = proposals.first() {
        help.key("Enter", &first.title);
    }
    for proposal in proposals {
        help.key(&key_of(&proposal.action).to_string(), &proposal.title);
    }
    let letters: Vec<String> =
        Kind::ALL.iter().filter(|k| **k != Kind::Hand).map(|kind| format!("{} {}", kind.key(), kind.short())).collect();
    let changes = format!("change: {}; a all of them", letters.join(", "));
    if takes_changes {
        help.key("", &changes);
    }
    if model.replay.is_some() {
        help.key("Space", "stop the replay, and go on");
        help.key("< >", "slower, faster");
        help.key("[ ] { }", "30 s, or 5 minutes, back and on");
    }
    if is_named(model) {
        help.key("w", "keep the servers and the key named on the command line as a setup");
    }
    if snapshot.undo.is_some() && takes_changes {
        help.key("u", "undo the last change");
    }
    help.key("← →", "look back and forth (PgUp PgDn by ten, Home start, Esc now)");
    help.key("n N m", "to the next, the last mark; all that happened, in full");
    let seconds = model.view.seconds_per_column();
    let whole = if model.view.is_whole() { "as before" } else { "the whole broadcast" };
    help.key("+ - v", &format!("fewer or more seconds in a column (now {seconds}); {whole}"));
    help.others();
    help.key("e E", "take away what is shown, as SVG or PDF; a report of it all");
    if model.is_apart {
        help.key("q", "leave the screen, or end the broadcast; it asks which. moth attach opens a screen again: from anywhere on this machine, or over ssh (ssh -t HOST moth attach)");
    } else {
        help.key("q", "quit");
    }
    help.gap();
    help.word("lagged", "rendering: the scene was late, the last picture came again");
    help.word("skipped", "encoder: not done with the last picture, so never encoded");
    help.word("dropped", "network: encoded, but not carried in time, so not sent");
    help.word("delay", "yours: what viewers see later for B-frames, queue and way");
    help.word("reported", "said by the broadcaster; measured: by the moth or the kernel");
    help.word("inferred", "read off the wire: likely, not certain");
    let states = [State::Steady, State::Strained, State::Losing, State::Dark];
    let marks: Vec<String> = states.iter().map(|s| format!("{} {}", state_mark(Some(*s)), s.word())).collect();
    help.word("marks", &format!("{}  ◆ change  ╵ event  {GAP} not known", marks.join("  ")));
    let sounds: Vec<String> =
        Heard::ALL.iter().map(|heard| format!("{} {}", sound_mark(*heard), heard.word())).collect();
    help.word("sound", &format!("{}; silent and drifting are inferred", sounds.join("  ")));
    help.word("levels", "of carried: ‾ asked, ┄ the setup's plan, and what the line sustained");
}

fn exports(_: &Model, snapshot: &Snapshot) -> Vec<(Subject, String)> {
    let mut subjects = vec![
        (Subject::Lanes, "the lanes, with verdicts and changes".to_owned()),
        (Subject::Journey, "the frame's journey, as it stands now".to_owned()),
    ];
    subjects.extend(snapshot.newest_trial().map(|trial| (Subject::Trial, format!("the trial: {}", trial.title))));
    subjects
}

/// Whether nobody has come yet.
fn is_waiting(model: &Model) -> bool {
    model.snapshot.as_ref().is_some_and(|now| waiting::address(model, now).is_some())
}

/// Whether what is broadcast to is only named on the command line.
fn is_named(model: &Model) -> bool {
    model.preparation.as_ref().is_some_and(|before| before.in_use.is_named())
}

/// Keeps it, with what is sent as far as that is seen.
fn keep_named(model: &mut Model) -> Reaction {
    let snapshot = model.snapshot.clone();
    let Some(before) = model.preparation.as_mut() else { return Reaction::none() };
    let (setup, stream) = (&before.in_use.setup, snapshot.as_ref().map(|snapshot| &snapshot.stream));
    let seen = snapshot.as_ref().and_then(|snapshot| snapshot.video_kbps.value);
    let seen = seen.map(|kbps| Bitrate::from_kbps((kbps / 100.0).round() as u64 * 100));
    let sends = SetupEntry {
        bitrate: stream.and_then(|stream| stream.video_bitrate).or(seen).unwrap_or(setup.bitrate),
        audio: setup.audio,
        size: stream.and_then(|s| Some(Size::new(s.width?, s.height?))).unwrap_or(setup.size),
        rate: stream.and_then(|stream| stream.fps).unwrap_or(setup.rate),
    };
    Reaction::tell(match before.in_use.keep_named(&sends) {
        Ok(()) => format!("kept as the setup {}: the next evening, moth and Enter", before.in_use.setup_name),
        Err(failure) => failure.to_string(),
    })
}

pub(super) fn key(model: &mut Model, code: KeyCode) -> Reaction {
    let kind = |letter| Kind::ALL.into_iter().find(|kind| kind.key() == letter);
    let is_change = code == KeyCode::Enter || matches!(code, KeyCode::Char(letter) if kind(letter).is_some());
    if is_change && model.view.cursor.is_some() && model.takes_changes() {
        return Reaction::tell("you look back at what was proposed then; Esc goes back to now, where changes are made");
    }
    if model.kept().is_some() && (is_change || matches!(code, KeyCode::Char('a' | 'u'))) {
        return Reaction::tell(
            "this broadcast is over; the one that goes on is changed once this one is closed: Esc, and Esc again",
        );
    }
    match code {
        KeyCode::Enter => changing::propose(model, |_| true),
        KeyCode::Char('y') if is_waiting(model) => {
            let address = model.banner.publish_to.clone().unwrap_or_default();
            let told = format!("{address} is copied, if your terminal lets programs copy");
            Reaction::wish(Wish::Copy(address)).and_tell(told)
        }
        // While nobody has come, nothing is ended by it.
        KeyCode::Char('g') if model.leads_back && is_waiting(model) => Reaction::wish(Wish::Setups),
        KeyCode::Char('a') => Reaction::open(Dialog::Changes(0)),
        KeyCode::Char('m') => events::open(model),
        KeyCode::Char('w') if is_named(model) => keep_named(model),
        KeyCode::Char('u') => changing::undo(model),
        KeyCode::Char(letter) if kind(letter).is_some() => {
            kind(letter).map_or_else(Reaction::none, |kind| changing::take_kind(model, kind))
        }
        code => {
            let snapshot = model.shown().cloned();
            model.view.key(code, snapshot.as_deref());
            Reaction::none()
        }
    }
}
