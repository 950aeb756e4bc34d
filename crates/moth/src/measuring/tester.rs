//! Carries out tests for the screen: of servers, of the line, of the machine. It runs where the broadcast runs, and tells
//! the screen what it finds.

use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use moth_destination::StreamKey;
use moth_plan::check::{Asked, Check};
use moth_plan::line::LineRun;
use moth_plan::ranking::Wanted;
use moth_plan::surroundings::Surroundings;
use moth_relay::measure::{LineProgress, MeasurePlan, Target, run_line};
use moth_relay::tcp::TcpDialer;
use moth_relay::{Dialer, Server};
use moth_stage::{Afternoon, made_up_machine};
use tokio::sync::{broadcast, mpsc, watch};

use crate::commands::check;
use crate::measuring::servers_in_turn::{self, RoutesTest};
use crate::measuring::surroundings;

/// Something to find out.
#[derive(Debug, Clone, PartialEq)]
pub enum TestOrder {
    /// What these servers hold.
    Routes {
        /// The servers, in order.
        targets: Vec<Target>,
        /// How each is measured.
        plan: MeasurePlan,
        /// What is asked of them.
        wanted: Wanted,
    },
    /// What the line sustains.
    Line {
        /// Against which server.
        target: Target,
        /// How it is measured.
        plan: MeasurePlan,
    },
    /// One handshake with each server, over the line of the broadcast.
    Ask {
        /// Which.
        servers: Vec<Server>,
    },
    /// The machine's condition.
    Machine {
        /// Names and ports of the servers.
        hosts: Vec<(String, u16)>,
        /// The folder recordings go to.
        recordings: PathBuf,
        /// What is planned.
        asked: Asked,
    },
    /// End what is running, with what there is.
    Cancel,
}

/// Each server's name, and its round trip in milliseconds if it answered.
pub type Handshakes = Vec<(String, Option<f64>)>;

/// A server that takes longer to answer one handshake does not count as one that answers. Ours.
const HANDSHAKE: Duration = Duration::from_secs(3);

/// Something found out.
#[derive(Debug, Clone)]
pub enum TestNews {
    /// What is around the test that begins.
    Around(Surroundings),
    /// How soon each server answers.
    Asked(Handshakes),
    /// How far the servers' test is.
    Routes(Arc<RoutesTest>),
    /// How far the line's test is.
    Line(LineProgress),
    /// The line's test ended: the run, or why there is none.
    LineDone(Result<Arc<LineRun>, String>),
    /// The machine's condition, or why it could not be read.
    Machine(Result<Arc<Check>, String>),
}

/// Where tests really go.
pub enum Field {
    /// The world.
    Real(StreamKey),
    /// The stand-ins of the demo.
    StandIn(Box<Afternoon>),
}

impl Field {
    fn dialer(&self, fills: bool) -> Arc<dyn Dialer> {
        match self {
            Self::Real(_) if fills => Arc::new(TcpDialer::filling()),
            Self::Real(_) => Arc::new(TcpDialer::default()),
            Self::StandIn(afternoon) => afternoon.dialer(),
        }
    }

    fn key(&self) -> Option<StreamKey> {
        match self {
            Self::Real(key) => Some(key.clone()),
            Self::StandIn(_) => Afternoon::key(),
        }
    }

    async fn around(&self, target: Option<&Target>) -> Surroundings {
        match self {
            Self::Real(_) => surroundings::to(target).await,
            Self::StandIn(_) => moth_stage::made_up_surroundings(),
        }
    }
}

/// Serves orders until nobody gives any more. One test runs at a time. `live` is the line of whatever is on now.
pub async fn serve(
    field: Field,
    live: Arc<Mutex<Arc<dyn Dialer>>>,
    mut orders: mpsc::UnboundedReceiver<TestOrder>,
    news: broadcast::Sender<TestNews>,
) {
    let (cancel, cancelled) = watch::channel(false);
    while let Some(order) = orders.recv().await {
        cancel.send_replace(false);
        let line = live.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let test = carry_out(&field, line.as_ref(), order, cancelled.clone(), &news);
        tokio::pin!(test);
        loop {
            tokio::select! {
                biased;
                () = &mut test => break,
                order = orders.recv() => match order {
                    Some(TestOrder::Cancel) => { cancel.send_replace(true); }
                    // The screen asks for nothing else while something runs.
                    Some(_) => {}
                    None => return,
                },
            }
        }
    }
}

async fn carry_out(
    field: &Field,
    live: &dyn Dialer,
    order: TestOrder,
    mut cancel: watch::Receiver<bool>,
    news: &broadcast::Sender<TestNews>,
) {
    // Nobody listens only once the screen is gone, and then this ends too.
    let tell = |what| {
        let _ = news.send(what);
    };
    match order {
        TestOrder::Cancel => {}
        TestOrder::Routes { targets, plan, wanted } => {
            let Some(key) = field.key() else { return };
            tell(TestNews::Around(field.around(targets.first()).await));
            let look = |test: &RoutesTest| tell(TestNews::Routes(Arc::new(test.clone())));
            servers_in_turn::run(field.dialer(false), targets, key, plan, wanted, cancel, look).await;
        }
        TestOrder::Line { target, plan } => {
            let Some(key) = field.key() else { return };
            tell(TestNews::Around(field.around(Some(&target)).await));
            let dialer = field.dialer(true);
            let look = |progress: &LineProgress| tell(TestNews::Line(*progress));
            let run = run_line(&*dialer, &target.server, key, &plan, &mut cancel, look).await;
            tell(TestNews::LineDone(run.map(Arc::new).map_err(|error| error.why)));
        }
        TestOrder::Ask { servers } => {
            let mut told = Handshakes::new();
            for server in servers {
                let answer = tokio::time::timeout(HANDSHAKE, live.round_trip(&server)).await;
                let ms = answer.ok().and_then(Result::ok).map(|took| took.as_secs_f64() * 1000.0);
                told.push((server.name, ms));
            }
            tell(TestNews::Asked(told));
        }
        TestOrder::Machine { hosts, recordings, asked } => {
            let found = match field {
                Field::Real(_) => check::look_at(hosts, recordings, asked).await,
                Field::StandIn(_) => {
                    tokio::time::sleep(Duration::from_millis(600)).await;
                    Ok(moth_plan::check::check(&made_up_machine(), asked))
                }
            };
            tell(TestNews::Machine(found.map(Arc::new).map_err(|failure| failure.to_string())));
        }
    }
}
