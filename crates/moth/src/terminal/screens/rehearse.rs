//! The Rehearse screen: what can be rehearsed, the climb or the soak as it goes, and what it came to.

use moth_core::Snapshot;
use moth_rehearsal::ladder::Kind;
use moth_rehearsal::soak::{Soak, TO_DO};
use moth_store::rehearsals::What;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use crate::failure::Failure;
use crate::rehearsal::run::Task;
use crate::rehearsal::{self, Wanted};
use crate::rehearsal::{CONFIRMS, SOAK_S, STEP_S, rungs, server_words};
use crate::terminal::dialogs::export::Subject;
use crate::terminal::dialogs::{Dialog, type_into};
use crate::terminal::model::Model;
use crate::terminal::parts::climb::{climbed, climbing};
use crate::terminal::parts::rungs::{GAVE_WAY, HELD};
use crate::terminal::parts::soak::{soak_over, soaking};
use crate::terminal::preparation::Preparation;
use crate::terminal::reaction::Reaction;
use crate::terminal::rehearsing::CHOICES;
use crate::terminal::rehearsing::{RehearsalOrder, Rehearsing};
use crate::terminal::screen::{HelpLines, Keys, Screen, Shown, inner, nothing_else, without_a_setup};
use crate::terminal::style::format::wrap;
use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::{paint, wrapped};
use crate::terminal::wish::Wish;
use crossterm::event::{KeyCode, KeyEvent};
use moth_store::config::Change;
use std::sync::Arc;

/// Longer things to do are not taken, in characters. Ours.
const LONGEST: usize = 80;

pub(in crate::terminal) const SCREEN: Screen =
    Screen { name: "Rehearse", draw, keys, help, exports, key, turned_to: nothing_else };

fn draw(frame: &mut Frame<'_>, area: Rect, Shown { model, snapshot, palette }: Shown<'_>) {
    let Some(preparation) = &model.preparation else {
        return without_a_setup(frame, area, model.replay.is_some());
    };
    let (area, rehearsing) = (inner(area), &model.rehearsing);
    let lines = match rehearsing.shown() {
        None => choices(palette, (rehearsing, model.is_demo), preparation, area),
        Some(run) => match (&run.over, &run.task) {
            (Some(over), _) => match &over.what {
                What::Climb(finding) => climbed(palette, run, finding, area),
                What::Soak(soaked) => soak_over(palette, run, soaked, area),
            },
            (None, Task::Climb(runner)) => climbing(palette, run, runner, snapshot, area),
            (None, Task::Soak(soak)) => soaking((palette, rehearsing.to_do_at), run, soak, snapshot, area),
        },
    };
    paint(frame, area, lines);
}

fn keys(Shown { model, .. }: Shown<'_>) -> Keys {
    let rehearsing = &model.rehearsing;
    if model.preparation.is_none() {
        return Keys::new();
    }
    let is_soak = rehearsing.shown().is_some_and(|run| matches!(run.task, Task::Soak(_)));
    let mut keys = Vec::new();
    match (rehearsing.shown().is_some(), rehearsing.is_running()) {
        (_, true) if is_soak => {
            keys.extend([("Space", "tick"), ("Esc", "end it"), ("n", "more to do"), ("x", "leave out")]);
        }
        (_, true) => keys.push(("Esc", "end it, and put everything back")),
        (true, false) => {
            keys.extend(can_keep(rehearsing).then_some(("k", "keep it in the setup")));
            keys.extend([("e", "export"), ("Enter", "on")]);
        }
        (false, false) => {
            keys.extend([("↑↓", "choose"), ("Enter", "begin")]);
            keys.extend((!model.is_demo).then_some(("s", "server or stand-in")));
        }
    }
    keys
}

fn help(_: Shown<'_>, mut help: HelpLines<'_>) {
    help.key("↑ ↓ Enter", "choose what to rehearse, and begin");
    help.key("s", "to the service, or to a stand-in behind the line as measured");
    help.key("Esc", "end it: everything is put back, what was found is told");
    help.key("Space", "in a soak: what is under the cursor was just done");
    help.key("n  x", "in a soak: something more to do; leave something out");
    help.key("k", "keep what is recommended in the setup");
    help.key("e", "take a climb away as SVG or PDF");
    help.others();
    help.gap();
    help.word(&format!("{HELD} {GAVE_WAY}"), "a try that held; one in which something gave way");
    help.word("clean", "it held for the whole of the longer run");
    for line in wrap(&words(), 62) {
        help.word("", &line);
    }
}

