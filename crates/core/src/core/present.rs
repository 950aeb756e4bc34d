//! What the core knows at one moment: the facts that verdicts rest on, and the snapshot.

use super::{Core, STALE};
use crate::facts::{CLEAR, Facts, NOW, RATES};
use crate::figure::{Figure, Origin};
use crate::journey::Stage;
use crate::moment::Moment;
use crate::rate::Bitrate;
use crate::snapshot::Snapshot;
use crate::suspects::Fault;
use crate::window::Gauge;

impl Core {
    pub(super) fn facts(&self, now: Moment) -> Facts {
        let counted = &self.counted;
        let (skipped, skipped_origin) = counted.skipped();
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
            skipped_is_inferred: skipped_origin == Origin::Inferred,
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
            busiest_other: self.busiest_other.clone(),
            gpu_render: counted.gpu_render.latest(now, STALE),
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
