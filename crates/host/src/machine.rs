//! This machine's load, as one reading.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use moth_core::machine_load::{MachineLoad, ProgramShare};
use moth_core::rate::Bitrate;
use moth_plan::surroundings::Medium;

use crate::busiest::Busiest;
use crate::cpu::Cpu;
use crate::disk::{self, Writers, Writes};
use crate::gpu::{self, GpuClients, GpuShares};
use crate::interface::{self, Counters};
use crate::look::MachineLook;
use crate::programs::program;
use crate::socket_owner::owner_of;
use crate::uploads::Sockets;
use crate::{condition, nvidia};

/// Below this share of all cores nobody starves, and the other programs are not looked at: the look costs
/// more than everything else here together. Ours.
const WORTH_A_LOOK: f64 = 0.6;
/// What changes slowly is read this often unless a close look is wanted. Ours.
const SLOW: Duration = Duration::from_secs(5);

/// Where things are read.
#[derive(Debug, Clone)]
pub struct Places {
    /// `/proc` on a real machine.
    pub proc: PathBuf,
    /// `/sys` on a real machine.
    pub sys: PathBuf,
    /// The folder recordings go to, if there is one.
    pub recordings: Option<PathBuf>,
}

impl Places {
    /// The places at which a real machine tells of itself.
    #[must_use]
    pub fn real(recordings: Option<PathBuf>) -> Self {
        Self { proc: "/proc".into(), sys: "/sys".into(), recordings }
    }
}

/// Reads a machine's load between one look and the next.
#[derive(Debug)]
pub struct Machine {
    places: Places,
    cpu: Cpu,
    busiest: Busiest,
    broadcaster: Option<Broadcaster>,
    clients: GpuClients,
    nvidia: nvidia::Nvidia,
    interface: Option<(String, u32)>,
    counters: Option<Counters>,
    sockets: Option<(Duration, Sockets)>,
    writes: Option<Writes>,
    writers: Writers,
    /// The newest figures of what changes slowly, and when they were read.
    slow: (Option<Duration>, MachineLoad),
}

#[derive(Debug)]
struct Broadcaster {
    peer: SocketAddr,
    pid: i32,
    ticks: u64,
}

impl Machine {
    /// A reader of these places.
    #[must_use]
    pub fn new(places: Places) -> Self {
        Self {
            nvidia: nvidia::Nvidia::default(),
            places,
            cpu: Cpu::default(),
            busiest: Busiest::default(),
            broadcaster: None,
            clients: GpuClients::default(),
            interface: None,
            counters: None,
            sockets: None,
            writes: None,
            writers: Writers::default(),
            slow: (None, MachineLoad::default()),
        }
    }

    /// The load since the last call; call it about once a second. What cannot be read is `None`.
    pub fn read(&mut self, look: MachineLook) -> MachineLoad {
        let due = self.slow.0.is_none_or(|at| look.at.saturating_sub(at) >= SLOW);
        if due || look.closely {
            self.slow = (Some(look.at), self.slowly(look));
        }
        let mut load = self.slow.1.clone();
        self.read_cpu(look, &mut load);
        self.read_gpu(look, &mut load);
        load.memory_pressure = condition::newest_pressure(&self.places.proc, "memory");
        load.cpu_pressure = condition::newest_pressure(&self.places.proc, "cpu");
        load.disk_pressure = condition::newest_pressure(&self.places.proc, "io");
        load.throttled = condition::throttled(&self.places.sys);
        load.frequency = condition::frequency(&self.places.sys);
        self.read_disk(look, &mut load);
        load
    }

    /// What changes slowly, or is dear to read.
    fn slowly(&mut self, look: MachineLook) -> MachineLoad {
        let Places { proc, sys, recordings } = self.places.clone();
        let memory = condition::memory(&proc).ok();
        let hottest = condition::heat(&sys).ok().and_then(|zones| {
            let below =
                |zone: &moth_plan::check::Heat| zone.limit_celsius.map_or(f64::MAX, |limit| limit - zone.celsius);
            zones.into_iter().min_by(|a, b| below(a).total_cmp(&below(b)))
        });
        if let Some(server) = look.server {
            let now = interface::leading_to(server).ok();
            if self.interface != now {
                (self.interface, self.counters) = (now, None);
            }
        }
        let link = self.interface.as_ref().map(|(name, index)| interface::facts(&proc, &sys, name, *index));
        let medium = link.as_ref().and_then(|link| link.medium);
        let before = self.sockets.take();
        self.sockets = Sockets::look().ok().map(|now| (look.at, now));
        // Counted at the same moment as the sockets: each without the other would be taken for what is left.
        let sent_bytes = self.sent_bytes();
        let (uploads, sent_otherwise) = match (&self.sockets, before) {
            (Some((at, now)), Some((earlier, before))) if *at > earlier => {
                let elapsed = at.saturating_sub(earlier);
                let but = [own(), self.broadcaster.as_ref().map_or(0, |b| b.pid)];
                let uploads = now.since(&before, elapsed, &self.places.proc, &but);
                let rest = sent_bytes
                    // What goes to this machine itself leaves by no line.
                    .filter(|_| medium != Some(Medium::Loopback))
                    .zip(now.on_the_wire_since(&before))
                    .map(|(all, tcp)| Bitrate::of(all.saturating_sub(tcp) as f64, elapsed));
                (Some(uploads), rest)
            }
            _ => (self.slow.1.uploads.clone(), self.slow.1.sent_otherwise),
        };
        MachineLoad {
            memory_available_bytes: memory.as_ref().map(|m| m.available_bytes),
            swap_used_bytes: memory.map(|m| m.swap_used_bytes),
            celsius: hottest.as_ref().map(|zone| zone.celsius),
            limit_celsius: hottest.and_then(|zone| zone.limit_celsius),
            wireless: match medium {
                Some(Medium::Wireless) => Some(true),
                Some(Medium::Wired) => Some(false),
                // What is beneath cannot be seen.
                Some(Medium::Loopback | Medium::Virtual) | None => None,
            },
            signal_dbm: link.and_then(|link| link.signal_dbm),
            uploads,
            sent_otherwise,
            disk_free_bytes: recordings.as_ref().and_then(|f| condition::disk(f).ok()).map(|disk| disk.free_bytes),
            ..MachineLoad::default()
        }
    }

