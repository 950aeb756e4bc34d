//! Presents what the core knows at one moment: the snapshot.

use super::Core;
use crate::facts::{Facts, NOW};
use crate::figure::{Figure, Origin};
use crate::journey::Stage;
use crate::moment::Moment;
use crate::rate::Bitrate;
use crate::snapshot::Snapshot;
use crate::suspects::{Fault, weighed};
use crate::viewers::Viewers;
use crate::window::Gauge;

/// Rounded to a thousandth: more digits than that are not meant.
fn thousandth(value: f64) -> f64 {
    (value * 1000.0).round() / 1000.0
}

impl Core {
    /// Everything known at `now`. Time passes up to there; that somebody looks changes nothing.
    pub fn snapshot(&mut self, now: Moment) -> Snapshot {
        self.pass_to(now);
        let now = self.now;
        let facts = self.facts(now);
        let verdict = self.judge.would_judge(now, &facts);
        let (broadcast, relayed, link, machines) = (&self.broadcast, &self.relayed, &self.link, &self.machines);
        let on_air = facts.broadcasting;
        let measured = |value: f64| if on_air { Figure::known(value, Origin::Measured) } else { Figure::UNKNOWN };
        let share = |gauge: &Gauge| Figure::maybe(gauge.mean(now, NOW).map(|v| v * 100.0), Origin::Measured);
        let figures = link.figures;
        let skipped_total = Figure::known(broadcast.skipped.total(), broadcast.skipped.total_origin());
        let lagged_total = Figure::maybe(
            broadcast.is_lagged_total_known().then(|| broadcast.lagged.total()),
            broadcast.lagged.total_origin(),
        );
        Snapshot {
            at: now,
            state: self.state(now),
            on_air_since: broadcast.since,
            server: link.server.clone(),
            servers: self.servers.clone(),
            accounts: relayed.accounts,
            skipped: skipped_total,
            lagged: lagged_total,
            stream: broadcast.stream,
            journey: self.journey(&facts, skipped_total, lagged_total),
            video_kbps: measured(facts.asked_video.kbps()),
            asked_kbps: measured(facts.asked.kbps()),
            sent_kbps: measured(facts.sent.kbps()),
            queue_ms: measured(self.relayed.queue.ms),
            queue_limit_ms: self.relayed.queue.limit_ms,
            rtt_ms: Figure::maybe(facts.rtt_ms, Origin::Measured),
            cpu_percent: share(&machines.cpu),
            broadcaster_cpu_percent: share(&machines.broadcaster_cpu),
            gpu_percent: share(&machines.gpu_render),
            unsent_bytes: Figure::maybe(figures.unsent_bytes, Origin::Measured),
            retransmits: Figure::maybe(figures.retransmits, Origin::Measured),
            delivery_kbps: Figure::maybe(figures.delivery_rate.map(Bitrate::kbps), Origin::Measured),
            receiver_limited_percent: Figure::maybe(facts.receiver_limited.map(|s| s * 100.0), Origin::Measured),
            gpu_encode_percent: share(&machines.gpu_encode),
            machine: facts.machine.clone(),
            others: machines.others_now(now),
            wire: broadcast.wire_figures(now),
            viewers: self.viewers(&facts),
            played_back: link.played_back.clone(),
            notices: self.notices(now),
            in_doubt: self.ways.is_in_doubt(),
            weighed: if on_air { weighed(&facts) } else { Vec::new() },
            intended: broadcast.intended,
            history: self.diary.history().clone(),
            marks: self.diary.marks().to_vec(),
            undo: self.control.undo(),
            trials: self.control.trials().to_vec(),
            keeper: self.control.keeper(),
            failover: self.control.failover(),
            awaited: self.control.awaited().cloned(),
            answered: self.control.answered().cloned(),
            moved: self.control.last_moved().cloned(),
            verdict,
        }
    }

    fn journey(&self, facts: &Facts, skipped: Figure<u64>, lagged: Figure<u64>) -> [Stage; 4] {
        // What is lost now may be known otherwise than what was lost before.
        let [lagged_origin, skipped_origin] =
            [&self.broadcast.lagged, &self.broadcast.skipped].map(|losses| losses.counted().1);
        let budget = Figure::maybe(facts.interval_ms, self.broadcast.interval_origin());
        let on_air =
            |value: f64| if facts.broadcasting { Figure::known(value, Origin::Measured) } else { Figure::UNKNOWN };
        let lost = |frames: f64, origin| {
            if facts.broadcasting { Figure::known(frames.round() as u64, origin) } else { Figure::UNKNOWN }
        };
        let lagged_now = Figure::maybe(facts.lagged.map(|l| l.round() as u64), lagged_origin);
        let [dropped, delivered] = [self.relayed.accounts.video.dropped, self.relayed.accounts.video.delivered]
            .map(|frames| Figure::known(frames, Origin::Measured));
        let queue = &self.relayed.queue;
        let [render_ms, encode_ms] =
            [facts.render_ms, facts.encode_ms].map(|value| Figure::maybe(value, Origin::Reported));
        [
            Stage::new(Fault::Rendering, [budget, render_ms], [lagged_now, lagged]),
            Stage::new(Fault::Encoder, [budget, encode_ms], [lost(facts.skipped, skipped_origin), skipped]),
            Stage::new(
                Fault::Network,
                [on_air(queue.limit_ms), on_air(queue.ms)],
                [lost(facts.dropped, Origin::Measured), dropped],
            ),
            Stage::new(
                Fault::None,
                [on_air(facts.asked.kbps()), on_air(facts.sent.kbps())],
                [Figure::UNKNOWN, delivered],
            ),
        ]
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
            freezes: self.relayed.freezes.and(self.broadcast.freezes),
            frozen_ms: self.relayed.frozen_ms.filter(|_| facts.broadcasting),
        }
    }
}
