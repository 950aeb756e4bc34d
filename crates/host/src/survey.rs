//! Everything about the machine that matters before a broadcast, between two looks about a second apart.

use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_plan::check::{Fact, Load, Lookup, MachineFacts, Priority};
use moth_plan::surroundings::Surroundings;

use crate::condition;
use crate::cpu::Cpu;
use crate::gpu::{self, GpuTimes};
use crate::interface::{self, Counters};
use crate::programs::Programs;
use crate::socket_owner::process_talking_to;
use crate::uploads::Sockets;

/// What is looked for beyond the machine itself.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Quest {
    /// Where the broadcast will go; a public address stands for it if it is not known.
    pub server: Option<IpAddr>,
    /// Where a running broadcaster would be connected to: the moth's port, and the servers.
    pub broadcaster_at: Vec<SocketAddr>,
    /// The folder recordings go to.
    pub recordings: PathBuf,
}

/// An address in the world (RFC 5737, for documentation): never contacted, only asked the way to.
const SOMEWHERE: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 1));

/// A survey that has had its first look.
#[derive(Debug)]
pub struct Survey {
    proc: PathBuf,
    sys: PathBuf,
    quest: Quest,
    interface: Fact<(String, u32)>,
    counters: Option<Counters>,
    sockets: Fact<Sockets>,
    cpu: Cpu,
    programs: Programs,
    gpu: GpuTimes,
}

impl Survey {
    /// Looks for the first time. `proc` and `sys` are `/proc` and `/sys` on a real machine.
    #[must_use]
    pub fn begin(proc: PathBuf, sys: PathBuf, quest: Quest) -> Self {
        let interface = interface::leading_to(quest.server.unwrap_or(SOMEWHERE)).map_err(|error| error.to_string());
        let counters = interface.as_ref().ok().and_then(|(name, _)| interface::counters(&proc, name));
        let mut survey = Self {
            interface,
            counters,
            sockets: Sockets::look().map_err(|error| error.to_string()),
            cpu: Cpu::default(),
            programs: Programs::default(),
            gpu: GpuTimes::look(&proc),
            proc,
            sys,
            quest,
        };
        let _ = survey.cpu.look(&survey.proc);
        let _ = survey.programs.used(&survey.proc, &[]);
        survey
    }

    fn own() -> i32 {
        i32::try_from(std::process::id()).unwrap_or(0)
    }

    /// What is around a measurement: looks for the second time, `elapsed` after the first.
    #[must_use]
    pub fn surroundings(&self, elapsed: Duration) -> Surroundings {
        let interface = self.interface.as_ref().ok();
        let now = interface.and_then(|(name, _)| interface::counters(&self.proc, name));
        let sent = now.zip(self.counters).map(|(now, before)| now.sent_bytes.saturating_sub(before.sent_bytes));
        Surroundings {
            interface: interface.map(|(name, index)| interface::facts(&self.proc, &self.sys, name, *index)),
            uploads: self.uploads(elapsed, &[Self::own()]).ok(),
            sending: sent.map(|bytes| Bitrate::of(bytes as f64, elapsed)),
        }
    }

    fn uploads(&self, elapsed: Duration, but: &[i32]) -> Fact<Vec<moth_plan::surroundings::Upload>> {
        let before = self.sockets.as_ref().map_err(Clone::clone)?;
        let now = Sockets::look().map_err(|error| format!("the kernel's accounting of sockets: {error}"))?;
        Ok(now.since(before, elapsed, &self.proc, but))
    }

    /// Everything: looks for the second time, `elapsed` after the first. `dns` was looked up meanwhile.
    #[must_use]
    pub fn facts(mut self, elapsed: Duration, dns: Fact<Vec<Lookup>>) -> MachineFacts {
        let broadcaster = self.broadcaster();
        let mut but = vec![Self::own()];
        but.extend(broadcaster.as_ref().ok().map(|(pid, _)| *pid));
        let cpu = match self.cpu.look(&self.proc) {
            Some(used) => {
                let share = |ticks: u64| (ticks as f64 / (used.ticks as f64).max(1.0)).min(1.0);
                let programs = self.programs.used(&self.proc, &but);
                let programs = programs.into_iter().map(|(name, ticks)| (name, share(ticks))).collect();
                Ok(Load { whole: Some(used.whole), programs })
            }
            None => Err("CPU time cannot be read".to_owned()),
        };
        let (whole, by_program) =
            (gpu::busy(&self.sys), GpuTimes::look(&self.proc).since(&self.gpu, elapsed, &self.proc, &but));
        let gpu = match (whole, by_program) {
            (None, None) => Err("no GPU driver tells the kernel how busy it is".to_owned()),
            (whole, programs) => Ok(Load { whole, programs: programs.unwrap_or_default() }),
        };
        let around = self.surroundings(elapsed);
        let no_interface = || self.interface.as_ref().err().cloned().unwrap_or_else(|| "no interface".to_owned());
        MachineFacts {
            interface: around.interface.ok_or_else(no_interface),
            uploads: self.uploads(elapsed, &but),
            cpu,
            gpu,
            disk: condition::disk(&self.quest.recordings),
            governor: condition::governor(&self.sys),
            heat: condition::heat(&self.sys),
            memory: condition::memory(&self.proc),
            cpu_pressure: condition::pressure(&self.proc, "cpu"),
            broadcaster: broadcaster.map(|(_, priority)| priority),
            dns,
        }
    }

    /// The process that broadcasts now, and its priority.
    fn broadcaster(&self) -> Fact<(i32, Priority)> {
        let talking = self.quest.broadcaster_at.iter().find_map(|at| process_talking_to(&self.proc, *at, Self::own()));
        let pid = talking.ok_or("no broadcaster is running")?;
        priority(&self.proc, pid).map(|priority| (pid, priority))
    }
}

fn priority(proc: &Path, pid: i32) -> Fact<Priority> {
    use procfs_core::FromRead;
    let stat = procfs_core::process::Stat::from_file(proc.join(pid.to_string()).join("stat"));
    let stat = stat.map_err(|error| format!("process {pid}: {error}"))?;
    // sched(7): SCHED_BATCH is 3, SCHED_IDLE is 5.
    Ok(Priority { program: stat.comm, nice: stat.nice, is_background: matches!(stat.policy, Some(3 | 5)) })
}
