//! What the core knows at one moment: the facts that verdicts rest on, and the snapshot.

use std::time::Duration;

use super::{Core, STALE};
use crate::facts::{CLEAR, Facts, HARM, JUST, NOW, RATES};
use crate::figure::{Figure, Origin, Trust};
use crate::journey::Stage;
use crate::machine_load::MachineLoad;
use crate::moment::Moment;
use crate::notice::{Notice, NoticeKind, notices};
use crate::rate::Bitrate;
use crate::snapshot::Snapshot;
use crate::suspects::{Fault, weighed};
use crate::viewers::Viewers;
use crate::window::{Gauge, Trail};

/// A broadcast is looked at for oddities once it has run this long, and over as long.
const SETTLED: Duration = Duration::from_secs(10);

/// What a trail counted in a span of [`NOW`], on the mean of [`HARM`].
fn mean_loss(trail: &Trail, now: Moment) -> f64 {
    trail.within(now, HARM) * NOW.as_secs_f64() / HARM.as_secs_f64()
}

/// Rounded to a thousandth: more digits than that are not meant.
fn thousandth(value: f64) -> f64 {
    (value * 1000.0).round() / 1000.0
}

/// So many trials are told in a snapshot: as many are put back one after another as anybody does.
const TRIALS_TOLD: usize = 8;

impl Core {
    pub(super) fn facts(&self, now: Moment) -> Facts {
        let counted = &self.counted;
        let (skipped, skipped_origin) = counted.skipped();
        let video = counted.video_bytes.within(now, RATES);
        let asked = video + counted.audio_bytes.within(now, RATES);
        let queue_before = counted.queue_ms.lowest(now, RATES).unwrap_or(self.queue.ms);
        let (lagged, lagged_origin) = counted.lagged();
        let lagged_inferred = lagged_origin == Origin::Inferred;
        let wire = self.wire.figures(now, None);
        let (behind_ms, behind_grows) = self.wire.behind(now).unwrap_or_default();
        let (other, other_probed) = self.beyond.other_path(now);
        Facts {
            broadcasting: self.on_air_since.is_some(),
            on_air_s: self.on_air_since.map_or(0.0, |since| now.since(since).as_secs_f64()),
            silent_s: self.came_at.max(self.on_air_since).map_or(0.0, |at| now.since(at).as_secs_f64()),
            link_up: self.link.up,
            link_down_s: self.link.down_since.map_or(0.0, |since| now.since(since).as_secs_f64()),
            link_up_s: self.link.up_since.map_or(f64::MAX, |since| now.since(since).as_secs_f64()),
            link_refused: self.link.refused,
            link_down_why: self.link.why.clone(),
            link_was_up: self.link.was_up,
            link_was_lost_here: self.link.lost.as_ref() == Some(&self.link.server),
            server: self.link.server.clone(),
            other_server: self.other_server(),
            stream: self.stream,
            interval_ms: self.wire.interval_ms(),
            dropped: counted.dropped.within(now, NOW),
            dropped_total: counted.dropped.total(),
            delivered: counted.delivered.within(now, NOW),
            skipped: skipped.within(now, NOW),
            skipped_is_inferred: skipped_origin == Origin::Inferred,
            skipped_trust: wire.skipped_trust,
            lagged: self.lagged_known().then(|| lagged.within(now, NOW)),
            lagged_inferred: if lagged_inferred { wire.repeated_trust } else { None },
            lagged_runs: f64::from(self.wire.runs_of_repeats()),
            behind_ms,
            behind_grows,
            dropped_clear: counted.dropped.within(now, CLEAR),
            skipped_clear: skipped.within(now, CLEAR),
            lagged_clear: lagged.within(now, CLEAR),
            dropped_mean: mean_loss(&counted.dropped, now),
            skipped_mean: mean_loss(skipped, now),
            lagged_mean: mean_loss(lagged, now),
            dropped_just: counted.dropped.within(now, JUST),
            skipped_just: skipped.within(now, JUST),
            lagged_just: lagged.within(now, JUST),
            skipped_load_known: self.load_known(now, counted.skipped_since.or(counted.behind_since)),
            lagged_load_known: self.load_known(now, counted.lagged_since),
            paths_known: self.beyond.is_known(now),
            due: counted.offered.within(now, NOW) + skipped.within(now, NOW),
            asked: Bitrate::of(asked, RATES),
            asked_video: Bitrate::of(video, RATES),
            sent: Bitrate::of(counted.sent_bytes.within(now, RATES), RATES),
            sent_just: Bitrate::of(counted.sent_bytes.within(now, JUST), JUST),
            strained_s: self.strained_since.map_or(0.0, |since| now.since(since).as_secs_f64()),
            queue_ms: self.queue.ms,
            queue_limit_ms: self.queue.limit_ms,
            queue_growth: (self.queue.ms - queue_before) / RATES.as_secs_f64(),
            rtt_ms: counted.rtt_ms.mean(now, NOW),
            rtt_floor_ms: self.link.rtt_floor_ms,
            retransmits: counted.retransmits.is_known().then(|| counted.retransmits.within(now, NOW)),
            receiver_limited: self.receiver_limited(now),
            gateway: self.beyond.gateway_path(now),
            other,
            other_probed,
            before: self.beyond.before(),
            line_measured: self.intended.line,
            machine: self.machine_now(now),
            scene: self.scene_machine(now),
            throttled: counted.throttled.within(now, Duration::from_secs(10)),
            render_ms: counted.render_ms.latest(now, STALE),
            encode_ms: counted.encode_ms.latest(now, STALE),
            speed: counted.speed.latest(now, STALE),
        }
    }

