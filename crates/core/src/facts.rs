//! What the windows say at one moment: the numbers every suspicion rests on.

use std::time::Duration;

use crate::figure::Trust;
use crate::machine_load::MachineLoad;
use crate::rate::Bitrate;
use crate::reading::StreamFacts;

/// The window over which frames lost *now* are counted. Ours.
pub const NOW: Duration = Duration::from_secs(3);
/// The window of rates: a common keyframe interval, so that keyframes do not make it swing. Ours.
pub const RATES: Duration = Duration::from_secs(2);
/// Which of several troubles is worst is weighed over this long: drops come a group of pictures at a time. Ours.
pub const HARM: Duration = Duration::from_secs(12);
/// A loss within this is going on. Ours.
pub const JUST: Duration = Duration::from_millis(1100);
/// After so long without a loss, a loss is over. Ours.
pub const CLEAR: Duration = Duration::from_secs(5);

/// What probes of one place say.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Path {
    /// The mean round trip within [`NOW`], in milliseconds.
    pub rtt_ms: Option<f64>,
    /// The shortest ever, in milliseconds.
    pub floor_ms: Option<f64>,
    /// Probes within [`NOW`] that were not answered, of a place that answered before.
    pub unanswered: f64,
}

impl Path {
    /// How far its round trip rose above the shortest ever, in milliseconds.
    #[must_use]
    pub fn rise_ms(&self) -> Option<f64> {
        Some((self.rtt_ms? - self.floor_ms?).max(0.0))
    }
}

/// How things stood before the trouble began.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Before {
    /// The most the connection carried for a while without falling behind.
    pub carried: Option<Bitrate>,
    /// What other programs here sent meanwhile.
    pub uploads: Option<Bitrate>,
    /// What this machine sent meanwhile that no TCP connection of its own accounts for.
    pub otherwise: Option<Bitrate>,
}

/// The numbers at one moment. What is not known is `None`.
#[derive(Debug, Clone, Default)]
pub struct Facts {
    /// Whether a broadcaster is publishing.
    pub broadcasting: bool,
    /// Seconds since the broadcaster came.
    pub on_air_s: f64,
    /// Seconds since the newest frame of picture or sound came from the broadcaster.
    pub silent_s: f64,
    /// Whether a server takes the broadcast.
    pub link_up: bool,
    /// Seconds the link has been down, while broadcasting.
    pub link_down_s: f64,
    /// Seconds it has been up.
    pub link_up_s: f64,
    /// The last connection attempt was answered with a refusal.
    pub link_refused: bool,
    /// Why the link is down, in the words it ended with.
    pub link_down_why: Option<String>,
    /// Whether this link was ever up.
    pub link_was_up: bool,
    /// Whether it was this server whose connection was lost.
    pub link_was_lost_here: bool,
    /// The server's name.
    pub server: String,
    /// Another server that could be used, if there is one.
    pub other_server: Option<String>,
    /// What the broadcaster says of its stream.
    pub stream: StreamFacts,
    /// The frame interval in milliseconds, stated or inferred.
    pub interval_ms: Option<f64>,

