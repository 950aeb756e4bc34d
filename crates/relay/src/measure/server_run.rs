//! The test of one server: is it there, does it take the broadcast, and what does it carry.

use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_destination::StreamKey;
use moth_plan::measurement::{Carried, ConnectionLook, ServerResult};
use tokio::time::Instant;

use super::fill::{Ending, Stretch, fill, take_leave};
use super::{Cancel, MeasurePlan, cancelled};
use crate::connection::{Dialer, Server};
use crate::link::Link;
use moth_destination::LinkError;

/// A connection grows into its rate in its first second, which is not counted. Ours.
const GROWING: Duration = Duration::from_secs(1);
/// The share of the time for the planned bitrate alone. Ours.
const AT_PLANNED: f64 = 0.4;

/// A server to test.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// The server.
    pub server: Server,
    /// Its region, if the service says.
    pub region: Option<String>,
}

/// What a test is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ServerPhase {
    /// Connecting, and asking the server to take a broadcast.
    Connecting,
    /// Publishing at the planned bitrate.
    Planned,
    /// Publishing more.
    Above,
    /// Ended.
    Done,
}

/// How far a test is.
#[derive(Debug, Clone)]
pub struct ServerProgress<'a> {
    /// What it is doing.
    pub phase: ServerPhase,
    /// How long it has been filling the connection.
    pub elapsed: Duration,
    /// What the connection carried in the last second.
    pub now: Option<Bitrate>,
    /// What is known so far.
    pub so_far: &'a ServerResult,
}

/// Tests a server. However it ends, what was found out is in the result.
pub async fn test_server(
    dialer: &dyn Dialer,
    target: &Target,
    key: StreamKey,
    plan: &MeasurePlan,
    cancel: &mut Cancel,
    mut progress: impl FnMut(&ServerProgress<'_>),
) -> ServerResult {
    let mut result = ServerResult {
        server: target.server.name.clone(),
        address: target.server.address.to_string(),
        region: target.region.clone(),
        connect_ms: None,
        handshake_ms: None,
        planned: None,
        above: None,
        failure: None,
        cancelled: false,
    };
    let connecting = ServerPhase::Connecting;
    progress(&ServerProgress { phase: connecting, elapsed: Duration::ZERO, now: None, so_far: &result });
    let opened = tokio::select! {
        biased;
        () = cancelled(cancel) => None,
        opened = open(dialer, target, key, &mut result) => Some(opened),
    };
    match opened {
        None => result.cancelled = true,
        Some(Err(error)) => result.failure = Some(error),
        Some(Ok(mut link)) => {
            carry(&mut link, plan, cancel, &mut result, &mut progress).await;
            take_leave(&mut link).await;
        }
    }
    progress(&ServerProgress { phase: ServerPhase::Done, elapsed: plan.length, now: None, so_far: &result });
    result
}

async fn open(
    dialer: &dyn Dialer,
    target: &Target,
    key: StreamKey,
    result: &mut ServerResult,
) -> Result<Link, LinkError> {
    let ms = |since: Instant| Some(since.elapsed().as_secs_f64() * 1000.0);
    let began = Instant::now();
    let mut link = Link::dial(dialer, &target.server, key).await?;
    result.connect_ms = ms(began);
    let connected = Instant::now();
    link.open().await?;
    result.handshake_ms = ms(connected);
    Ok(link)
}

async fn carry(
    link: &mut Link,
    plan: &MeasurePlan,
    cancel: &mut Cancel,
    result: &mut ServerResult,
    progress: &mut impl FnMut(&ServerProgress<'_>),
) {
    let turn = Duration::from_secs((plan.length.as_secs_f64() * AT_PLANNED).round() as u64);
    let above = plan.up_to.max(plan.planned);
    let stretches = [Stretch { until: turn, rate: plan.planned }, Stretch { until: plan.length, rate: above }];
    let mut looks: Vec<ConnectionLook> = Vec::new();
    // Looks come a moment after their time.
    let slack = Duration::from_millis(60);
    let read = |looks: &[ConnectionLook], result: &mut ServerResult| {
        result.planned = Carried::between(looks, GROWING, turn + slack, plan.planned);
        result.above = Carried::between(looks, turn + GROWING, plan.length + slack, above);
    };
    let ending = fill(link, plan, &stretches, cancel, |look| {
        looks.push(*look);
        // Once a second is often enough for what changes once a second.
        if looks.len() % 10 == 1 {
            read(&looks, result);
        }
        let phase = if look.at < turn { ServerPhase::Planned } else { ServerPhase::Above };
        let now = last_second(&looks);
        progress(&ServerProgress { phase, elapsed: look.at, now, so_far: result });
    })
    .await;
    read(&looks, result);
    match ending {
        Ending::Done => {}
        Ending::Cancelled => result.cancelled = true,
        Ending::Lost(error) => result.failure = Some(error),
    }
}

/// What was carried in the last second, or since the beginning.
pub(super) fn last_second(looks: &[ConnectionLook]) -> Option<Bitrate> {
    let last = looks.last()?;
    let from = looks.iter().rev().find(|look| look.at + Duration::from_secs(1) <= last.at).or(looks.first())?;
    let span = last.at - from.at;
    (!span.is_zero()).then(|| Bitrate::of((last.acknowledged_bytes - from.acknowledged_bytes) as f64, span))
}
