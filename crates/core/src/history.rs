//! Second by second, for the lanes.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::moment::Moment;
use crate::state::State;
use crate::wire::Heard;

/// Seconds in one sealed page; pages are shared between snapshots, so a snapshot of a whole evening is cheap. Ours.
const PAGE: usize = 256;

/// One second of a broadcast. What was not known is `None`.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Second {
    /// The connection's state at its end; `None` without a broadcast.
    pub state: Option<State>,
    /// Video and audio offered, in kb/s over [`crate::facts::RATES`].
    pub asked_kbps: Option<f32>,
    /// Acknowledged (else written), in kb/s over [`crate::facts::RATES`].
    pub sent_kbps: Option<f32>,
    /// Longest wait in the queue, in milliseconds.
    pub queue_ms: Option<f32>,
    /// Longest round trip, in milliseconds.
    pub rtt_ms: Option<f32>,
    /// Frames due: offered and skipped.
    pub due: Option<u32>,
    /// How long the picture stood still, in milliseconds; counted when it moves again.
    pub frozen_ms: Option<u32>,
    /// Frames dropped.
    pub dropped: Option<u32>,
    /// Frames skipped.
    pub skipped: Option<u32>,
    /// Frames lagged.
    pub lagged: Option<u32>,
    /// Share of all cores in use, from 0 to 1.
    pub cpu: Option<f32>,
    /// Share of the GPU's rendering engine in use, from 0 to 1.
    pub gpu: Option<f32>,
    /// Share of the GPU's encoder block in use, from 0 to 1.
    pub gpu_encode: Option<f32>,
    /// Share of all cores that the busiest other program took, from 0 to 1.
    pub other_cpu: Option<f32>,
    /// Mean time to render a frame, in milliseconds.
    pub render_ms: Option<f32>,
    /// Mean time to encode a frame, in milliseconds.
    pub encode_ms: Option<f32>,
    /// How much later frames came than a few seconds before, in milliseconds.
    pub behind_ms: Option<f32>,
    /// What other programs on this machine sent, in kb/s.
    pub uploads_kbps: Option<f32>,
    /// Round trip to the first router, in milliseconds.
    pub gateway_ms: Option<f32>,
    /// Round trip to another server, in milliseconds.
    pub other_ms: Option<f32>,
    /// Share of the busy time that the server's window held up, from 0 to 1.
    pub receiver_limited: Option<f32>,
    /// The CPU's frequency as a share of the most it may have.
    pub frequency: Option<f32>,
    /// Mean time a write to the disk took, in milliseconds.
    pub disk_write_ms: Option<f32>,
    /// How the sound was at its end.
    #[serde(default)]
    pub sound: Option<Heard>,
}

/// Something that happened, for a mark on the axis.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    /// When.
    pub at: Moment,
    /// What, in plain words.
    pub text: String,
    /// Whether it was a change somebody made.
    pub is_change: bool,
}

/// All seconds of a broadcast so far.
#[derive(Debug, Clone, Default)]
pub struct History {
    sealed: Vec<Arc<[Second]>>,
    open: Vec<Second>,
}

impl History {
    /// Appends a second.
    pub fn push(&mut self, second: Second) {
        self.open.push(second);
        if self.open.len() == PAGE {
            self.sealed.push(std::mem::take(&mut self.open).into());
        }
    }

    /// How many seconds there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.sealed.len() * PAGE + self.open.len()
    }

    /// Whether no second has passed yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The second that began `index` seconds after the start.
    #[must_use]
    pub fn get(&self, index: usize) -> Option<&Second> {
        match self.sealed.get(index / PAGE) {
            Some(page) => page.get(index % PAGE),
            None => self.open.get(index.checked_sub(self.sealed.len() * PAGE)?),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seconds_are_found_again_across_pages() {
        let mut history = History::default();
        for i in 0..1000_u16 {
            history.push(Second { queue_ms: Some(f32::from(i)), ..Second::default() });
        }
        assert_eq!(history.len(), 1000);
        for i in [0_u16, 255, 256, 511, 999] {
            assert_eq!(history.get(usize::from(i)).and_then(|s| s.queue_ms), Some(f32::from(i)));
        }
        assert_eq!(history.get(1000), None);
    }
}
