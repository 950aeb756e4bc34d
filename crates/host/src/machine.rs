//! This machine's load, as one reading.

use std::net::SocketAddr;
use std::path::PathBuf;

use moth_core::machine_load::MachineLoad;

use crate::cpu::Cpu;
use crate::programs::{Programs, program};
use crate::socket_owner::owner_of;

/// Below this share of all cores nobody starves, and the other programs are not looked at: the look costs
/// more than everything else here together.
const WORTH_A_LOOK: f64 = 0.6;

/// Reads a machine's load between one look and the next.
#[derive(Debug)]
pub struct Machine {
    proc: PathBuf,
    cpu: Cpu,
    programs: Programs,
    broadcaster: Option<Broadcaster>,
}

#[derive(Debug)]
struct Broadcaster {
    peer: SocketAddr,
    pid: i32,
    ticks: u64,
}

impl Machine {
    /// A reader of the tree below `proc`, which is `/proc` on a real machine.
    #[must_use]
    pub fn new(proc: PathBuf) -> Self {
        Self { proc, cpu: Cpu::default(), programs: Programs::default(), broadcaster: None }
    }

    /// The load since the last call; call it about once a second. `broadcaster` is the broadcaster's end
    /// of its connection. What cannot be read is `None`.
    pub fn read(&mut self, broadcaster: Option<SocketAddr>) -> MachineLoad {
        let Some(cpu) = self.cpu.look(&self.proc) else {
            self.find_broadcaster(broadcaster);
            return MachineLoad::default();
        };
        let share = |ticks: u64| (ticks as f64 / cpu.ticks as f64).min(1.0);
        let known = self.broadcaster.as_ref().map(|b| (b.pid, b.ticks));
        let own = self.find_broadcaster(broadcaster);
        let broadcaster_cpu = match (&own, known) {
            (Some((pid, program)), Some((before_pid, before))) if *pid == before_pid => {
                Some(share(program.ticks.saturating_sub(before)))
            }
            _ => None,
        };
        let busiest_other = if cpu.whole >= WORTH_A_LOOK {
            let mut but = vec![i32::try_from(std::process::id()).unwrap_or(0)];
            but.extend(own.as_ref().map(|(pid, _)| *pid));
            self.programs.look(&self.proc, &but).map(|(name, ticks)| (name, share(ticks)))
        } else {
            self.programs.forget();
            None
        };
        MachineLoad {
            cpu: Some(cpu.whole),
            cores: cpu.cores,
            broadcaster_cpu,
            broadcaster_name: own.map(|(_, program)| program.name),
            busiest_other,
            ..MachineLoad::default()
        }
    }

    /// Finds the broadcaster's process, again only when its connection changed, and remembers its ticks.
    fn find_broadcaster(&mut self, peer: Option<SocketAddr>) -> Option<(i32, crate::programs::Program)> {
        let Some(peer) = peer else {
            self.broadcaster = None;
            return None;
        };
        let pid = match &self.broadcaster {
            Some(known) if known.peer == peer => known.pid,
            _ => owner_of(&self.proc, peer)?,
        };
        let Some(found) = program(&self.proc, pid) else {
            self.broadcaster = None;
            return None;
        };
        self.broadcaster = Some(Broadcaster { peer, pid, ticks: found.ticks });
        Some((pid, found))
    }
}
