//! One measurement of the line: idle, then full.

use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_destination::{FailureKind, StreamKey};
use moth_plan::line::LineRun;
use moth_plan::measurement::{Carried, ConnectionLook};
use tokio::time::{MissedTickBehavior, interval, timeout};

use super::fill::{Ending, Stretch, fill, take_leave};
use super::server_run::last_second;
use super::{Cancel, MeasurePlan, cancelled};
use crate::connection::{Dialer, Server};
use crate::link::Link;
use moth_destination::LinkError;

/// Round trips taken of the idle line, and how far apart. Ours.
const IDLE_TRIPS: usize = 10;
const IDLE_EACH: Duration = Duration::from_millis(200);
/// How often one is taken of the full line: often enough for a trimmed mean of 10 s, seldom enough not to be load. Ours.
const FULL_EACH: Duration = Duration::from_millis(250);
/// One that takes longer is counted as this long. Ours.
const LONGEST: Duration = Duration::from_secs(5);
/// A connection grows into its rate in its first second, which is not counted. Ours.
const GROWING: Duration = Duration::from_secs(1);

/// What a measurement of the line is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LinePhase {
    /// Taking round trips of the idle line.
    Idle,
    /// Connecting.
    Connecting,
    /// Filling it.
    Full,
}

/// How far it is.
#[derive(Debug, Clone, Copy)]
pub struct LineProgress {
    /// What it is doing.
    pub phase: LinePhase,
    /// For how long it has been filling the line.
    pub elapsed: Duration,
    /// What the line carried in the last second.
    pub now: Option<Bitrate>,
    /// The newest round trip.
    pub rtt_ms: Option<f64>,
}

/// Measures the line once, against a server.
///
/// # Errors
/// [`LinkError`] if the server cannot be reached, or not for long enough. Cancelled early, what there is is given if it
/// says anything.
pub async fn run_line(
    dialer: &dyn Dialer,
    server: &Server,
    key: StreamKey,
    plan: &MeasurePlan,
    cancel: &mut Cancel,
    mut progress: impl FnMut(&LineProgress),
) -> Result<LineRun, LinkError> {
    let early = || LinkError::new(FailureKind::Other, "ended by hand before there was anything to tell");
    let mut say = |phase, elapsed, now, rtt_ms| progress(&LineProgress { phase, elapsed, now, rtt_ms });
    say(LinePhase::Idle, Duration::ZERO, None, None);
    let mut idle_ms = Vec::new();
    tokio::select! {
        biased;
        () = cancelled(cancel) => return Err(early()),
        outcome = take_trips(dialer, server, IDLE_EACH, Some(IDLE_TRIPS), |ms| {
            idle_ms.push(ms);
            say(LinePhase::Idle, Duration::ZERO, None, Some(ms));
        }) => outcome?,
    }
    say(LinePhase::Connecting, Duration::ZERO, None, None);
    let mut link = Link::dial(dialer, server, key).await?;
    link.open().await?;
    let mut looks: Vec<ConnectionLook> = Vec::new();
    let mut full_ms = Vec::new();
    let stretches = [Stretch { until: plan.length, rate: plan.up_to }];
    let ending = {
        let filling = fill(&mut link, plan, &stretches, cancel, |look| {
            looks.push(*look);
            say(LinePhase::Full, look.at, last_second(&looks), look.figures.rtt_ms);
        });
        let trips = async {
            tokio::time::sleep(GROWING).await;
            // A server that takes no further connection leaves the filling connection's own round trips.
            let _ = take_trips(dialer, server, FULL_EACH, None, |ms| full_ms.push(ms)).await;
            std::future::pending::<()>().await;
        };
        tokio::select! {
            biased;
            ending = filling => ending,
            () = trips => Ending::Done,
        }
    };
    let own_ms = looks.iter().filter(|look| look.at >= GROWING).filter_map(|look| look.figures.rtt_ms).collect();
    take_leave(&mut link).await;
    let slack = Duration::from_millis(60);
    let carried = Carried::between(&looks, GROWING, plan.length + slack, plan.up_to);
    match (ending, carried) {
        (Ending::Lost(error), _) => Err(error),
        (_, Some(carried)) => Ok(LineRun { idle_ms, full_ms, own_ms, carried }),
        (_, None) => Err(early()),
    }
}

/// Takes round trips, so many or for ever, in milliseconds.
async fn take_trips(
    dialer: &dyn Dialer,
    server: &Server,
    each: Duration,
    count: Option<usize>,
    mut taken: impl FnMut(f64),
) -> Result<(), LinkError> {
    let mut tick = interval(each);
    tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut done = 0;
    while count.is_none_or(|count| done < count) {
        tick.tick().await;
        let trip = timeout(LONGEST, dialer.round_trip(server)).await.unwrap_or(Ok(LONGEST))?;
        taken(trip.as_secs_f64() * 1000.0);
        done += 1;
    }
    Ok(())
}
