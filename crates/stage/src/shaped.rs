//! A stand-in server behind a stand-in line that is shaped like one that was measured.

use std::sync::Arc;
use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_destination::{Address, StreamKey};
use moth_relay::{Dialer, Server};
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::{MissedTickBehavior, interval};

use crate::conditions::{Conditions, LineConditions, MachineConditions, ServerConditions};
use crate::ingest::{self, APP, KEY, Ledger};
use crate::uplink::Uplink;

/// Its name.
pub const STAND_IN: &str = "stand-in";

/// What was measured of a line.
#[derive(Debug, Clone, PartialEq)]
pub struct LineShape {
    /// What it carried in each second; they come again and again, in their order.
    pub per_second: Vec<Bitrate>,
    /// The way there and back with nothing waiting, in milliseconds.
    pub round_trip_ms: f64,
    /// How far that wavers, in milliseconds.
    pub jitter_ms: f64,
    /// What its buffer holds, in milliseconds at the full rate.
    pub buffer_ms: f64,
}

/// The server and its line. Everything ends when it is dropped.
pub struct ShapedServer {
    server: Server,
    uplink: Uplink,
    _cast: JoinSet<()>,
}

impl ShapedServer {
    /// Puts it there; `None` if the shape has no second. Call it on a tokio runtime.
    #[must_use]
    pub fn open(shape: &LineShape, seed: u64) -> Option<Self> {
        let first = *shape.per_second.first()?;
        let name = STAND_IN.to_owned();
        let at = |rate: Bitrate| LineConditions {
            up_kbps: rate.kbps().max(1.0),
            // A round trip is there and back.
            delay_ms: (shape.round_trip_ms / 2.0).max(0.5),
            jitter_ms: shape.jitter_ms.max(0.0),
            buffer_ms: shape.buffer_ms.max(5.0),
            ..LineConditions::default()
        };
        let there = ServerConditions {
            name: name.clone(),
            delay_ms: 0.0,
            jitter_ms: 0.0,
            route_kbps: f64::INFINITY,
            reads_kbps: f64::INFINITY,
            away: false,
        };
        let begin = Conditions {
            line: at(first),
            servers: vec![there],
            broadcaster: crate::conditions::BroadcasterConditions::default(),
            machine: MachineConditions::default(),
        };
        let (conditions, follow) = watch::channel(begin);
        let (uplink, arrivals) = Uplink::new(follow);
        let mut cast = JoinSet::new();
        cast.spawn(uplink.clone().run(seed));
        cast.spawn(ingest::run(arrivals, Ledger::default()));
        let lines: Vec<LineConditions> = shape.per_second.iter().map(|rate| at(*rate)).collect();
        cast.spawn(async move {
            let mut tick = interval(Duration::from_secs(1));
            tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
            for line in lines.into_iter().cycle() {
                tick.tick().await;
                conditions.send_modify(|conditions| conditions.line = line);
            }
        });
        let address = Address::new("stand-in.invalid", 1935, APP).ok()?;
        Some(Self { server: Server { name, address }, uplink, _cast: cast })
    }

    /// The server.
    #[must_use]
    pub fn server(&self) -> &Server {
        &self.server
    }

    /// What connects to it.
    #[must_use]
    pub fn dialer(&self) -> Arc<dyn Dialer> {
        Arc::new(self.uplink.clone())
    }

    /// The key it takes.
    #[must_use]
    pub fn key() -> Option<StreamKey> {
        StreamKey::new(KEY).ok()
    }
}
