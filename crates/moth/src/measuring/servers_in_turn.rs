//! Servers tested in turn: what is known so far, for whoever shows it.

use std::sync::Arc;
use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_destination::StreamKey;
use moth_plan::measurement::ServerResult;
use moth_plan::ranking::{Ranking, Wanted, rank};
use moth_relay::Dialer;
use moth_relay::measure::{Cancel, MeasurePlan, ServerPhase, Target, test_server};

/// Between two servers the line is left alone for this long, so that its queue is empty again. Ours.
const PAUSE: Duration = Duration::from_millis(500);

/// Where a test stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TestState {
    /// It goes on.
    Running,
    /// Every server was tested.
    Finished,
    /// It was ended by hand.
    Cancelled,
}

/// The server being tested.
#[derive(Debug, Clone, PartialEq)]
pub struct Current {
    /// Its name.
    pub server: String,
    /// What is being done.
    pub phase: ServerPhase,
    /// For how long its connection has been filled.
    pub elapsed: Duration,
    /// What was carried in the last second.
    pub now: Option<Bitrate>,
    /// What was carried in each second so far.
    pub seconds: Vec<Bitrate>,
    /// What is known of it.
    pub so_far: ServerResult,
}

/// A test of servers.
#[derive(Debug, Clone, PartialEq)]
pub struct RoutesTest {
    /// What is asked of them.
    pub wanted: Wanted,
    /// How each is measured.
    pub plan: MeasurePlan,
    /// The servers' names, in the order they are tested.
    pub servers: Vec<String>,
    /// What is done.
    pub done: Vec<ServerResult>,
    /// What is being done.
    pub current: Option<Current>,
    /// Where it stands.
    pub state: TestState,
}

impl RoutesTest {
    /// Everything known so far, the unfinished server's figures too if there are any.
    #[must_use]
    pub fn results(&self) -> Vec<ServerResult> {
        let current = self.current.as_ref().map(|current| &current.so_far).filter(|so_far| so_far.best().is_some());
        self.done.iter().chain(current).cloned().collect()
    }

    /// The servers in order, as far as they are known.
    #[must_use]
    pub fn ranking(&self) -> Ranking {
        rank(&self.results(), self.wanted)
    }

    /// How far it is, from 0 to 1.
    #[must_use]
    pub fn progress(&self) -> f64 {
        if self.state == TestState::Finished || self.servers.is_empty() {
            return 1.0;
        }
        let current = self.current.as_ref().map_or(0.0, |current| self.share_of(current));
        ((self.done.len() as f64 + current) / self.servers.len() as f64).min(1.0)
    }

    /// How far the current server is, from 0 to 1.
    #[must_use]
    pub fn share_of(&self, current: &Current) -> f64 {
        (current.elapsed.as_secs_f64() / self.plan.length.as_secs_f64().max(1.0)).min(1.0)
    }
}

/// Tests the servers in turn. `look` sees every change.
pub async fn run(
    dialer: Arc<dyn Dialer>,
    targets: Vec<Target>,
    key: StreamKey,
    plan: MeasurePlan,
    wanted: Wanted,
    mut cancel: Cancel,
    mut look: impl FnMut(&RoutesTest),
) -> RoutesTest {
    let mut test = RoutesTest {
        wanted,
        plan,
        servers: targets.iter().map(|target| target.server.name.clone()).collect(),
        done: Vec::new(),
        current: None,
        state: TestState::Running,
    };
    for (i, target) in targets.iter().enumerate() {
        if *cancel.borrow() {
            break;
        }
        if i > 0 {
            tokio::time::sleep(PAUSE).await;
        }
        let mut seconds: Vec<Bitrate> = Vec::new();
        let result = test_server(&*dialer, target, key.clone(), &plan, &mut cancel, |progress| {
            if progress.elapsed.as_secs() as usize > seconds.len()
                && let Some(now) = progress.now
            {
                seconds.push(now);
            }
            test.current = Some(Current {
                server: target.server.name.clone(),
                phase: progress.phase,
                elapsed: progress.elapsed,
                now: progress.now,
                seconds: seconds.clone(),
                so_far: progress.so_far.clone(),
            });
            look(&test);
        })
        .await;
        test.current = None;
        // One that was cancelled before it told anything is not a result.
        if !(result.cancelled && result.best().is_none() && result.failure.is_none()) {
            test.done.push(result);
        }
        look(&test);
    }
    test.state = if *cancel.borrow() { TestState::Cancelled } else { TestState::Finished };
    look(&test);
    test
}
