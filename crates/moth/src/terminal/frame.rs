//! The frame around every screen: what is on above it, the keys at its foot, and what lies over it.

use moth_core::Snapshot;
use moth_core::suspects::Fault;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use super::app::App;
use super::dialogs::drawn;
use super::hits::Hit;
use super::lantern;
use super::model::Model;
use super::parts::foot;
use super::screen::{Keys, Screen, Shown, is_small};
use super::screens;
use super::style::format::{clock, fit};
use super::style::palette::{Palette, state_mark};
use crate::recordings::player::ReplayState;

/// Draws the whole screen.
pub(super) fn draw(frame: &mut Frame<'_>, app: &App) {
    let area = frame.area();
    let Some(snapshot) = &app.model.snapshot else {
        frame.render_widget(Line::from(" vigilant moth"), area);
        return;
    };
    app.model.hits.clear();
    app.is_small.set(is_small(area));
    if app.is_lantern || app.is_small.get() {
        lantern::draw(frame, area, app, Shown { model: &app.model, snapshot, palette: app.palette });
        return;
    }
    let rows = |y: u16, height: u16| Rect { y: area.y + y, height, ..area };
    let shown = Shown { model: &app.model, snapshot, palette: app.palette };
    // How the broadcast stands is told whatever is looked at.
    header(frame, rows(0, 1), app.screen, shown);
    let shown = Shown { snapshot: app.model.shown().unwrap_or(snapshot), ..shown };
    (app.screen.draw)(frame, rows(1, area.height.saturating_sub(2)), shown);
    footer(frame, rows(area.height - 1, 1), app, shown);
    if let Some(dialog) = &app.dialog {
        drawn::draw(frame, area, dialog, app.screen, shown);
    }
}

/// The screens' names, the one shown reversed; with little room only that one.
fn names(shown: &Screen, is_replay: bool, palette: Palette, width: u16) -> Vec<Span<'static>> {
    let mut spans = vec![Span::styled(" vigilant moth ", palette.strong())];
    // Where a replay is matters more than what else could be shown.
    let names_from = if is_replay { 165 } else { 130 };
    for (i, screen) in screens::ALL.iter().enumerate() {
        if *screen == shown {
            let style = palette.strong().add_modifier(Modifier::UNDERLINED);
            spans.push(Span::styled(format!(" {} ", screen.name), style));
        } else if width >= names_from {
            spans.push(Span::styled(format!(" {} {} ", i + 1, screen.name), palette.faint()));
        }
    }
    spans.push(Span::raw("  "));
    spans
}