    /// This machine's newest load, unless it is stale; what only the broadcaster tells of it fills the gaps.
    fn machine_now(&self, now: Moment) -> MachineLoad {
        let fresh = self.counted.machine_at.is_some_and(|at| now.since(at) <= STALE);
        let mut load = if fresh { self.machine.clone() } else { MachineLoad::default() };
        load.gpu_render = load.gpu_render.or(self.counted.gpu_reported.latest(now, STALE));
        load.gpu_encode = load.gpu_encode.or(self.counted.encoder_reported.latest(now, STALE));
        load
    }

    /// The machine the scene is drawn on: another one of the streamer's, if one tells its load and draws more.
    fn scene_machine(&self, now: Moment) -> MachineLoad {
        let own = self.machine_now(now);
        let drawing = |load: &MachineLoad| load.gpu_render.or(load.cpu).unwrap_or(0.0);
        let others = self.others_now(now).into_iter().filter(|other| drawing(other) > drawing(&own));
        others.max_by(|a, b| drawing(a).total_cmp(&drawing(b))).unwrap_or(own)
    }

    /// The other machines that told their load lately.
    fn others_now(&self, now: Moment) -> Vec<MachineLoad> {
        self.others.iter().filter(|(at, _)| now.since(*at) <= SETTLED).map(|(_, load)| load.clone()).collect()
    }

    /// Whether there is any count of lagged frames: the broadcaster's, or one read off a picture that moves.
    pub(super) fn lagged_known(&self) -> bool {
        self.counted.lagged_reported.is_known() || self.wire.reads_repeats()
    }

    /// Share of the busy time within [`RATES`] that the receiver's window held up.
    pub(super) fn receiver_limited(&self, now: Moment) -> Option<f64> {
        let busy = self.counted.busy_us.within(now, RATES);
        (busy > 0.0).then(|| (self.counted.receiver_limited_us.within(now, RATES) / busy).min(1.0))
    }

    /// What is odd and costs no frame.
    pub(super) fn notices(&self, now: Moment) -> Vec<Notice> {
        let Some(since) = self.on_air_since else { return Vec::new() };
        let keyframe = self.awaits_keyframe.then(|| Notice {
            kind: NoticeKind::NoKeyframe,
            text: "No keyframe has come from the broadcaster yet: what comes before its first one cannot be shown, and is \
                   left out."
                .into(),
            origin: Origin::Measured,
        });
        if now.since(since) < SETTLED {
            return keyframe.into_iter().collect();
        }
        let figures = self.wire.figures(now, self.unsteadiness(now));
        let video = Bitrate::of(self.counted.video_bytes.within(now, SETTLED), SETTLED);
        // What was changed a moment ago is a mean of before and after.
        let is_mixed = self.bitrate_set_at.is_some_and(|at| now.since(at) < SETTLED + 2 * RATES);
        let video = (!is_mixed).then_some(video);
        let mut found = notices(&figures, &self.stream, &self.intended, video);
        // Nobody needs to look at what is reported.
        found.retain(|notice| notice.kind != NoticeKind::Unseen || !self.counted.lagged_reported.is_known());
        found.extend(keyframe);
        if let Some(unheeded) = self.unheeded() {
            // It says more than that the setup means another.
            found.retain(|notice| notice.kind != NoticeKind::Bitrate);
            found.push(unheeded);
        }
        found.extend(self.disagreements(now));
        found
    }

    /// Where the broadcaster's word and the wire differ by more than chance.
    fn disagreements(&self, now: Moment) -> Option<Notice> {
        let counted = &self.counted;
        let differ = |reported: &Trail, inferred: &Trail| {
            let (said, seen) = (reported.within(now, SETTLED), inferred.within(now, SETTLED));
            // The newest report may be a second old, and a run of repeats counts when it ends.
            (reported.is_known() && (said - seen).abs() > 6.0 + 0.5 * said.max(seen)).then_some((said, seen))
        };
        let (word, (said, seen)) = if let Some(pair) = differ(&counted.skipped_reported, &counted.skipped_inferred)
            && self.wire.figures(now, None).skipped_trust != Trust::Poor
        {
            ("skipped", pair)
        } else if let Some(pair) = differ(&counted.lagged_reported, &counted.repeated)
            && self.wire.figures(now, None).repeated_trust == Some(Trust::Good)
        {
            ("lagged", pair)
        } else {
            return None;
        };
        let text = format!(
            "The broadcaster reports {said:.0} frames {word} in {} s, the wire shows {seen:.0}; the report counts.",
            SETTLED.as_secs()
        );
        Some(Notice { kind: NoticeKind::Disagreement, text, origin: Origin::Inferred })
    }

