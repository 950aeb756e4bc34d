//! One second, for the history.

use super::{Core, SECOND, STALE};
use crate::facts::{NOW, RATES};
use crate::history::Second;
use crate::moment::Moment;
use crate::rate::Bitrate;
use crate::window::Trail;

impl Core {
    /// The second that ends now.
    pub(super) fn second(&mut self, end: Moment) -> Second {
        let frozen_ms = self.diary.newly_frozen_ms(self.relayed.freezes.and(self.broadcast.freezes).total_ms);
        let counted = self.broadcast.count_second(end);
        let (broadcast, relayed, link, machines) = (&self.broadcast, &self.relayed, &self.link, &self.machines);
        let on_air = broadcast.is_on_air();
        let count = |trail: &Trail| trail.since(end.before(SECOND)).round() as u32;
        // Over a keyframe interval, so that the lane does not swing with the keyframes.
        let rate = |rate: Bitrate| on_air.then(|| rate.kbps() as f32);
        let small = |value: Option<f64>| value.map(|v| v as f32);
        Second {
            state: self.state(end),
            asked_kbps: rate(broadcast.asked(end)),
            sent_kbps: rate(Bitrate::of(relayed.sent_bytes.within(end, RATES), RATES)),
            queue_ms: if on_air { small(relayed.queue_ms.highest(end, SECOND)) } else { None },
            rtt_ms: small(link.rtt_ms.highest(end, SECOND)),
            due: counted.map(|counted| counted.offered.saturating_add(counted.skipped)),
            frozen_ms: on_air.then_some(frozen_ms),
            dropped: counted.map(|_| count(&relayed.dropped)),
            skipped: counted.map(|counted| counted.skipped),
            lagged: counted.and_then(|counted| counted.lagged),
            cpu: small(machines.cpu.mean(end, NOW)),
            gpu: small(machines.gpu_render.mean(end, NOW)),
            gpu_encode: small(machines.gpu_encode.mean(end, NOW)),
            other_cpu: small(machines.other_cpu.mean(end, NOW)),
            render_ms: small(broadcast.render_ms.latest(end, STALE)),
            encode_ms: small(broadcast.encode_ms.latest(end, STALE)),
            behind_ms: if on_air { small(broadcast.wire.behind(end).map(|(ms, _)| ms)) } else { None },
            uploads_kbps: small(machines.uploads_kbps.latest(end, STALE)),
            gateway_ms: small(self.ways.gateway.highest(end, SECOND)),
            other_ms: small(self.ways.other.highest(end, SECOND)),
            receiver_limited: small(link.receiver_limited(end)),
            frequency: small(machines.frequency.latest(end, STALE)),
            disk_write_ms: small(machines.disk_write_ms.latest(end, STALE)),
            sound: if on_air { broadcast.wire.heard(end) } else { None },
        }
    }
}
