//! GPU time by program, from the kernel's counters of each open device (`drm-usage-stats`, `/proc/PID/fdinfo`), and the
//! share in use that some drivers tell.

use std::collections::HashMap;
use std::fs;
use std::path::Path;
use std::time::Duration;

use crate::programs::program;
use crate::socket_owner::processes;

/// Nanoseconds of GPU time by device and client; a client may be open in several descriptors.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct GpuTimes(HashMap<(String, String), (i32, u64)>);

impl GpuTimes {
    pub(crate) fn look(proc: &Path) -> Self {
        let mut found = HashMap::new();
        for pid in processes(proc) {
            let Ok(entries) = fs::read_dir(proc.join(pid.to_string()).join("fdinfo")) else { continue };
            for entry in entries.flatten() {
                let Some((client, ns)) = fs::read_to_string(entry.path()).ok().as_deref().and_then(client) else {
                    continue;
                };
                found.insert(client, (pid, ns));
            }
        }
        Self(found)
    }

    /// Shares of the GPU's time by program since an earlier look, the busiest first. `None` if no driver tells.
    pub(crate) fn since(
        &self,
        before: &Self,
        elapsed: Duration,
        proc: &Path,
        but: &[i32],
    ) -> Option<Vec<(String, f64)>> {
        if self.0.is_empty() {
            return None;
        }
        let mut used: HashMap<String, f64> = HashMap::new();
        for (client, (pid, ns)) in &self.0 {
            let Some((_, earlier)) = before.0.get(client).filter(|_| !but.contains(pid)) else { continue };
            let Some(program) = program(proc, *pid) else { continue };
            *used.entry(program.name).or_default() += ns.saturating_sub(*earlier) as f64 / 1e9;
        }
        let mut shares: Vec<(String, f64)> =
            used.into_iter().map(|(name, s)| (name, (s / elapsed.as_secs_f64()).min(1.0))).collect();
        shares.sort_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        Some(shares)
    }
}

/// A descriptor's device and client, and the time its busiest engine took.
fn client(text: &str) -> Option<((String, String), u64)> {
    let value = |name: &str| {
        text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(':').map(|v| v.trim().to_owned()))
    };
    let id = value("drm-client-id")?;
    let device = value("drm-pdev").or_else(|| value("drm-driver")).unwrap_or_default();
    let engines =
        text.lines().filter(|line| line.starts_with("drm-engine-") && !line.starts_with("drm-engine-capacity-"));
    let ns = engines
        .filter_map(|line| line.split_once(':')?.1.trim().strip_suffix(" ns")?.trim().parse::<u64>().ok())
        .max()?;
    Some(((device, id), ns))
}

/// The share of a GPU in use, from 0 to 1, where the driver tells (`gpu_busy_percent`).
pub(crate) fn busy(sys: &Path) -> Option<f64> {
    let cards = fs::read_dir(sys.join("class/drm")).ok()?;
    let shares = cards.flatten().filter_map(|card| {
        let text = fs::read_to_string(card.path().join("device/gpu_busy_percent")).ok()?;
        text.trim().parse::<f64>().ok().map(|percent| percent / 100.0)
    });
    shares.reduce(f64::max)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree(root: &Path, ns: u64) {
        for (pid, name) in [(70, "star-map"), (80, "nebula")] {
            let dir = root.join(pid.to_string());
            fs::create_dir_all(dir.join("fdinfo")).unwrap();
            let rest = "S 1 1 1 0 -1 0 0 0 0 0 0 0 0 0 20 0 4 0 5000 100000 500 18446744073709551615 1 1 0 0 0 0 0 0 0 0 0 0 17 1 0 0 0 0 0 0 0 0 0 0 0 0 0";
            fs::write(dir.join("stat"), format!("{pid} ({name}) {rest}\n")).unwrap();
            let ns = if pid == 80 { ns } else { ns / 10 };
            // The same client twice: a descriptor that was duplicated.
            for fd in ["5", "6"] {
                let text = format!(
                    "pos:\t0\ndrm-driver:\ti915\ndrm-client-id:\t{pid}\ndrm-pdev:\t0000:00:02.0\ndrm-engine-render:\t{ns} ns\ndrm-engine-video:\t10 ns\ndrm-engine-capacity-video:\t2\n"
                );
                fs::write(dir.join("fdinfo").join(fd), text).unwrap();
            }
            fs::write(dir.join("fdinfo/0"), "pos:\t0\nflags:\t02\n").unwrap();
        }
    }

    #[test]
    fn shares_by_program_from_a_recorded_tree() {
        let dir = tempfile::tempdir().unwrap();
        assert_eq!(
            GpuTimes::look(dir.path()).since(&GpuTimes::default(), Duration::from_secs(1), dir.path(), &[]),
            None
        );
        tree(dir.path(), 1_000_000_000);
        let before = GpuTimes::look(dir.path());
        tree(dir.path(), 1_600_000_000);
        let after = GpuTimes::look(dir.path());
        let found = after.since(&before, Duration::from_secs(1), dir.path(), &[]).unwrap();
        assert_eq!(found, [("nebula".to_owned(), 0.6), ("star-map".to_owned(), 0.06)]);
        assert_eq!(after.since(&before, Duration::from_secs(1), dir.path(), &[80]).unwrap().len(), 1);
    }

    #[test]
    fn the_share_in_use_is_read_where_a_driver_tells() {
        let dir = tempfile::tempdir().unwrap();
        assert_eq!(busy(dir.path()), None);
        let device = dir.path().join("class/drm/card0/device");
        fs::create_dir_all(&device).unwrap();
        fs::write(device.join("gpu_busy_percent"), "43\n").unwrap();
        assert_eq!(busy(dir.path()), Some(0.43));
    }
}
