//! The Logbook screen: past broadcasts, found, opened and compared.

use std::time::Duration;

use crossterm::event::{KeyCode, KeyEvent};
use moth_core::Snapshot;
use ratatui::Frame;
use ratatui::layout::Rect;

use crate::commands::log::note::{LONGEST_NOTE, LONGEST_TITLE};
use crate::logbook::opened::What;
use crate::terminal::dialogs::export::Subject;
use crate::terminal::dialogs::{Dialog, type_into};
use crate::terminal::model::Model;
use crate::terminal::parts::{evening, evenings, sides};
use crate::terminal::reaction::Reaction;
use crate::terminal::screen::{HelpLines, Keys, Screen, Shown, inner};
use crate::terminal::screens::watch;
use crate::terminal::style::format::clock;
use crate::terminal::style::paragraphs::{paint, wrapped};

/// Longer words are not looked for, in characters. Ours.
const LONGEST_WORDS: usize = 60;

pub(in crate::terminal) const SCREEN: Screen = Screen { name: "Logbook", draw, keys, help, exports, key, turned_to };

/// What is being typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Typing {
    /// Words to look for.
    Words,
    /// A title for this broadcast.
    Title(i64),
    /// A note for this broadcast.
    Note(i64),
}

fn draw(frame: &mut Frame<'_>, area: Rect, Shown { model, palette, .. }: Shown<'_>) {
    let (area, view) = (inner(area), &model.logbook);
    if view.plan.is_none() {
        let why = if model.replay.is_some() {
            "A replay shows one recording. The logbook is in `moth watch` and `moth log`."
        } else {
            "Nothing is kept: the moth was started with --no-log, or the configuration says keep = false under [logbook]."
        };
        return paint(frame, area, wrapped(why, area.width, ratatui::style::Style::new()));
    }
    match (&view.compared, &view.opened) {
        (Some(compared), _) => sides::draw(frame, area, palette, compared),
        (None, Some(opened)) => evening::draw(frame, area, palette, opened, view.station),
        (None, None) => evenings::draw(frame, area, palette, view),
    }
}

fn keys(Shown { model, .. }: Shown<'_>) -> Keys {
    let view = &model.logbook;
    match (&view.plan, &view.compared, &view.opened) {
        (None, ..) => Vec::new(),
        (_, Some(_), _) => vec![("Esc", "back"), ("e", "export")],
        (_, None, Some(opened)) => {
            let station = opened.stations.get(view.station);
            let mut keys = vec![("Esc", "the list")];
            keys.extend(station.map(|_| ("↑↓ Enter", "go there")));
            keys.extend(station.filter(|station| station.what == What::Change).map(|_| ("c", "before and after it")));
            keys.extend([("t o", "title, note"), ("e E", "export, report"), ("d", "remove")]);
            keys
        }
        (_, None, None) => {
            let mut keys = vec![("Enter", "open"), ("/", "find")];
            keys.push(("c", if view.first.is_some() { "compare with it" } else { "compare" }));
            keys.extend((!view.words.is_empty() || view.first.is_some()).then_some(("Esc", "all of them")));
            keys.extend([("t o", "title, note"), ("e E", "export, report"), ("d", "remove")]);
            keys
        }
    }
}

fn help(_: Shown<'_>, mut help: HelpLines<'_>) {
    help.key("↑ ↓", "another broadcast (PgUp PgDn by ten); in one, what happened in it");
    help.key("Enter", "open it; in it, go there on Watch and Why, as it stood then");
    help.key("Esc", "back; from Watch and Why to the broadcast");
    help.key("/", "find by date, setup, verdict, or words in a title or note");
    help.key("c", "compare: this one, and then with which; in one, before and after a change");
    help.key("t  o", "a title; a note");
    help.key("e E", "take away what is shown as SVG or PDF; a report of it");
    help.key("d", "remove it, once you agreed");
    help.others();
    help.gap();
    help.word("drawn", "each broadcast from its beginning to its end:");
    help.word("", "· nothing lost  ▂ under 0.1 % of the frames  ▄ under 1 %");
    help.word("", "▆ under 5 %  █ more, or no server");
    help.word("stages", "R rendering  E encoder  N network: what was at fault there");
}

fn exports(model: &Model, snapshot: &Snapshot) -> Vec<(Subject, String)> {
    if model.logbook.compared.is_some() {
        return vec![(Subject::Comparison, "both, over each other and side by side".into())];
    }
    if model.logbook.opened.is_none() {
        return Vec::new();
    }
    (watch::SCREEN.exports)(model, snapshot)
}

fn turned_to(model: &mut Model) -> Reaction {
    model.logbook.look();
    Reaction::none()
}

fn key(model: &mut Model, code: KeyCode) -> Reaction {
    if model.logbook.plan.is_none() {
        return Reaction::none();
    }
    if model.logbook.compared.is_some() {
        if code == KeyCode::Esc {
            model.logbook.compared = None;
        }
        return Reaction::none();
    }
    if model.logbook.opened.is_some() { key_in_one(model, code) } else { key_in_the_list(model, code) }
}

