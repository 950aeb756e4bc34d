//! A snapshot as one line of JSON; `docs/snapshot.md` describes it.

use moth_core::account::Account;
use moth_core::action::Action;
use moth_core::delay::Delay;
use moth_core::figure::Figure;
use moth_core::notice::NoticeKind;
use moth_core::played_back::PlayedBack;
use moth_core::reading::{AudioCodec, VideoCodec};
use moth_core::snapshot::{KeeperView, Moved};
use moth_core::trial::Outcome;
use moth_core::viewers::Viewers;
use moth_core::wire::Heard;
use moth_core::{Origin, Snapshot, State, Trust};
use serde::Serialize;

/// One line.
#[derive(Debug, Serialize)]
pub struct JsonLine<'a> {
    t: f64,
    state: Option<State>,
    viewers_state: Option<State>,
    fault: &'static str,
    cause: Option<&'static str>,
    confidence: f64,
    sentence: &'a str,
    server: &'a str,
    frames: Frames,
    audio: Account,
    rates: Rates,
    queue_ms: Option<f64>,
    rtt_ms: Option<f64>,
    cpu_percent: Option<f64>,
    broadcaster_cpu_percent: Option<f64>,
    gpu_percent: Option<f64>,
    unsent_bytes: Option<u64>,
    retransmits: Option<u64>,
    receiver_limited_percent: Option<f64>,
    delivery_kbps: Option<f64>,
    viewers: Viewers,
    delay: Option<Delay>,
    sound: Option<Heard>,
    stream: Option<Stream>,
    played_back: Option<&'a PlayedBack>,
    suspects: Vec<Suspected>,
    notices: Vec<NoticeKind>,
    actions: Vec<&'a str>,
    trial: Option<Tried<'a>>,
    undo: Option<String>,
    keeper: &'a KeeperView,
    failover: bool,
    awaited: Option<&'a str>,
    moved: Option<&'a Moved>,
    origins: Origins,
}

/// What is broadcast, as far as it is known.
#[derive(Debug, Serialize)]
struct Stream {
    video_codec: Option<&'static str>,
    audio_codec: Option<&'static str>,
    width: Option<u32>,
    height: Option<u32>,
    fps: Option<f64>,
    b_frames: Option<u32>,
    keyframe_interval_s: Option<f64>,
}

impl Stream {
    /// `None` while nobody broadcasts.
    fn of(snapshot: &Snapshot) -> Option<Self> {
        snapshot.on_air_since?;
        let (stream, wire) = (&snapshot.stream, &snapshot.wire);
        Some(Self {
            video_codec: stream.video_codec.map(VideoCodec::name),
            audio_codec: stream.audio_codec.map(AudioCodec::name),
            width: stream.width,
            height: stream.height,
            fps: wire.fps.map(hundredth),
            b_frames: wire.b_frames,
            keyframe_interval_s: wire.keyframe_interval_s.map(hundredth),
        })
    }
}

/// The newest change, and how far it is proved.
#[derive(Debug, Serialize)]
struct Tried<'a> {
    title: &'a str,
    since: f64,
    outcome: Outcome,
    is_over: bool,
    put_back: bool,
    credited: bool,
    lost_before_percent: Option<f64>,
    lost_since_percent: Option<f64>,
    seconds: u32,
    less_points: Option<(f64, f64)>,
    sentence: &'a str,
}

#[derive(Debug, Serialize)]
struct Frames {
    #[serde(flatten)]
    account: Account,
    skipped: Option<u64>,
    lagged: Option<u64>,
}

/// A fault and its cause: what stands, and what else is at fault meanwhile, the most harmful first.
#[derive(Debug, Serialize)]
struct Suspected {
    fault: &'static str,
    cause: Option<&'static str>,
}

#[derive(Debug, Serialize)]
struct Rates {
    video_kbps: Option<f64>,
    sent_kbps: Option<f64>,
}

