//! Puts together what is taken away, and hands it on to be drawn.

use crossterm::event::{KeyCode, KeyEvent};
use moth_core::Snapshot;
use moth_drawing::evening::Stretch;
use moth_drawing::{Format, Paper, Theme};

use super::Dialog;
use super::export::{Export, Subject};
use crate::drawings::job::{Job, Work};
use crate::drawings::side_drawing::Drawable;
use crate::setup_in_use::advice::picture;
use crate::terminal::model::Model;
use crate::terminal::reaction::Reaction;
use crate::terminal::screen::Screen;
use crate::terminal::wish::Wish;
use moth_evening::chronicle::standing_now;
use moth_evening::comparison::Called;

/// What can be taken from a screen.
pub(in crate::terminal) fn begin(model: &Model, screen: &Screen) -> Reaction {
    let Some(snapshot) = model.shown() else { return Reaction::none() };
    open(model, (screen.exports)(model, snapshot), snapshot)
}

/// A report on the broadcast so far.
pub(in crate::terminal) fn begin_report(model: &Model) -> Reaction {
    let Some(snapshot) = model.shown() else { return Reaction::none() };
    let of = if model.kept().is_some() { "a report on this broadcast" } else { "a report on the broadcast so far" };
    open(model, vec![(Subject::Report, of.into())], snapshot)
}

fn open(model: &Model, mut subjects: Vec<(Subject, String)>, snapshot: &Snapshot) -> Reaction {
    let (from, until) = model.view.shown();
    let length = snapshot.history.len();
    let until = until.min(length);
    let was_on_air = (0..length).any(|second| snapshot.history.get(second).is_some_and(|s| s.state.is_some()));
    subjects.retain(|(subject, _)| was_on_air || !subject.is_of_a_broadcast());
    if subjects.is_empty() {
        return Reaction::tell("there is nothing to take away from here yet");
    }
    Reaction::open(Dialog::Export(Export {
        subjects,
        at: 0,
        format: Format::Svg,
        is_dark: false,
        is_anonymous: false,
        is_whole: from >= until,
        paper: Paper::A4,
        shown: Stretch { from_s: from as f64, until_s: until as f64 },
    }))
}

pub(super) fn key(model: &Model, mut export: Export, key: KeyEvent) -> Reaction {
    let last = export.subjects.len() - 1;
    match key.code {
        KeyCode::Esc | KeyCode::Char('q') => return Reaction::none(),
        KeyCode::Enter => return take(model, &export),
        KeyCode::Up => export.at = export.at.saturating_sub(1),
        KeyCode::Down => export.at = (export.at + 1).min(last),
        KeyCode::Char('f') if !export.is_report() => {
            export.format = if export.format == Format::Svg { Format::Pdf } else { Format::Svg };
        }
        KeyCode::Char('g') if !export.is_report() => export.is_dark = !export.is_dark,
        KeyCode::Char('n') => export.is_anonymous = !export.is_anonymous,
        KeyCode::Char('s') if export.subject().has_stretch() => {
            export.is_whole = !export.is_whole || export.shown.from_s >= export.shown.until_s;
        }
        KeyCode::Char('p') if export.is_report() => {
            export.paper = if export.paper == Paper::A4 { Paper::Letter } else { Paper::A4 };
        }
        _ => {}
    }
    Reaction::open(Dialog::Export(export))
}

/// Puts together what is to be drawn.
fn take(model: &Model, export: &Export) -> Reaction {
    let Some(work) = work(model, export) else {
        return Reaction::tell("there is nothing to take away from here any more");
    };
    Reaction::wish(Wish::Export(Box::new(Job {
        name: format!("moth-{}", export.subject().slug()),
        format: if export.is_report() { Format::Pdf } else { export.format },
        theme: if export.is_dark { Theme::Dark } else { Theme::Light },
        work,
    })))
    .and_tell("being drawn…")
}

