//! CPU time by program (`proc_pid_stat(5)`).

use std::collections::HashMap;
use std::path::Path;

use procfs_core::FromRead;
use procfs_core::process::Stat;

use crate::socket_owner::processes;

/// A process at one look.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Program {
    pub name: String,
    /// Ticks used so far, by all its threads.
    pub ticks: u64,
    /// When it began: a number used again is another process.
    began: u64,
}

pub(crate) fn program(proc: &Path, pid: i32) -> Option<Program> {
    let stat = Stat::from_file(proc.join(pid.to_string()).join("stat")).ok()?;
    Some(stat.into())
}

impl From<Stat> for Program {
    fn from(stat: Stat) -> Self {
        Self { name: stat.comm, ticks: stat.utime + stat.stime, began: stat.starttime }
    }
}

impl Program {
    /// Whether it is the same process at another look.
    pub(crate) fn is_same(&self, other: &Self) -> bool {
        self.began == other.began
    }
}

/// Finds what programs used between two looks.
#[derive(Debug, Default)]
pub(crate) struct Programs {
    before: HashMap<i32, Program>,
}

impl Programs {
    /// The programs that used any since the last look, the busiest first, but for some. Processes of one name count
    /// together: a build or a browser is many.
    pub(crate) fn used(&mut self, proc: &Path, but: &[i32]) -> Vec<(String, u64)> {
        let now: HashMap<i32, Program> = processes(proc).filter_map(|pid| Some((pid, program(proc, pid)?))).collect();
        let mut used: HashMap<&str, u64> = HashMap::new();
        for (pid, program) in now.iter().filter(|(pid, _)| !but.contains(pid)) {
            let before = self.before.get(pid).filter(|b| b.began == program.began).map(|b| b.ticks);
            if let Some(before) = before {
                *used.entry(&program.name).or_default() += program.ticks.saturating_sub(before);
            }
        }
        let mut found: Vec<(String, u64)> =
            used.into_iter().filter(|(_, ticks)| *ticks > 0).map(|(name, ticks)| (name.to_owned(), ticks)).collect();
        found.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        self.before = now;
        found
    }
}
