//! The ways out: probes along them, whether the connection is in doubt, and how things stood before the trouble.

use std::time::Duration;

use crate::facts::{Before, NOW, Path};
use crate::machine_load::MachineLoad;
use crate::moment::Moment;
use crate::rate::Bitrate;
use crate::reading::{Probe, ProbeTarget};
use crate::window::{Gauge, Trail};

/// From this share of its limit on, the queue is doubtful enough to look further. Ours.
pub(super) const DOUBT: f64 = 0.08;
/// What was carried over so long was carried. Ours.
pub(super) const STEADY: Duration = Duration::from_secs(8);
/// Doubt lasts this long after its last reason. Ours.
const LINGERS: Duration = Duration::from_secs(6);
/// Answers to a probe take this long at most; after it, waiting for them is over. Ours.
const PATIENCE: Duration = Duration::from_millis(1200);
/// Calm must have lasted so long before what it says is remembered: a queue takes a while to build up. Ours.
const CALM: Duration = Duration::from_secs(3);

/// Round trips to a place.
#[derive(Debug, Clone, Default)]
pub(super) struct Way {
    rtt_ms: Gauge,
    floor_ms: Option<f64>,
    /// The floor was seen only since the trouble began: what it is without trouble is not known.
    is_new: bool,
    unanswered: Trail,
}

impl Way {
    fn probed(&mut self, at: Moment, rtt_ms: Option<f64>) {
        match rtt_ms {
            Some(ms) => {
                self.rtt_ms.set(at, ms);
                self.floor_ms = Some(self.floor_ms.map_or(ms, |floor| floor.min(ms)));
            }
            // A place that never answered may not answer such questions at all.
            None if self.floor_ms.is_some() => self.unanswered.add(at, 1.0),
            None => {}
        }
    }

    fn path(&self, now: Moment) -> Path {
        Path {
            rtt_ms: self.rtt_ms.mean(now, NOW),
            floor_ms: self.floor_ms.filter(|_| !self.is_new),
            unanswered: self.unanswered.within(now, NOW),
        }
    }

    pub(super) fn highest(&self, now: Moment, span: Duration) -> Option<f64> {
        self.rtt_ms.highest(now, span)
    }
}

/// What is known beyond the connection.
#[derive(Debug, Clone, Default)]
pub(super) struct Ways {
    pub(super) gateway: Way,
    pub(super) other: Way,
    other_name: Option<String>,
    /// The shortest round trips to servers that were in use or asked before.
    floors: Vec<(String, f64)>,
    answered_at: Option<Moment>,
    doubt_since: Option<Moment>,
    doubtful_at: Option<Moment>,
    before: Before,
    /// What is being carried, to be remembered once calm has lasted.
    carried_lately: Option<(Moment, Bitrate)>,
    /// What other programs send over TCP, and what no TCP connection accounts for.
    uploads_lately: Option<(Moment, Bitrate, Option<Bitrate>)>,
}

impl Ways {
    pub(super) fn probed(&mut self, at: Moment, probe: &Probe) {
        match &probe.to {
            ProbeTarget::Gateway => self.gateway.probed(at, probe.rtt_ms),
            ProbeTarget::Server { server } => {
                let in_doubt = self.is_in_doubt();
                if self.other_name.as_ref() != Some(server) {
                    if let (Some(name), Some(floor)) = (self.other_name.take(), self.other.path(at).floor_ms) {
                        self.reached(&name, floor);
                    }
                    let floor_ms = self.floors.iter().find(|(name, _)| name == server).map(|(_, floor)| *floor);
                    self.other = Way { floor_ms, is_new: in_doubt && floor_ms.is_none(), ..Way::default() };
                    self.other_name = Some(server.clone());
                }
                self.other.is_new &= in_doubt;
                self.other.probed(at, probe.rtt_ms);
                // The other server is asked last: with its answer a round of questions is over.
                self.answered_at = Some(at);
            }
        }
    }

    /// A server was reached in so many milliseconds when all was well.
    pub(super) fn reached(&mut self, server: &str, floor_ms: f64) {
        if let Some((_, floor)) = self.floors.iter_mut().find(|(name, _)| name == server) {
            *floor = floor.min(floor_ms);
        } else if self.floors.len() < 256 {
            // A service has a few dozen servers at most; a bound keeps a mistake cheap.
            self.floors.push((server.to_owned(), floor_ms));
        }
    }

    pub(super) fn follow(&mut self, now: Moment, doubtful: bool, sent: Bitrate, machine: &MachineLoad, on_air_s: f64) {
        if doubtful {
            self.doubtful_at = Some(now);
            self.doubt_since = self.doubt_since.or(Some(now));
            self.carried_lately = None;
            self.uploads_lately = None;
            return;
        }
        if self.doubtful_at.is_some_and(|at| now.since(at) < LINGERS) {
            return;
        }
        self.doubt_since = None;
        if on_air_s < STEADY.as_secs_f64() {
            return;
        }
        if let Some(uploads) = machine.uploads_in_all() {
            match self.uploads_lately {
                Some((at, value, otherwise)) if now.since(at) >= CALM => {
                    (self.before.uploads, self.before.otherwise) = (Some(value), otherwise);
                    self.uploads_lately = Some((now, uploads, machine.sent_otherwise));
                }
                Some(_) => {}
                None => self.uploads_lately = Some((now, uploads, machine.sent_otherwise)),
            }
        }
        match self.carried_lately {
            Some((at, value)) if now.since(at) >= CALM => {
                self.before.carried = Some(self.before.carried.map_or(value, |most| most.max(value)));
                self.carried_lately = Some((now, sent));
            }
            Some(_) => {}
            None => self.carried_lately = Some((now, sent)),
        }
    }