fn work(model: &Model, export: &Export) -> Option<Work> {
    let subject = export.subject();
    match subject {
        Subject::Servers | Subject::Line | Subject::Picture | Subject::Climb => return work_before(model, export),
        _ => {}
    }
    if subject == Subject::Comparison {
        return compared(model, export);
    }
    let now = model.shown()?;
    // What is shown is what is taken away.
    let past = model.looked_back_at(now);
    let snapshot = past.as_ref().unwrap_or(now);
    let mut evening = model.evening(snapshot);
    // What is asked about goes along, so that its names go as well.
    let asked = match subject {
        Subject::Why(stage) => standing_now(snapshot, stage),
        _ => None,
    };
    // Those of which nothing was ever known are not among the evening's, and names may go.
    let machine = match subject {
        Subject::Machine(place) => {
            let host = &std::iter::once(&snapshot.machine).chain(&snapshot.others).nth(place)?.host;
            evening.machines.iter().position(|machine| machine.host == *host)
        }
        _ => None,
    };
    let (is_asked, verdicts) = (asked.is_some(), evening.verdicts.len());
    evening.verdicts.extend(asked);
    if export.is_anonymous {
        evening = evening.anonymous();
    }
    let asked = is_asked.then(|| evening.verdicts.split_off(verdicts).pop()).flatten();
    let stretch = if export.is_whole { evening.whole() } else { export.shown };
    let evening = Box::new(evening);
    Some(match subject {
        Subject::Lanes => Work::Lanes(evening, stretch),
        Subject::Journey => {
            let standing = Box::new(evening.standing.clone()?);
            Work::Journey(evening, standing)
        }
        Subject::Trial => {
            let trial = Box::new(evening.trials.last()?.clone());
            Work::Trial(evening, trial)
        }
        Subject::Why(stage) => match asked {
            Some(stood) => Work::Why(evening, Box::new(stood), stretch),
            None => Work::Calm(evening, stage, stretch),
        },
        Subject::Machine(_) => Work::Machine(evening, machine?, stretch),
        Subject::Report => Work::Report(evening, export.paper),
        Subject::Servers | Subject::Line | Subject::Picture | Subject::Climb | Subject::Comparison => return None,
    })
}

/// Both sides of what is compared.
fn compared(model: &Model, export: &Export) -> Option<Work> {
    let compared = model.logbook.compared.as_ref()?;
    // Titles are names as well.
    let sentence =
        if export.is_anonymous { compared.result.sentence(Called::BY_LETTER) } else { compared.sentence.clone() };
    let side = |n: usize| {
        let opened = compared.broadcasts[n].as_deref().or(model.kept())?;
        let mut evening = opened.evening(None);
        if export.is_anonymous {
            evening = evening.anonymous();
        }
        let part = compared.sides.parts[n];
        Some((Box::new(evening), Stretch { from_s: part.from as f64, until_s: part.until as f64 }))
    };
    let (first, second) = (side(0)?, side(1)?);
    Some(Work::Comparison(first, second, sentence))
}

/// What was found out before going live.
fn work_before(model: &Model, export: &Export) -> Option<Work> {
    let before = model.preparation.as_ref()?;
    let in_use = &before.in_use;
    fn plain<D: Drawable>(what: D, in_use: &crate::setup_in_use::SetupInUse, is_anonymous: bool) -> Box<D> {
        Box::new(if is_anonymous { what.without_names(in_use) } else { what })
    }
    Some(match export.subject() {
        Subject::Servers => Work::Servers(plain(before.newest_servers()?, in_use, export.is_anonymous)),
        Subject::Line => Work::Line(plain(before.newest_line()?, in_use, export.is_anonymous)),
        Subject::Climb => Work::Climb(plain(model.over_climb()?, in_use, export.is_anonymous)),
        _ => {
            let mut drawn = picture(&before.plan()?, in_use);
            if before.is_stand_in() {
                drawn.source.push_str(", all made up");
            }
            Work::Picture(plain(drawn, in_use, export.is_anonymous))
        }
    })
}
