//! The relay's thread: what is on air, and what is rehearsed in its place.

use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::Duration;

use jiff::Timestamp;
use moth_core::Snapshot;
use moth_core::action::Action;
use moth_core::figure::Origin;
use moth_core::reading::Observation;
use moth_logbook::Kind;
use moth_relay::Dialer;
use tokio::sync::{broadcast, mpsc, watch as channel};

use crate::failure::Failure;
use crate::failure::Outcome;
use crate::live::conductor::{Attached, conduct};
use crate::live::demo_clock;
use crate::live::plan::Plan;
use crate::live::production::Production;
use crate::logbook::going_on::GoingOn;
use crate::logbook::scribe::Scribe;
use crate::measuring::tester::{self, Field, TestNews, TestOrder};
use crate::outlets::herald::Bell;
use crate::outlets::{OutletPlan, Outlets};
use crate::recordings::writer::Recording;
use crate::rehearsal::Prepared;
use crate::rehearsal::run::{self, Run, Task};
use crate::system::signals;
use crate::tell;
use crate::terminal::hub::Hub;
use crate::terminal::rehearsing::RehearsalOrder;
use moth_evening::chronicle::{Chronicle, lock};

/// What is marked where a broadcast was begun again.
const AGAIN: &str =
    "begun again: the process before was killed or met a fault; what was until then is the broadcast before this one";

/// How often the core is asked. Ours.
const LOOK_EACH: Duration = Duration::from_millis(200);

/// What is put on.
pub(super) struct Acts {
    /// The broadcast; `None` where there are only rehearsals.
    pub live: Option<Plan>,
    /// The rehearsal to begin with.
    pub first: Option<Box<Prepared>>,
    /// How many times as fast as the machine's clock its own runs. Only a demo has another than 1.
    pub speed: u32,
    /// It ends after this long.
    pub run_for: Option<Duration>,
    /// Where everything that is seen is written, if anywhere.
    pub recording: Option<Recording>,
    /// Where it is kept, if anywhere.
    pub scribe: Option<Scribe>,
    /// How often it was begun before: its process was killed.
    pub time: u32,
    /// Who else is told.
    pub outlets: OutletPlan,
    /// Where `moth tell` reaches it.
    pub socket: Option<PathBuf>,
}

/// The two ways to have something found out.
pub(super) struct Tests {
    pub orders: mpsc::UnboundedReceiver<TestOrder>,
    pub news: broadcast::Sender<TestNews>,
}

/// How it is joined to the screen.
pub(super) struct Wiring {
    pub actions: mpsc::UnboundedReceiver<Action>,
    pub stop: channel::Receiver<bool>,
    pub bell: Bell,
    pub tests: Tests,
    pub snapshots: channel::Sender<Option<Arc<Snapshot>>>,
    /// Written here and not where they are drawn, which may miss some.
    pub chronicle: Arc<Mutex<Chronicle>>,
    pub rehearsals: mpsc::UnboundedReceiver<RehearsalOrder>,
    pub rehearsal: channel::Sender<Option<Arc<Run>>>,
    pub say: broadcast::Sender<String>,
    /// For screens that come later.
    pub hub: Weak<Hub>,
}

/// What the screen sees of it.
struct Show {
    snapshots: channel::Sender<Option<Arc<Snapshot>>>,
    chronicle: Arc<Mutex<Chronicle>>,
    rehearsal: channel::Sender<Option<Arc<Run>>>,
    say: broadcast::Sender<String>,
}

impl Show {
    fn snapshot(&self, snapshot: Arc<Snapshot>) {
        lock(&self.chronicle).take(&snapshot);
        self.snapshots.send_replace(Some(snapshot));
    }

    /// Another broadcast begins, and what was written down belongs to the one before; or one goes on that was cut off.
    fn begin(&self, going_on: Option<&GoingOn>) {
        let kept = going_on.map_or_else(Chronicle::default, |going_on| going_on.pen.chronicle().clone());
        *lock(&self.chronicle) = kept.and_moments();
    }
}

/// What comes after what was put on.
enum Next {
    /// Nothing: the program ends.
    Nothing,
    /// A rehearsal, with what it was prepared with.
    Rehearsal(Box<Prepared>),
    /// The broadcast, or what there is without one.
    Live,
}

/// The line that is in use, for handshakes beside the broadcast.
type LineInUse = Arc<Mutex<Arc<dyn Dialer>>>;

