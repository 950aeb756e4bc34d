//! Takes readings, keeps windows over them, and gives snapshots.

mod beyond;
mod bitrate;
mod changes;
mod counted;
mod present;

use std::collections::VecDeque;
use std::time::Duration;

use beyond::Beyond;
use bitrate::BitrateKnown;
use changes::Change;
pub use changes::{Answer, Awaited, Moved};
use counted::Counted;

use crate::account::Accounts;
use crate::facts::{CLEAR, NOW, RATES};
use crate::failover::Failover;
use crate::history::{History, Mark, Second};
use crate::keeper::Keeper;
use crate::machine_load::MachineLoad;
use crate::moment::Moment;
use crate::notice::NoticeKind;
use crate::proposal::Action;
use crate::rate::Bitrate;
use crate::reading::{
    BroadcasterCounters, ConnectionFigures, Intended, LinkChange, Observation, QueueLevel, Reading, StreamFacts,
};
use crate::snapshot::State;
use crate::suspects::{Cause, Fault};
use crate::trial::Trial;
use crate::verdict::Judge;
use crate::viewers::{Freezes, freeze_from_ms};
use crate::window::{Gauge, Trail};
use crate::wire::Wire;

/// A mark's text is cut after so many characters: it may be what a stranger said.
const LONGEST_MARK: usize = 400;
/// The most marks kept; the oldest go first. A whole evening of changes is a few dozen.
const MARKS: usize = 500;
/// A load reading covers a loss if it was made this long after the loss began.
const COVERS: Duration = Duration::from_millis(500);
/// With no such reading, a suspicion waits no longer than this.
const PATIENCE: Duration = Duration::from_millis(1800);
/// Frames that come this much later than a few seconds ago, in milliseconds, and ever later by so many milliseconds a
/// second, are looked into; the encoder is suspected at more than that.
const LATE_MS: f64 = 150.0;
const LATE_GROWS: f64 = 20.0;
/// A queue over this share of its limit is no steady one.
pub(crate) const STRAINED: f64 = 0.25;
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
    up_since: Option<Moment>,
    why: Option<String>,
    server: String,
    /// The server that had the connection which was lost.
    lost: Option<String>,
    figures: ConnectionFigures,
    rtt_floor_ms: Option<f64>,
    /// The server to which that is the shortest: the connection to another may be begun before this one is noted.
    rtt_floor_to: String,
}

