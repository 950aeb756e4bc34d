//! Takes readings, keeps windows over them, and gives snapshots.

mod counted;
mod present;

use std::time::Duration;

use counted::Counted;

use crate::account::Accounts;
use crate::cadence::Cadence;
use crate::facts::{CLEAR, NOW, RATES};
use crate::history::{History, Mark, Second};
use crate::moment::Moment;
use crate::proposal::Action;
use crate::rate::Bitrate;
use crate::reading::{
    BroadcasterCounters, ConnectionFigures, LinkChange, MachineLoad, Observation, QueueLevel, Reading, StreamFacts,
};
use crate::snapshot::State;
use crate::suspects::{Cause, Fault};
use crate::verdict::Judge;
use crate::window::{Gauge, Trail};

/// The most marks kept; the oldest go first. A whole evening of changes is a few dozen.
const MARKS: usize = 500;
/// A load reading covers a loss if it was made this long after the loss began.
const COVERS: Duration = Duration::from_millis(500);
/// With no such reading, a suspicion waits no longer than this.
const PATIENCE: Duration = Duration::from_millis(1800);
/// A gauge's newest value older than this is no longer shown.
const STALE: Duration = Duration::from_secs(4);

/// What the core is told before the first reading.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// Names of the servers that could be used; the first is used first.
    pub servers: Vec<String>,
}

/// What is known of the connection to the server.
#[derive(Debug, Clone, Default)]
struct Link {
    up: bool,
    was_up: bool,
    refused: bool,
    down_since: Option<Moment>,
    why: Option<String>,
    server: String,
    figures: ConnectionFigures,
    rtt_floor_ms: Option<f64>,
}

/// The core: readings and the time in, snapshots out.
#[derive(Debug, Clone)]
pub struct Core {
    settings: Settings,
    now: Moment,
    on_air_since: Option<Moment>,
    link: Link,
    stream: StreamFacts,
    cadence: Cadence,
    accounts: Accounts,
    queue: QueueLevel,
    busiest_other: Option<(String, f64)>,
    counted: Counted,
    history: History,
    second_began: Moment,
    marks: Vec<Mark>,
    changes: Vec<Change>,
    judge: Judge,
    judged: Option<(Fault, Option<Cause>)>,
}

/// A change that was made, and what would put it back.
#[derive(Debug, Clone)]
struct Change {
    back: Action,
}

impl Core {
    /// A core that has seen nothing.
    #[must_use]
    pub fn new(settings: Settings) -> Self {
        let server = settings.servers.first().cloned().unwrap_or_default();
        Self {
            settings,
            now: Moment::START,
            on_air_since: None,
            link: Link { server, ..Link::default() },
            stream: StreamFacts::default(),
            cadence: Cadence::default(),
            accounts: Accounts::default(),
            queue: QueueLevel::default(),
            busiest_other: None,
            counted: Counted::default(),
            history: History::default(),
            second_began: Moment::START,
            marks: Vec::new(),
            changes: Vec::new(),
            judge: Judge::default(),
            judged: None,
        }
    }

    /// Takes one reading. A reading from before the last one counts as made now.
    pub fn take(&mut self, reading: &Reading) {
        self.pass_to(reading.at);
        let at = self.now;
        match &reading.what {
            Observation::Video { time_ms, bytes, .. } => {
                let missing = self.cadence.frame(*time_ms);
                self.counted.skipped_inferred.add(at, missing as f64);
                self.counted.offered.add(at, 1.0);
                self.counted.video_bytes.add(at, f64::from(*bytes));
            }
            Observation::Audio { bytes, .. } => self.counted.audio_bytes.add(at, f64::from(*bytes)),
            Observation::Stream(facts) => self.stream_stated(*facts),
            Observation::Relay { accounts, queue, sent_bytes } => {
                self.accounts = *accounts;
                self.queue = *queue;
                self.counted.dropped.set(at, accounts.video.dropped as f64);
                self.counted.sent_bytes.set(at, *sent_bytes as f64);
                self.counted.queue_ms.set(at, queue.ms);
            }
            Observation::Connection(figures) => self.connection(figures),
            Observation::Link(change) => self.link_changed(change),
            Observation::Broadcaster { present } => self.broadcaster(*present),
            Observation::Machine(load) => self.machine_load(load),
            Observation::Counters(counters) => self.counters_reported(counters),
            Observation::Acted { action, failed } => self.acted(action, failed.as_deref()),
            Observation::Remark { text } => self.mark(text.clone(), false),
        }
        self.follow_losses();
    }