/// Runs it all; gives the number of the newest broadcast that was kept. Whether it could begin is told to `began` once.
pub(super) fn run(
    acts: Acts,
    wiring: Wiring,
    began: &std::sync::mpsc::Sender<Outcome>,
) -> Result<Option<i64>, Failure> {
    let runtime = match tokio::runtime::Builder::new_current_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            let _ = began.send(Err(Failure::System { what: "the program's scheduler could not be started", error }));
            return Ok(None);
        }
    };
    runtime.block_on(async {
        demo_clock::speed_up(acts.speed);
        match Stage::open(acts, wiring).await {
            Ok((stage, first)) => stage.run(first, began).await,
            Err(failure) => {
                let _ = began.send(Err(failure));
                Ok(None)
            }
        }
    })
}

struct Stage {
    live: Option<Plan>,
    run_for: Option<Duration>,
    /// It was begun before, and that is still to be told.
    is_again: bool,
    attached: Attached,
    show: Show,
    rehearsals: mpsc::UnboundedReceiver<RehearsalOrder>,
    /// Waits to be served with the first line there is.
    tests: Option<(Field, Tests)>,
    line: Option<LineInUse>,
}

impl Stage {
    async fn open(acts: Acts, wiring: Wiring) -> Result<(Self, Next), Failure> {
        let first = acts.first.map_or(Next::Live, Next::Rehearsal);
        let of = match (&acts.live, &first) {
            (Some(plan), _) => plan,
            (None, Next::Rehearsal(prepared)) => &prepared.plan,
            (None, _) => return Err(Failure::Fault),
        };
        let field = of.field()?;
        let attached = Attached {
            actions: wiring.actions,
            stop: wiring.stop,
            recording: acts.recording,
            scribe: acts.scribe,
            outlets: acts.outlets.open(wiring.bell).await?,
            told: tell::listen(acts.socket.as_deref(), Some(wiring.hub))?,
            asked_to_stop: None,
        };
        let Wiring { snapshots, chronicle, rehearsal, say, rehearsals, tests, .. } = wiring;
        let show = Show { snapshots, chronicle, rehearsal, say };
        let tests = Some((field, tests));
        Ok((
            Self {
                live: acts.live,
                run_for: acts.run_for,
                is_again: acts.time > 0,
                attached,
                show,
                rehearsals,
                tests,
                line: None,
            },
            first,
        ))
    }

    async fn run(mut self, mut next: Next, began: &std::sync::mpsc::Sender<Outcome>) -> Result<Option<i64>, Failure> {
        let mut began = Some(began);
        let outcome = loop {
            let plan = match &next {
                Next::Nothing => break Ok(()),
                Next::Rehearsal(prepared) => Some(prepared.plan.clone()),
                Next::Live => self.live.clone(),
            };
            let Some(plan) = plan else {
                next = self.wait().await;
                continue;
            };
            let core = plan.core();
            let kind = if matches!(next, Next::Rehearsal(_)) { Kind::Rehearsal } else { Kind::Broadcast };
            let going_on = plan.going_on().cloned();
            let production = match plan.begin().await {
                Ok(production) => production,
                Err(failure) => match began.take() {
                    Some(began) => {
                        let _ = began.send(Err(failure));
                        return Ok(None);
                    }
                    // A broadcast that cannot go on is no broadcast; a rehearsal that cannot begin leaves it be.
                    None if matches!(next, Next::Live) => break Err(failure),
                    None => {
                        let _ = self.show.say.send(failure.to_string());
                        next = Next::Live;
                        continue;
                    }
                },
            };
            self.use_line(&production);
            if std::mem::take(&mut self.is_again) && going_on.is_none() {
                production.recorder.note(Origin::Measured, Observation::Remark { text: AGAIN.into() });
            }
            if let Some(began) = began.take() {
                let _ = began.send(Ok(()));
            }
            self.show.begin(going_on.as_deref());
            if let Some(scribe) = &mut self.attached.scribe {
                scribe.follow(going_on.as_deref(), kind);
            }
            if matches!(next, Next::Live) {
                // It is gone on with once.
                self.live = self.live.as_ref().map(Plan::anew);
            }
            // It is as large as the broadcast was long.
            drop(going_on);
            let came = match next {
                Next::Rehearsal(prepared) => self.rehearse(production, core, prepared.run).await,
                _ => self.broadcast(production, core).await,
            };
            next = match came {
                Ok(next) => next,
                Err(failure) => break Err(failure),
            };
        };
        let kept = self.attached.close();
        outcome.and(kept)
    }

