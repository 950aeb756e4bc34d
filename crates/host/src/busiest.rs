//! The busiest program while on air, at little cost: the busy ones are looked at each time, all of them now and then.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::Read;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::time::Duration;

use procfs_core::FromRead;
use procfs_core::process::Stat;

use crate::programs::Program;
use crate::socket_owner::processes;

/// All processes are looked at this often; one that begins to be busy is seen after that. Ours: with 300 processes, to look at
/// all of them each second was two fifths of all that the moth asked of the kernel.
const ALL_EACH: Duration = Duration::from_secs(5);
/// So many of the busiest are looked at each time, with their files kept open. Ours.
const BUSY: usize = 24;

#[derive(Debug)]
struct Watched {
    program: Program,
    read_at: Duration,
    /// Kept open while it is one of the busy ones.
    file: Option<File>,
}

/// Finds the busiest program between one look and the next.
#[derive(Debug, Default)]
pub(crate) struct Busiest {
    known: HashMap<i32, Watched>,
    looked_at: Option<Duration>,
    /// When all were looked at, and how often since nothing was known: busy is what differs between two looks.
    all_at: Option<Duration>,
    times: u32,
}

impl Busiest {
    /// The busiest program but for some, and the ticks it used in the time since the last look. Processes of one name count
    /// together. `closely` looks at all of them.
    pub(crate) fn look(&mut self, proc: &Path, at: Duration, closely: bool, but: &[i32]) -> Option<(String, u64)> {
        let since = self.looked_at.replace(at).map(|before| at.saturating_sub(before));
        let all = closely || self.times < 2 || self.all_at.is_none_or(|then| at.saturating_sub(then) >= ALL_EACH);
        let pids: Vec<i32> = if all {
            (self.all_at, self.times) = (Some(at), self.times + 1);
            processes(proc).collect()
        } else {
            self.known.iter().filter(|(_, watched)| watched.file.is_some()).map(|(pid, _)| *pid).collect()
        };
        let mut used: Vec<(i32, f64)> = Vec::new();
        for pid in &pids {
            let before = self.known.remove(pid);
            let Some((file, program)) = read(proc, *pid, before.as_ref().and_then(|before| before.file.as_ref()))
            else {
                continue;
            };
            let same = before.as_ref().filter(|before| before.program.is_same(&program));
            if let (Some(before), Some(since)) = (same, since) {
                let ticks = program.ticks.saturating_sub(before.program.ticks) as f64;
                // One that was not looked at each time used them over longer.
                let over = at.saturating_sub(before.read_at).as_secs_f64().max(1e-3);
                used.push((*pid, ticks * since.as_secs_f64() / over));
            }
            let file = file.or(before.and_then(|before| before.file));
            self.known.insert(*pid, Watched { program, read_at: at, file });
        }
        if all {
            let there: HashSet<i32> = pids.into_iter().collect();
            self.known.retain(|pid, _| there.contains(pid));
        }
        used.sort_by(|a, b| b.1.total_cmp(&a.1));
        let busy: HashSet<i32> =
            used.iter().filter(|(_, ticks)| *ticks > 0.0).take(BUSY).map(|(pid, _)| *pid).collect();
        for (pid, watched) in &mut self.known {
            // At a look at all, who is busy is chosen anew; in between one that rests for a moment is kept.
            if all && !busy.contains(pid) {
                watched.file = None;
            }
        }
        let mut by_name: HashMap<&str, f64> = HashMap::new();
        for (pid, ticks) in used.iter().filter(|(pid, _)| !but.contains(pid)) {
            if let Some(watched) = self.known.get(pid) {
                *by_name.entry(&watched.program.name).or_default() += ticks;
            }
        }
        let best = by_name.into_iter().max_by(|a, b| a.1.total_cmp(&b.1).then_with(|| b.0.cmp(a.0)))?;
        (best.1 > 0.0).then(|| (best.0.to_owned(), best.1.round() as u64))
    }

    /// Forgets all looks: the next one has nothing to compare with.
    pub(crate) fn forget(&mut self) {
        *self = Self::default();
    }
}