fn exports(model: &Model, _: &Snapshot) -> Vec<(Subject, String)> {
    let climb = model.over_climb().map(|_| (Subject::Climb, "the climb, with every try".to_owned()));
    climb.into_iter().collect()
}

/// Whether what ended can be kept.
fn can_keep(rehearsing: &Rehearsing) -> bool {
    let over = rehearsing.run.as_ref().and_then(|run| run.over.as_ref());
    over.is_some_and(|over| matches!(&over.what, What::Climb(finding) if finding.recommended.is_some()))
}

fn key(model: &mut Model, code: KeyCode) -> Reaction {
    if model.preparation.is_none() {
        return Reaction::none();
    }
    if model.rehearsing.is_running() {
        return running_key(model, code);
    }
    let choices = CHOICES.len();
    match (code, model.rehearsing.run.is_some()) {
        (KeyCode::Char('k'), true) => return keep_rehearsed(model),
        // What was found is put away; what can be rehearsed is there again.
        (KeyCode::Esc | KeyCode::Enter, true) => model.rehearsing.run = None,
        (_, true) => {}
        (KeyCode::Up, false) => model.rehearsing.at = model.rehearsing.at.saturating_sub(1),
        (KeyCode::Down, false) => model.rehearsing.at = (model.rehearsing.at + 1).min(choices - 1),
        (KeyCode::Char('s'), false) if !model.is_demo => model.rehearsing.no_server = !model.rehearsing.no_server,
        (KeyCode::Enter, false) => return prepare_rehearsal(model),
        _ => {}
    }
    Reaction::none()
}

fn running_key(model: &mut Model, code: KeyCode) -> Reaction {
    let soak = soak(model).map(|soak| soak.to_do().len());
    let to_do = soak.unwrap_or(0);
    let at = model.rehearsing.to_do_at.min(to_do.saturating_sub(1));
    match code {
        KeyCode::Esc | KeyCode::Char('c') => return Reaction::wish(Wish::Rehearse(RehearsalOrder::Cancel)),
        _ if to_do == 0 && code != KeyCode::Char('n') => {}
        KeyCode::Up => model.rehearsing.to_do_at = at.saturating_sub(1),
        KeyCode::Down => model.rehearsing.to_do_at = (at + 1).min(to_do - 1),
        KeyCode::Char(' ') | KeyCode::Enter => {
            model.rehearsing.to_do_at = (at + 1).min(to_do - 1);
            return Reaction::wish(Wish::Rehearse(RehearsalOrder::Tick(at)));
        }
        KeyCode::Char('n') if soak.is_some() => return Reaction::open(Dialog::EnterToDo(String::new())),
        KeyCode::Char('x') => return leave_out(model, at),
        _ => {}
    }
    Reaction::none()
}

/// The list as it stands in the setup.
fn to_do(model: &Model) -> Vec<String> {
    let own = model.preparation.as_ref().and_then(|preparation| preparation.in_use.setup.soak.clone());
    own.unwrap_or_else(|| TO_DO.map(str::to_owned).to_vec())
}

/// The soak that runs, if one does.
fn soak(model: &Model) -> Option<&Soak> {
    match &model.rehearsing.run.as_ref()?.task {
        Task::Soak(soak) => Some(soak),
        Task::Climb(_) => None,
    }
}

fn leave_out(model: &mut Model, at: usize) -> Reaction {
    let to_leave = soak(model).and_then(|soak| soak.to_do().get(at)).filter(|to_do| to_do.done_at.is_none());
    let Some(gone) = to_leave.map(|to_do| to_do.text.clone()) else { return Reaction::none() };
    let left = to_do(model).into_iter().filter(|text| *text != gone).collect();
    let notice = model.preparation.as_mut().and_then(|preparation| preparation.change(&Change::Soak(left)));
    Reaction { notice, ..Reaction::wish(Wish::Rehearse(RehearsalOrder::LeaveOut(at))) }
}