/// The core: readings and the time in, snapshots out.
#[derive(Debug, Clone)]
pub struct Core {
    settings: Settings,
    now: Moment,
    on_air_since: Option<Moment>,
    /// When the newest frame of picture or sound came.
    came_at: Option<Moment>,
    link: Link,
    stream: StreamFacts,
    /// What holds of every broadcaster that comes.
    standing: StreamFacts,
    intended: Intended,
    bitrate: BitrateKnown,
    /// When a restarted broadcaster last went on where it had stopped.
    resumed_at: Option<Moment>,
    /// When the bitrate was changed on purpose last.
    bitrate_set_at: Option<Moment>,
    wire: Wire,
    accounts: Accounts,
    queue: QueueLevel,
    /// How it stood at the reading before.
    queue_before: QueueLevel,
    /// Frames came of late that no keyframe had come before.
    awaits_keyframe: bool,
    /// Since when the queue holds more than is steady.
    strained_since: Option<Moment>,
    /// Lagged frames were counted at some time in this broadcast.
    has_lagged: bool,
    /// Freezes on the way to the server, and of the picture itself.
    freezes_sent: Freezes,
    freezes_repeated: Freezes,
    frozen_ms: Option<u64>,
    machine: MachineLoad,
    others: Vec<(Moment, MachineLoad)>,
    beyond: Beyond,
    noticed: Vec<NoticeKind>,
    counted: Counted,
    history: History,
    second_began: Moment,
    marks: Vec<Mark>,
    changes: Vec<Change>,
    trials: Vec<Trial>,
    keeper: Keeper,
    failover: Failover,
    /// What it wants done by itself, not yet taken up.
    wishes: VecDeque<Action>,
    awaited: Option<Awaited>,
    answered: Option<Answer>,
    moved: Option<Moved>,
    frozen_before_ms: u64,
    judge: Judge,
    judged: Option<(Fault, Option<Cause>)>,
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
            came_at: None,
            link: Link { server, ..Link::default() },
            stream: StreamFacts::default(),
            standing: StreamFacts::default(),
            bitrate: BitrateKnown::default(),
            resumed_at: None,
            intended: Intended::default(),
            bitrate_set_at: None,
            wire: Wire::default(),
            accounts: Accounts::default(),
            queue: QueueLevel::default(),
            queue_before: QueueLevel::default(),
            awaits_keyframe: false,
            strained_since: None,
            has_lagged: false,
            freezes_sent: Freezes::default(),
            freezes_repeated: Freezes::default(),
            frozen_ms: None,
            machine: MachineLoad::default(),
            others: Vec::new(),
            beyond: Beyond::default(),
            noticed: Vec::new(),
            counted: Counted::default(),
            history: History::default(),
            second_began: Moment::START,
            marks: Vec::new(),
            changes: Vec::new(),
            trials: Vec::new(),
            keeper: Keeper::default(),
            failover: Failover::default(),
            wishes: VecDeque::new(),
            awaited: None,
            answered: None,
            moved: None,
            frozen_before_ms: 0,
            judge: Judge::default(),
            judged: None,
        }
    }

    /// Takes one reading. A reading from before the last one counts as made now.
    pub fn take(&mut self, reading: &Reading) {
        self.pass_to(reading.at);
        let at = self.now;
        match &reading.what {
            Observation::Video(frame) => {
                self.came_at = Some(at);
                let skipped = self.wire.video(at, frame);
                self.counted.skipped_inferred.add(at, skipped as f64);
                self.counted.offered.add(at, 1.0);
                self.counted.video_bytes.add(at, f64::from(frame.bytes));
            }
            Observation::Picture(change) => {
                let repeated = self.wire.picture(change);
                self.counted.repeated.add(at, repeated as f64);
                self.note_repeats(repeated);
            }
            Observation::Unseen { why } => self.wire.state_unseen(why),
            Observation::Audio(frame) => {
                self.came_at = Some(at);
                self.wire.audio(at, frame);
                self.counted.audio_bytes.add(at, f64::from(frame.bytes));
            }
            Observation::Intended(intended) => self.intended = *intended,
            Observation::Probe(probe) => self.beyond.probed(at, probe),
            Observation::Stream(facts) => self.stream_stated(*facts),
            Observation::Relay { accounts, queue, sent_bytes, freezes, frozen_ms } => {
                self.accounts = *accounts;
                self.queue = *queue;
                self.freezes_sent = *freezes;
                self.frozen_ms = *frozen_ms;
                // What nobody could have shown was not lost on the way.
                let lost = accounts.video.dropped.saturating_sub(queue.before_keyframe);
                self.awaits_keyframe = queue.before_keyframe > self.queue_before.before_keyframe;
                self.queue_before = *queue;
                self.counted.dropped.set(at, lost as f64);
                self.counted.delivered.set(at, accounts.video.delivered as f64);
                self.counted.sent_bytes.set(at, *sent_bytes as f64);
                self.counted.queue_ms.set(at, queue.ms);
                // Ten times a second is often enough for what looks at seconds.
                self.follow_lateness();
                self.look_after_bitrate();
            }
            Observation::Connection(figures) => self.connection(figures),
            Observation::Link(change) => self.link_changed(change),
            Observation::Broadcaster { present } => self.broadcaster(*present),
            Observation::Machine(load) => self.machine_load(load),
            Observation::Counters(counters) => self.counters_reported(counters),
            Observation::Acted { action, failed, back } => self.acted(action, failed.as_deref(), back.as_ref()),
            Observation::Told { action } => self.told(action),
            Observation::Automatics(automatics) => self.arrange(automatics),
            Observation::Moved { from, to, gap_ms, missing_ms } => self.moved(from, to, *gap_ms, *missing_ms),
            Observation::Resumed { gap_ms } => self.resumed(*gap_ms),
            Observation::Remark { text } => self.mark(text.clone(), false),
        }
        self.follow_losses();
        self.follow_doubt();
        self.has_lagged |= self.lagged_known();
        let is_strained = self.on_air_since.is_some() && self.queue.ms > self.queue.limit_ms * STRAINED;
        self.strained_since = if is_strained { self.strained_since.or(Some(self.now)) } else { None };
    }

    /// A run of repeats that is long enough is a freeze.
    fn note_repeats(&mut self, repeated: u64) {
        let typical = self.wire.interval_ms().unwrap_or(33.0);
        let ms = (repeated + 1) as f64 * typical;
        if repeated > 0 && ms >= freeze_from_ms(typical) {
            self.freezes_repeated.add(ms as u64);
        }
    }

    /// Whether the connection is in doubt, and how it stood before.
    fn follow_doubt(&mut self) {
        let now = self.now;
        let behind = self.queue.limit_ms > 0.0 && self.queue.ms > self.queue.limit_ms * beyond::DOUBT;
        let doubtful = self.on_air_since.is_some()
            && (behind || self.counted.dropped.within(now, NOW) > 0.0 || !self.link.up && self.link.was_up);
        let sent = Bitrate::of(self.counted.sent_bytes.within(now, beyond::STEADY), beyond::STEADY);
        let on_air_s = self.on_air_since.map_or(0.0, |since| now.since(since).as_secs_f64());
        self.beyond.follow(now, doubtful, sent, &self.machine, on_air_s);
    }

    /// Notes where a run of losses begins and ends.
    fn follow_losses(&mut self) {
        let now = self.now;
        let run = |since: Option<Moment>, losing: bool| if losing { since.or(Some(now)) } else { None };
        self.counted.skipped_since = run(self.counted.skipped_since, self.counted.skipped().0.within(now, CLEAR) > 0.0);
        self.counted.lagged_since = run(self.counted.lagged_since, self.counted.lagged().0.within(now, CLEAR) > 0.0);
    }

    /// Notes since when frames come late: a run that begins has the machine's load looked at.
    fn follow_lateness(&mut self) {
        let is_late = self.wire.behind(self.now).is_some_and(|(ms, grows)| ms > LATE_MS && grows > LATE_GROWS);
        self.counted.behind_since = if is_late { self.counted.behind_since.or(Some(self.now)) } else { None };
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
        let frozen = self.freezes_sent.and(self.freezes_repeated).total_ms;
        let frozen_ms = u32::try_from(frozen.saturating_sub(self.frozen_before_ms)).unwrap_or(u32::MAX);
        self.frozen_before_ms = frozen;
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
            due: on_air
                .then(|| count(&counted.offered).unwrap_or(0).saturating_add(count(counted.skipped().0).unwrap_or(0))),
            frozen_ms: on_air.then_some(frozen_ms),
            dropped: on_air.then(|| count(&counted.dropped)).flatten(),
            skipped: on_air.then(|| count(counted.skipped().0)).flatten(),
            lagged: if on_air && self.lagged_known() { count(counted.lagged().0) } else { None },
            cpu: small(counted.cpu.mean(end, NOW)),
            gpu: small(counted.gpu_render.mean(end, NOW)),
            gpu_encode: small(counted.gpu_encode.mean(end, NOW)),
            other_cpu: small(counted.other_cpu.mean(end, NOW)),
            render_ms: small(counted.render_ms.latest(end, STALE)),
            encode_ms: small(counted.encode_ms.latest(end, STALE)),
            behind_ms: if on_air { small(self.wire.behind(end).map(|(ms, _)| ms)) } else { None },
            uploads_kbps: small(counted.uploads_kbps.latest(end, STALE)),
            gateway_ms: small(self.beyond.gateway.highest(end, SECOND)),
            other_ms: small(self.beyond.other.highest(end, SECOND)),
            receiver_limited: small(self.receiver_limited(end)),
            frequency: small(counted.frequency.latest(end, STALE)),
            disk_write_ms: small(counted.disk_write_ms.latest(end, STALE)),
        };
        self.history.push(second);
        let facts = self.facts(end);
        let verdict = self.judge.judge(end, &facts);
        self.follow_trials(&verdict.proposals);
        self.follow_awaited();
        self.follow_bitrate();
        self.look_after_server(&facts, verdict.cause);
        self.note_oddities(end);
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

    /// What newly became odd gets a mark.
    fn note_oddities(&mut self, now: Moment) {
        let found = self.notices(now);
        let new: Vec<String> =
            found.iter().filter(|n| !self.noticed.contains(&n.kind)).map(|n| n.text.clone()).collect();
        self.noticed = found.iter().map(|n| n.kind).collect();
        for text in new {
            self.mark(text, false);
        }
    }

    fn stream_stated(&mut self, facts: StreamFacts) {
        if let Some(fps) = facts.fps {
            self.wire.state_rate(fps);
        }
        if let Some(codec) = facts.video_codec {
            self.wire.state_codec(codec);
        }
        let stated_bitrate = self.stated_bitrate(facts.video_bitrate);
        let takes_bitrate = facts.takes_bitrate || self.stream.takes_bitrate;
        let takes_preset = facts.takes_preset || self.stream.takes_preset;
        let takes_size = facts.takes_size || self.stream.takes_size;
        let takes_rate = facts.takes_rate || self.stream.takes_rate;
        self.stream = StreamFacts {
            width: facts.width.or(self.stream.width),
            height: facts.height.or(self.stream.height),
            fps: facts.fps.or(self.stream.fps),
            video_bitrate: stated_bitrate.or(self.stream.video_bitrate),
            audio_bitrate: facts.audio_bitrate.or(self.stream.audio_bitrate),
            video_codec: facts.video_codec.or(self.stream.video_codec),
            takes_bitrate,
            takes_preset,
            takes_size,
            takes_rate,
            restarts: facts.restarts || self.stream.restarts,
        };
        if self.on_air_since.is_none() {
            // Said before anyone was on air: of whoever comes, as it is the moth that carries it out.
            let StreamFacts { takes_bitrate, takes_preset, takes_size, takes_rate, restarts, .. } = self.stream;
            self.standing =
                StreamFacts { takes_bitrate, takes_preset, takes_size, takes_rate, restarts, ..StreamFacts::default() };
        }
    }

    fn connection(&mut self, figures: &ConnectionFigures) {
        let at = self.now;
        self.link.figures = *figures;
        if let Some(rtt) = figures.rtt_ms {
            self.counted.rtt_ms.set(at, rtt);
            if self.link.rtt_floor_ms.is_none() {
                self.link.rtt_floor_to.clone_from(&self.link.server);
            }
            self.link.rtt_floor_ms = Some(self.link.rtt_floor_ms.map_or(rtt, |floor| floor.min(rtt)));
        }
        if let Some(rate) = figures.delivery_rate {
            self.counted.delivery_kbps.set(at, rate.kbps());
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

    /// The connection is another from now on; what a round trip took to this server will be of use when it is asked again.
    fn remember_round_trip(&mut self) {
        if let Some(floor_ms) = self.link.rtt_floor_ms {
            self.beyond.reached(&self.link.rtt_floor_to, floor_ms);
        }
    }

    fn link_changed(&mut self, change: &LinkChange) {
        match change {
            LinkChange::Connecting { server } => self.link.server.clone_from(server),
            LinkChange::Up { server } => {
                if self.link.was_up {
                    self.mark(format!("{server} takes the broadcast"), false);
                }
                self.keeper.begin_again();
                if self.link.rtt_floor_to != *server {
                    self.remember_round_trip();
                }
                // A new connection: its counters and its round trip begin anew.
                let up_since = Some(self.now);
                self.link = Link { up: true, was_up: true, up_since, server: server.clone(), ..Link::default() };
                self.counted.rtt_ms.clear();
                self.counted.delivery_kbps.clear();
                self.counted.retransmits = Trail::default();
                self.counted.busy_us = Trail::default();
                self.counted.receiver_limited_us = Trail::default();
            }
            LinkChange::Down { server, why, refused, .. } => {
                if self.link.up {
                    self.mark(format!("{server} lost: {why}"), false);
                    self.link.lost = Some(server.clone());
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
                self.remember_round_trip();
                self.link = Link { server: server.clone(), ..Link::default() };
                self.counted.rtt_ms.clear();
            }
        }
    }

    fn broadcaster(&mut self, present: bool) {
        // What was known of one broadcaster is not known of the next: its rate, and what it takes.
        self.wire = Wire::default();
        self.bitrate = BitrateKnown::default();
        if !present {
            self.stream = self.standing;
        }
        self.beyond.broadcast_changed();
        self.noticed.clear();
        self.keeper.begin_again();
        if present {
            self.on_air_since = Some(self.now);
            self.has_lagged = false;
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
        if load.host.is_some() {
            // A streamer has two machines, perhaps three; a bound keeps a mistake cheap.
            if let Some(other) = self.others.iter_mut().find(|(_, other)| other.host == load.host) {
                *other = (at, load.clone());
            } else if self.others.len() < 8 {
                self.others.push((at, load.clone()));
            }
            return;
        }
        self.counted.machine_at = Some(at);
        set(&mut self.counted.cpu, load.cpu);
        set(&mut self.counted.broadcaster_cpu, load.broadcaster_cpu);
        set(&mut self.counted.gpu_render, load.gpu_render);
        set(&mut self.counted.gpu_encode, load.gpu_encode);
        set(&mut self.counted.other_cpu, load.busiest_other.as_ref().map(|(_, share)| *share));
        set(&mut self.counted.frequency, load.frequency);
        if let Some(uploads) = load.uploads_in_all() {
            self.counted.uploads_kbps.set(at, uploads.kbps());
        }
        if let Some(ms) = load.disk_write_ms {
            self.counted.disk_write_ms.set(at, ms);
        }
        if let Some(throttled) = load.throttled {
            self.counted.throttled.set(at, throttled as f64);
        }
        self.machine.clone_from(load);
    }

    fn counters_reported(&mut self, counters: &BroadcasterCounters) {
        let at = self.now;
        if let Some(lagged) = counters.lagged {
            self.counted.lagged_reported.set(at, lagged as f64);
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
        if let Some(speed) = counters.speed {
            self.counted.speed.set(at, speed);
        }
        if let Some(share) = counters.gpu {
            self.counted.gpu_reported.set(at, share);
        }
        if let Some(share) = counters.encoder {
            self.counted.encoder_reported.set(at, share);
        }
    }

    fn mark(&mut self, mut text: String, is_change: bool) {
        if let Some((end, _)) = text.char_indices().nth(LONGEST_MARK) {
            text.truncate(end);
            text.push('…');
        }
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
            () if share > STRAINED => State::Strained,
            () => State::Steady,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figure::Origin;
    use crate::reading::{Probe, ProbeTarget};

    /// A core that heard this, one reading each second.
    fn heard(readings: Vec<Observation>) -> Core {
        let mut core = Core::new(Settings { servers: vec!["Aldmoor".into(), "Dunmere".into()] });
        for (n, what) in readings.into_iter().enumerate() {
            core.take(&Reading { at: Moment::from_ms(n as u64 * 1000), origin: Origin::Measured, what });
        }
        core
    }

    #[test]
    fn what_it_takes_to_the_server_that_was_left_is_remembered_however_it_was_left() {
        let up = |server: &str| Observation::Link(LinkChange::Up { server: server.into() });
        let connecting = |server: &str| Observation::Link(LinkChange::Connecting { server: server.into() });
        let down = Observation::Link(LinkChange::Down {
            server: "Aldmoor".into(),
            why: "gone".into(),
            refused: false,
            retry_ms: 500,
        });
        let figures = |rtt_ms| {
            Observation::Connection(ConnectionFigures { rtt_ms: Some(rtt_ms), ..ConnectionFigures::default() })
        };
        let asked =
            Observation::Probe(Probe { to: ProbeTarget::Server { server: "Aldmoor".into() }, rtt_ms: Some(80.0) });
        let here = [up("Aldmoor"), figures(20.0), figures(35.0)];
        let closed = Observation::Link(LinkChange::Closed { server: "Aldmoor".into() });
        for leaving in [vec![], vec![down.clone(), connecting("Dunmere")], vec![closed, connecting("Dunmere")]] {
            let way = format!("{leaving:?}");
            let core = heard([&here[..], &leaving, &[up("Dunmere"), figures(9.0), asked.clone()]].concat());
            let floor_ms = core.facts(core.now).other.floor_ms;
            assert_eq!(floor_ms, Some(20.0), "{way}");
        }
    }
}