    fn read_cpu(&mut self, look: MachineLook, load: &mut MachineLoad) {
        let cpu = self.cpu.look(&self.places.proc);
        let known = self.broadcaster.as_ref().map(|b| (b.pid, b.ticks));
        let found = self.find_broadcaster(look.broadcaster);
        load.broadcaster_name = found.as_ref().map(|(_, program)| program.name.clone());
        let Some(cpu) = cpu else { return };
        let share = |ticks: u64| (ticks as f64 / cpu.ticks as f64).min(1.0);
        load.broadcaster_cpu = match (&found, known) {
            (Some((pid, program)), Some((before_pid, before))) if *pid == before_pid => {
                Some(share(program.ticks.saturating_sub(before)))
            }
            _ => None,
        };
        load.busiest_other = if cpu.whole >= WORTH_A_LOOK || look.closely {
            let mut but = vec![own()];
            but.extend(found.as_ref().map(|(pid, _)| *pid));
            let in_use = cpu.whole * cpu.ticks as f64;
            self.busiest
                .look(&self.places.proc, look.at, look.closely, &but, in_use)
                .map(|(name, ticks)| (name, share(ticks)))
        } else {
            self.busiest.forget();
            None
        };
        load.cpu = Some(cpu.whole);
        load.cores = cpu.cores;
    }

    /// Every engine's share, and who uses it most but for the broadcaster.
    fn read_gpu(&mut self, look: MachineLook, load: &mut MachineLoad) {
        let but = [own(), self.broadcaster.as_ref().map_or(0, |b| b.pid)];
        let shares = self.clients.look(&self.places.proc, look.at, look.closely, &but);
        let nvidia = self.nvidia.look(&self.places.proc, &but);
        let GpuShares { render, video, render_other, video_other } = match (shares, nvidia) {
            // Two GPUs: the busier one is where frames are lost.
            (Some(a), Some(b)) => {
                if a.render >= b.render {
                    a
                } else {
                    b
                }
            }
            (a, b) => a.or(b).unwrap_or_default(),
        };
        load.gpu_render = gpu::busy(&self.places.sys).or(render);
        load.gpu_encode = video;
        (load.gpu_busiest_other, load.gpu_encode_other) = (worth_naming(render_other), worth_naming(video_other));
    }

    /// What the interface to the server sent since the last look.
    fn sent_bytes(&mut self) -> Option<u64> {
        let (name, _) = self.interface.as_ref()?;
        let now = interface::counters(&self.places.proc, name);
        let before = std::mem::replace(&mut self.counters, now);
        Some(now?.sent_bytes.saturating_sub(before?.sent_bytes))
    }

    fn read_disk(&mut self, look: MachineLook, load: &mut MachineLoad) {
        let Some(folder) = self.places.recordings.as_deref() else { return };
        let now = disk::writes(&self.places.sys, folder);
        let before = std::mem::replace(&mut self.writes, now);
        load.disk_write_ms = now.zip(before).and_then(|(now, before)| now.mean_ms_since(before));
        if look.closely {
            let but = [own(), self.broadcaster.as_ref().map_or(0, |b| b.pid)];
            load.disk_busiest = self.writers.look(&self.places.proc, look.at, &but);
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
            _ => owner_of(&self.places.proc, peer)?,
        };
        let Some(found) = program(&self.places.proc, pid) else {
            self.broadcaster = None;
            return None;
        };
        self.broadcaster = Some(Broadcaster { peer, pid, ticks: found.ticks });
        Some((pid, found))
    }
}

fn own() -> i32 {
    i32::try_from(std::process::id()).unwrap_or(0)
}

/// A program that takes next to nothing is nobody's trouble.
fn worth_naming(program: Option<ProgramShare>) -> Option<ProgramShare> {
    program.filter(|(_, share)| *share >= 0.01)
}
