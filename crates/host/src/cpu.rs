//! CPU time, whole and per core (`proc_stat(5)`).

use std::path::Path;

use procfs_core::{CpuTime, ExplicitSystemInfo, FromReadSI, KernelStats};

/// Ticks counted so far.
#[derive(Debug, Clone, Copy, Default)]
struct Ticks {
    busy: u64,
    all: u64,
}

impl Ticks {
    fn of(time: &CpuTime) -> Self {
        // Guest time is already counted in user and nice.
        let idle = time.idle + time.iowait.unwrap_or(0);
        let busy = time.user
            + time.nice
            + time.system
            + time.irq.unwrap_or(0)
            + time.softirq.unwrap_or(0)
            + time.steal.unwrap_or(0);
        Self { busy, all: busy + idle }
    }

    fn share_since(self, before: Self) -> Option<f64> {
        let all = self.all.checked_sub(before.all).filter(|all| *all > 0)?;
        // A core's idle count may run backwards by a tick; the share stays a share.
        Some((self.busy.saturating_sub(before.busy) as f64 / all as f64).min(1.0))
    }
}

/// Shares of CPU time between two looks.
#[derive(Debug, Default)]
pub(crate) struct Cpu {
    before: Option<(Ticks, Vec<Ticks>)>,
}

/// What happened between two looks.
#[derive(Debug, Default, PartialEq)]
pub(crate) struct CpuUse {
    /// Share of all cores.
    pub whole: f64,
    /// Share of each core.
    pub cores: Vec<f64>,
    /// Ticks all cores had together.
    pub ticks: u64,
}

/// The parser wants facts of the system; of these, only byte order matters to what is read here.
pub(crate) const SYSTEM: ExplicitSystemInfo = ExplicitSystemInfo {
    boot_time_secs: 0,
    ticks_per_second: 100,
    page_size: 4096,
    is_little_endian: cfg!(target_endian = "little"),
};

impl Cpu {
    /// Looks again; `None` at the first look, or when it cannot be read.
    pub(crate) fn look(&mut self, proc: &Path) -> Option<CpuUse> {
        let stats = KernelStats::from_file(proc.join("stat"), &SYSTEM).ok()?;
        let total = Ticks::of(&stats.total);
        let cores: Vec<Ticks> = stats.cpu_time.iter().map(Ticks::of).collect();
        let (total_before, cores_before) = self.before.replace((total, cores.clone()))?;
        Some(CpuUse {
            whole: total.share_since(total_before)?,
            // A core that went away or came between the looks is left out.
            cores: cores.iter().zip(&cores_before).filter_map(|(now, before)| now.share_since(*before)).collect(),
            ticks: total.all - total_before.all,
        })
    }
}
