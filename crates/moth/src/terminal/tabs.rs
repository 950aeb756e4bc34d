//! Which screen is shown: the frame around all of them, and the keys at its foot.

use moth_core::Snapshot;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};

use super::app::{App, Tab};
use super::before::{Before, Running};
use super::format::fit;
use super::paragraphs::{paint, wrapped};
use super::{dialog, fitness, load, planning, rehearsing, routes, watch, why};
use crate::rehearsal::run::Task;

/// The smallest terminal it fits on.
pub(super) const SMALLEST: (u16, u16) = (80, 24);

/// Draws the whole screen.
pub(super) fn draw(frame: &mut Frame<'_>, app: &App) {
    let area = frame.area();
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        too_small(frame, area);
        return;
    }
    let Some(snapshot) = &app.snapshot else {
        frame.render_widget(Line::from(" vigilant moth"), area);
        return;
    };
    let rows = |y: u16, height: u16| Rect { y: area.y + y, height, ..area };
    let body = rows(1, area.height.saturating_sub(2));
    watch::header(frame, rows(0, 1), app, snapshot);
    match (app.tab, &app.before) {
        (Tab::Watch, _) => watch::draw(frame, body, app, snapshot),
        (Tab::Why, _) => why::draw(frame, inner(body), app, snapshot),
        (Tab::Machine, before) => machine(frame, inner(body), app, snapshot, before.as_deref()),
        (_, None) => without_a_setup(frame, inner(body), app.replay.is_some()),
        (Tab::Routes, Some(before)) => routes::draw(frame, inner(body), before, app.palette),
        (Tab::Plan, Some(before)) => planning::draw(frame, inner(body), before, app.palette),
        (Tab::Rehearse, Some(before)) => rehearsing::draw(frame, inner(body), app, snapshot, before),
    }
    footer(frame, rows(area.height - 1, 1), app, snapshot);
    dialog::draw(frame, area, app, snapshot);
}

/// One column free on both sides, and a row above.
fn inner(area: Rect) -> Rect {
    let gap = u16::from(area.height > 24);
    Rect { x: area.x + 1, width: area.width.saturating_sub(2), y: area.y + gap, height: area.height - gap }
}

/// The load of every machine, and below it what the check found.
fn machine(frame: &mut Frame<'_>, area: Rect, app: &App, snapshot: &Snapshot, before: Option<&Before>) {
    let machines: Vec<_> = std::iter::once(&snapshot.machine).chain(&snapshot.others).collect();
    let rows = load::ROWS.min(area.height);
    load::draw(frame, Rect { height: rows, ..area }, &machines, app.palette);
    let rest = Rect { y: area.y + rows, height: area.height - rows, ..area };
    if let Some(before) = before {
        fitness::draw(frame, rest, before, snapshot.on_air_since.is_some(), app.palette);
    }
}

fn too_small(frame: &mut Frame<'_>, area: Rect) {
    let text = format!("The moth needs {}×{}; this is {}×{}.", SMALLEST.0, SMALLEST.1, area.width, area.height);
    paint(frame, area, wrapped(&text, area.width, Style::new()));
}

fn without_a_setup(frame: &mut Frame<'_>, area: Rect, is_replay: bool) {
    let told = if is_replay {
        "This screen is for before a broadcast. A replay shows one that is over: Watch (1), Why (2) and Machine (6) have it."
    } else {
        "This screen works with a setup. You named the server with --to; run `moth setup`, put your service into the file it names, and start `moth watch` without --to."
    };
    paint(frame, area, wrapped(told, area.width, Style::new()));
}

/// The screens' names, the one shown reversed; with little room only that one.
pub(super) fn names(app: &App, width: u16) -> Vec<Span<'static>> {
    let mut spans = vec![Span::styled(" vigilant moth ", app.palette.strong())];
    // Where a replay is matters more than what else could be shown.
    let names_from = if app.replay.is_some() { 165 } else { 130 };
    for (i, tab) in Tab::ALL.into_iter().enumerate() {
        if tab == app.tab {
            spans.push(Span::styled(
                format!(" {} ", tab.name()),
                app.palette.strong().add_modifier(Modifier::UNDERLINED),
            ));
        } else if width >= names_from {
            spans.push(Span::styled(format!(" {} {} ", i + 1, tab.name()), app.palette.faint()));
        }
    }
    spans.push(Span::raw("  "));
    spans
}