/// How the numbers that may come from several places are known in this line.
#[derive(Debug, Serialize)]
struct Origins {
    skipped: Option<Origin>,
    lagged: Option<Origin>,
    /// How far they can be trusted, where they are inferred.
    skipped_trust: Option<Trust>,
    lagged_trust: Option<Trust>,
}

/// To a tenth: more digits than were measured help nobody.
fn tenths(figure: Figure<f64>) -> Option<f64> {
    figure.value.map(tenth)
}

fn tenth(value: f64) -> f64 {
    (value * 10.0).round() / 10.0
}

/// The share lost on one side of a change; `None` while nothing was seen there.
fn seen(side: &moth_core::trial::Side) -> Option<f64> {
    (side.seconds > 0).then(|| hundredth(side.lost_percent()))
}

fn hundredth(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

fn inferred(figure: Figure<u64>) -> bool {
    figure.origin == Some(Origin::Inferred)
}

impl<'a> From<&'a Snapshot> for JsonLine<'a> {
    fn from(s: &'a Snapshot) -> Self {
        Self {
            t: tenth(s.at.seconds()),
            state: s.state,
            viewers_state: s.viewers_state(),
            fault: s.verdict.fault.word(),
            cause: s.verdict.cause.map(|c| c.slug()),
            confidence: (s.verdict.confidence * 1000.0).round() / 1000.0,
            sentence: &s.verdict.sentence,
            server: &s.server,
            frames: Frames { account: s.accounts.video, skipped: s.skipped.value, lagged: s.lagged.value },
            audio: s.accounts.audio,
            rates: Rates { video_kbps: tenths(s.video_kbps), sent_kbps: tenths(s.sent_kbps) },
            queue_ms: tenths(s.queue_ms),
            rtt_ms: tenths(s.rtt_ms),
            cpu_percent: tenths(s.cpu_percent),
            broadcaster_cpu_percent: tenths(s.broadcaster_cpu_percent),
            gpu_percent: tenths(s.gpu_percent),
            unsent_bytes: s.unsent_bytes.value,
            retransmits: s.retransmits.value,
            receiver_limited_percent: tenths(s.receiver_limited_percent),
            delivery_kbps: tenths(s.delivery_kbps),
            viewers: s.viewers,
            sound: s.wire.sound,
            stream: Stream::of(s),
            played_back: s.played_back.as_ref(),
            delay: Delay::of(s).map(|delay| Delay {
                held_back_ms: delay.held_back_ms.map(tenth),
                queue_ms: tenth(delay.queue_ms),
                way_ms: delay.way_ms.map(tenth),
            }),
            suspects: (s.verdict.suspects.iter())
                .map(|suspect| Suspected { fault: suspect.fault.word(), cause: suspect.cause.map(|c| c.slug()) })
                .collect(),
            notices: s.notices.iter().map(|notice| notice.kind).collect(),
            actions: s.verdict.proposals.iter().map(|p| p.title.as_str()).collect(),
            trial: s.newest_trial().map(|trial| Tried {
                title: &trial.title,
                since: tenth(trial.since.seconds()),
                outcome: trial.outcome,
                is_over: trial.is_over,
                put_back: trial.put_back,
                credited: !trial.beside_another,
                lost_before_percent: seen(&trial.before),
                lost_since_percent: seen(&trial.after),
                seconds: trial.after.seconds,
                less_points: trial.less_points.map(|(least, most)| (hundredth(least), hundredth(most))),
                sentence: &trial.sentence,
            }),
            undo: s.undo.as_ref().map(Action::words),
            keeper: &s.keeper,
            failover: s.failover,
            awaited: s.awaited.as_ref().map(|awaited| awaited.sentence.as_str()),
            moved: s.moved.as_ref(),
            origins: Origins {
                skipped: s.skipped.origin,
                lagged: s.lagged.origin,
                skipped_trust: inferred(s.skipped).then_some(s.wire.skipped_trust),
                lagged_trust: s.wire.repeated_trust.filter(|_| inferred(s.lagged)),
            },
        }
    }
}
