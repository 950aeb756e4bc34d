//! The full screen: draws when something changed, takes keys, and leaves the terminal as it was found.

pub mod app;
mod broadcast;
pub(crate) mod device;
mod dialogs;
pub(crate) mod first_minute;
mod frame;
mod hits;
pub(crate) mod hub;
mod lantern;
mod logbook_view;
mod model;
mod parts;
mod preparation;
pub(crate) mod put_on;
mod reaction;
mod rehearsing;
mod screen;
mod screens;
pub(crate) mod seat;
pub mod style;
mod wish;

use std::io::IsTerminal;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::sync::mpsc::Receiver;
use std::time::{Duration, Instant};

use crossterm::event::{self, Event};
use jiff::{Timestamp, Zoned};
use moth_core::Snapshot;
use moth_core::action::Action;
use tokio::sync::{broadcast as fan, mpsc, watch as channel};

use crate::drawings::job::Job;
use crate::drawings::take_away::take_away;
use crate::failure::Failure;
use crate::logbook::scribe::Keeping;
use crate::measuring::tester::{TestNews, TestOrder};
use crate::recordings::player::{ReplayOrder, ReplayState};
use crate::rehearsal::run::Run;
use crate::system::signals;
use app::App;
use device::Device;
use first_minute::{FirstMinute, Wanted};
use rehearsing::RehearsalOrder;
use seat::Seat;
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

/// How the screen was left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Left {
    /// That is all.
    ForGood,
    /// To go back to the list of setups.
    ForTheSetups,
    /// The screen only: what it shows goes on.
    TheScreen,
}

/// The screen's loop on this process's own terminal.
pub(crate) fn on_own_terminal(app: App, wires: Wires<'_>) -> Result<Left, Failure> {
    let failed = || Failure::system("the terminal could not be used");
    let went_on = signals::notice_going_on().map_err(failed())?;
    let mut device = Device::enter(app.has_mouse).map_err(failed())?;
    device.went_on = went_on;
    operate(app, wires, &mut device)
}

/// What the screen is joined to.
pub(crate) struct Wires<'a> {
    /// What to show.
    pub snapshots: channel::Receiver<Option<Arc<Snapshot>>>,
    /// What tests found.
    pub test_news: fan::Receiver<TestNews>,
    /// When to ring.
    pub rings: fan::Receiver<()>,
    /// What is said to whoever looks.
    pub said: Option<fan::Receiver<String>>,
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
}

/// The screen's loop: ends when the user quits, the broadcast is over, or nobody is there any more.
pub(crate) fn operate(mut app: App, mut wires: Wires<'_>, seat: &mut impl Seat) -> Result<Left, Failure> {
    let failed = || Failure::system("the terminal could not be used");
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
        if let Some(rehearsal) = &mut wires.rehearsal
            && rehearsal.newest.has_changed().unwrap_or(false)
        {
            changed |= app.follow_rehearsal(rehearsal.newest.borrow_and_update().clone());
            wavers = true;
        }
        if let Some(keeping) = &mut wires.keeping
            && keeping.has_changed().unwrap_or(false)
        {
            app.keeping_is(keeping.borrow_and_update().clone());
            changed = true;
        }
        if unread(&mut wires.rings).next().is_some() {
            unread(&mut wires.rings).for_each(drop);
            seat.ring();
        }
        for said in wires.said.as_mut().into_iter().flat_map(unread) {
            app.warn(said);
            changed = true;
        }
        while let Some(Ok(warning)) = wires.warnings.map(Receiver::try_recv) {
            app.warn(warning);
            changed = true;
        }
        while let Ok(told) = drawn.try_recv() {
            app.notice = Some(told);
            changed = true;
        }
        for news in unread(&mut wires.test_news) {
            app.learn(news, Timestamp::now());
            changed = true;
        }
        if seat.went_on() {
            seat.take_back().map_err(failed())?;
            changed = true;
        }
        changed |= wavers && drawn_at.is_none_or(|at| at.elapsed() >= CALM_EACH);
        let wait = drawn_at.map_or(Duration::ZERO, |at| DRAW_EACH.saturating_sub(at.elapsed()));
        if changed && wait.is_zero() {
            // What was drawn before may not have arrived yet: then it is tried again.
            if seat.draw(&mut |frame| frame::draw(frame, &app)).map_err(failed())? {
                (changed, wavers) = (false, false);
            }
            drawn_at = Some(Instant::now());
        }
        let wait = if wait.is_zero() { DRAW_EACH } else { wait };
        if !seat.wait(wait) {
            return Ok(Left::TheScreen);
        }
        while let Some(event) = seat.next().map_err(failed())? {
            // A mouse that only moves is no reason to draw.
            if matches!(&event, Event::Mouse(mouse) if !app::is_meant(mouse)) {
                continue;
            }
            match app.take(&event) {
                Some(Wish::Quit) => return Ok(Left::ForGood),
                Some(Wish::Setups) => return Ok(Left::ForTheSetups),
                Some(Wish::Leave) => return Ok(Left::TheScreen),
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
                Some(Wish::Copy(text)) => seat.copy(&text),
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

/// What a receiver has not read yet; what it missed is gone.
fn unread<T: Clone>(receiver: &mut fan::Receiver<T>) -> impl Iterator<Item = T> {
    std::iter::from_fn(|| {
        loop {
            match receiver.try_recv() {
                Ok(one) => return Some(one),
                Err(fan::error::TryRecvError::Lagged(_)) => {}
                Err(_) => return None,
            }
        }
    })
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