pub(in crate::terminal) fn type_to_do(model: &mut Model, mut typed: String, key: KeyEvent) -> Reaction {
    match key.code {
        KeyCode::Esc => return Reaction::none(),
        KeyCode::Enter => {
            let text = typed.trim().to_owned();
            if text.is_empty() {
                return Reaction::none();
            }
            let list = to_do(model).into_iter().chain([text.clone()]).collect();
            let notice = model.preparation.as_mut().and_then(|preparation| preparation.change(&Change::Soak(list)));
            return Reaction { notice, ..Reaction::wish(Wish::Rehearse(RehearsalOrder::Add(text))) };
        }
        _ => type_into(&mut typed, key, LONGEST),
    }
    Reaction::open(Dialog::EnterToDo(typed))
}

/// Gets what is chosen ready; if a service would get it, that is asked about first.
fn prepare_rehearsal(model: &mut Model) -> Reaction {
    if model.is_on_air() && !model.is_demo && !model.rehearsing.is_all {
        return Reaction::tell(
            "you are on air: a rehearsal takes the place of the broadcast; end it first, or use `moth rehearse` afterwards",
        );
    }
    let (rehearsing, Some(preparation)) = (&mut model.rehearsing, &model.preparation) else { return Reaction::none() };
    if rehearsing.plan.records {
        return Reaction::tell(
            "this broadcast is recorded, and a rehearsal would end up in the same file: use `moth rehearse`",
        );
    }
    let wanted = Wanted {
        climb: CHOICES.get(rehearsing.at).copied().flatten(),
        no_server: rehearsing.no_server,
        ..Wanted::default()
    };
    let in_use = &preparation.in_use;
    let prepared = match &rehearsing.plan.doors {
        None => rehearsal::prepare_demo(&wanted, in_use, rehearsing.plan.seed),
        Some(doors) => rehearsal::prepare(&wanted, in_use, doors),
    };
    let prepared = match prepared {
        Err(failure) => return Reaction::tell(failure.to_string()),
        Ok(prepared) => rehearsing.prepared.insert(Box::new(prepared)),
    };
    match prepared.publishes.clone() {
        None => begin_prepared(model),
        Some(mut words) => {
            if in_use.service.unseen.is_none() {
                words.push_str(". Your channel goes live with it");
            }
            Reaction::open(Dialog::ConsentRehearsal(words))
        }
    }
}

pub(in crate::terminal) fn begin_prepared(model: &mut Model) -> Reaction {
    let rehearsing = &mut model.rehearsing;
    let Some(prepared) = rehearsing.prepared.take() else { return Reaction::none() };
    let notice = prepared.cut_off.clone();
    rehearsing.to_do_at = 0;
    rehearsing.run = Some(Arc::new(prepared.run.clone()));
    Reaction { notice, ..Reaction::wish(Wish::Rehearse(RehearsalOrder::Begin(prepared))) }
}

/// What is recommended goes into the setup.
fn keep_rehearsed(model: &mut Model) -> Reaction {
    let is_alone = model.rehearsing.is_all || model.is_demo;
    let (Some(run), Some(preparation)) = (&model.rehearsing.run, model.preparation.as_mut()) else {
        return Reaction::none();
    };
    // What is on beside it was begun with the setup as it was.
    let when = if is_alone { "" } else { "; it is used when the moth is started again" };
    Reaction::tell(match rehearsal::keep(run, &mut preparation.in_use) {
        Ok(kept) => format!("{kept}{when}"),
        Err(failure) => failure.to_string(),
    })
}