fn footer(frame: &mut Frame<'_>, area: Rect, app: &App, snapshot: &Snapshot) {
    let palette = app.palette;
    if let Some(notice) = app.notice.as_ref().or(app.warnings.front()) {
        frame.render_widget(Line::styled(fit(&format!(" {notice}"), area.width.into()), palette.strong()), area);
        return;
    }
    let mut keys: Vec<(&'static str, String)> = Vec::new();
    let mut key = |name, what: &str| keys.push((name, what.to_owned()));
    key("?", if area.width < 110 { "keys" } else { "keys and words" });
    if app.replay.is_some() {
        key("Space", "pause");
        key("< >", "speed");
        key("[ ]", "30 s back, on");
    }
    match (app.tab, app.before.as_ref().map(|before| before.running)) {
        (Tab::Watch, _) => {
            if app.replay.is_none() {
                key("a", "change");
            }
            key("←→", if app.cursor.is_some() { "move the cursor" } else { "look back" });
            if app.cursor.is_some() {
                key("Esc", "back to now");
            }
            if snapshot.undo.is_some() && app.replay.is_none() {
                key("u", "undo the last change");
            }
            key("e E", "export, report");
        }
        (Tab::Why, _) => {
            key("↑↓", "suspect");
            key("f", "stage");
            if app.replay.is_none() {
                key("t", "test");
            }
            key("←→", "look back");
            key("e", "export");
        }
        (Tab::Routes | Tab::Machine, Some(running)) if running != Running::Nothing => {
            key("Esc", "end it, with what there is")
        }
        (Tab::Routes, Some(_)) => {
            key("Enter", "test");
            key("Space", "choose");
            key("p", "pick");
            key("l", "line");
            key("t", "time");
            key("r", "region");
            key("e", "export");
        }
        (Tab::Plan, Some(_)) => {
            key("m", "motion");
            key("- +", "free share");
            key("w", "write to setup");
            key("k", "key");
            key("e", "export");
        }
        (Tab::Rehearse, Some(_)) => {
            let is_soak = app.rehearsing.shown().is_some_and(|run| matches!(run.task, Task::Soak(_)));
            match (app.rehearsing.shown().is_some(), app.rehearsing.is_running()) {
                (_, true) if is_soak => {
                    key("Space", "tick");
                    key("Esc", "end it");
                    key("n", "more to do");
                    key("x", "leave out");
                }
                (_, true) => key("Esc", "end it, and put everything back"),
                (true, false) => {
                    if app.can_keep() {
                        key("k", "keep it in the setup");
                    }
                    key("e", "export");
                    key("Enter", "on");
                }
                (false, false) => {
                    key("↑↓", "choose");
                    key("Enter", "begin");
                    if !app.is_demo {
                        key("s", "server or stand-in");
                    }
                }
            }
        }
        (Tab::Machine, before) => {
            if before.is_some() {
                key("r", "look again");
            }
            key("e", "export");
        }
        (_, None) => {}
    }
    let mut last = vec![("q", "quit".to_owned())];
    if area.width < 110 {
        last.insert(0, ("1-6", "screens".to_owned()));
    }
    // What does not fit is left to the help, which `?` shows.
    let gap = if area.width >= 100 { "   " } else { " " };
    let wide = |keys: &[(&'static str, String)]| {
        keys.iter().map(|(name, what)| name.chars().count() + what.chars().count() + 3 + gap.len()).sum::<usize>()
    };
    while wide(&keys) + wide(&last) > usize::from(area.width) && keys.len() > 1 {
        keys.pop();
    }
    keys.extend(last);
    let mut spans = vec![Span::raw(" ")];
    for (name, what) in keys {
        spans.push(Span::styled(format!(" {name} "), palette.key()));
        spans.push(Span::styled(format!(" {what}{gap}"), palette.faint()));
    }
    frame.render_widget(Line::from(spans), area);
}
