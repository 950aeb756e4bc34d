//! Windows over everything the core was told.

use crate::figure::Origin;
use crate::moment::Moment;
use crate::window::{Gauge, Trail};

/// Windows over everything that is counted or gauged.
#[derive(Debug, Clone, Default)]
pub(super) struct Counted {
    pub offered: Trail,
    pub dropped: Trail,
    pub delivered: Trail,
    /// When the present run of losses began: no loss in [`CLEAR`] before it.
    pub skipped_since: Option<Moment>,
    pub lagged_since: Option<Moment>,
    pub behind_since: Option<Moment>,
    pub machine_at: Option<Moment>,
    pub skipped_inferred: Trail,
    pub skipped_reported: Trail,
    pub lagged_reported: Trail,
    /// Repeats, seen in the pictures.
    pub repeated: Trail,
    pub video_bytes: Trail,
    pub audio_bytes: Trail,
    pub sent_bytes: Trail,
    pub retransmits: Trail,
    pub busy_us: Trail,
    pub receiver_limited_us: Trail,
    pub queue_ms: Gauge,
    pub rtt_ms: Gauge,
    pub delivery_kbps: Gauge,
    pub cpu: Gauge,
    pub broadcaster_cpu: Gauge,
    pub gpu_render: Gauge,
    pub gpu_encode: Gauge,
    pub gpu_reported: Gauge,
    pub encoder_reported: Gauge,
    pub other_cpu: Gauge,
    pub uploads_kbps: Gauge,
    pub frequency: Gauge,
    pub throttled: Trail,
    pub disk_write_ms: Gauge,
    pub speed: Gauge,
    pub render_ms: Gauge,
    pub encode_ms: Gauge,
}

impl Counted {
    /// Lagged frames: the broadcaster's count where there is one, else repeats read off the wire.
    pub(super) fn lagged(&self) -> (&Trail, Origin) {
        if self.lagged_reported.is_known() {
            (&self.lagged_reported, Origin::Reported)
        } else {
            (&self.repeated, Origin::Inferred)
        }
    }

    /// Skipped frames: the broadcaster's count where there is one, else what the timestamps tell.
    pub(super) fn skipped(&self) -> (&Trail, Origin) {
        if self.skipped_reported.is_known() {
            (&self.skipped_reported, Origin::Reported)
        } else {
            (&self.skipped_inferred, Origin::Inferred)
        }
    }
}