fn key_in_the_list(model: &mut Model, code: KeyCode) -> Reaction {
    let view = &mut model.logbook;
    let under = view.list.get(view.at).map(|one| one.nr);
    match (code, under) {
        (KeyCode::Up, _) => view.move_cursor(-1),
        (KeyCode::Down, _) => view.move_cursor(1),
        (KeyCode::PageUp, _) => view.move_cursor(-10),
        (KeyCode::PageDown, _) => view.move_cursor(10),
        (KeyCode::Home, _) => view.move_cursor(isize::MIN),
        (KeyCode::End, _) => view.move_cursor(isize::MAX),
        (KeyCode::Char('/'), _) => return Reaction::open(Dialog::EnterLog(Typing::Words, view.words.clone())),
        (KeyCode::Esc, _) => {
            view.first = None;
            if !std::mem::take(&mut view.words).is_empty() {
                view.look();
            }
        }
        (KeyCode::Enter, Some(_)) => return model.open_kept(),
        (KeyCode::Char('c'), Some(nr)) => match view.first {
            None => {
                view.first = Some(nr);
                return Reaction::tell("now the one to compare it with: ↑ ↓, and c again; Esc leaves it");
            }
            Some(first) if first == nr => return Reaction::tell("that is the same broadcast; choose another with ↑ ↓"),
            Some(first) => {
                // The earlier one is what the later one is compared with.
                let began = |nr| view.list.iter().find(|one| one.nr == nr).map(|one| one.on_air_at().timestamp());
                let (before, after) = if began(first) <= began(nr) { (first, nr) } else { (nr, first) };
                view.first = None;
                if let Err(failure) = view.compare(before, after) {
                    return Reaction::tell(failure.to_string());
                }
            }
        },
        (code, Some(nr)) => return key_on_a_broadcast(model, code, nr),
        _ => {}
    }
    Reaction::none()
}

fn key_in_one(model: &mut Model, code: KeyCode) -> Reaction {
    let view = &mut model.logbook;
    let Some(opened) = &view.opened else { return Reaction::none() };
    let (nr, last) = (opened.listed.nr, opened.stations.len().saturating_sub(1));
    let station = opened.stations.get(view.station).cloned();
    match (code, station) {
        (KeyCode::Esc, _) => model.close_kept(),
        (KeyCode::Up, _) => view.station = view.station.saturating_sub(1),
        (KeyCode::Down, _) => view.station = (view.station + 1).min(last),
        (KeyCode::PageUp, _) => view.station = view.station.saturating_sub(10),
        (KeyCode::PageDown, _) => view.station = (view.station + 10).min(last),
        (KeyCode::Enter, Some(station)) => {
            // A verdict's first second is when it was told: by the next it says more.
            let second = station.at_s.max(0.0) as usize;
            model.view.cursor = Some(second);
            model.hold_cursor();
            let told =
                format!("as it stood at {}; Esc goes back to the broadcast", clock(Duration::from_secs(second as u64)));
            return Reaction { screen: Some(watch::SCREEN.name), ..Reaction::tell(told) };
        }
        (KeyCode::Enter, None) => {
            return Reaction { screen: Some(watch::SCREEN.name), ..Reaction::none() };
        }
        (KeyCode::Char('c'), Some(station)) => {
            if let Err(why) = view.compare_around(station.at_s) {
                return Reaction::tell(why);
            }
        }
        (code, _) => return key_on_a_broadcast(model, code, nr),
    }
    Reaction::none()
}

fn key_on_a_broadcast(model: &Model, code: KeyCode, nr: i64) -> Reaction {
    let view = &model.logbook;
    let opened = view.opened.as_ref().map(|opened| &opened.listed);
    let Some(listed) = opened.or_else(|| view.list.iter().find(|one| one.nr == nr)) else { return Reaction::none() };
    match code {
        KeyCode::Char('t') => Reaction::open(Dialog::EnterLog(Typing::Title(nr), listed.title.clone())),
        KeyCode::Char('o') => Reaction::open(Dialog::EnterLog(Typing::Note(nr), listed.note.clone())),
        KeyCode::Char('d') => {
            let when = listed.began_words();
            let size = crate::logbook::row::size(listed.bytes);
            Reaction::open(Dialog::RemoveKept(nr, format!("{} of {when}, {size}", listed.name())))
        }
        _ => Reaction::none(),
    }
}

/// Something is typed: words to look for, a title, a note.
pub(in crate::terminal) fn type_in(model: &mut Model, what: Typing, mut typed: String, key: KeyEvent) -> Reaction {
    let view = &mut model.logbook;
    let longest = match what {
        Typing::Words => LONGEST_WORDS,
        Typing::Title(_) => LONGEST_TITLE,
        Typing::Note(_) => LONGEST_NOTE,
    };
    match key.code {
        KeyCode::Esc => return Reaction::none(),
        KeyCode::Enter => {
            let text = typed.trim();
            let written = match what {
                Typing::Words => {
                    view.words = text.to_owned();
                    view.at = 0;
                    view.list.clear();
                    view.look();
                    Ok(())
                }
                Typing::Title(nr) => view.write_down(nr, Some(text), None),
                Typing::Note(nr) => view.write_down(nr, None, Some(text)),
            };
            return Reaction::telling(written.err().map(|error| error.to_string()));
        }
        _ => type_into(&mut typed, key, longest),
    }
    Reaction::open(Dialog::EnterLog(what, typed))
}

/// It was agreed to.
pub(in crate::terminal) fn remove(model: &mut Model, nr: i64) -> Reaction {
    let removed = model.logbook.remove(nr);
    model.close_kept();
    Reaction::tell(removed.map_or_else(|error| error.to_string(), |()| format!("broadcast {nr} is removed")))
}
