//! The load on the streamer's machines: this one, and others that tell theirs.

use std::time::Duration;

use super::STALE;
use crate::machine_load::MachineLoad;
use crate::moment::Moment;
use crate::window::{Gauge, Trail};

/// A load reading covers a loss if it was made this long after the loss began. Ours: the load is read once a second, over the
/// second that went by, so half of that is of the loss.
const COVERS: Duration = Duration::from_millis(500);
/// With no such reading, a suspicion waits no longer than this. Ours: one reading a second, and one that is late.
const PATIENCE: Duration = Duration::from_millis(1800);
/// Another machine's load counts for so long. Ours: it tells it each second, over a network that may be what is short.
const OTHERS_STALE: Duration = Duration::from_secs(10);
/// A streamer has two machines, perhaps three; a bound keeps a mistake cheap. Ours.
const MOST_OTHERS: usize = 8;

/// What is known of the machines.
#[derive(Debug, Clone, Default)]
pub(super) struct Machines {
    /// The newest load of the machine the moth runs on, and when it was read.
    own: MachineLoad,
    read_at: Option<Moment>,
    others: Vec<(Moment, MachineLoad)>,
    pub cpu: Gauge,
    pub broadcaster_cpu: Gauge,
    pub gpu_render: Gauge,
    pub gpu_encode: Gauge,
    pub other_cpu: Gauge,
    pub uploads_kbps: Gauge,
    pub frequency: Gauge,
    pub throttled: Trail,
    pub disk_write_ms: Gauge,
}

impl Machines {
    /// Takes a load: this machine's, or a named other one's.
    pub(super) fn told(&mut self, at: Moment, load: &MachineLoad) {
        if load.host.is_some() {
            return self.other_told(at, load);
        }
        let set = |gauge: &mut Gauge, value: Option<f64>| {
            if let Some(value) = value {
                gauge.set(at, value.clamp(0.0, 1.0));
            }
        };
        self.read_at = Some(at);
        set(&mut self.cpu, load.cpu);
        set(&mut self.broadcaster_cpu, load.broadcaster_cpu);
        set(&mut self.gpu_render, load.gpu_render);
        set(&mut self.gpu_encode, load.gpu_encode);
        set(&mut self.other_cpu, load.busiest_other.as_ref().map(|(_, share)| *share));
        set(&mut self.frequency, load.frequency);
        if let Some(uploads) = load.uploads_in_all() {
            self.uploads_kbps.set(at, uploads.kbps());
        }
        if let Some(ms) = load.disk_write_ms {
            self.disk_write_ms.set(at, ms);
        }
        if let Some(throttled) = load.throttled {
            self.throttled.set(at, throttled as f64);
        }
        self.own.clone_from(load);
    }

    fn other_told(&mut self, at: Moment, load: &MachineLoad) {
        if let Some(other) = self.others.iter_mut().find(|(_, other)| other.host == load.host) {
            *other = (at, load.clone());
        } else if self.others.len() < MOST_OTHERS {
            self.others.push((at, load.clone()));
        }
    }

    /// This machine's newest load, however old.
    pub(super) fn own(&self) -> &MachineLoad {
        &self.own
    }

    /// This machine's newest load; nothing if that is stale.
    pub(super) fn own_now(&self, now: Moment) -> MachineLoad {
        let is_fresh = self.read_at.is_some_and(|at| now.since(at) <= STALE);
        if is_fresh { self.own.clone() } else { MachineLoad::default() }
    }

    /// The other machines that told their load lately.
    pub(super) fn others_now(&self, now: Moment) -> Vec<MachineLoad> {
        self.others.iter().filter(|(at, _)| now.since(*at) <= OTHERS_STALE).map(|(_, load)| load.clone()).collect()
    }

    /// The machine the scene is drawn on: another one of the streamer's, if one tells its load and draws more than this one.
    pub(super) fn drawing_the_scene(&self, now: Moment, own: &MachineLoad) -> MachineLoad {
        let drawing = |load: &MachineLoad| load.gpu_render.or(load.cpu).unwrap_or(0.0);
        let others = self.others_now(now).into_iter().filter(|other| drawing(other) > drawing(own));
        others.max_by(|a, b| drawing(a).total_cmp(&drawing(b))).unwrap_or_else(|| own.clone())
    }

    /// Whether the load is known for a run of losses that began then, or is not worth waiting for.
    pub(super) fn covers(&self, now: Moment, since: Option<Moment>) -> bool {
        let (Some(since), Some(read)) = (since, self.read_at) else { return true };
        read.since(since) >= COVERS || now.since(since) >= PATIENCE
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_loss_waits_for_a_load_that_covers_it_and_no_longer_than_is_worth_it() {
        let mut machines = Machines::default();
        let at = Moment::from_ms;
        assert!(machines.covers(at(10), Some(at(0))), "nobody tells the load: there is nothing to wait for");
        machines.told(at(1000), &MachineLoad { cpu: Some(0.5), ..MachineLoad::default() });
        assert!(machines.covers(at(1100), None) && machines.covers(at(1100), Some(at(500))));
        assert!(!machines.covers(at(1100), Some(at(501))));
        assert!(!machines.covers(at(2300), Some(at(501))) && machines.covers(at(2301), Some(at(501))));
    }

    #[test]
    fn a_load_is_known_while_it_is_fresh_and_other_machines_a_little_longer() {
        let mut machines = Machines::default();
        let load = |host: Option<&str>, cpu| MachineLoad {
            host: host.map(str::to_owned),
            cpu: Some(cpu),
            ..MachineLoad::default()
        };
        machines.told(Moment::START, &load(None, 0.4));
        machines.told(Moment::START, &load(Some("loft"), 0.3));
        machines.told(Moment::START, &load(Some("loft"), 0.7));
        let at = |ms| {
            let now = Moment::from_ms(ms);
            let own = machines.own_now(now);
            (own.cpu, machines.others_now(now).len(), machines.drawing_the_scene(now, &own).cpu)
        };
        assert_eq!(at(4000), (Some(0.4), 1, Some(0.7)));
        assert_eq!(at(4001), (None, 1, Some(0.7)));
        assert_eq!(at(10_001), (None, 0, None));
    }

    #[test]
    fn a_share_that_cannot_be_is_brought_within_its_bounds_and_machines_do_not_pile_up() {
        let mut machines = Machines::default();
        machines.told(Moment::START, &MachineLoad { cpu: Some(7.0), ..MachineLoad::default() });
        assert_eq!(machines.cpu.latest(Moment::START, STALE), Some(1.0));
        for n in 0..100 {
            machines.told(Moment::START, &MachineLoad { host: Some(format!("loft {n}")), ..MachineLoad::default() });
        }
        assert_eq!(machines.others_now(Moment::START).len(), MOST_OTHERS);
    }
}
