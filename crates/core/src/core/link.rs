//! The connection to the server: whether there is one, and what the kernel tells of it.

use super::Ways;
use crate::facts::RATES;
use crate::moment::Moment;
use crate::played_back::PlayedBack;
use crate::reading::{ConnectionFigures, LinkChange};
use crate::window::{Gauge, Trail};

/// What is known of the connection to the server.
#[derive(Debug, Clone, Default)]
pub(super) struct Link {
    pub up: bool,
    /// Whether there was a connection in this broadcast.
    pub was_up: bool,
    /// The last try was answered with a refusal.
    pub refused: bool,
    pub down_since: Option<Moment>,
    pub up_since: Option<Moment>,
    /// Why there is none, in the words it ended with.
    pub why: Option<String>,
    /// The server in use, or being tried.
    pub server: String,
    /// The server that had the connection which was lost.
    pub lost: Option<String>,
    /// What came of playing the broadcast back over this connection's server last.
    pub played_back: Option<PlayedBack>,
    pub figures: ConnectionFigures,
    pub rtt_floor_ms: Option<f64>,
    /// The server to which that is the shortest: the connection to another may be begun before this one is noted.
    rtt_floor_to: String,
    pub rtt_ms: Gauge,
    pub delivery_kbps: Gauge,
    pub retransmits: Trail,
    busy_us: Trail,
    receiver_limited_us: Trail,
}

impl Link {
    /// No connection yet, and this server to be used.
    pub(super) fn to(server: String) -> Self {
        Self { server, ..Self::default() }
    }

    /// Takes what the kernel tells.
    pub(super) fn told(&mut self, at: Moment, figures: &ConnectionFigures) {
        self.figures = *figures;
        if let Some(rtt) = figures.rtt_ms {
            self.rtt_ms.set(at, rtt);
            if self.rtt_floor_ms.is_none() {
                self.rtt_floor_to.clone_from(&self.server);
            }
            self.rtt_floor_ms = Some(self.rtt_floor_ms.map_or(rtt, |floor| floor.min(rtt)));
        }
        if let Some(rate) = figures.delivery_rate {
            self.delivery_kbps.set(at, rate.kbps());
        }
        let set = |trail: &mut Trail, value: Option<u64>| {
            if let Some(value) = value {
                trail.set(at, value as f64);
            }
        };
        set(&mut self.retransmits, figures.retransmits);
        set(&mut self.busy_us, figures.busy_us);
        set(&mut self.receiver_limited_us, figures.receiver_limited_us);
    }

    /// The connection came or went: gives what is worth a mark. What a round trip took to a server that is left is kept
    /// among the `ways`.
    pub(super) fn changed(&mut self, now: Moment, change: &LinkChange, ways: &mut Ways) -> Option<String> {
        match change {
            LinkChange::Connecting { server } => {
                self.server.clone_from(server);
                None
            }
            LinkChange::Up { server } => {
                let mark = self.was_up.then(|| format!("{server} takes the broadcast"));
                if self.rtt_floor_to != *server {
                    self.remember_round_trip(ways);
                }
                // A new connection: its counters and its round trip begin anew.
                *self = Self { up: true, was_up: true, up_since: Some(now), ..Self::to(server.clone()) };
                mark
            }
            LinkChange::Down { server, why, refused, .. } => {
                let mark = self.up.then(|| format!("{server} lost: {why}"));
                if self.up {
                    self.lost = Some(server.clone());
                }
                self.up = false;
                self.server.clone_from(server);
                self.refused = *refused;
                self.why = Some(why.clone());
                self.down_since = self.down_since.or(Some(now));
                self.figures = ConnectionFigures::default();
                self.rtt_ms.clear();
                mark
            }
            LinkChange::Closed { server } => {
                self.remember_round_trip(ways);
                *self = Self::to(server.clone());
                None
            }
        }
    }

    /// The connection is another from now on; what a round trip took to this server will be of use when it is asked again.
    fn remember_round_trip(&self, ways: &mut Ways) {
        if let Some(floor_ms) = self.rtt_floor_ms {
            ways.reached(&self.rtt_floor_to, floor_ms);
        }
    }

    /// Another broadcast begins: without a connection, its outage begins with it.
    pub(super) fn broadcast_begins(&mut self, now: Moment) {
        self.down_since = (!self.up).then_some(now);
        self.was_up = self.up;
    }

    /// Share of the busy time within [`RATES`] that the receiver's window held up.
    pub(super) fn receiver_limited(&self, now: Moment) -> Option<f64> {
        let busy = self.busy_us.within(now, RATES);
        (busy > 0.0).then(|| (self.receiver_limited_us.within(now, RATES) / busy).min(1.0))
    }
}