    /// Notes where a run of losses begins and ends.
    fn follow_losses(&mut self) {
        let now = self.now;
        let run = |since: Option<Moment>, losing: bool| if losing { since.or(Some(now)) } else { None };
        self.counted.skipped_since = run(self.counted.skipped_since, self.counted.skipped().0.within(now, CLEAR) > 0.0);
        self.counted.lagged_since = run(self.counted.lagged_since, self.counted.lagged.within(now, CLEAR) > 0.0);
    }

    /// Whether the machine's load is known for a run of losses that began then, or not worth waiting for.
    fn load_known(&self, now: Moment, since: Option<Moment>) -> bool {
        let (Some(since), Some(read)) = (since, self.counted.machine_at) else { return true };
        read.since(since) >= COVERS || now.since(since) >= PATIENCE
    }

    /// Lets time pass, second by second, so that the history has no holes.
    fn pass_to(&mut self, now: Moment) {
        while now.since(self.second_began) >= Duration::from_secs(1) {
            let end = Moment::after(Duration::from_secs_f64(self.second_began.seconds().round() + 1.0));
            self.now = self.now.max(end);
            self.close_second(end);
            self.second_began = end;
        }
        self.now = self.now.max(now);
    }

    fn close_second(&mut self, end: Moment) {
        const SECOND: Duration = Duration::from_secs(1);
        let counted = &self.counted;
        let on_air = self.on_air_since.is_some();
        let count = |trail: &Trail| Some(trail.within(end, SECOND).round() as u32);
        // Over a keyframe interval, so that the lane does not swing with the keyframes.
        let rate = |bytes: f64| on_air.then(|| Bitrate::of(bytes, RATES).kbps() as f32);
        let small = |value: Option<f64>| value.map(|v| v as f32);
        let asked = counted.video_bytes.within(end, RATES) + counted.audio_bytes.within(end, RATES);
        let second = Second {
            state: self.state(end),
            asked_kbps: rate(asked),
            sent_kbps: rate(counted.sent_bytes.within(end, RATES)),
            queue_ms: if on_air { small(counted.queue_ms.highest(end, SECOND)) } else { None },
            rtt_ms: small(counted.rtt_ms.highest(end, SECOND)),
            dropped: on_air.then(|| count(&counted.dropped)).flatten(),
            skipped: on_air.then(|| count(counted.skipped().0)).flatten(),
            lagged: if counted.lagged.is_known() { count(&counted.lagged) } else { None },
            cpu: small(counted.cpu.mean(end, NOW)),
            gpu: small(counted.gpu_render.mean(end, NOW)),
        };
        self.history.push(second);
        let verdict = self.judge.judge(end, &self.facts(end));
        let said = (verdict.fault, verdict.cause);
        if on_air && self.judged != Some(said) {
            let text = match (verdict.fault, self.judged) {
                (Fault::None, None) => None,
                (Fault::None, Some((before, _))) => Some(format!("{} trouble over", before.word())),
                (fault, _) => {
                    Some(format!("{}: {}", fault.word(), verdict.cause.map_or("cause unknown", |c| c.words())))
                }
            };
            if let Some(text) = text {
                self.mark(text, false);
            }
            self.judged = Some(said);
        }
    }

    fn stream_stated(&mut self, facts: StreamFacts) {
        if let Some(fps) = facts.fps {
            self.cadence.state_rate(fps);
        }
        let takes_bitrate = facts.takes_bitrate || self.stream.takes_bitrate;
        let takes_preset = facts.takes_preset || self.stream.takes_preset;
        self.stream = StreamFacts {
            width: facts.width.or(self.stream.width),
            height: facts.height.or(self.stream.height),
            fps: facts.fps.or(self.stream.fps),
            video_bitrate: facts.video_bitrate.or(self.stream.video_bitrate),
            audio_bitrate: facts.audio_bitrate.or(self.stream.audio_bitrate),
            takes_bitrate,
            takes_preset,
        };
    }

    fn connection(&mut self, figures: &ConnectionFigures) {
        let at = self.now;
        self.link.figures = *figures;
        if let Some(rtt) = figures.rtt_ms {
            self.counted.rtt_ms.set(at, rtt);
            self.link.rtt_floor_ms = Some(self.link.rtt_floor_ms.map_or(rtt, |floor| floor.min(rtt)));
        }
        let set = |trail: &mut Trail, value: Option<u64>| {
            if let Some(value) = value {
                trail.set(at, value as f64);
            }
        };
        set(&mut self.counted.retransmits, figures.retransmits);
        set(&mut self.counted.busy_us, figures.busy_us);
        set(&mut self.counted.receiver_limited_us, figures.receiver_limited_us);
    }

