//! Where every frame is: delivered, dropped, or still queued.

use serde::{Deserialize, Serialize};

/// The account of one kind of frame. `offered = delivered + dropped + queued` at every instant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Account {
    /// Frames the broadcaster handed over.
    pub offered: u64,
    /// Frames whose last byte the server's host acknowledged (or, where the platform cannot tell, that
    /// were written).
    pub delivered: u64,
    /// Frames that were not sent, or were cut off by a lost connection.
    pub dropped: u64,
    /// Frames waiting in the moth, or sent and not yet acknowledged.
    pub queued: u64,
}

impl Account {
    /// A frame came in.
    pub fn offer(&mut self) {
        self.offered += 1;
        self.queued += 1;
    }

    /// A queued frame arrived at the server's host.
    pub fn deliver(&mut self) {
        debug_assert!(self.queued > 0, "only a queued frame is delivered");
        self.delivered += 1;
        self.queued -= 1;
    }

    /// A queued frame was given up.
    pub fn drop_one(&mut self) {
        debug_assert!(self.queued > 0, "only a queued frame is dropped");
        self.dropped += 1;
        self.queued -= 1;
    }

    /// Whether every frame is in exactly one place.
    #[must_use]
    pub fn balances(&self) -> bool {
        self.offered == self.delivered + self.dropped + self.queued
    }
}

/// The accounts of one broadcast.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Accounts {
    /// Video frames; headers and metadata are not frames.
    pub video: Account,
    /// Audio frames.
    pub audio: Account,
}
