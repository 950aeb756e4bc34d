//! Who decides on the bitrate.

use moth_core::action::Action;
use moth_core::figure::Origin;
use moth_core::history::Mark;
use moth_core::keeper::{Bounds, Mode};
use moth_core::reading::{Automatics, Intended, LinkChange, Observation, Reading, StreamFacts};
use moth_core::{Bitrate, Core, Moment, Settings};

use crate::FLOOR_KBPS;

/// Decides on the bitrate.
pub trait Contender {
    /// What it begins with, in kb/s of video.
    fn begins_kbps(&self) -> f64;
    /// Takes what was seen.
    fn see(&mut self, at: Moment, what: Observation);
    /// Ten times a second: how long the queue is, in milliseconds. Gives another bitrate, in kb/s of video.
    fn decide(&mut self, at: Moment, queue_ms: f64) -> Option<f64>;
    /// For how long no picture comes when it changes the bitrate, in seconds: the encoder is restarted for it.
    fn restart_s(&self) -> f64 {
        0.0
    }
    /// The change is in force.
    fn done(&mut self, _at: Moment, _kbps: f64) {}
}

/// Changes nothing.
#[derive(Debug)]
pub struct Fixed(f64);

impl Fixed {
    /// At this bitrate, in kb/s of video.
    #[must_use]
    pub fn at(kbps: f64) -> Self {
        Self(kbps)
    }
}

impl Contender for Fixed {
    fn begins_kbps(&self) -> f64 {
        self.0
    }

    fn see(&mut self, _: Moment, _: Observation) {}

    fn decide(&mut self, _: Moment, _: f64) -> Option<f64> {
        None
    }
}

/// A plain keeper: half at every sign of a queue, a tenth of a megabit more in every second without one (D.-M. Chiu,
/// R. Jain, *Computer Networks and ISDN Systems* 17, 1989).
#[derive(Debug)]
pub struct Additive {
    ceiling: f64,
    now: f64,
    changed: Moment,
}

impl Additive {
    /// With this ceiling, in kb/s of video.
    #[must_use]
    pub fn new(ceiling: f64) -> Self {
        Self { ceiling, now: ceiling, changed: Moment::START }
    }
}

impl Contender for Additive {
    fn begins_kbps(&self) -> f64 {
        self.ceiling
    }

    fn see(&mut self, _: Moment, _: Observation) {}

    fn decide(&mut self, at: Moment, queue_ms: f64) -> Option<f64> {
        let since = at.since(self.changed).as_secs_f64();
        let next = match () {
            () if queue_ms > 500.0 && since >= 2.0 => (self.now / 2.0).max(FLOOR_KBPS),
            () if queue_ms < 100.0 && since >= 1.0 => (self.now + 100.0).min(self.ceiling),
            () => return None,
        };
        if (next - self.now).abs() < 1.0 {
            return None;
        }
        (self.now, self.changed) = (next, at);
        Some(next)
    }
}

/// The keeper, inside the core it lives in, with the readings it has when live.
pub struct Keeping {
    core: Core,
    ceiling: f64,
    restart_s: f64,
}

impl Keeping {
    /// With this ceiling, in kb/s of video.
    #[must_use]
    pub fn new(ceiling: f64) -> Self {
        let server = "Aldmoor".to_owned();
        let mut this = Self { core: Core::new(Settings { servers: vec![server.clone()] }), ceiling, restart_s: 0.0 };
        let kbps = |kbps: f64| Bitrate::from_bps((kbps * 1000.0) as u64);
        let bounds = Bounds { floor: Some(kbps(FLOOR_KBPS)), ceiling: None };
        let begin = [
            Observation::Intended(Intended { video_bitrate: Some(kbps(ceiling)), ..Intended::default() }),
            Observation::Automatics(Automatics { keeper: Mode::Act, bounds, ..Automatics::default() }),
            Observation::Broadcaster { present: true },
            Observation::Link(LinkChange::Up { server }),
        ];
        for what in begin {
            this.see(Moment::START, what);
        }
        this
    }
}

impl Keeping {
    /// The same with an encoder that is restarted for each change, and comes back after so long, in seconds.
    #[must_use]
    pub fn restarting(ceiling: f64, restart_s: f64) -> Self {
        let mut this = Self { restart_s, ..Self::new(ceiling) };
        this.see(Moment::START, Observation::Stream(StreamFacts { restarts: true, ..StreamFacts::default() }));
        this
    }

