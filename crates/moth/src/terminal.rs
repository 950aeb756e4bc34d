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
mod reaction;
mod rehearsing;
mod screen;
mod screens;
pub(crate) mod seat;
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
use tokio::sync::{broadcast as fan, mpsc, watch as channel};

use crate::attach::guests::Guests;
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
use hub::{About, Hub, UNREAD};
use moth_evening::chronicle::Chronicle;
use rehearsing::RehearsalOrder;
use seat::Seat;
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
    let (mouse, leads_back, cut_off) = (showing.mouse, showing.leads_back, showing.plan.cut_off());
    let log = showing.log.clone();
    let on = PutOn::of(showing)?;
    let mut app = on.hub.app(Palette::from_environment());
    (app.notice, app.has_mouse, app.model.leads_back) = (cut_off, mouse, leads_back);
    let Shown { nr, left, .. } = on.show(app, warnings)?;
    tell_the_end(log.as_ref(), nr)?;
    Ok(left)
}

/// Keeps a broadcast on air without a screen of its own, for screens that come and go; `begun` is told once whether it began.
pub(crate) fn carry(showing: Showing, warnings: &Receiver<String>, begun: impl FnOnce() -> Outcome) -> Outcome {
    let log = showing.log.clone();
    let mut on = PutOn::of(showing)?;
    on.begin()?;
    if let Err(failure) = begun() {
        let _ = on.end(Left::ForGood);
        return Err(failure);
    }
    // Whoever looks is told what there is to warn of.
    while !on.is_over() {
        // Nobody is warned who is not there: it waits for the first that comes.
        if on.hub.said.receiver_count() == 0 {
            std::thread::sleep(DRAW_EACH);
        } else if let Ok(warning) = warnings.recv_timeout(CALM_EACH) {
            let _ = on.hub.said.send(warning);
        }
    }
    let hub = on.hub.clone();
    let shown = on.end(Left::ForGood)?;
    hub.ended.send_replace(Some(lines_of_the_end(log.as_ref(), shown.nr)?));
    // The screens take their leave.
    for _ in 0..50 {
        if hub.guests.is_empty() {
            break;
        }
        std::thread::sleep(Duration::from_millis(40));
    }
    Ok(())
}

/// The broadcast in ten lines.
fn lines_of_the_end(log: Option<&LogPlan>, nr: Option<i64>) -> Result<Vec<String>, Failure> {
    let (Some(log), Some(nr)) = (log, nr) else { return Ok(Vec::new()) };
    let Some(logbook) = log.open_to_read()? else { return Ok(Vec::new()) };
    Ok(Opened::open(logbook, nr)?.told()?.lines)
}

