//! How long writes to a disk take, and who writes.

use std::collections::HashMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::Duration;

use moth_core::rate::Bitrate;

use crate::programs::program;
use crate::socket_owner::processes;

/// What a disk counted since it came up (`/sys/dev/block/…/stat`; kernel, *block/stat*).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Writes {
    /// Writes that ended.
    count: u64,
    /// Milliseconds they took, together.
    ms: u64,
}

impl Writes {
    /// The mean time a write took since an earlier look; `None` if there was none.
    pub(crate) fn mean_ms_since(self, before: Self) -> Option<f64> {
        let count = self.count.checked_sub(before.count).filter(|count| *count > 0)?;
        Some(self.ms.saturating_sub(before.ms) as f64 / count as f64)
    }
}

/// The counts of the disk a folder is on; `None` if no disk is behind it, as in memory.
pub(crate) fn writes(sys: &Path, folder: &Path) -> Option<Writes> {
    let device = fs::metadata(folder).ok()?.dev();
    let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
    read(&fs::read_to_string(sys.join(format!("dev/block/{major}:{minor}/stat"))).ok()?)
}

fn read(text: &str) -> Option<Writes> {
    let numbers: Vec<u64> = text.split_whitespace().map_while(|n| n.parse().ok()).collect();
    // Reads: completed, merged, sectors, ms; then the same for writes.
    Some(Writes { count: *numbers.get(4)?, ms: *numbers.get(7)? })
}

/// Who writes, by the kernel's count for each process; another user's cannot be read.
#[derive(Debug, Default)]
pub(crate) struct Writers {
    before: Option<(Duration, HashMap<i32, u64>)>,
}

impl Writers {
    /// The program that wrote most since the last look, but for some, and how much.
    pub(crate) fn look(&mut self, proc: &Path, at: Duration, but: &[i32]) -> Option<(String, Bitrate)> {
        let written = |pid: i32| {
            let text = fs::read_to_string(proc.join(pid.to_string()).join("io")).ok()?;
            text.lines().find_map(|line| line.strip_prefix("write_bytes:")?.trim().parse::<u64>().ok())
        };
        let now: HashMap<i32, u64> = processes(proc).filter_map(|pid| Some((pid, written(pid)?))).collect();
        let (before_at, before) = self.before.replace((at, now.clone()))?;
        let grown = now.into_iter().filter_map(|(pid, bytes)| Some((pid, bytes.checked_sub(*before.get(&pid)?)?)));
        let (pid, bytes) =
            grown.filter(|(pid, bytes)| *bytes > 0 && !but.contains(pid)).max_by_key(|(_, bytes)| *bytes)?;
        let rate = Bitrate::of(bytes as f64, at.checked_sub(before_at).filter(|span| !span.is_zero())?);
        Some((program(proc, pid)?.name, rate))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_mean_of_the_writes_between_two_looks() {
        let text = |count: u64, ms: u64| format!("     100 3 800 40 {count} 9 6400 {ms} 0 55 90 0 0 0 0 5 6\n");
        let (before, now) = (read(&text(200, 1000)).unwrap(), read(&text(220, 3400)).unwrap());
        assert_eq!(now.mean_ms_since(before), Some(120.0));
        assert_eq!(now.mean_ms_since(now), None, "nothing was written");
        assert_eq!(read("gibberish"), None);
    }

    #[test]
    fn the_program_that_writes_most_is_named() {
        let dir = tempfile::tempdir().unwrap();
        let write = |pid: i32, name: &str, bytes: u64| {
            let at = dir.path().join(pid.to_string());
            fs::create_dir_all(&at).unwrap();
            let rest = "S 1 1 1 0 -1 0 0 0 0 0 5 0 0 0 20 0 4 0 5000 100000 500 18446744073709551615 1 1 0 0 0 0 0 0 0 0 0 0 17 1 0 0 0 0 0 0 0 0 0 0 0 0 0";
            fs::write(at.join("stat"), format!("{pid} ({name}) {rest}\n")).unwrap();
            fs::write(at.join("io"), format!("rchar: 1\nwchar: 2\nwrite_bytes: {bytes}\ncancelled_write_bytes: 0\n"))
                .unwrap();
        };
        let mut writers = Writers::default();
        for (second, (plates, log)) in [(0, 0), (5_000_000, 10_000)].into_iter().enumerate() {
            write(70, "plate-writer", plates);
            write(80, "star-log", log);
            let told = writers.look(dir.path(), Duration::from_secs(second as u64), &[]);
            assert_eq!(told, (second > 0).then(|| ("plate-writer".to_owned(), Bitrate::from_kbps(40_000))));
        }
    }
}
