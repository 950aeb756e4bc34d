//! Gathers what the core knows into the numbers that are judged.

use std::time::Duration;

use super::{Core, STALE};
use crate::facts::{CLEAR, Facts, HARM, JUST, NOW, RATES};
use crate::figure::Origin;
use crate::machine_load::MachineLoad;
use crate::moment::Moment;
use crate::rate::Bitrate;
use crate::window::Trail;

/// How often the CPU slowed itself down is counted over so long. Ours: heat comes and goes over seconds.
const HEAT: Duration = Duration::from_secs(10);

/// What a trail counted in a span of [`NOW`], on the mean of [`HARM`].
fn mean_loss(trail: &Trail, now: Moment) -> f64 {
    trail.within(now, HARM) * NOW.as_secs_f64() / HARM.as_secs_f64()
}

impl Core {
    pub(super) fn facts(&self, now: Moment) -> Facts {
        let (broadcast, relayed, link, machines) = (&self.broadcast, &self.relayed, &self.link, &self.machines);
        let (skipped, skipped_origin) = broadcast.skipped.counted();
        let (lagged, lagged_origin) = broadcast.lagged.counted();
        let (dropped, queue) = (&relayed.dropped, &relayed.queue);
        let queue_before = relayed.queue_ms.lowest(now, RATES).unwrap_or(queue.ms);
        let wire = broadcast.wire.figures(now, None);
        let (behind_ms, behind_grows) = broadcast.wire.behind(now).unwrap_or_default();
        let (other, other_probed) = self.ways.other_path(now);
        let since = |at: Option<Moment>| at.map(|at| now.since(at).as_secs_f64());
        let machine = self.machine_now(now);
        Facts {
            broadcasting: broadcast.is_on_air(),
            on_air_s: broadcast.on_air_s(now),
            silent_s: broadcast.silent_s(now),
            link_up: link.up,
            link_down_s: since(link.down_since).unwrap_or(0.0),
            link_up_s: since(link.up_since).unwrap_or(f64::MAX),
            link_refused: link.refused,
            link_down_why: link.why.clone(),
            link_was_up: link.was_up,
            link_was_lost_here: link.lost.as_ref() == Some(&link.server),
            server: link.server.clone(),
            other_server: self.other_server(),
            stream: broadcast.stream,
            interval_ms: broadcast.wire.interval_ms(),
            dropped: dropped.within(now, NOW),
            dropped_total: dropped.total(),
            delivered: relayed.delivered.within(now, NOW),
            skipped: skipped.within(now, NOW),
            skipped_is_inferred: skipped_origin == Origin::Inferred,
            skipped_trust: wire.skipped_trust,
            lagged: broadcast.is_lagged_known().then(|| lagged.within(now, NOW)),
            lagged_inferred: if lagged_origin == Origin::Inferred { wire.repeated_trust } else { None },
            lagged_runs: f64::from(broadcast.wire.runs_of_repeats()),
            behind_ms,
            behind_grows,
            dropped_clear: dropped.within(now, CLEAR),
            skipped_clear: skipped.within(now, CLEAR),
            lagged_clear: lagged.within(now, CLEAR),
            dropped_mean: mean_loss(dropped, now),
            skipped_mean: mean_loss(skipped, now),
            lagged_mean: mean_loss(lagged, now),
            dropped_just: dropped.within(now, JUST),
            skipped_just: skipped.within(now, JUST),
            lagged_just: lagged.within(now, JUST),
            skipped_load_known: machines.covers(now, broadcast.encoder_in_trouble_since()),
            lagged_load_known: machines.covers(now, broadcast.lagged.since),
            paths_known: self.ways.is_known(now),
            due: broadcast.offered.within(now, NOW) + skipped.within(now, NOW),
            asked: broadcast.asked(now),
            asked_video: broadcast.video_over(now, RATES),
            sent: Bitrate::of(relayed.sent_bytes.within(now, RATES), RATES),
            sent_just: Bitrate::of(relayed.sent_bytes.within(now, JUST), JUST),
            strained_s: since(relayed.strained_since).unwrap_or(0.0),
            queue_ms: queue.ms,
            queue_limit_ms: queue.limit_ms,
            queue_growth: (queue.ms - queue_before) / RATES.as_secs_f64(),
            rtt_ms: link.rtt_ms.mean(now, NOW),
            rtt_floor_ms: link.rtt_floor_ms,
            retransmits: link.retransmits.is_known().then(|| link.retransmits.within(now, NOW)),
            receiver_limited: link.receiver_limited(now),
            gateway: self.ways.gateway_path(now),
            other,
            other_probed,
            before: self.ways.before(),
            line_measured: broadcast.intended.line,
            scene: machines.drawing_the_scene(now, &machine),
            machine,
            throttled: machines.throttled.within(now, HEAT),
            render_ms: broadcast.render_ms.latest(now, STALE),
            encode_ms: broadcast.encode_ms.latest(now, STALE),
            speed: broadcast.speed.latest(now, STALE),
        }
    }

    /// This machine's newest load, unless it is stale; what only the broadcaster tells of it fills the gaps.
    fn machine_now(&self, now: Moment) -> MachineLoad {
        let mut load = self.machines.own_now(now);
        self.broadcast.fill_gaps(now, &mut load);
        load
    }

    /// The server after this one, round and round.
    fn other_server(&self) -> Option<String> {
        let here = self.servers.iter().position(|s| *s == self.link.server)?;
        let next = self.servers.get((here + 1) % self.servers.len())?;
        (*next != self.link.server).then(|| next.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_lost_for_long_is_told_in_the_span_of_what_is_lost_now() {
        let mut trail = Trail::default();
        // Ten each second for a minute, then none for half of what the mean is of.
        (1..=60).for_each(|s| trail.add(Moment::from_ms(s * 1000), 10.0));
        let per_span = 10.0 * NOW.as_secs_f64();
        assert!((mean_loss(&trail, Moment::from_ms(60_000)) - per_span).abs() < 0.01);
        let later = Moment::after(Duration::from_secs(60) + HARM / 2);
        assert!((mean_loss(&trail, later) - per_span / 2.0).abs() < 0.01);
    }
}
