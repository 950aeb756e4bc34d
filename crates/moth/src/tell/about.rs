//! What a running moth says of itself.

use moth_core::State;
use serde::{Deserialize, Serialize};

use crate::terminal::hub::Hub;

/// What a running moth says of itself.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct About {
    /// The number of its process.
    pub process: u32,
    /// Its version.
    pub version: String,
    /// The setup it broadcasts with, if it has one.
    pub setup: Option<String>,
    /// Where broadcasters publish to; `None` where a stand-in does.
    pub publish_to: Option<String>,
    /// The ingest server in use.
    pub server: String,
    /// What viewers get; `None` while nobody broadcasts.
    pub state: Option<State>,
    /// A broadcaster is there.
    pub is_on_air: bool,
    /// For how long, in seconds; `None` if that is not known, or none is.
    pub on_air_s: Option<f64>,
    /// It is a demo.
    pub is_made_up: bool,
}

impl About {
    /// Of a moth that shows itself.
    pub(crate) fn of(hub: &Hub) -> Self {
        let snapshots = hub.snapshots();
        let snapshot = snapshots.borrow().clone();
        let (setup, publish_to, is_made_up) = hub.names();
        Self {
            process: std::process::id(),
            version: env!("CARGO_PKG_VERSION").into(),
            setup,
            publish_to,
            server: snapshot.as_ref().map_or_else(String::new, |now| now.server.clone()),
            state: snapshot.as_ref().and_then(|now| now.viewers_state()),
            is_on_air: snapshot.as_ref().is_some_and(|now| now.on_air_since.is_some()),
            on_air_s: snapshot.as_ref().and_then(|now| Some(now.at.since(now.on_air_since?).as_secs_f64())),
            is_made_up,
        }
    }
}
