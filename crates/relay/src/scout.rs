//! Looks a little beyond the connection: one handshake with the first router, one with another server, each given up as
//! soon as it is answered. Often while the connection is in doubt, rarely otherwise, to know what is usual.

use std::sync::Arc;
use std::time::Duration;

use moth_core::Snapshot;
use moth_core::figure::Origin;
use moth_core::reading::{Observation, Probe, ProbeTarget};
use moth_core::suspects::Fault;
use tokio::sync::watch;
use tokio::time::timeout;

use crate::connection::{Dialer, Server};
use crate::recorder::Recorder;

/// Between rounds while in doubt. Ours.
const IN_DOUBT: Duration = Duration::from_millis(700);
/// Between rounds otherwise. Ours.
const CALM: Duration = Duration::from_secs(20);
/// Rounds at the beginning of a broadcast come faster, to learn what is usual. Ours.
const LEARNING: Duration = Duration::from_secs(2);
/// How many of those. Ours.
const LESSONS: u32 = 3;
/// Doubt that lasts is asked after less often: the answer is known by then. Ours.
const LASTING: u32 = 30;
/// An answer that takes longer is none. Ours.
const PATIENCE: Duration = Duration::from_secs(1);

/// How things stand, as far as the scout must know.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Doubt {
    /// Whether somebody broadcasts.
    pub on_air: bool,
    /// The connection is in doubt.
    pub in_doubt: bool,
    /// Frames are being lost, or may be soon.
    pub is_losing: bool,
    /// The server in use.
    pub server: String,
}

impl From<&Snapshot> for Doubt {
    fn from(snapshot: &Snapshot) -> Self {
        Self {
            on_air: snapshot.on_air_since.is_some(),
            in_doubt: snapshot.in_doubt,
            is_losing: snapshot.verdict.fault != Fault::None,
            server: snapshot.server.clone(),
        }
    }
}

/// Tells whoever follows how things stand, if they stand otherwise than before.
pub fn tell(doubt: &watch::Sender<Doubt>, snapshot: &Snapshot) {
    let now = Doubt::from(snapshot);
    doubt.send_if_modified(|before| {
        let changed = *before != now;
        *before = now;
        changed
    });
}

/// Asks for as long as it is polled.
pub async fn scout(
    dialer: Arc<dyn Dialer>,
    servers: Vec<Server>,
    mut doubt: watch::Receiver<Doubt>,
    recorder: Recorder,
) {
    let (mut lessons, mut in_doubt_for) = (0, 0);
    loop {
        let now = doubt.borrow_and_update().clone();
        if !now.on_air {
            (lessons, in_doubt_for) = (0, 0);
            if doubt.changed().await.is_err() {
                return;
            }
            continue;
        }
        ask(dialer.as_ref(), &servers, &now.server, &recorder).await;
        in_doubt_for = if now.in_doubt { in_doubt_for + 1 } else { 0 };
        lessons += 1;
        let pause = match () {
            () if now.in_doubt && in_doubt_for < LASTING => IN_DOUBT,
            () if now.in_doubt => IN_DOUBT * 4,
            () if lessons <= LESSONS => LEARNING,
            () => CALM,
        };
        let was = now.in_doubt;
        // Doubt that begins, or a broadcast that ends, is not waited out.
        let changed = doubt.wait_for(|d| d.in_doubt && !was || !d.on_air);
        if matches!(timeout(pause, changed).await, Ok(Err(_))) {
            return;
        }
    }
}

/// One round: the first router, then another server; the server last, as the core waits for it.
async fn ask(dialer: &dyn Dialer, servers: &[Server], in_use: &str, recorder: &Recorder) {
    let current = servers.iter().find(|s| s.name == in_use);
    if let Some(current) = current
        && let Some(question) = dialer.first_hop(current)
    {
        let rtt_ms = answer(question).await;
        recorder.note(Origin::Measured, Observation::Probe(Probe { to: ProbeTarget::Gateway, rtt_ms }));
    }
    // The same other server each time, so that its answers compare.
    if let Some(other) = servers.iter().find(|s| s.name != in_use) {
        let rtt_ms = answer(dialer.round_trip(other)).await;
        let to = ProbeTarget::Server { server: other.name.clone() };
        recorder.note(Origin::Measured, Observation::Probe(Probe { to, rtt_ms }));
    }
}

async fn answer<E>(question: impl Future<Output = Result<Duration, E>>) -> Option<f64> {
    match timeout(PATIENCE, question).await {
        Ok(Ok(took)) => Some(took.as_secs_f64() * 1000.0),
        Ok(Err(_)) | Err(_) => None,
    }
}