/// On the terminal, the broadcast in ten lines.
fn tell_the_end(log: Option<&LogPlan>, nr: Option<i64>) -> Outcome {
    let lines = lines_of_the_end(log, nr)?;
    if !lines.is_empty() {
        // The terminal may be gone; `moth log show last` tells it again.
        let _ = out::text(&format!("{}\n", lines.join("\n")));
    }
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
    let cut_off = prepared.cut_off.clone();
    let about = About {
        banner: prepared.plan.banner(),
        is_demo: false,
        in_use: Some((in_use, None)),
        doors: Some(doors),
        seed: 0,
        records: false,
        log: log.clone(),
    };
    let scribe = log.map(Scribe::begin).transpose()?;
    let acts = Acts {
        live: None,
        first: Some(Box::new(prepared)),
        run_for: None,
        recording,
        scribe,
        outlets: OutletPlan::default(),
        socket: None,
    };
    let on = PutOn::new(acts, about);
    let mut app = on.hub.app(Palette::from_environment());
    app.notice = cut_off;
    app.begin_with_the_rehearsal();
    on.show(app, warnings).map(|shown| shown.run)
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

/// What is left of what was shown.
struct Shown {
    /// The newest rehearsal that ended.
    run: Option<Run>,
    /// The number of the newest broadcast that was kept.
    nr: Option<i64>,
    left: Left,
}

/// What is put on, and what its screens are joined to.
struct PutOn {
    hub: Arc<Hub>,
    /// Until it begins.
    waiting: Option<(Acts, Wiring)>,
    thread: Option<std::thread::JoinHandle<Result<Option<i64>, Failure>>>,
    /// The screen noticed that it is over.
    screen_left: Arc<AtomicBool>,
    is_apart: bool,
}

impl PutOn {
    fn of(showing: Showing) -> Result<Self, Failure> {
        let Showing { mut plan, run_for, recording, log, outlets, socket, .. } = showing;
        let in_use = plan.take_setup_in_use()?.map(|(in_use, folder)| (in_use, folder.map(Arc::new)));
        let about = About {
            banner: plan.banner(),
            is_demo: matches!(plan, Plan::Demo(..)),
            in_use,
            doors: plan.doors(),
            seed: match &plan {
                Plan::Demo(_, seed, _) => *seed,
                Plan::Live(_) => 0,
            },
            records: recording.is_some(),
            log: log.clone(),
        };
        let scribe = log.map(Scribe::begin).transpose()?;
        Ok(Self::new(Acts { live: Some(plan), first: None, run_for, recording, scribe, outlets, socket }, about))
    }

    fn new(acts: Acts, about: About) -> Self {
        let (order_test, orders) = mpsc::unbounded_channel();
        let (show, snapshots) = channel::channel(None);
        let (order, actions) = mpsc::unbounded_channel();
        let (stop, stopping) = channel::channel(false);
        let (order_rehearsal, rehearsals) = mpsc::unbounded_channel();
        let (tell_rehearsal, rehearsal) = channel::channel(None);
        let chronicle = Arc::new(Mutex::new(Chronicle::with_moments()));
        let hub = Arc::new(Hub {
            about,
            snapshots,
            chronicle: chronicle.clone(),
            news: fan::Sender::new(UNREAD),
            rings: fan::Sender::new(UNREAD),
            said: fan::Sender::new(UNREAD),
            order,
            order_test,
            order_rehearsal,
            rehearsal,
            keeping: acts.scribe.as_ref().map(Scribe::keeping),
            stop,
            ended: channel::Sender::new(None),
            guests: Guests::default(),
        });
        let wiring = Wiring {
            actions,
            stop: stopping,
            bell: Bell::Screens(hub.rings.clone()),
            tests: Tests { orders, news: hub.news.clone() },
            snapshots: show,
            chronicle,
            rehearsals,
            rehearsal: tell_rehearsal,
            say: hub.said.clone(),
            hub: Arc::downgrade(&hub),
        };
        Self { hub, waiting: Some((acts, wiring)), thread: None, screen_left: Arc::default(), is_apart: true }
    }

    /// Begins it. The relay has a thread of its own: a terminal that does not take what is drawn must not hold up frames.
    fn begin(&mut self) -> Outcome {
        let Some((acts, wiring)) = self.waiting.take() else { return Err(Failure::Fault) };
        let (left, is_apart) = (self.screen_left.clone(), self.is_apart);
        let (began, has_begun) = std::sync::mpsc::channel();
        let thread = std::thread::Builder::new()
            .name("broadcast".into())
            .spawn(move || {
                let outcome = broadcast::run(acts, wiring, &began);
                if !is_apart {
                    leave_without_the_screen(&left, &outcome);
                }
                outcome
            })
            .map_err(Failure::system("the relay's thread could not be started"))?;
        self.thread = Some(thread);
        match has_begun.recv() {
            Ok(outcome) => outcome,
            Err(_) => Err(Failure::Fault),
        }
    }

    fn is_over(&self) -> bool {
        self.thread.as_ref().is_none_or(std::thread::JoinHandle::is_finished)
    }

    /// Ends it, if it has not ended by itself.
    fn end(mut self, left: Left) -> Result<Shown, Failure> {
        self.screen_left.store(true, Ordering::Release);
        self.hub.stop.send_replace(true);
        let ended_well = self.thread.take().ok_or(Failure::Fault)?.join();
        let nr = ended_well.unwrap_or(Err(Failure::Fault))?;
        let newest = self.hub.rehearsal.borrow().as_ref().map(|run: &Arc<Run>| run.as_ref().clone());
        Ok(Shown { run: newest.filter(|run| run.over.is_some()), nr, left })
    }

    /// Shows it on this process's own terminal.
    fn show(mut self, app: App, warnings: &Receiver<String>) -> Result<Shown, Failure> {
        if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
            return Err(Failure::NoTerminal);
        }
        self.is_apart = false;
        self.begin()?;
        let wires = Wires { warnings: Some(warnings), ..self.hub.wires() };
        let left_for = on_own_terminal(app, wires);
        self.screen_left.store(true, Ordering::Release);
        // If it already ended by itself, nobody listens to this.
        self.hub.stop.send_replace(true);
        let left = match left_for {
            Ok(left) => left,
            Err(failure) => {
                let _ = self.end(Left::ForGood);
                return Err(failure);
            }
        };
        self.end(left)
    }
}

/// The screen's loop on this process's own terminal.
pub(crate) fn on_own_terminal(app: App, wires: Wires<'_>) -> Result<Left, Failure> {
    let failed = || Failure::system("the terminal could not be used");
    let went_on = signals::notice_going_on().map_err(failed())?;
    let mut device = Device::enter(app.has_mouse).map_err(failed())?;
    device.went_on = went_on;
    operate(app, wires, &mut device)
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
