//! Takes readings, keeps windows over them, and gives snapshots.

use std::time::Duration;

use crate::account::Accounts;
use crate::cadence::Cadence;
use crate::facts::{CLEAR, Facts, NOW, RATES};
use crate::figure::{Figure, Origin};
use crate::history::{History, Mark, Second};
use crate::journey::Stage;
use crate::moment::Moment;
use crate::proposal::Action;
use crate::rate::Bitrate;
use crate::reading::{
    BroadcasterCounters, ConnectionFigures, LinkChange, MachineLoad, Observation, QueueLevel, Reading, StreamFacts,
};
use crate::snapshot::{Snapshot, State};
use crate::suspects::Fault;
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
    machine: MachineLoad,
    counters: BroadcasterCounters,
    counted: Counted,
    history: History,
    second_began: Moment,
    marks: Vec<Mark>,
    changes: Vec<Change>,
    judge: Judge,
    judged: Option<(Fault, String)>,
}

/// A change that was made, and what would put it back.
#[derive(Debug, Clone)]
struct Change {
    back: Action,
}

/// Windows over everything that is counted or gauged.
#[derive(Debug, Clone, Default)]
struct Counted {
    offered: Trail,
    dropped: Trail,
    /// When the present run of losses began: no loss in [`CLEAR`] before it.
    skipped_since: Option<Moment>,
    lagged_since: Option<Moment>,
    machine_at: Option<Moment>,
    skipped_inferred: Trail,
    skipped_reported: Trail,
    lagged: Trail,
    video_bytes: Trail,
    audio_bytes: Trail,
    sent_bytes: Trail,
    retransmits: Trail,
    busy_us: Trail,
    receiver_limited_us: Trail,
    queue_ms: Gauge,
    rtt_ms: Gauge,
    cpu: Gauge,
    broadcaster_cpu: Gauge,
    gpu_render: Gauge,
    gpu_encode: Gauge,
    render_ms: Gauge,
    encode_ms: Gauge,
}

