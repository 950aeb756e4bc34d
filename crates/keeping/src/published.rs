//! Controllers of others, from their papers and drafts, at the place where the keeper is: they see the moth's queue and what was
//! acknowledged, and set the bitrate of an encoder. They were made to set it many times a second, and do.
//!
//! What each paper has and a broadcast over TCP has not (packet timings, explicit congestion notification, a pacer of its own) is left
//! out, and said in each file.

pub mod bottleneck;
pub mod gradient;
pub mod self_clocked;

use std::collections::VecDeque;

use moth_core::Moment;
use moth_core::reading::Observation;

use crate::FLOOR_KBPS;
use crate::contender::Contender;
use crate::tryout::AUDIO_KBPS;

/// An encoder is told of a new rate if it differs by this share: it would not notice less. Ours.
const NOTICED: f64 = 0.005;

/// How a controller sets its rate.
pub trait Controller {
    /// Ten times a second: the rate it wants, in kb/s of video, where it wants `kbps` so far; `None` if it has nothing to say.
    fn next(&mut self, at_s: f64, kbps: f64, queue_ms: f64, seen: &Seen) -> Option<f64>;
}

/// One of them, in the keeper's place.
#[derive(Debug)]
pub struct Published<C> {
    controller: C,
    ceiling: f64,
    /// What it wants, and what the encoder was told.
    wants: f64,
    told: f64,
    seen: Seen,
}

impl<C: Default> Published<C> {
    /// With this ceiling, in kb/s of video.
    #[must_use]
    pub fn new(ceiling: f64) -> Self {
        Self { controller: C::default(), ceiling, wants: ceiling, told: ceiling, seen: Seen::default() }
    }
}

impl<C: Controller> Contender for Published<C> {
    fn begins_kbps(&self) -> f64 {
        self.ceiling
    }

    fn see(&mut self, at: Moment, what: Observation) {
        self.seen.see(at, &what);
    }

    fn decide(&mut self, at: Moment, queue_ms: f64) -> Option<f64> {
        let next = self.controller.next(at.seconds(), self.wants, queue_ms, &self.seen)?;
        self.wants = next.clamp(FLOOR_KBPS, self.ceiling);
        let differs = (self.wants - self.told).abs();
        let is_bound = self.wants == self.ceiling || self.wants == FLOOR_KBPS;
        if differs < if is_bound { f64::MIN_POSITIVE } else { NOTICED * self.told } {
            return None;
        }
        self.told = self.wants;
        Some(self.told)
    }
}

/// The most that is looked back for, in seconds.
const KEPT_S: f64 = 12.0;

/// What was acknowledged and how long the queue was, ten times a second: what all of them look at.
#[derive(Debug, Default)]
pub struct Seen {
    points: VecDeque<(f64, f64, f64)>,
    dropped: u64,
    newly_dropped: bool,
    /// The fastest that the kernel told of the last second, in kb/s.
    delivery: VecDeque<(f64, f64)>,
}

impl Seen {
    pub(crate) fn see(&mut self, at: Moment, what: &Observation) {
        let now = at.seconds();
        match what {
            Observation::Relay { accounts, queue, sent_bytes, .. } => {
                self.points.push_back((now, *sent_bytes as f64, queue.ms));
                self.newly_dropped = accounts.video.dropped > self.dropped;
                self.dropped = accounts.video.dropped;
            }
            Observation::Connection(figures) => {
                self.delivery.extend(figures.delivery_rate.map(|rate| (now, rate.kbps())));
            }
            _ => {}
        }
        while self.points.front().is_some_and(|p| now - p.0 > KEPT_S) {
            self.points.pop_front();
        }
        while self.delivery.front().is_some_and(|p| now - p.0 > KEPT_S) {
            self.delivery.pop_front();
        }
    }

    /// What was acknowledged over the last `span_s`, video alone, in kb/s.
    pub(crate) fn acknowledged_kbps(&self, span_s: f64) -> Option<f64> {
        let newest = self.points.back()?;
        let then = self.points.iter().rev().find(|p| newest.0 - p.0 >= span_s - 0.01)?;
        Some(((newest.1 - then.1) * 8.0 / 1000.0 / (newest.0 - then.0) - AUDIO_KBPS).max(0.0))
    }

    /// The queue's length so long ago, in milliseconds.
    pub(crate) fn queue_ms(&self, ago_s: f64) -> Option<f64> {
        let newest = self.points.back()?;
        self.points.iter().rev().find(|p| newest.0 - p.0 >= ago_s - 0.01).map(|p| p.2)
    }

    /// Whether a frame was dropped since the last look.
    pub(crate) fn has_lost(&self) -> bool {
        self.newly_dropped
    }

    /// The fastest that was delivered over the last `span_s`, video alone, in kb/s.
    pub(crate) fn fastest_kbps(&self, span_s: f64) -> Option<f64> {
        let newest = self.points.back()?.0;
        let lately = self.delivery.iter().filter(|p| newest - p.0 <= span_s).map(|p| p.1);
        lately
            .fold(None, |most: Option<f64>, kbps| Some(most.map_or(kbps, |m| m.max(kbps))))
            .map(|kbps| kbps - AUDIO_KBPS)
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::trace::{PER_SECOND, SECONDS, Trace};
    use crate::tryout::try_out;

    /// A line that is wide, but for a while.
    pub(crate) struct Line {
        pub narrow_from_s: f64,
        pub narrow_until_s: f64,
        pub narrow_kbps: f64,
    }

    pub(crate) const LINE: Line = Line { narrow_from_s: 60.0, narrow_until_s: 120.0, narrow_kbps: 2000.0 };

    struct Watched<'a>(&'a mut dyn Contender, Vec<(f64, f64)>);

    impl Contender for Watched<'_> {
        fn begins_kbps(&self) -> f64 {
            self.0.begins_kbps()
        }

        fn see(&mut self, at: Moment, what: Observation) {
            self.0.see(at, what);
        }

        fn decide(&mut self, at: Moment, queue_ms: f64) -> Option<f64> {
            let decided = self.0.decide(at, queue_ms);
            self.1.extend(decided.map(|kbps| (at.seconds(), kbps)));
            decided
        }
    }

    /// What it sets over that line with a ceiling of 4 000 kb/s, and when.
    pub(crate) fn over(contender: &mut dyn Contender) -> Vec<(f64, f64)> {
        let kbps =
            |s: f64| if (LINE.narrow_from_s..LINE.narrow_until_s).contains(&s) { LINE.narrow_kbps } else { 9000.0 };
        let trace = Trace {
            family: "by hand",
            set: crate::trace::Set::Known,
            is_steady: false,
            kbps: (0..SECONDS * PER_SECOND).map(|i| kbps(i as f64 / PER_SECOND as f64)).collect(),
            buffer_ms: 50.0,
            ceiling_kbps: 4000.0,
        };
        let mut watched = Watched(contender, Vec::new());
        let result = try_out(&trace, &mut watched);
        assert!(result.dropped < 0.02, "{result:?}");
        assert!(watched.1.iter().all(|(_, kbps)| (crate::FLOOR_KBPS..=4000.0).contains(kbps)), "{:?}", watched.1);
        watched.1
    }
}