    /// What happened, when, as the lanes would show it.
    #[must_use]
    pub fn marks(&mut self, at: Moment) -> Vec<Mark> {
        self.core.snapshot(at).marks
    }
}

impl Contender for Keeping {
    fn begins_kbps(&self) -> f64 {
        self.ceiling
    }

    fn restart_s(&self) -> f64 {
        self.restart_s
    }

    fn see(&mut self, at: Moment, what: Observation) {
        self.core.take(&Reading { at, origin: Origin::Measured, what });
    }

    fn decide(&mut self, _: Moment, _: f64) -> Option<f64> {
        match self.core.take_wish()? {
            Action::SetBitrate { video } => Some(video.kbps()),
            _ => None,
        }
    }

    fn done(&mut self, at: Moment, kbps: f64) {
        let video = Bitrate::from_bps((kbps * 1000.0).round() as u64);
        self.see(at, Observation::acted(Action::SetBitrate { video }, None));
        if self.restart_s > 0.0 {
            self.see(at, Observation::Resumed { gap_ms: (self.restart_s * 1000.0) as u64 });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plain_keeper_halves_at_a_queue_climbs_without_one_and_stays_between_floor_and_ceiling() {
        let mut plain = Additive::new(4000.0);
        let mut at = |second: u64, queue_ms| plain.decide(Moment::from_ms(second * 1000), queue_ms);
        assert_eq!(at(10, 800.0), Some(2000.0));
        assert_eq!(at(11, 800.0), None, "not twice within two seconds");
        assert_eq!(at(12, 800.0), Some(1000.0));
        assert_eq!(at(13, 300.0), None, "neither long nor short");
        assert_eq!(at(14, 50.0), Some(1100.0));
        for second in 15..30 {
            at(second * 2, 800.0);
        }
        assert_eq!(at(61, 800.0), None, "it is at its floor already");
        assert_eq!(plain.now, FLOOR_KBPS);
        let mut full = Additive::new(4000.0);
        assert_eq!(full.decide(Moment::from_ms(9000), 0.0), None, "there is nothing above the ceiling");
    }

    /// Writes down what another decides.
    struct Watched<'a> {
        contender: &'a mut Keeping,
        decided: Vec<(f64, f64)>,
    }

    impl Contender for Watched<'_> {
        fn begins_kbps(&self) -> f64 {
            self.contender.begins_kbps()
        }

        fn see(&mut self, at: Moment, what: Observation) {
            self.contender.see(at, what);
        }

        fn decide(&mut self, at: Moment, queue_ms: f64) -> Option<f64> {
            let decided = self.contender.decide(at, queue_ms);
            self.decided.extend(decided.map(|kbps| (at.seconds(), kbps)));
            decided
        }

        fn done(&mut self, at: Moment, kbps: f64) {
            self.contender.done(at, kbps);
        }
    }

    #[test]
    fn the_keeper_goes_down_within_seconds_comes_back_and_leaves_its_bounds_never() {
        for trace in crate::trace::traces(&crate::trace::KNOWN, 80_000..80_001) {
            // For a minute next to nothing is carried, then all of it again.
            let mut trace = crate::trace::Trace { is_steady: false, ..trace };
            let per_second = trace.kbps.len() / crate::trace::SECONDS;
            trace.kbps.fill(2.0 * trace.ceiling_kbps);
            trace.kbps[60 * per_second..120 * per_second].fill(0.3 * trace.ceiling_kbps);
            let mut keeping = Keeping::new(trace.ceiling_kbps);
            let mut watched = Watched { contender: &mut keeping, decided: Vec::new() };
            let _ = crate::tryout::try_out(&trace, &mut watched);
            let decided = watched.decided;
            let bounds = FLOOR_KBPS - 1.0..=trace.ceiling_kbps + 1.0;
            assert!(decided.iter().all(|(_, kbps)| bounds.contains(kbps)), "{decided:?}");
            let (first_s, first_kbps) = decided[0];
            assert!((60.0..66.0).contains(&first_s) && first_kbps < trace.ceiling_kbps, "{decided:?}");
            let back = decided.iter().filter(|(at_s, _)| *at_s > 120.0).map(|(_, kbps)| *kbps).fold(0.0, f64::max);
            assert!(back > 0.9 * trace.ceiling_kbps, "{decided:?}");
            let marks = keeping.marks(Moment::from_ms(crate::trace::SECONDS as u64 * 1000));
            assert!(marks.iter().filter(|mark| mark.is_change).count() >= decided.len(), "each is on the lanes");
        }
    }
}