    /// A broadcast begins anew: what was carried before may have been another rate on another line.
    pub(super) fn broadcast_changed(&mut self) {
        self.before = Before::default();
        (self.carried_lately, self.uploads_lately) = (None, None);
    }

    pub(super) fn is_in_doubt(&self) -> bool {
        self.doubt_since.is_some()
    }

    /// Whether probes made since the doubt began were answered, or there is no more waiting for them.
    pub(super) fn is_known(&self, now: Moment) -> bool {
        let Some(since) = self.doubt_since else { return true };
        let none_yet = self.gateway.floor_ms.is_none() && self.other.floor_ms.is_none();
        let answered = self.answered_at.is_some_and(|at| at.since(since) > Duration::from_millis(500));
        none_yet && now.since(since) >= PATIENCE || answered || now.since(since) >= 2 * PATIENCE
    }

    pub(super) fn before(&self) -> Before {
        self.before
    }

    pub(super) fn gateway_path(&self, now: Moment) -> Path {
        self.gateway.path(now)
    }

    pub(super) fn other_path(&self, now: Moment) -> (Path, Option<String>) {
        (self.other.path(now), self.other_name.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::machine_load::Upload;

    fn at(ms: u64) -> Moment {
        Moment::from_ms(ms)
    }

    /// A machine on which others send so much.
    fn others_send(kbps: u64) -> MachineLoad {
        let uploads = vec![Upload { program: None, rate: Bitrate::from_kbps(kbps) }];
        MachineLoad { uploads: Some(uploads), sent_otherwise: Some(Bitrate::from_kbps(30)), ..MachineLoad::default() }
    }

    #[test]
    fn what_was_so_in_calm_is_remembered_through_the_trouble_that_follows() {
        let (calm, busy) = (others_send(200), others_send(5000));
        let mut ways = Ways::default();
        let kbps = Bitrate::from_kbps;
        for second in 0..30 {
            ways.follow(at(second * 1000), false, kbps(6000), &calm, second as f64);
            // A broadcast that has just begun says nothing of what the line carries, and calm must have lasted.
            assert_eq!(ways.before().carried.is_some(), second >= 11, "{second} s");
            assert_eq!(ways.before().uploads.is_some(), second >= 11, "{second} s");
        }
        let before = Before { carried: Some(kbps(6000)), uploads: Some(kbps(200)), otherwise: Some(kbps(30)) };
        assert_eq!(ways.before(), before);
        for second in 30..60 {
            ways.follow(at(second * 1000), true, kbps(2000), &busy, second as f64);
            assert!(ways.is_in_doubt());
        }
        assert_eq!(ways.before(), before);
        // What follows close upon trouble is no calm yet.
        for ms in (60_000..65_000).step_by(200) {
            ways.follow(at(ms), false, kbps(4000), &busy, 60.0);
            assert!(ways.is_in_doubt());
        }
        ways.follow(at(65_000), false, kbps(4000), &busy, 65.0);
        assert!(!ways.is_in_doubt(), "six seconds after its last reason");
        for second in 65..80 {
            ways.follow(at(second * 1000), false, kbps(4000), &busy, second as f64);
        }
        assert_eq!(ways.before().uploads, Some(kbps(5000)), "it is what is usual now");
        assert_eq!(ways.before().carried, Some(kbps(6000)), "the most that was ever carried");
        ways.broadcast_changed();
        assert_eq!(ways.before(), Before::default());
    }

    #[test]
    fn what_lies_beyond_is_known_once_it_answers_after_the_doubt_began_or_is_waited_for_no_more() {
        let server = ProbeTarget::Server { server: "Dunmere".into() };
        let probe = |ways: &mut Ways, ms, rtt_ms| ways.probed(at(ms), &Probe { to: server.clone(), rtt_ms });
        let doubt = |ways: &mut Ways| ways.follow(at(10_000), true, Bitrate::ZERO, &MachineLoad::default(), 10.0);
        let mut ways = Ways::default();
        assert!(ways.is_known(at(0)), "without doubt there is nothing to wait for");
        probe(&mut ways, 9000, Some(30.0));
        doubt(&mut ways);
        assert!(!ways.is_known(at(10_100)), "what answered before says nothing of now");
        // Asked before, answered after: the question may be older than the trouble.
        probe(&mut ways, 10_400, Some(31.0));
        assert!(!ways.is_known(at(10_450)));
        probe(&mut ways, 10_800, Some(31.0));
        assert!(ways.is_known(at(10_800)));
        let mut silent = Ways::default();
        probe(&mut silent, 9000, Some(30.0));
        doubt(&mut silent);
        assert!(!silent.is_known(at(12_300)) && silent.is_known(at(12_400)), "it answered once, and may again");
        let mut nobody = Ways::default();
        doubt(&mut nobody);
        assert!(!nobody.is_known(at(11_100)) && nobody.is_known(at(11_200)), "nothing here ever answered");
    }

    #[test]
    fn a_place_that_never_answered_is_not_called_silent() {
        let mut ways = Ways::default();
        let mut probe = |ms, rtt_ms| ways.probed(at(ms), &Probe { to: ProbeTarget::Gateway, rtt_ms });
        (0..5).for_each(|n| probe(n * 700, None));
        probe(4000, Some(2.0));
        (0..3).for_each(|n| probe(5000 + n * 700, None));
        let path = ways.gateway_path(at(6500));
        assert_eq!((path.unanswered, path.floor_ms, path.rtt_ms), (3.0, Some(2.0), Some(2.0)));
    }
}