/// What is above every screen: which one it is, and how the broadcast stands.
fn header(frame: &mut Frame<'_>, area: Rect, screen: &Screen, shown: Shown<'_>) {
    let Shown { model, snapshot, palette } = shown;
    let names = || names(screen, model.replay.is_some(), palette, area.width);
    let name = if model.rehearsing.is_running() { rehearsal_words(model) } else { name_words(model, snapshot) };
    let mut left = names();
    let mut x = area.x;
    for span in &left {
        let width = u16::try_from(span.width()).unwrap_or(0);
        let named = screens::ALL.iter().position(|one| span.content.ends_with(&format!(" {} ", one.name)));
        if let Some(place) = named {
            model.hits.note(Rect { x, width, ..area }, Hit::Screen(place));
        }
        x += width;
    }
    // What was on before is not on any more.
    let is_over = model.is_over();
    let stream = &snapshot.stream;
    let mut facts = Vec::new();
    if let (Some(width), Some(height), false) = (stream.width, stream.height, is_over) {
        facts.push(format!("{width}×{height}"));
    }
    if let Some(fps) = stream.fps.filter(|_| !is_over) {
        facts.push(format!("{} frames/s", (fps * 100.0).round() / 100.0));
    }
    if let Some(since) = snapshot.on_air_since.filter(|_| !is_over) {
        let what = if model.rehearsing.is_running() { "rehearsing" } else { "on air" };
        facts.push(format!("{what} {}", clock(snapshot.at.since(since))));
    }
    // What viewers get, whatever stage it is that loses frames.
    let state_shown = snapshot.viewers_state().filter(|_| !is_over);
    let state = match state_shown {
        Some(state) => format!(" {} {} ", state_mark(Some(state)), state.word()),
        None if is_over => " nothing is on ".into(),
        None => " no broadcaster ".into(),
    };
    let unkept = model.logbook.keeping.trouble.as_ref().map(|_| Span::styled("not in the logbook  ", palette.alarm()));
    let mut right = Vec::from_iter(unkept);
    right.extend([
        Span::styled(facts.join("  "), palette.faint()),
        Span::raw("  "),
        Span::styled(state, palette.state(state_shown).add_modifier(Modifier::REVERSED)),
    ]);
    let right = Line::from(right).right_aligned();
    let room = usize::from(area.width).saturating_sub(right.width() + 1);
    let used: usize = left.iter().map(Span::width).sum();
    // Where there is no room for which of them it is, what it is.
    let (what, rest) = name.split_once(':').unwrap_or((name.as_str(), ""));
    let made_up = rest.rsplit_once(',').map_or(String::new(), |(_, made_up)| format!("{what},{made_up}"));
    let fits = |name: &str| !name.is_empty() && used + name.width() <= room;
    let name = match model.replay {
        None => {
            let least = what.split(',').next().unwrap_or_default();
            let candidates = [name.as_str(), &made_up, what, least];
            candidates.into_iter().find(|name| fits(name)).unwrap_or(least).to_owned()
        }
        Some(_) => name,
    };
    left.push(Span::styled(name, palette.fault(Fault::Encoder)));
    let left = Line::from(left);
    if left.width() > room {
        // The names stay; what is said of the demo is cut.
        let names = Line::from(names());
        let name =
            fit(&left.to_string().chars().skip(names.width()).collect::<String>(), room.saturating_sub(names.width()));
        let style = palette.fault(Fault::Encoder);
        let spans = names.spans.into_iter().chain([Span::styled(name, style)]).collect::<Vec<_>>();
        frame.render_widget(Line::from(spans), area);
    } else {
        frame.render_widget(left, area);
    }
    frame.render_widget(right, area);
}

/// What is shown, where it is not a broadcast of the user's.
fn name_words(model: &Model, snapshot: &Snapshot) -> String {
    if let Some(opened) = model.kept() {
        let made_up = if opened.listed.about.is_made_up { ", made up" } else { "" };
        return format!("past broadcast {}{made_up}", opened.listed.nr);
    }
    match (&model.banner.demo, &model.banner.replay, &model.replay) {
        (Some(name), _, _) => format!("demo: {name}, all made up"),
        (None, Some(file), Some(state)) => replay_words(file, state, snapshot),
        _ => String::new(),
    }
}

/// Words for the title while what is on is a rehearsal.
fn rehearsal_words(model: &Model) -> String {
    match (model.is_demo, model.preparation.as_ref().is_some_and(|before| before.in_use.service.unseen.is_some())) {
        (true, _) => "rehearsal, all made up".into(),
        _ if model.rehearsing.shown().is_some_and(|run| run.about.simulated.is_some()) => {
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

/// The keys at the foot, or what is to be told.
fn footer(frame: &mut Frame<'_>, area: Rect, app: &App, shown: Shown<'_>) {
    let palette = app.palette;
    if let Some(notice) = app.notice.as_ref().or(app.warnings.front()) {
        return foot::tell(frame, area, palette, notice);
    }
    let mut keys: Keys = vec![("?", if area.width < 110 { "keys" } else { "keys and words" })];
    if app.is_replay() {
        keys.extend([("Space", "pause"), ("< >", "speed"), ("[ ]", "30 s back, on")]);
    }
    keys.extend((app.screen.keys)(shown));
    let range = format!("1-{}", screens::ALL.len());
    let mut last = vec![("q", "quit")];
    if area.width < 110 {
        last.insert(0, (&range, "screens"));
    }
    // What does not fit is left to the help, which `?` shows.
    let gap = foot::gap(area.width);
    let wide = |keys: &[(&str, &str)]| {
        keys.iter().map(|(name, what)| name.chars().count() + what.chars().count() + 3 + gap.len()).sum::<usize>()
    };
    while wide(&keys) + wide(&last) > usize::from(area.width) && keys.len() > 1 {
        keys.pop();
    }
    let keys: Vec<(&str, &str)> = keys.into_iter().chain(last).collect();
    foot::draw(frame, area, palette, &keys, Some(&app.model.hits));
}