    fn link_changed(&mut self, change: &LinkChange) {
        match change {
            LinkChange::Connecting { server } => self.link.server.clone_from(server),
            LinkChange::Up { server } => {
                if self.link.was_up {
                    self.mark(format!("{server} takes the broadcast"), false);
                }
                // A new connection: its counters and its round trip begin anew.
                self.link = Link { up: true, was_up: true, server: server.clone(), ..Link::default() };
                self.counted.rtt_ms.clear();
                self.counted.retransmits = Trail::default();
                self.counted.busy_us = Trail::default();
                self.counted.receiver_limited_us = Trail::default();
            }
            LinkChange::Down { server, why, refused, .. } => {
                if self.link.up {
                    self.mark(format!("{server} lost: {why}"), false);
                }
                self.link.up = false;
                self.link.server.clone_from(server);
                self.link.refused = *refused;
                self.link.why = Some(why.clone());
                self.link.down_since = self.link.down_since.or(Some(self.now));
                self.link.figures = ConnectionFigures::default();
                self.counted.rtt_ms.clear();
            }
            LinkChange::Closed { server } => {
                self.link = Link { server: server.clone(), ..Link::default() };
                self.counted.rtt_ms.clear();
            }
        }
    }

    fn broadcaster(&mut self, present: bool) {
        self.cadence.interrupt();
        if present {
            self.on_air_since = Some(self.now);
            self.link.down_since = (!self.link.up).then_some(self.now);
            self.link.was_up = self.link.up;
            self.mark("the broadcaster came".into(), false);
        } else {
            self.on_air_since = None;
            self.judged = None;
            self.mark("the broadcaster left".into(), false);
        }
    }

    fn machine_load(&mut self, load: &MachineLoad) {
        let at = self.now;
        let set = |gauge: &mut Gauge, value: Option<f64>| {
            if let Some(value) = value {
                gauge.set(at, value.clamp(0.0, 1.0));
            }
        };
        self.counted.machine_at = Some(at);
        set(&mut self.counted.cpu, load.cpu);
        set(&mut self.counted.broadcaster_cpu, load.broadcaster_cpu);
        set(&mut self.counted.gpu_render, load.gpu_render);
        self.busiest_other.clone_from(&load.busiest_other);
    }

    fn counters_reported(&mut self, counters: &BroadcasterCounters) {
        let at = self.now;
        if let Some(lagged) = counters.lagged {
            self.counted.lagged.set(at, lagged as f64);
        }
        if let Some(skipped) = counters.skipped {
            self.counted.skipped_reported.set(at, skipped as f64);
        }
        if let Some(ms) = counters.render_ms {
            self.counted.render_ms.set(at, ms);
        }
        if let Some(ms) = counters.encode_ms {
            self.counted.encode_ms.set(at, ms);
        }
    }

    fn acted(&mut self, action: &Action, failed: Option<&str>) {
        let what = match action {
            Action::SetBitrate { video } => format!("video bitrate to {video}"),
            Action::SwitchServer { server } => format!("move to {server}"),
            Action::LighterPreset => "lighter encoder preset".into(),
            Action::ByHand { advice } => advice.clone(),
        };
        if let Some(why) = failed {
            self.mark(format!("{what}: not done, {why}"), true);
            return;
        }
        self.mark(what, true);
        let back = match action {
            Action::SetBitrate { .. } => {
                self.stream.video_bitrate.replace(bitrate_of(action)).map(|before| Action::SetBitrate { video: before })
            }
            Action::SwitchServer { .. } => Some(Action::SwitchServer { server: self.link.server.clone() }),
            Action::LighterPreset | Action::ByHand { .. } => None,
        };
        match (back, self.changes.last()) {
            // The change that puts the last one back is not a change to be put back in turn.
            (Some(_), Some(last)) if last.back == *action => {
                self.changes.pop();
            }
            (Some(back), _) => self.changes.push(Change { back }),
            (None, _) => {}
        }
    }

    fn mark(&mut self, text: String, is_change: bool) {
        self.marks.push(Mark { at: self.now, text, is_change });
        if self.marks.len() > MARKS {
            self.marks.remove(0);
        }
    }

    fn state(&self, now: Moment) -> Option<State> {
        self.on_air_since?;
        let dropping = self.counted.dropped.within(now, NOW) > 0.0;
        let share = if self.queue.limit_ms > 0.0 { self.queue.ms / self.queue.limit_ms } else { 0.0 };
        Some(match () {
            () if !self.link.up => State::Dark,
            () if dropping => State::Losing,
            () if share > 0.25 => State::Strained,
            () => State::Steady,
        })
    }
}

fn bitrate_of(action: &Action) -> Bitrate {
    if let Action::SetBitrate { video } = action { *video } else { Bitrate::ZERO }
}