    /// How far the bitrate of the last ten seconds' spans wavers about its mean; each span is a keyframe interval.
    fn unsteadiness(&self, now: Moment) -> Option<f64> {
        let span = self.wire.figures(now, None).keyframe_interval_s.filter(|s| (0.4..=3.0).contains(s)).unwrap_or(2.0);
        let span = Duration::from_secs_f64(span);
        let whole = |n: u32| self.counted.video_bytes.within(now, span * n);
        let spans: Vec<f64> = (1..=4).map(|n| whole(n) - whole(n - 1)).collect();
        let mean = spans.iter().sum::<f64>() / 4.0;
        let variance = spans.iter().map(|s| (s - mean).powi(2)).sum::<f64>() / 4.0;
        (mean > 0.0).then(|| variance.sqrt() / mean)
    }

    /// What viewers get.
    fn viewers(&self, facts: &Facts) -> Viewers {
        let full = facts.interval_ms.map(|ms| 1000.0 / ms);
        let origin = match (facts.lagged, facts.lagged_inferred) {
            (Some(_), None) => Origin::Reported,
            _ => Origin::Inferred,
        };
        let new = (facts.due - facts.skipped - facts.dropped - facts.lagged.unwrap_or(0.0)).max(0.0);
        let span = NOW.as_secs_f64().min(facts.on_air_s.max(0.5));
        // What reaches the server now, and not what was offered: while a backlog waits, the two differ.
        let reaching = (facts.delivered - facts.lagged.unwrap_or(0.0)).max(0.0).min(new);
        let fps = (reaching / span).min(full.unwrap_or(f64::MAX));
        Viewers {
            fps: if facts.broadcasting { Figure::known(thousandth(fps), origin) } else { Figure::UNKNOWN },
            full_fps: Figure::maybe(full.map(thousandth), Origin::Inferred),
            freezes: self.freezes_sent.and(self.freezes_repeated),
            frozen_ms: self.frozen_ms.filter(|_| facts.broadcasting),
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
        let (lagged, lagged_origin) = counted.lagged();
        let on_air = facts.broadcasting;
        let measured = |value: f64| if on_air { Figure::known(value, Origin::Measured) } else { Figure::UNKNOWN };
        let share = |gauge: &Gauge| Figure::maybe(gauge.mean(now, NOW).map(|v| v * 100.0), Origin::Measured);
        let figures = self.link.figures;
        let skipped_total = Figure::known(skipped.total().round() as u64, skipped_origin);
        let lagged_total = Figure::maybe(
            (self.has_lagged || self.lagged_known()).then(|| lagged.total().round() as u64),
            lagged_origin,
        );
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
            journey: self.journey(&facts, skipped_total, lagged_total),
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
            gpu_encode_percent: share(&counted.gpu_encode),
            machine: facts.machine.clone(),
            others: self.others_now(now),
            wire: self.wire.figures(now, self.unsteadiness(now)),
            viewers: self.viewers(&facts),
            notices: self.notices(now),
            in_doubt: self.beyond.is_in_doubt(),
            weighed: if on_air { weighed(&facts) } else { Vec::new() },
            intended: self.intended,
            history: self.history.clone(),
            marks: self.marks.clone(),
            undo: self.changes.last().map(|c| c.back.clone()),
            trial: self.trials.last().cloned(),
            trials: self.trials[self.trials.len().saturating_sub(TRIALS_TOLD)..].to_vec(),
            keeper: self.keeper_view(),
            failover: self.failover.consent(),
            awaited: self.awaited.clone(),
            answered: self.answered.clone(),
            moved: self.moved.clone(),
            verdict,
        }
    }

    fn journey(&self, facts: &Facts, skipped: Figure<u64>, lagged: Figure<u64>) -> [Stage; 4] {
        let origin = |figure: Figure<u64>| figure.origin.unwrap_or(Origin::Inferred);
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
                lost_now: Figure::maybe(facts.lagged.map(|l| l.round() as u64), origin(lagged)),
                lost_total: lagged,
                word: "lagged",
                fault: Fault::Rendering,
            },
            Stage {
                name: "encode",
                budget,
                used: Figure::maybe(facts.encode_ms, Origin::Reported),
                lost_now: lost(facts.skipped, origin(skipped)),
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