/// Reads a process, from its file if that is open; gives the file if it was opened for this.
fn read(proc: &Path, pid: i32, open: Option<&File>) -> Option<(Option<File>, Program)> {
    // A line of fifty numbers.
    let mut text = [0; 1024];
    if let Some(file) = open {
        let length = file.read_at(&mut text, 0).ok()?;
        return Some((None, parse(&text[..length])?));
    }
    let mut file = File::open(proc.join(pid.to_string()).join("stat")).ok()?;
    let length = file.read(&mut text).ok()?;
    let program = parse(&text[..length])?;
    Some((Some(file), program))
}

fn parse(text: &[u8]) -> Option<Program> {
    Stat::from_read(text).ok().map(Program::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn write(proc: &Path, pid: i32, name: &str, ticks: u64) {
        let folder = proc.join(pid.to_string());
        std::fs::create_dir_all(&folder).unwrap();
        let rest =
            "0 0 0 20 0 1 0 77 1000 100 18446744073709551615 1 1 0 0 0 0 0 0 0 0 0 0 17 0 0 0 0 0 0 0 0 0 0 0 0 0 0";
        let line = format!("{pid} ({name}) S 1 1 1 0 -1 4194304 0 0 0 0 {ticks} 0 {rest}\n");
        std::fs::write(folder.join("stat"), line).unwrap();
    }

    fn at(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    #[test]
    fn the_busy_ones_are_seen_each_time_and_one_that_begins_to_be_within_five_seconds_and_at_once_when_asked() {
        let dir = tempfile::tempdir().unwrap();
        let proc = dir.path();
        let mut busiest = Busiest::default();
        let mut ticks = [0_u64; 3];
        let mut told = Vec::new();
        for second in 0..20 {
            ticks[0] += 30;
            // From the eighth second on another takes more.
            ticks[1] += if second >= 8 { 70 } else { 0 };
            for (pid, ticks) in [(11, ticks[0]), (12, ticks[1]), (13, ticks[2])] {
                write(proc, pid, ["render", "stitch", "idle"][pid as usize - 11], ticks);
            }
            told.push(busiest.look(proc, at(second), false, &[]));
        }
        assert_eq!(told[0], None, "one look has nothing to compare with");
        assert_eq!(told[1], Some(("render".into(), 30)));
        let first = told.iter().position(|found| found.as_ref().is_some_and(|(name, _)| name == "stitch")).unwrap();
        assert!((8..=13).contains(&first), "{first}: {told:?}");
        // What it used over five seconds is told as what it uses in one.
        assert!(told[first..].iter().flatten().all(|(_, ticks)| (40..=70).contains(ticks)), "{told:?}");
        assert_eq!(told[19], Some(("stitch".into(), 70)));
        // In trouble it is seen at once, and who is left out is.
        ticks[2] += 500;
        write(proc, 13, "idle", ticks[2]);
        ticks[1] += 70;
        write(proc, 12, "stitch", ticks[1]);
        assert_eq!(busiest.look(proc, at(20), true, &[13]).map(|(name, _)| name), Some("stitch".into()));
    }

    #[test]
    fn processes_of_one_name_count_together_and_one_that_ended_is_gone() {
        let dir = tempfile::tempdir().unwrap();
        let proc = dir.path();
        let mut busiest = Busiest::default();
        for second in 0..3 {
            write(proc, 21, "cc", second * 20);
            write(proc, 22, "cc", second * 25);
            write(proc, 23, "one", second * 40);
            let found = busiest.look(proc, at(second), false, &[]);
            assert_eq!(found, (second > 0).then(|| ("cc".into(), 45)));
        }
        std::fs::remove_dir_all(proc.join("21")).unwrap();
        std::fs::remove_dir_all(proc.join("22")).unwrap();
        write(proc, 23, "one", 3 * 40);
        let found = busiest.look(proc, at(8), false, &[]);
        assert_eq!(found.map(|(name, _)| name), Some("one".into()));
        assert_eq!(busiest.known.len(), 1);
    }
}
