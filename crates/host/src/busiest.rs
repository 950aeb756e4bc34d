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
/// If those that were looked at leave more than this share of the time in use unexplained, somebody else has begun to be busy. Ours:
/// what the kernel itself takes, and a host its guests, is less.
const UNEXPLAINED: f64 = 0.25;

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
    /// The busiest program but for some, and the ticks it used in the time since the last look, in which `in_use` were used by
    /// all; `None` also if one that is not known yet used more. Processes of one name count together. `closely` looks at all of them.
    pub(crate) fn look(
        &mut self,
        proc: &Path,
        at: Duration,
        closely: bool,
        but: &[i32],
        in_use: f64,
    ) -> Option<(String, u64)> {
        let since = self.looked_at.replace(at).map(|before| at.saturating_sub(before));
        let unexplained = |used: &[(i32, f64)]| in_use - used.iter().map(|(_, ticks)| ticks).sum::<f64>();
        let mut all = closely || self.times < 2 || self.all_at.is_none_or(|then| at.saturating_sub(then) >= ALL_EACH);
        let mut used: Vec<(i32, f64)> = Vec::new();
        if !all {
            let busy = self.known.iter().filter(|(_, watched)| watched.file.is_some()).map(|(pid, _)| *pid).collect();
            self.read_all(proc, busy, (at, since), &mut used);
            all = unexplained(&used) > UNEXPLAINED * in_use;
        }
        if all {
            (self.all_at, self.times) = (Some(at), self.times + 1);
            let there: HashSet<i32> = processes(proc).collect();
            let read: HashSet<i32> = used.iter().map(|(pid, _)| *pid).collect();
            self.read_all(proc, there.difference(&read).copied().collect(), (at, since), &mut used);
            self.known.retain(|pid, _| there.contains(pid));
        }
        self.keep_open(&mut used, all);
        let mut by_name: HashMap<&str, f64> = HashMap::new();
        for (pid, ticks) in used.iter().filter(|(pid, _)| !but.contains(pid)) {
            if let Some(watched) = self.known.get(pid) {
                *by_name.entry(&watched.program.name).or_default() += ticks;
            }
        }
        let best = by_name.into_iter().max_by(|a, b| a.1.total_cmp(&b.1).then_with(|| b.0.cmp(a.0)))?;
        // One that has just begun used it: nobody is named for it.
        let is_known = unexplained(&used) <= best.1.max(UNEXPLAINED * in_use);
        (best.1 > 0.0 && is_known).then(|| (best.0.to_owned(), best.1.round() as u64))
    }

    /// Reads some processes, and what each used since it was read last, brought to the time since the last look.
    fn read_all(
        &mut self,
        proc: &Path,
        pids: Vec<i32>,
        (at, since): (Duration, Option<Duration>),
        used: &mut Vec<(i32, f64)>,
    ) {
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
    }

    /// Keeps the files of the busiest open; who they are is chosen anew at a look at all.
    fn keep_open(&mut self, used: &mut [(i32, f64)], all: bool) {
        used.sort_by(|a, b| b.1.total_cmp(&a.1));
        let busy: HashSet<i32> =
            used.iter().filter(|(_, ticks)| *ticks > 0.0).take(BUSY).map(|(pid, _)| *pid).collect();
        for (pid, watched) in &mut self.known {
            // At a look at all, who is busy is chosen anew; in between one that rests for a moment is kept.
            if all && !busy.contains(pid) {
                watched.file = None;
            }
        }
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
            told.push(busiest.look(proc, at(second), false, &[], 0.0));
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
        assert_eq!(busiest.look(proc, at(20), true, &[13], 0.0).map(|(name, _)| name), Some("stitch".into()));
    }

    #[test]
    fn what_is_in_use_and_explained_by_nobody_known_is_looked_for_at_once_and_nobody_else_is_named_for_it() {
        let dir = tempfile::tempdir().unwrap();
        let proc = dir.path();
        let mut busiest = Busiest::default();
        let mut told = Vec::new();
        for second in 0..9_u64 {
            write(proc, 31, "render", second * 60);
            // A quiet one was there all along, and from the fourth second on takes most; another has only then begun.
            let busy = second.saturating_sub(3);
            write(proc, 32, "stitch", busy * 80);
            if second >= 6 {
                write(proc, 33, "solver", (second - 5) * 200);
            }
            let in_use = match second {
                0..4 => 60.0,
                4..6 => 140.0,
                _ => 340.0,
            };
            told.push(busiest.look(proc, at(second), false, &[31], in_use).map(|(name, _)| name));
        }
        let name = |name: &str| Some(name.to_owned());
        assert_eq!(told[..4], [None, None, None, None], "{told:?}");
        assert_eq!(told[4..6], [None, name("stitch")], "in the second after it began: {told:?}");
        assert_eq!(told[6], None, "what has just begun has no name yet, and nobody else is named for it: {told:?}");
        assert_eq!(told[7..], [name("solver"), name("solver")], "{told:?}");
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
            let found = busiest.look(proc, at(second), false, &[], 0.0);
            assert_eq!(found, (second > 0).then(|| ("cc".into(), 45)));
        }
        std::fs::remove_dir_all(proc.join("21")).unwrap();
        std::fs::remove_dir_all(proc.join("22")).unwrap();
        write(proc, 23, "one", 3 * 40);
        let found = busiest.look(proc, at(8), false, &[], 0.0);
        assert_eq!(found.map(|(name, _)| name), Some("one".into()));
        assert_eq!(busiest.known.len(), 1);
    }
}