/// What can be rehearsed, and what was found last.
fn choices(
    palette: Palette,
    (rehearsing, is_demo): (&Rehearsing, bool),
    preparation: &Preparation,
    area: Rect,
) -> Vec<Line<'static>> {
    let roomy = area.height >= 30;
    let mut lines = Vec::new();
    lines.extend(wrapped("How much does this rig bear? Find out with nobody watching.", area.width, palette.strong()));
    if roomy {
        lines.push(Line::default());
    }
    for (i, choice) in CHOICES.into_iter().enumerate() {
        let (name, what) = match choice {
            Some(kind) => (kind.word(), climb_words(kind, preparation, is_demo)),
            None => ("soak", soak_words(preparation)),
        };
        let style = if i == rehearsing.at { palette.key() } else { palette.strong() };
        let pad = " ".repeat(10_usize.saturating_sub(name.len()));
        let room = usize::from(area.width).saturating_sub(12);
        for (row, line) in wrap(&what, room).into_iter().enumerate() {
            if row == 0 {
                lines.push(Line::from(vec![
                    Span::styled(format!(" {name} "), style),
                    Span::raw(pad.clone()),
                    Span::raw(line),
                ]));
            } else {
                lines.push(Line::raw(format!("{:12}{line}", "")));
            }
        }
        let last = rehearsing.last(choice, &preparation.in_use.setup_name).map(last_words);
        let last = last.unwrap_or_else(|| "never rehearsed".into());
        let rows = wrap(&last, usize::from(area.width).saturating_sub(12)).into_iter();
        lines.extend(rows.map(|row| Line::styled(format!("{:12}{row}", ""), palette.faint())));
        if roomy {
            lines.push(Line::default());
        }
    }
    let told = match (is_demo, rehearsing.no_server) {
        (true, _) => "In the demo it goes to a stand-in on the observatory's afternoon, in short steps, and the evening begins anew afterwards.".to_owned(),
        (false, true) => "Where: to nobody, a stand-in server behind a line like the one that was measured last. Every result says so.".into(),
        (false, false) => {
            let hidden = if preparation.in_use.service.unseen.is_some() { "as a run that no viewer sees" } else { "and viewers see it: this service cannot hide a run" };
            let (service, server) = (&preparation.in_use.service.name, server_words(&preparation.in_use, &preparation.history));
            // What is named on the command line has its server's name.
            if *service == server { format!("Where: {server}, {hidden}.") } else { format!("Where: {service} at {server}, {hidden}.") }
        }
    };
    if !roomy {
        lines.push(Line::default());
    }
    lines.extend(wrapped(&told, area.width, Style::new()));
    let by = match (is_demo, preparation.in_use.setup.broadcaster.command.is_empty()) {
        (true, _) => "The stand-in broadcaster takes each step by itself.",
        (false, true) => {
            "Your broadcaster publishes as always; where it takes no changes from here, you are asked for one step at a time, and the wire is watched until it is there."
        }
        (false, false) => "The moth runs the setup's encoder command, again for each step.",
    };
    lines.extend(wrapped(by, area.width, palette.faint()));
    lines
}

fn climb_words(kind: Kind, preparation: &Preparation, is_demo: bool) -> String {
    let what = match kind {
        Kind::Bitrate => "the video bitrate, upwards",
        Kind::Preset => "the encoder's presets, from light to heavy",
        Kind::Picture => "picture sizes and rates, from small to large",
    };
    if is_demo {
        return format!("{what}, until frames are lost; a step back, and that for longer");
    }
    match rungs::ladder(kind, &rungs::Bounds::default(), &preparation.in_use, &preparation.history) {
        Ok((ladder, _)) => {
            let (first, last) = (ladder.rungs().first(), ladder.rungs().last());
            let ends = first.zip(last).map_or(String::new(), |(a, b)| format!(" ({} to {})", a.words(), b.words()));
            format!("{what}{ends}, until frames are lost; a step back, and that for longer")
        }
        Err(Failure::Rungs(why)) => format!("{what}: {why}"),
        Err(failure) => format!("{what}: {failure}"),
    }
}

fn soak_words(preparation: &Preparation) -> String {
    let to_do = preparation.in_use.setup.soak.as_ref().map_or(TO_DO.len(), Vec::len);
    format!("everything as it is, for {} min, with {to_do} things to do meanwhile that may break it", SOAK_S / 60)
}

fn last_words(past: &moth_store::rehearsals::Rehearsed) -> String {
    let date = crate::system::out::date(past.date);
    let simulated = if past.simulated.is_some() { ", line simulated" } else { "" };
    let what = match &past.what {
        What::Climb(finding) => match (finding.clean(), finding.recommended()) {
            (Some(clean), Some(recommended)) => format!("{} clean, {} recommended", clean.words(), recommended.words()),
            _ => "nothing was clean".into(),
        },
        What::Soak(soaked) => soaked.sentence(),
    };
    format!("{date}{simulated}: {what}")
}

/// How long a climb's steps are, for the help.
fn words() -> String {
    format!(
        "a step lasts {STEP_S} s, or {} where a little is lost; what is found is confirmed for {} min",
        3 * STEP_S,
        STEP_S * CONFIRMS / 60
    )
}