impl Counted {
    /// Skipped frames: the broadcaster's count where there is one, else what the timestamps tell.
    fn skipped(&self) -> (&Trail, Origin) {
        if self.skipped_reported.is_known() {
            (&self.skipped_reported, Origin::Reported)
        } else {
            (&self.skipped_inferred, Origin::Inferred)
        }
    }
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
            machine: MachineLoad::default(),
            counters: BroadcasterCounters::default(),
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
        let said = (verdict.fault, verdict.cause.map_or("", |c| c.slug()).to_owned());
        if on_air && self.judged.as_ref() != Some(&said) {
            let text = match (verdict.fault, &self.judged) {
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
        set(&mut self.counted.gpu_encode, load.gpu_encode);
        self.machine = load.clone();
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
        self.counters = *counters;
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

    fn facts(&self, now: Moment) -> Facts {
        let counted = &self.counted;
        let (skipped, _) = counted.skipped();
        let video = counted.video_bytes.within(now, RATES);
        let asked = video + counted.audio_bytes.within(now, RATES);
        let queue_before = counted.queue_ms.lowest(now, RATES).unwrap_or(self.queue.ms);
        let share = counted.busy_us.within(now, NOW);
        Facts {
            broadcasting: self.on_air_since.is_some(),
            on_air_s: self.on_air_since.map_or(0.0, |since| now.since(since).as_secs_f64()),
            link_up: self.link.up,
            link_down_s: self.link.down_since.map_or(0.0, |since| now.since(since).as_secs_f64()),
            link_refused: self.link.refused,
            link_down_why: self.link.why.clone(),
            link_was_up: self.link.was_up,
            server: self.link.server.clone(),
            other_server: self.other_server(),
            stream: self.stream,
            interval_ms: self.cadence.interval_ms(),
            dropped: counted.dropped.within(now, NOW),
            skipped: skipped.within(now, NOW),
            lagged: counted.lagged.is_known().then(|| counted.lagged.within(now, NOW)),
            dropped_clear: counted.dropped.within(now, CLEAR),
            skipped_clear: skipped.within(now, CLEAR),
            lagged_clear: counted.lagged.within(now, CLEAR),
            skipped_load_known: self.load_known(now, counted.skipped_since),
            lagged_load_known: self.load_known(now, counted.lagged_since),
            due: counted.offered.within(now, NOW) + skipped.within(now, NOW),
            asked: Bitrate::of(asked, RATES),
            asked_video: Bitrate::of(video, RATES),
            sent: Bitrate::of(counted.sent_bytes.within(now, RATES), RATES),
            queue_ms: self.queue.ms,
            queue_limit_ms: self.queue.limit_ms,
            queue_growth: (self.queue.ms - queue_before) / RATES.as_secs_f64(),
            rtt_ms: counted.rtt_ms.mean(now, NOW),
            rtt_floor_ms: self.link.rtt_floor_ms,
            retransmits: counted.retransmits.is_known().then(|| counted.retransmits.within(now, NOW)),
            receiver_limited: (share > 0.0).then(|| (counted.receiver_limited_us.within(now, NOW) / share).min(1.0)),
            cpu: counted.cpu.latest(now, STALE),
            broadcaster_cpu: counted.broadcaster_cpu.latest(now, STALE),
            busiest_other: self.machine.busiest_other.clone(),
            gpu_render: counted.gpu_render.latest(now, STALE),
            gpu_encode: counted.gpu_encode.latest(now, STALE),
            render_ms: counted.render_ms.latest(now, STALE),
            encode_ms: counted.encode_ms.latest(now, STALE),
        }
    }

    /// The server after this one, round and round.
    fn other_server(&self) -> Option<String> {
        let servers = &self.settings.servers;
        let here = servers.iter().position(|s| *s == self.link.server)?;
        let next = servers.get((here + 1) % servers.len())?;
        (*next != self.link.server).then(|| next.clone())
    }

    /// Everything known at `now`. Time passes up to there.
    pub fn snapshot(&mut self, now: Moment) -> Snapshot {
        self.pass_to(now);
        let now = self.now;
        let facts = self.facts(now);
        let verdict = self.judge.judge(now, &facts);
        let counted = &self.counted;
        let (skipped, skipped_origin) = counted.skipped();
        let on_air = facts.broadcasting;
        let measured = |value: f64| if on_air { Figure::known(value, Origin::Measured) } else { Figure::UNKNOWN };
        let share = |gauge: &Gauge| Figure::maybe(gauge.mean(now, NOW).map(|v| v * 100.0), Origin::Measured);
        let figures = self.link.figures;
        let skipped_total = Figure::known(skipped.total().round() as u64, skipped_origin);
        let lagged_total =
            Figure::maybe(counted.lagged.is_known().then(|| counted.lagged.total().round() as u64), Origin::Reported);
        Snapshot {
            at: now,
            state: self.state(now),
            on_air_since: self.on_air_since,
            server: self.link.server.clone(),
            servers: self.settings.servers.clone(),
            accounts: self.accounts,
            skipped: skipped_total,
            lagged: lagged_total,
            stream: self.stream,
            journey: self.journey(&facts, skipped_total, lagged_total, skipped_origin),
            video_kbps: measured(facts.asked_video.kbps()),
            asked_kbps: measured(facts.asked.kbps()),
            sent_kbps: measured(facts.sent.kbps()),
            queue_ms: measured(self.queue.ms),
            queue_limit_ms: self.queue.limit_ms,
            rtt_ms: Figure::maybe(facts.rtt_ms, Origin::Measured),
            cpu_percent: share(&counted.cpu),
            broadcaster_cpu_percent: share(&counted.broadcaster_cpu),
            gpu_percent: share(&counted.gpu_render),
            unsent_bytes: Figure::maybe(figures.unsent_bytes, Origin::Measured),
            retransmits: Figure::maybe(figures.retransmits, Origin::Measured),
            delivery_kbps: Figure::maybe(figures.delivery_rate.map(Bitrate::kbps), Origin::Measured),
            receiver_limited_percent: Figure::maybe(facts.receiver_limited.map(|s| s * 100.0), Origin::Measured),
            history: self.history.clone(),
            marks: self.marks.clone(),
            undo: self.changes.last().map(|c| c.back.clone()),
            verdict,
        }
    }

    fn journey(&self, facts: &Facts, skipped: Figure<u64>, lagged: Figure<u64>, skipped_origin: Origin) -> [Stage; 4] {
        let interval_origin = if self.stream.fps.is_some() { Origin::Reported } else { Origin::Inferred };
        let budget = Figure::maybe(facts.interval_ms, interval_origin);
        let on_air =
            |value: f64| if facts.broadcasting { Figure::known(value, Origin::Measured) } else { Figure::UNKNOWN };
        let lost = |frames: f64, origin| {
            if facts.broadcasting { Figure::known(frames.round() as u64, origin) } else { Figure::UNKNOWN }
        };
        [
            Stage {
                name: "render",
                budget,
                used: Figure::maybe(facts.render_ms, Origin::Reported),
                lost_now: Figure::maybe(facts.lagged.map(|l| l.round() as u64), Origin::Reported),
                lost_total: lagged,
                word: "lagged",
                fault: Fault::Rendering,
            },
            Stage {
                name: "encode",
                budget,
                used: Figure::maybe(facts.encode_ms, Origin::Reported),
                lost_now: lost(facts.skipped, skipped_origin),
                lost_total: skipped,
                word: "skipped",
                fault: Fault::Encoder,
            },
            Stage {
                name: "send",
                budget: on_air(self.queue.limit_ms),
                used: on_air(self.queue.ms),
                lost_now: lost(facts.dropped, Origin::Measured),
                lost_total: Figure::known(self.accounts.video.dropped, Origin::Measured),
                word: "dropped",
                fault: Fault::Network,
            },
            Stage {
                name: "ingest",
                budget: on_air(facts.asked.kbps()),
                used: on_air(facts.sent.kbps()),
                lost_now: Figure::UNKNOWN,
                lost_total: Figure::known(self.accounts.video.delivered, Origin::Measured),
                word: "delivered",
                fault: Fault::None,
            },
        ]
    }
}

fn bitrate_of(action: &Action) -> Bitrate {
    if let Action::SetBitrate { video } = action { *video } else { Bitrate::ZERO }
}
