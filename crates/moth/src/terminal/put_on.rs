//! What is put on, with its own thread and all that its screens are joined to.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Receiver;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use moth_evening::chronicle::Chronicle;
use tokio::sync::{broadcast as fan, mpsc, watch as channel};

use super::app::App;
use super::broadcast::{self, Acts, Tests, Wiring};
use super::hub::{About, Hub, UNREAD};
use super::style::palette::Palette;
use super::{CALM_EACH, DRAW_EACH, Left, Wires, device, on_own_terminal};
use crate::attach::guests::Guests;
use crate::failure::{Failure, Outcome};
use crate::live::plan::{Doors, Plan};
use crate::live::showing::Showing;
use crate::logbook::opened::Opened;
use crate::logbook::plan::LogPlan;
use crate::logbook::scribe::Scribe;
use crate::outlets::OutletPlan;
use crate::outlets::herald::Bell;
use crate::recordings::writer::Recording;
use crate::rehearsal::Prepared;
use crate::rehearsal::run::Run;
use crate::setup_in_use::SetupInUse;
use crate::system::out;

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
    let outcome = on.end(Left::ForGood);
    let told = match &outcome {
        Ok(shown) => lines_of_the_end(log.as_ref(), shown.nr),
        Err(failure) => Ok(vec![failure.to_string()]),
    };
    hub.ended.send_replace(Some(told.unwrap_or_else(|failure| vec![failure.to_string()])));
    // The screens take their leave.
    for _ in 0..50 {
        if hub.guests.is_empty() {
            break;
        }
        std::thread::sleep(Duration::from_millis(40));
    }
    outcome.map(|_| ())
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
        speed: 1,
        run_for: None,
        time: 0,
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
        let Showing { mut plan, speed, run_for, recording, log, outlets, socket, time, .. } = showing;
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
        let acts = Acts { live: Some(plan), first: None, speed, run_for, time, recording, scribe, outlets, socket };
        Ok(Self::new(acts, about))
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

/// The broadcast is over. If the screen's thread does not notice, because its terminal went away in the middle of
/// a read or takes no output any more, the program ends without it.
fn leave_without_the_screen(left: &AtomicBool, outcome: &Result<Option<i64>, Failure>) {
    for _ in 0..20 {
        if left.load(Ordering::Acquire) {
            return;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    device::give_back_without_waiting();
    let Err(failure) = outcome else { std::process::exit(0) };
    // On a thread of its own as well: standard error may be that terminal.
    let what = failure.to_string();
    std::thread::spawn(move || crate::system::out::complain(&what));
    std::thread::sleep(Duration::from_millis(300));
    std::process::exit(i32::from(crate::system::out::UNUSABLE));
}
