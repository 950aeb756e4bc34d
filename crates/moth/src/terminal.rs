//! The full screen: draws when something changed, takes keys, and leaves the terminal as it was found.

pub mod app;
mod broadcast;
mod device;
mod dialogs;
pub(crate) mod first_minute;
mod frame;
mod hits;
mod lantern;
mod logbook_view;
mod model;
mod parts;
mod preparation;
mod reaction;
mod rehearsing;
mod screen;
mod screens;
pub mod style;
mod wish;

use std::io::IsTerminal;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Receiver;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use crossterm::event::{self, Event};
use jiff::{Timestamp, Zoned};
use moth_core::Snapshot;
use moth_core::action::Action;
use tokio::sync::{mpsc, watch as channel};

use crate::drawings::job::Job;
use crate::drawings::take_away::take_away;
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::live::plan::{Doors, Plan};
use crate::live::showing::Showing;
use crate::logbook::opened::Opened;
use crate::logbook::plan::LogPlan;
use crate::logbook::scribe::{Keeping, Scribe};
use crate::measuring::tester::{TestNews, TestOrder};
use crate::outlets::OutletPlan;
use crate::outlets::herald::Bell;
use crate::recordings::player::{ReplayOrder, ReplayState};
use crate::recordings::writer::Recording;
use crate::rehearsal::Prepared;
use crate::rehearsal::run::Run;
use crate::setup_in_use::SetupInUse;
use crate::system::{out, signals};
use app::App;
use broadcast::{Acts, Tests, Wiring};
use device::Device;
use first_minute::{FirstMinute, Wanted};
use moth_evening::chronicle::Chronicle;
use preparation::Preparation;
use rehearsing::{RehearsalOrder, RehearsalPlan};
use style::palette::Palette;
use wish::Wish;

/// At most 15 draws a second. Ours.
const DRAW_EACH: Duration = Duration::from_millis(67);
/// What only wavers is drawn again this often: each draw costs a third of a millisecond, here and in the terminal. Ours.
const CALM_EACH: Duration = Duration::from_millis(400);

/// Draws the screen as it stands.
pub fn draw(frame: &mut ratatui::Frame<'_>, app: &App) {
    frame::draw(frame, app);
}

/// Leads from nothing to a broadcast; gives the setup to go live with, or `None` if it was left.
pub(crate) fn begin(first: &mut FirstMinute) -> Result<Option<String>, Failure> {
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(Failure::NoTerminalToBegin);
    }
    let failed = || Failure::system("the terminal could not be used");
    let (went_on, stopping) =
        (signals::notice_going_on().map_err(failed())?, signals::notice_stopping().map_err(failed())?);
    // Without the mouse: what is pasted is mostly selected with it.
    let mut device = Device::enter(false).map_err(failed())?;
    // What is drawn is read from files: only when something happened.
    let (mut changed, mut drawn_on) = (true, None);
    loop {
        if stopping.load(Ordering::Acquire) {
            return Ok(None);
        }
        if went_on.swap(false, Ordering::AcqRel) {
            device.take_back().map_err(failed())?;
            changed = true;
        }
        let area = Some(device.area().map_err(failed())?);
        if std::mem::take(&mut changed) || drawn_on != area {
            device.draw(|frame| first_minute::draw(frame, first)).map_err(failed())?;
            drawn_on = area;
        }
        if !device::wait_for_input(CALM_EACH) {
            return Ok(None);
        }
        while event::poll(Duration::ZERO).map_err(failed())? {
            changed = true;
            match first.take(&event::read().map_err(failed())?) {
                Some(Wanted::Quit) => return Ok(None),
                Some(Wanted::GoLive(setup)) => return Ok(Some(setup)),
                Some(Wanted::Copy(text)) => {
                    device::copy(&text);
                    first.tell(format!("{text} is copied, if your terminal lets programs copy"));
                }
                None => {}
            }
        }
    }
}

