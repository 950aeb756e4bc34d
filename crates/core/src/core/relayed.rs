//! What the relay tells: where every frame is, what waits, and what viewers miss on the way.

use crate::account::Accounts;
use crate::facts::NOW;
use crate::moment::Moment;
use crate::reading::QueueLevel;
use crate::state::STRAINED;
use crate::viewers::Freezes;
use crate::window::{Gauge, Trail};

/// The broadcast on its way through the relay.
#[derive(Debug, Clone, Default)]
pub(super) struct Relayed {
    pub accounts: Accounts,
    pub queue: QueueLevel,
    /// Frames came of late that no keyframe had come before.
    pub awaits_keyframe: bool,
    /// Since when the queue holds more than is steady.
    pub strained_since: Option<Moment>,
    /// Gaps in what was sent that viewers see as freezes.
    pub freezes: Freezes,
    /// Milliseconds since the last picture was sent, if that is such a gap.
    pub frozen_ms: Option<u64>,
    pub dropped: Trail,
    pub delivered: Trail,
    pub sent_bytes: Trail,
    pub queue_ms: Gauge,
}

impl Relayed {
    /// Takes what the relay tells.
    pub(super) fn told(&mut self, at: Moment, accounts: &Accounts, queue: &QueueLevel, sent_bytes: u64) {
        self.awaits_keyframe = queue.before_keyframe > self.queue.before_keyframe;
        self.accounts = *accounts;
        self.queue = *queue;
        // What nobody could have shown was not lost on the way.
        let lost = accounts.video.dropped.saturating_sub(queue.before_keyframe);
        self.dropped.set(at, lost as f64);
        self.delivered.set(at, accounts.video.delivered as f64);
        self.sent_bytes.set(at, sent_bytes as f64);
        self.queue_ms.set(at, queue.ms);
    }

    /// Notes since when the queue holds more than is steady, while somebody is on air.
    pub(super) fn follow(&mut self, now: Moment, is_on_air: bool) {
        let is_strained = is_on_air && self.queue.ms > self.queue.limit_ms * STRAINED;
        self.strained_since = if is_strained { self.strained_since.or(Some(now)) } else { None };
    }

    /// The queue's share of its limit.
    pub(super) fn queue_share(&self) -> f64 {
        if self.queue.limit_ms > 0.0 { self.queue.ms / self.queue.limit_ms } else { 0.0 }
    }

    /// Whether frames are being dropped.
    pub(super) fn is_dropping(&self, now: Moment) -> bool {
        self.dropped.within(now, NOW) > 0.0
    }
}
