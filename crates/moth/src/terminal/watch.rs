//! The Watch screen: the frame's journey, the lanes, the verdict, the next action.

use moth_core::Snapshot;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::text::{Line, Span};

use super::app::App;
use super::format::{clock, fit};
use super::palette::state_mark;
use super::{journey, lanes, tabs, trial, verdict, viewers};
use crate::recordings::player::ReplayState;

/// Draws the screen below its header and above its keys.
pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, app: &App, snapshot: &Snapshot) {
    let roomy = area.height >= 32;
    let gap = u16::from(roomy);
    let verdict_rows = verdict::rows(snapshot, area.width, if roomy { 12 } else { 6 });
    let tried_rows = trial::rows(snapshot, roomy, area.width.saturating_sub(2));
    let [_, path, _, seen, middle, _, tried, judged] = Layout::vertical([
        Constraint::Length(gap),
        Constraint::Length(journey::ROWS),
        Constraint::Length(gap),
        Constraint::Length(1),
        Constraint::Min(8),
        Constraint::Length(gap),
        Constraint::Length(tried_rows),
        Constraint::Length(verdict_rows),
    ])
    .areas(area);
    journey::draw(frame, inner(path), app, snapshot);
    viewers::draw(frame, inner(seen), app, snapshot);
    lanes::draw(frame, inner(middle), app, snapshot);
    trial::draw(frame, inner(tried), app, snapshot);
    verdict::draw(frame, inner(judged), app, snapshot);
}

/// One column free on both sides.
fn inner(area: Rect) -> Rect {
    Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area }
}

/// What is above every screen: which one it is, and how the broadcast stands.
pub(super) fn header(frame: &mut Frame<'_>, area: Rect, app: &App, snapshot: &Snapshot) {
    let palette = app.palette;
    let name = if app.rehearsing.is_running() { rehearsal_words(app) } else { name_words(app, snapshot) };
    let mut left = tabs::names(app, area.width);
    left.push(Span::styled(name, palette.fault(moth_core::suspects::Fault::Encoder)));
    // What was on before is not on any more.
    let is_over = app.rehearsing.is_all && !app.rehearsing.is_running();
    let stream = &snapshot.stream;
    let mut facts = Vec::new();
    if let (Some(width), Some(height), false) = (stream.width, stream.height, is_over) {
        facts.push(format!("{width}×{height}"));
    }
    if let Some(fps) = stream.fps.filter(|_| !is_over) {
        facts.push(format!("{} frames/s", (fps * 100.0).round() / 100.0));
    }
    if let Some(since) = snapshot.on_air_since.filter(|_| !is_over) {
        let what = if app.rehearsing.is_running() { "rehearsing" } else { "on air" };
        facts.push(format!("{what} {}", clock(snapshot.at.since(since))));
    }
    let state = match snapshot.state.filter(|_| !is_over) {
        Some(state) => format!(" {} {} ", state_mark(Some(state)), state.word()),
        None if is_over => " nothing is on ".into(),
        None => " no broadcaster ".into(),
    };
    let shown = snapshot.state.filter(|_| !is_over);
    let right = vec![
        Span::styled(facts.join("  "), palette.faint()),
        Span::raw("  "),
        Span::styled(state, palette.state(shown).add_modifier(ratatui::style::Modifier::REVERSED)),
    ];
    let right = Line::from(right).right_aligned();
    let room = usize::from(area.width).saturating_sub(right.width() + 1);
    let left = Line::from(left);
    if left.width() > room {
        // The names stay; what is said of the demo is cut.
        let names = Line::from(tabs::names(app, area.width));
        let name =
            fit(&left.to_string().chars().skip(names.width()).collect::<String>(), room.saturating_sub(names.width()));
        let style = palette.fault(moth_core::suspects::Fault::Encoder);
        let spans = names.spans.into_iter().chain([Span::styled(name, style)]).collect::<Vec<_>>();
        frame.render_widget(Line::from(spans), area);
    } else {
        frame.render_widget(left, area);
    }
    frame.render_widget(right, area);
}

/// What is shown, where it is not a broadcast of the user's.
fn name_words(app: &App, snapshot: &Snapshot) -> String {
    match (&app.banner.demo, &app.banner.replay, &app.replay) {
        (Some(name), _, _) => format!("demo: {name}, all made up"),
        (None, Some(file), Some(state)) => replay_words(file, state, snapshot),
        _ => String::new(),
    }
}

/// That what is on is a rehearsal.
fn rehearsal_words(app: &App) -> String {
    match (app.is_demo, app.before.as_ref().is_some_and(|before| before.in_use.service.unseen.is_some())) {
        (true, _) => "rehearsal, all made up".into(),
        _ if app.rehearsing.shown().is_some_and(|run| run.about.simulated.is_some()) => {
            "rehearsal, line simulated".into()
        }
        (false, true) => "rehearsal: nobody sees it".into(),
        (false, false) => "rehearsal on air".into(),
    }
}

/// Where a replay is and how fast it goes.
fn replay_words(file: &str, state: &ReplayState, snapshot: &Snapshot) -> String {
    let at = clock(snapshot.at.since(moth_core::Moment::START));
    let length = state.length.map_or_else(String::new, |length| format!(" of {}", clock(length)));
    let pace = match (state.is_over, state.is_paused) {
        (true, _) => "over".to_owned(),
        (false, true) => "paused".to_owned(),
        (false, false) => format!("at {}× speed", state.speed),
    };
    format!("replay {pace} {at}{length}: {}", fit(file, 24))
}