    /// Tests ask for handshakes over the line of what is on.
    fn use_line(&mut self, production: &Production) {
        match &self.line {
            Some(line) => *line.lock().unwrap_or_else(PoisonError::into_inner) = production.dialer.clone(),
            None => {
                let line: LineInUse = Arc::new(Mutex::new(production.dialer.clone()));
                if let Some((field, tests)) = self.tests.take() {
                    tokio::spawn(tester::serve(field, line.clone(), tests.orders, tests.news));
                }
                self.line = Some(line);
            }
        }
    }

    /// There is nothing to put on until something is asked for.
    async fn wait(&mut self) -> Next {
        loop {
            tokio::select! {
                biased;
                stopped = self.attached.stop.wait_for(|stop| *stop) => { drop(stopped); return Next::Nothing }
                signalled = signals::stop_requested() => {
                    if let Err(error) = signalled {
                        tracing::warn!(%error, "signals cannot be listened for");
                    }
                    return Next::Nothing;
                }
                order = self.rehearsals.recv() => match order {
                    Some(RehearsalOrder::Begin(prepared)) => return Next::Rehearsal(prepared),
                    Some(_) => {}
                    None => return Next::Nothing,
                },
            }
        }
    }

    async fn broadcast(&mut self, production: Production, core: moth_core::Core) -> Result<Next, Failure> {
        let mut next = Next::Nothing;
        let (show, rehearsals, run_for) = (&self.show, &mut self.rehearsals, self.run_for);
        let look = |snapshot: Arc<Snapshot>| {
            let over = run_for.is_some_and(|limit| snapshot.at.seconds() >= limit.as_secs_f64());
            show.snapshot(snapshot);
            while let Ok(order) = rehearsals.try_recv() {
                if let RehearsalOrder::Begin(prepared) = order {
                    next = Next::Rehearsal(prepared);
                    return ControlFlow::Break(());
                }
            }
            if over { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        };
        conduct(production, core, &mut self.attached, LOOK_EACH, look).await?;
        Ok(next)
    }

    async fn rehearse(&mut self, production: Production, core: moth_core::Core, mut run: Run) -> Result<Next, Failure> {
        let (relay, recorder) = (production.relay.clone(), production.recorder.clone());
        let (order, actions) = mpsc::unbounded_channel();
        let (_never, stop) = channel::channel(false);
        let (asked_to_stop, asked) = channel::channel(false);
        let (recording, scribe) = (self.attached.recording.take(), self.attached.scribe.take());
        let (_hold_told, told) = mpsc::unbounded_channel();
        // Nobody is rung for what is lost on purpose, and what the screen asks for is left to the broadcast.
        let mut attached = Attached {
            actions,
            stop,
            recording,
            scribe,
            outlets: Outlets::default(),
            told,
            asked_to_stop: Some(asked_to_stop),
        };
        let (show, rehearsals, quits) = (&self.show, &mut self.rehearsals, &self.attached.stop);
        let mut is_left = false;
        let look = |snapshot: Arc<Snapshot>| {
            if run.over.is_some() {
                return ControlFlow::Break(());
            }
            while let Ok(order) = rehearsals.try_recv() {
                if let Some(text) = take(&mut run, order, &snapshot) {
                    recorder.note(Origin::Reported, Observation::Remark { text });
                }
            }
            if *quits.borrow() || *asked.borrow() {
                is_left = true;
                run.cancel();
            }
            let does = run.look(&snapshot, Timestamp::now());
            show.snapshot(snapshot);
            show.rehearsal.send_replace(Some(Arc::new(run.clone())));
            run::carry_out(does, &order, &relay)
        };
        let conducted = conduct(production, core, &mut attached, LOOK_EACH, look).await;
        (self.attached.recording, self.attached.scribe) = (attached.recording.take(), attached.scribe.take());
        conducted?;
        Ok(if is_left || run.over.is_none() { Next::Nothing } else { Next::Live })
    }
}

/// Does what the screen asks of a rehearsal; gives what is to be marked on the lanes.
fn take(run: &mut Run, order: RehearsalOrder, snapshot: &Snapshot) -> Option<String> {
    match (order, &mut run.task) {
        (RehearsalOrder::Cancel, _) => run.cancel(),
        (RehearsalOrder::Tick(which), Task::Soak(soak)) => return soak.tick(which, snapshot),
        (RehearsalOrder::Add(text), Task::Soak(soak)) => soak.add(text),
        (RehearsalOrder::LeaveOut(which), Task::Soak(soak)) => soak.leave_out(which),
        _ => {}
    }
    None
}