    /// Video frames dropped within [`NOW`].
    pub dropped: f64,
    /// Video frames dropped since the start.
    pub dropped_total: f64,
    /// Video frames delivered within [`NOW`].
    pub delivered: f64,
    /// Video frames skipped within [`NOW`].
    pub skipped: f64,
    /// Whether the skipped frames were read off the wire, not reported.
    pub skipped_is_inferred: bool,
    /// How far skipped frames read off the wire can be trusted.
    pub skipped_trust: Trust,
    /// Video frames lagged within [`NOW`].
    pub lagged: Option<f64>,
    /// How far they can be trusted, if they were read off the wire; `None` if they were reported.
    pub lagged_inferred: Option<Trust>,
    /// Separate runs of repeats within [`NOW`], if lagged frames were read off the wire.
    pub lagged_runs: f64,
    /// How much later frames come than a few seconds ago, in milliseconds.
    pub behind_ms: f64,
    /// How fast that grows, in milliseconds a second.
    pub behind_grows: f64,
    /// Video frames dropped within [`CLEAR`].
    pub dropped_clear: f64,
    /// Video frames skipped within [`CLEAR`].
    pub skipped_clear: f64,
    /// Video frames lagged within [`CLEAR`].
    pub lagged_clear: f64,
    /// Video frames dropped in a span of [`NOW`], on the mean of [`HARM`].
    pub dropped_mean: f64,
    /// Video frames skipped in a span of [`NOW`], on the mean of [`HARM`].
    pub skipped_mean: f64,
    /// Video frames lagged in a span of [`NOW`], on the mean of [`HARM`].
    pub lagged_mean: f64,
    /// Video frames dropped within [`JUST`].
    pub dropped_just: f64,
    /// Video frames skipped within [`JUST`].
    pub skipped_just: f64,
    /// Video frames lagged within [`JUST`].
    pub lagged_just: f64,
    /// The machine's load is known for the time in which frames were skipped, or is not worth waiting for.
    pub skipped_load_known: bool,
    /// The machine's load is known for the time in which frames lagged, or is not worth waiting for.
    pub lagged_load_known: bool,
    /// Probes were answered since the connection fell behind, or are not worth waiting for any more.
    pub paths_known: bool,
    /// Video frames due within [`NOW`]: offered and skipped.
    pub due: f64,

    /// Video and audio offered, over [`RATES`].
    pub asked: Bitrate,
    /// Video alone, over [`RATES`].
    pub asked_video: Bitrate,
    /// Acknowledged (else written), over [`RATES`].
    pub sent: Bitrate,
    /// Acknowledged (else written), over [`JUST`].
    pub sent_just: Bitrate,
    /// Seconds for which the queue has been more than a quarter full.
    pub strained_s: f64,
    /// The longest wait in the queue now, in milliseconds.
    pub queue_ms: f64,
    /// The queue's limit, in milliseconds.
    pub queue_limit_ms: f64,
    /// How much the queue grew over [`RATES`], in milliseconds of broadcast per second.
    pub queue_growth: f64,

    /// Mean round trip over [`NOW`], in milliseconds.
    pub rtt_ms: Option<f64>,
    /// The lowest round trip on this connection, in milliseconds.
    pub rtt_floor_ms: Option<f64>,
    /// Segments sent again within [`NOW`].
    pub retransmits: Option<f64>,
    /// Share of the busy time within [`RATES`] that the receiver's window held up.
    pub receiver_limited: Option<f64>,

    /// The first router on the way.
    pub gateway: Path,
    /// Another server.
    pub other: Path,
    /// Its name.
    pub other_probed: Option<String>,
    /// How things stood before the trouble.
    pub before: Before,
    /// What the line sustained when it was measured before the broadcast.
    pub line_measured: Option<Bitrate>,

    /// This machine's load, the newest figure of each kind.
    pub machine: MachineLoad,
    /// The load of the machine the scene is drawn on, which may be another.
    pub scene: MachineLoad,
    /// How often the CPU slowed itself down within the last ten seconds.
    pub throttled: f64,
    /// Mean render time lately, in milliseconds.
    pub render_ms: Option<f64>,
    /// Mean encode time lately, in milliseconds.
    pub encode_ms: Option<f64>,
    /// Seconds of picture encoded in a second, as the broadcaster says.
    pub speed: Option<f64>,
}

impl Facts {
    /// The queue's share of its limit.
    #[must_use]
    pub fn queue_share(&self) -> f64 {
        if self.queue_limit_ms > 0.0 { self.queue_ms / self.queue_limit_ms } else { 0.0 }
    }

    /// Whether less is carried than is asked: without that nothing is short, whatever still waits.
    #[must_use]
    pub fn is_short(&self) -> bool {
        self.sent < self.asked.scaled(0.99)
    }

    /// How far the round trip rose above its lowest, in milliseconds.
    #[must_use]
    pub fn rtt_rise_ms(&self) -> Option<f64> {
        Some((self.rtt_ms? - self.rtt_floor_ms?).max(0.0))
    }
}
