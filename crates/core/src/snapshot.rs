//! What the core knows at one moment: everything a screen or a log line shows.

use serde::{Deserialize, Serialize};

use crate::account::Accounts;
use crate::action::Action;
pub use crate::core::{Answer, Awaited, Moved};
use crate::figure::Figure;
use crate::history::{History, Mark};
use crate::journey::Stage;
pub use crate::keeper::KeeperView;
use crate::machine_load::MachineLoad;
use crate::moment::Moment;
use crate::notice::Notice;
use crate::played_back::PlayedBack;
use crate::reading::{Intended, StreamFacts};
pub use crate::state::State;
use crate::suspects::{Fault, Weighed};
use crate::trial::Trial;
use crate::verdict::Verdict;
use crate::viewers::Viewers;
use crate::wire::WireFigures;

/// Everything known at one moment.
///
/// It can be written down and read back, but for what grows with the broadcast (its history and marks) and for what is only of
/// use now (what can be undone, what is awaited and was answered): see [`Snapshot::among`].
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Snapshot {
    /// When.
    pub at: Moment,
    /// The connection's state; `None` while nobody broadcasts.
    pub state: Option<State>,
    /// When the broadcaster came; `None` while nobody broadcasts.
    pub on_air_since: Option<Moment>,
    /// What is at fault.
    pub verdict: Verdict,
    /// The server's name.
    pub server: String,
    /// Servers that could be used, this one among them.
    pub servers: Vec<String>,
    /// Where every frame is. Measured.
    pub accounts: Accounts,
    /// Frames never encoded.
    pub skipped: Figure<u64>,
    /// Frames not rendered in time.
    pub lagged: Figure<u64>,
    /// What the broadcaster says of its stream.
    pub stream: StreamFacts,
    /// The four stages.
    pub journey: [Stage; 4],
    /// Video offered, in kb/s over [`crate::facts::RATES`].
    pub video_kbps: Figure<f64>,
    /// Video and audio offered, in kb/s over [`crate::facts::RATES`].
    pub asked_kbps: Figure<f64>,
    /// Acknowledged (else written), in kb/s over [`crate::facts::RATES`].
    pub sent_kbps: Figure<f64>,
    /// Longest wait in the queue, in milliseconds.
    pub queue_ms: Figure<f64>,
    /// The queue's limit, in milliseconds.
    pub queue_limit_ms: f64,
    /// Round trip, in milliseconds, mean over [`crate::facts::NOW`].
    pub rtt_ms: Figure<f64>,
    /// Share of all cores in use, in percent.
    pub cpu_percent: Figure<f64>,
    /// Share of all cores the broadcaster uses, in percent.
    pub broadcaster_cpu_percent: Figure<f64>,
    /// Share of the GPU's rendering engine in use, in percent.
    pub gpu_percent: Figure<f64>,
    /// Bytes given to the kernel and not yet sent.
    pub unsent_bytes: Figure<u64>,
    /// Segments sent again since the connection began.
    pub retransmits: Figure<u64>,
    /// The kernel's estimate of what the connection delivers, in kb/s.
    pub delivery_kbps: Figure<f64>,
    /// Share of the busy time that the receiver's window held up, in percent over [`crate::facts::RATES`].
    pub receiver_limited_percent: Figure<f64>,
    /// Share of the GPU's encoder block in use, in percent.
    pub gpu_encode_percent: Figure<f64>,
    /// This machine's newest load.
    pub machine: MachineLoad,
    /// Other machines of the same streamer.
    pub others: Vec<MachineLoad>,
    /// What came of playing the broadcast back from this server last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub played_back: Option<PlayedBack>,
    /// What was read off the wire.
    pub wire: WireFigures,
    /// What viewers get.
    pub viewers: Viewers,
    /// What is odd and costs no frame.
    pub notices: Vec<Notice>,
    /// The connection is in doubt: a light look beyond this machine would help.
    pub in_doubt: bool,
    /// Every cause and what is known for and against it now, whether or not a frame is lost.
    pub weighed: Vec<(Fault, Vec<Weighed>)>,
    /// What the broadcast was meant to be.
    pub intended: Intended,
    /// Every second so far.
    #[serde(skip)]
    pub history: History,
    /// What happened, for marks.
    #[serde(skip)]
    pub marks: Vec<Mark>,
    /// What undoing the last change would do.
    #[serde(skip)]
    pub undo: Option<Action>,
    /// The newest changes and how far each is proved, at most 8, the newest last: what came of one may be told once others were made.
    pub trials: Vec<Trial>,
    /// The automatic bitrate.
    pub keeper: KeeperView,
    /// Whether servers are changed by themselves.
    pub failover: bool,
    /// What the user was told to change by hand, and what the wire shows of it.
    #[serde(skip)]
    pub awaited: Option<Awaited>,
    /// What came of what was asked for last.
    #[serde(skip)]
    pub answered: Option<Answer>,
    /// The newest change of servers.
    #[serde(skip)]
    pub moved: Option<Moved>,
}

impl Snapshot {
    /// A moment that was read back, among the seconds and marks of the whole broadcast.
    #[must_use]
    pub fn among(self, whole: &Self) -> Self {
        Self { history: whole.history.clone(), marks: whole.marks.clone(), ..self }
    }

    /// What viewers get, in the words of the connection's state, whatever stage it is that loses frames; `None` while nobody
    /// broadcasts. A frame that is late now and then is no loss by itself: it takes a verdict, which may stand for longer than frames
    /// are lost, and frames that were lost within [`crate::facts::NOW`].
    #[must_use]
    pub fn viewers_state(&self) -> Option<State> {
        let loses = |stage: &Stage| stage.fault != Fault::None && stage.lost_now.value.is_some_and(|lost| lost > 0);
        match self.state? {
            state @ (State::Losing | State::Dark) => Some(state),
            _ if self.verdict.fault != Fault::None && self.journey.iter().any(loses) => Some(State::Losing),
            state => Some(state),
        }
    }

    /// The newest change, and how far it is proved.
    #[must_use]
    pub fn newest_trial(&self) -> Option<&Trial> {
        self.trials.last()
    }
}