/// Runs the full screen until it is quit or the time is over.
pub(crate) fn run(showing: Showing, warnings: &Receiver<String>) -> Result<Left, Failure> {
    let Showing { mut plan, run_for, recording, log, mouse, leads_back, outlets, socket } = showing;
    let before = plan.take_setup_in_use()?.map(|(in_use, folder)| Preparation::new(in_use, folder));
    let doors = plan.doors();
    let is_demo = matches!(plan, Plan::Demo(..));
    let seed = match &plan {
        Plan::Demo(_, seed, _) => *seed,
        Plan::Live(_) => 0,
    };
    let (banner, records, cut_off) = (plan.banner(), recording.is_some(), plan.cut_off());
    let scribe = log.clone().map(Scribe::begin).transpose()?;
    let acts = Acts { live: Some(plan), first: None, run_for, recording, scribe, outlets, socket };
    let mut app = App::new(banner, is_demo, Palette::from_environment())
        .with(before)
        .rehearsing_through(RehearsalPlan { doors, seed, records });
    (app.notice, app.has_mouse, app.model.leads_back) = (cut_off, mouse, leads_back);
    let Shown { nr, left, .. } = show(acts, app.keeping_in(log.clone()), warnings)?;
    tell_the_end(log.as_ref(), nr)?;
    Ok(left)
}

/// On the terminal, the broadcast in ten lines.
fn tell_the_end(log: Option<&LogPlan>, nr: Option<i64>) -> Outcome {
    let (Some(log), Some(nr)) = (log, nr) else { return Ok(()) };
    let Some(logbook) = log.open_to_read()? else { return Ok(()) };
    let opened = Opened::open(logbook, nr)?.told()?;
    // The terminal may be gone; `moth log show last` tells it again.
    let _ = out::text(&format!("{}\n", opened.lines.join("\n")));
    Ok(())
}

/// Runs a rehearsal on the full screen until it is quit; gives the newest that ended.
pub(crate) fn rehearse(
    prepared: Prepared,
    in_use: SetupInUse,
    doors: Doors,
    recording: Option<Recording>,
    log: Option<LogPlan>,
    warnings: &Receiver<String>,
) -> Result<Option<Run>, Failure> {
    let banner = prepared.plan.banner();
    let mut app = App::new(banner, false, Palette::from_environment())
        .with(Some(Preparation::new(in_use, None)))
        .rehearsing_through(RehearsalPlan { doors: Some(doors), ..RehearsalPlan::default() });
    app.notice = prepared.cut_off.clone();
    app.begin_with_the_rehearsal();
    let outlets = OutletPlan::default();
    let scribe = log.clone().map(Scribe::begin).transpose()?;
    let first = Some(Box::new(prepared));
    let acts = Acts { live: None, first, run_for: None, recording, scribe, outlets, socket: None };
    show(acts, app.keeping_in(log), warnings).map(|shown| shown.run)
}

/// How the screen was left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Left {
    /// That is all.
    ForGood,
    /// To go back to the list of setups.
    ForTheSetups,
}

/// What is left of what was shown.
struct Shown {
    /// The newest rehearsal that ended.
    run: Option<Run>,
    /// The number of the newest broadcast that was kept.
    nr: Option<i64>,
    left: Left,
}

/// Shows what is put on.
fn show(acts: Acts, app: App, warnings: &Receiver<String>) -> Result<Shown, Failure> {
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(Failure::NoTerminal);
    }
    let (order_test, test_orders) = mpsc::unbounded_channel();
    let (tell, test_news) = mpsc::unbounded_channel();
    let (show, snapshots) = channel::channel(None);
    let (order, actions) = mpsc::unbounded_channel();
    let (stop, stopping) = channel::channel(false);
    let (ring, rings) = mpsc::unbounded_channel();
    let (order_rehearsal, rehearsal_orders) = mpsc::unbounded_channel();
    let (tell_rehearsal, rehearsal) = channel::channel(None);
    let (say, said) = std::sync::mpsc::channel();
    let (began, has_begun) = std::sync::mpsc::channel();
    // The relay has a thread of its own: a terminal that does not take what is drawn must not hold up frames.
    let screen_left = Arc::new(AtomicBool::new(false));
    let left = screen_left.clone();
    let keeping = acts.scribe.as_ref().map(Scribe::keeping);
    let chronicle = Arc::new(Mutex::new(Chronicle::with_moments()));
    let written = chronicle.clone();
    let broadcast = std::thread::Builder::new()
        .name("broadcast".into())
        .spawn(move || {
            let wiring = Wiring {
                actions,
                stop: stopping,
                bell: Bell::Screen(ring),
                tests: Tests { orders: test_orders, news: tell },
                snapshots: show,
                chronicle: written,
                rehearsals: rehearsal_orders,
                rehearsal: tell_rehearsal,
                say,
            };
            let outcome = broadcast::run(acts, wiring, &began);
            leave_without_the_screen(&left, &outcome);
            outcome
        })
        .map_err(Failure::system("the relay's thread could not be started"))?;
    match has_begun.recv() {
        Ok(Ok(())) => {}
        Ok(Err(failure)) => return Err(failure),
        Err(_) => return Err(Failure::Fault),
    }
    let ended = rehearsal.clone();
    let rehearsal = Some(RehearsalWires { order: order_rehearsal, newest: rehearsal, said });
    let wires = Wires {
        snapshots,
        test_news,
        rings,
        order,
        order_test,
        rehearsal,
        replay: None,
        keeping,
        warnings: Some(warnings),
    };
    let left_for = operate(app.writing(chronicle), wires);
    screen_left.store(true, Ordering::Release);
    // If the broadcast already ended by itself, nobody listens to this.
    let _ = stop.send(true);
    let ended_well = broadcast.join();
    let left = left_for?;
    let nr = ended_well.unwrap_or(Err(Failure::Fault))?;
    let newest = ended.borrow().as_ref().map(|run: &Arc<Run>| run.as_ref().clone());
    Ok(Shown { run: newest.filter(|run| run.over.is_some()), nr, left })
}

