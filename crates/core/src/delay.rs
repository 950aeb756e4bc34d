//! What a broadcast adds to its viewers' delay before the server has it.

use serde::Serialize;

use crate::snapshot::Snapshot;

/// What is known of it, in milliseconds. The service's own part, and the viewers', come on top.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Delay {
    /// Pictures that the encoder holds back to send others before them. Inferred, from the wire; its look-ahead does not show.
    pub held_back_ms: Option<f64>,
    /// What waits in the queue, at the longest. Measured.
    pub queue_ms: f64,
    /// The way to the server: half the round trip. Measured.
    pub way_ms: Option<f64>,
}

impl Delay {
    /// Of what is on air; `None` while nobody is.
    #[must_use]
    pub fn of(snapshot: &Snapshot) -> Option<Self> {
        snapshot.state?;
        Some(Self {
            held_back_ms: snapshot.wire.held_back_ms,
            queue_ms: snapshot.queue_ms.value?,
            way_ms: snapshot.rtt_ms.value.map(|ms| ms / 2.0),
        })
    }

    /// All that is known of it together.
    #[must_use]
    pub fn known_ms(&self) -> f64 {
        self.held_back_ms.unwrap_or(0.0) + self.queue_ms + self.way_ms.unwrap_or(0.0)
    }
}
