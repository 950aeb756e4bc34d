//! How the queue stands and moves, what is carried, and what that says of the line.

use std::time::Duration;

use super::{BitrateLook, Keeper, Point, TAKES};
use crate::moment::Moment;
use crate::rate::Bitrate;

/// A queue below this is empty, in milliseconds: a keyframe alone makes one of this size on a line that suffices. Ours.
const CALM_MS: f64 = 60.0;
/// A queue that rose by this has begun to grow, in milliseconds. Ours.
const RISES_MS: f64 = 150.0;
/// What carries less than this share of what is asked is a stall: nothing can be read off it. Ours.
const FLOWS: f64 = 0.1;
/// What waits after a step down shows what the line carries, over this long. Ours.
const SPIKE_OVER: Duration = Duration::from_millis(700);
/// The estimate is the median of the stretches in this long, if there are so many. Ours.
const ESTIMATE_OVER: Duration = Duration::from_secs(12);
const STRETCHES: usize = 5;

impl Keeper {
    /// What it holds to be the most the line carries, read off stretches in which more waited than could be sent.
    #[must_use]
    pub fn estimate(&self) -> Option<Bitrate> {
        let last = self.points.back()?;
        let from = last.at.before(ESTIMATE_OVER);
        let mut rates: Vec<f64> = Vec::new();
        for (a, b) in self.points.iter().zip(self.points.iter().skip(1)) {
            let seconds = b.at.since(a.at).as_secs_f64();
            if a.at >= from && a.is_busy && b.is_busy && seconds > 0.02 {
                rates.push((b.sent - a.sent) * 8.0 / seconds);
            }
        }
        if rates.len() < STRETCHES {
            return None;
        }
        rates.sort_by(f64::total_cmp);
        Some(Bitrate::from_bps(rates[rates.len() / 2].max(0.0) as u64))
    }

    /// Notes how the queue stands and moves, and whether anything flows.
    pub(super) fn note(&mut self, look: &BitrateLook) {
        let now = look.now;
        let point = Point {
            at: now,
            sent: look.sent_bytes,
            queue_ms: look.queue_ms,
            is_busy: look.is_busy && look.link_up,
            dropped: look.dropped,
        };
        self.points.push_back(point);
        while self.points.front().is_some_and(|p| now.since(p.at) > ESTIMATE_OVER) {
            self.points.pop_front();
        }
        let asked = (look.asked_video.bps() + look.audio.bps()) as f64;
        let flows = self.carried(now, Duration::from_millis(400)).is_some_and(|bps| bps >= FLOWS * asked);
        self.flows_since = if flows { self.flows_since.or(Some(now)) } else { None };

        let queue = look.queue_ms;
        if queue < CALM_MS {
            (self.short_since, self.trough, self.peak, self.trough_at) = (None, queue, queue, Some(now));
        } else if queue <= self.trough + 20.0 {
            (self.trough, self.trough_at) = (queue.min(self.trough), Some(now));
        }
        if queue >= self.trough + RISES_MS && self.short_since.is_none() {
            self.short_since = self.trough_at.or(Some(now));
            self.peak = queue;
        }
        self.peak = self.peak.max(queue);
        // Recovering by itself: what was absorbed was a spike.
        if self.short_since.is_some() && queue < self.peak - RISES_MS.max(0.25 * self.peak) {
            (self.short_since, self.trough, self.peak, self.trough_at) = (None, queue, queue, Some(now));
        }
        self.tell_spike(look);
        let is_quiet = queue < RISES_MS;
        self.quiet_since = if is_quiet { self.quiet_since.or(Some(now)) } else { None };
    }

    /// Whether what waits since a step down is carried as fast as was asked before it: then the line is as it was.
    fn tell_spike(&mut self, look: &BitrateLook) {
        let now = look.now;
        let Some(made) = self.made.back().copied().filter(|made| made.to < made.from) else { return };
        let since = now.since(made.at);
        if self.was_spike || since > TAKES {
            return;
        }
        let before = (made.from.bps() + look.audio.bps()) as f64;
        // Acknowledgements that jump are no fast line: the kernel has to see it too.
        let at_most = look.delivered.map_or(f64::MAX, |rate| rate.bps() as f64);
        if self.carried(now, SPIKE_OVER).is_some_and(|bps| bps.min(at_most) > 1.1 * before) {
            self.was_spike = true;
            self.spiked_at = Some(now);
        }
    }

    /// What was acknowledged in the `span` before `now`, in bits per second.
    pub(super) fn carried(&self, now: Moment, span: Duration) -> Option<f64> {
        let from = now.before(span);
        let then = self.points.iter().rev().find(|p| p.at <= from).or(self.points.front())?;
        let newest = self.points.back()?;
        let seconds = newest.at.since(then.at).as_secs_f64();
        (seconds > 0.0).then(|| (newest.sent - then.sent).max(0.0) * 8.0 / seconds)
    }

    pub(super) fn at(&self, when: Moment) -> Option<&Point> {
        self.points.iter().rev().find(|p| p.at <= when)
    }
}