/// The broadcast is over. If the screen's thread does not notice, because its terminal went away in the middle of
/// a read or takes no output any more, the program ends without it.
fn leave_without_the_screen(left: &AtomicBool, outcome: &Result<Option<i64>, Failure>) {
    for _ in 0..20 {
        if left.load(Ordering::Acquire) {
            return;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    // On a thread of its own, as a terminal that was stopped takes not even this.
    std::thread::spawn(device::give_back);
    std::thread::sleep(Duration::from_millis(300));
    let Err(failure) = outcome else { std::process::exit(0) };
    // On a thread of its own as well: standard error may be that terminal.
    let what = failure.to_string();
    std::thread::spawn(move || crate::system::out::complain(&what));
    std::thread::sleep(Duration::from_millis(300));
    std::process::exit(i32::from(crate::system::out::UNUSABLE));
}

/// What the screen is joined to.
pub(crate) struct Wires<'a> {
    /// What to show.
    pub snapshots: channel::Receiver<Option<Arc<Snapshot>>>,
    /// What tests found.
    pub test_news: mpsc::UnboundedReceiver<TestNews>,
    /// When to ring.
    pub rings: mpsc::UnboundedReceiver<()>,
    /// Things to do.
    pub order: mpsc::UnboundedSender<Action>,
    /// Things to find out.
    pub order_test: mpsc::UnboundedSender<TestOrder>,
    /// What is rehearsed; `None` where nothing can be.
    pub rehearsal: Option<RehearsalWires>,
    /// What is to be said to whoever looks.
    pub warnings: Option<&'a Receiver<String>>,
    /// How the keeping goes.
    pub keeping: Option<channel::Receiver<Keeping>>,
    /// Where a replay goes.
    pub replay: Option<(mpsc::UnboundedSender<ReplayOrder>, channel::Receiver<ReplayState>)>,
}

/// How a rehearsal is joined to the device.
pub(crate) struct RehearsalWires {
    /// What is to be done about it.
    pub order: mpsc::UnboundedSender<RehearsalOrder>,
    /// How far it is.
    pub newest: channel::Receiver<Option<Arc<Run>>>,
    /// What went wrong.
    pub said: std::sync::mpsc::Receiver<String>,
}

/// The screen's loop: ends when the user quits or the broadcast is over.
pub(crate) fn operate(mut app: App, mut wires: Wires) -> Result<Left, Failure> {
    let failed = || Failure::system("the terminal could not be used");
    let went_on = signals::notice_going_on().map_err(failed())?;
    let mut device = Device::enter(app.has_mouse).map_err(failed())?;
    let mut changed = true;
    let mut wavers = false;
    let mut drawn_at: Option<Instant> = None;
    let (tell_drawn, drawn) = std::sync::mpsc::channel();
    loop {
        match wires.snapshots.has_changed() {
            Ok(true) => {
                let before = app.standing();
                app.show(wires.snapshots.borrow_and_update().clone());
                app.note_beginning(&Zoned::now());
                // A replay may pass quickly; a broadcast's figures only waver.
                changed |= app.standing() != before || app.is_replay();
                wavers = true;
            }
            Ok(false) => {}
            Err(_) => return Ok(Left::ForGood),
        }
        if let Some((_, state)) = &mut wires.replay
            && state.has_changed().unwrap_or(false)
        {
            app.replay_is(*state.borrow_and_update());
            changed = true;
        }
        if let Some(rehearsal) = &mut wires.rehearsal {
            if rehearsal.newest.has_changed().unwrap_or(false) {
                changed |= app.follow_rehearsal(rehearsal.newest.borrow_and_update().clone());
                wavers = true;
            }
            while let Ok(said) = rehearsal.said.try_recv() {
                app.notice = Some(said);
                changed = true;
            }
        }
        if let Some(keeping) = &mut wires.keeping
            && keeping.has_changed().unwrap_or(false)
        {
            app.keeping_is(keeping.borrow_and_update().clone());
            changed = true;
        }
        if wires.rings.try_recv().is_ok() {
            while wires.rings.try_recv().is_ok() {}
            device::ring();
        }
        while let Some(Ok(warning)) = wires.warnings.map(Receiver::try_recv) {
            app.warn(warning);
            changed = true;
        }
        while let Ok(told) = drawn.try_recv() {
            app.notice = Some(told);
            changed = true;
        }
        while let Ok(news) = wires.test_news.try_recv() {
            app.learn(news, Timestamp::now());
            changed = true;
        }
        if went_on.swap(false, Ordering::AcqRel) {
            device.take_back().map_err(failed())?;
            changed = true;
        }
        changed |= wavers && drawn_at.is_none_or(|at| at.elapsed() >= CALM_EACH);
        let wait = drawn_at.map_or(Duration::ZERO, |at| DRAW_EACH.saturating_sub(at.elapsed()));
        if changed && wait.is_zero() {
            device.draw(|frame| frame::draw(frame, &app)).map_err(failed())?;
            drawn_at = Some(Instant::now());
            (changed, wavers) = (false, false);
        }
        let wait = if wait.is_zero() { DRAW_EACH } else { wait };
        if !device::wait_for_input(wait) {
            return Ok(Left::ForGood);
        }
        while event::poll(Duration::ZERO).map_err(failed())? {
            let event = event::read().map_err(failed())?;
            // A mouse that only moves is no reason to draw.
            if matches!(&event, Event::Mouse(mouse) if !app::is_meant(mouse)) {
                continue;
            }
            match app.take(&event) {
                Some(Wish::Quit) => return Ok(Left::ForGood),
                Some(Wish::Setups) => return Ok(Left::ForTheSetups),
                Some(Wish::Act(action)) => {
                    // Nobody listens only once the broadcast is over, and then the loop ends above.
                    let _ = wires.order.send(action);
                }
                Some(Wish::Test(test)) => {
                    let _ = wires.order_test.send(test);
                }
                Some(Wish::Rehearse(order)) => {
                    if let Some(rehearsal) = &wires.rehearsal {
                        let _ = rehearsal.order.send(order);
                    }
                }
                Some(Wish::Copy(text)) => device::copy(&text),
                Some(Wish::Export(job)) => export_beside(job, tell_drawn.clone()),
                Some(Wish::Replay(order)) => {
                    if let Some((replay, _)) = &wires.replay {
                        let _ = replay.send(order);
                    }
                }
                None => {}
            }
            changed = true;
        }
    }
}

/// Draws and writes on a thread of its own, as a long evening takes its time; tells where it is, or why not.
fn export_beside(job: Box<Job>, tell: std::sync::mpsc::Sender<String>) {
    let told = tell.clone();
    let work = move || {
        let folder = std::env::current_dir().unwrap_or_else(|_| PathBuf::from("."));
        let said = match take_away(&job, &folder, &Zoned::now()) {
            Ok(path) => format!("written to {}", path.display()),
            Err(failure) => failure.to_string(),
        };
        // If nobody listens the screen is gone.
        let _ = tell.send(said);
    };
    if let Err(error) = std::thread::Builder::new().name("export".into()).spawn(work) {
        let _ = told.send(format!("it could not be drawn: {error}"));
    }
}

#[cfg(test)]
mod tests;
