//! GPU time by engine and by program, from the kernel's counters of each open device (`drm-usage-stats`,
//! `/proc/PID/fdinfo`), and the share in use that some drivers tell.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use moth_core::machine_load::ProgramShare;

use crate::programs::program;
use crate::socket_owner::processes;

/// Which part of a GPU an engine is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Engine {
    /// Draws and computes.
    Render,
    /// Encodes and decodes video; most drivers count both as one.
    Video,
}

/// An engine's use so far: time, or cycles out of those that passed.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Used {
    Ns { ns: u64, engines: u64 },
    Cycles { used: u64, passed: u64 },
}

impl Used {
    /// The share since an earlier look.
    fn since(self, before: Self, elapsed: Duration) -> Option<f64> {
        match (self, before) {
            (Self::Ns { ns, engines }, Self::Ns { ns: before, .. }) => {
                let seconds = elapsed.as_secs_f64();
                (seconds > 0.0).then(|| ns.saturating_sub(before) as f64 / 1e9 / seconds / engines.max(1) as f64)
            }
            (Self::Cycles { used, passed }, Self::Cycles { used: before, passed: passed_before }) => {
                let passed = passed.checked_sub(passed_before).filter(|passed| *passed > 0)?;
                Some(used.saturating_sub(before) as f64 / passed as f64)
            }
            _ => None,
        }
    }
}

/// The engine of a name: `render`, `video` (i915), `gfx`, `enc`, `dec` (amdgpu), `rcs`, `vcs` (xe), and their kin.
fn engine(name: &str) -> Option<Engine> {
    match name.trim_end_matches(|c: char| c.is_ascii_digit() || c == '_' || c == '-') {
        "render" | "gfx" | "rcs" | "compute" | "ccs" | "3d" => Some(Engine::Render),
        "video" | "enc" | "dec" | "vcs" | "vcn" | "jpeg" | "video-enhance" | "vecs" => Some(Engine::Video),
        _ => None,
    }
}

/// One client of a device: a program may have several, and one may be open in several descriptors.
type Client = (String, String);

/// Each client's process and its use of each engine.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct GpuTimes(HashMap<Client, (i32, HashMap<String, Used>)>);

/// Shares of the engines in use.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct GpuShares {
    pub render: Option<f64>,
    pub video: Option<f64>,
    pub render_other: Option<ProgramShare>,
    pub video_other: Option<ProgramShare>,
}

impl GpuTimes {
    pub(crate) fn look(proc: &Path) -> Self {
        Self::of(&descriptors(proc))
    }

    fn of(descriptors: &[(i32, PathBuf)]) -> Self {
        let mut found = HashMap::new();
        for (pid, path) in descriptors {
            if let Some((id, engines)) = fs::read_to_string(path).ok().as_deref().and_then(client) {
                found.insert(id, (*pid, engines));
            }
        }
        Self(found)
    }

    /// Shares of one engine by program since an earlier look, the busiest first; of a device with several engines of a
    /// kind, the busiest counts. `None` if no driver tells.
    fn by_program(
        &self,
        before: &Self,
        elapsed: Duration,
        proc: &Path,
        wanted: Engine,
    ) -> Option<Vec<(i32, String, f64)>> {
        if self.0.is_empty() {
            return None;
        }
        let mut used: HashMap<i32, f64> = HashMap::new();
        for (id, (pid, engines)) in &self.0 {
            let Some((_, earlier)) = before.0.get(id) else { continue };
            let shares = engines.iter().filter(|(name, _)| engine(name) == Some(wanted));
            let share = shares.filter_map(|(name, now)| now.since(*earlier.get(name)?, elapsed)).reduce(f64::max);
            *used.entry(*pid).or_default() += share.unwrap_or(0.0);
        }
        let mut shares: Vec<(i32, String, f64)> =
            used.into_iter().filter_map(|(pid, share)| Some((pid, program(proc, pid)?.name, share.min(1.0)))).collect();
        shares.sort_by(|a, b| b.2.total_cmp(&a.2).then_with(|| a.1.cmp(&b.1)));
        Some(shares)
    }

    /// Shares of the GPU's busiest engine by program since an earlier look, the busiest first. `None` if no driver tells.
    pub(crate) fn since(
        &self,
        before: &Self,
        elapsed: Duration,
        proc: &Path,
        but: &[i32],
    ) -> Option<Vec<ProgramShare>> {
        let mut shares: HashMap<String, f64> = HashMap::new();
        for wanted in [Engine::Render, Engine::Video] {
            let mut of_engine: HashMap<String, f64> = HashMap::new();
            for (pid, name, share) in self.by_program(before, elapsed, proc, wanted)? {
                if !but.contains(&pid) {
                    *of_engine.entry(name).or_default() += share;
                }
            }
            for (name, share) in of_engine {
                let most = shares.entry(name).or_default();
                *most = most.max(share.min(1.0));
            }
        }
        let mut shares: Vec<ProgramShare> = shares.into_iter().collect();
        shares.sort_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        Some(shares)
    }
}

/// Looks again and again at the clients it knows; to find new ones costs a walk over every descriptor of every process.
#[derive(Debug, Default)]
pub(crate) struct GpuClients {
    descriptors: Vec<(i32, PathBuf)>,
    found_at: Option<Duration>,
    before: Option<(Duration, GpuTimes)>,
}

/// New clients are looked for this often. Ours.
const FIND_EACH: Duration = Duration::from_secs(60);
/// While frames are lost, this often. Ours.
const FIND_EACH_CLOSELY: Duration = Duration::from_secs(10);
/// Where the kernel keeps the devices of GPUs.
const DEVICES: &str = "/dev/dri/";

impl GpuClients {
    /// The engines' shares since the last look; `None` at the first, or if no driver tells.
    pub(crate) fn look(&mut self, proc: &Path, at: Duration, closely: bool, but: &[i32]) -> Option<GpuShares> {
        let each = if closely { FIND_EACH_CLOSELY } else { FIND_EACH };
        if self.found_at.is_none_or(|found| at.saturating_sub(found) >= each) {
            self.found_at = Some(at);
            self.descriptors = descriptors(proc);
        }
        if self.descriptors.is_empty() {
            return None;
        }
        let now = GpuTimes::of(&self.descriptors);
        let (before_at, before) = self.before.replace((at, now.clone()))?;
        let elapsed = at.checked_sub(before_at)?;
        let of = |wanted: Engine| {
            let shares = now.by_program(&before, elapsed, proc, wanted).unwrap_or_default();
            let whole = (!shares.is_empty()).then(|| shares.iter().map(|(_, _, share)| share).sum::<f64>().min(1.0));
            let other = shares.into_iter().find(|(pid, _, _)| !but.contains(pid)).map(|(_, name, share)| (name, share));
            (whole, other)
        };
        let ((render, render_other), (video, video_other)) = (of(Engine::Render), of(Engine::Video));
        Some(GpuShares { render, video, render_other, video_other })
    }
}

/// Every descriptor that is a GPU's, one for each client.
fn descriptors(proc: &Path) -> Vec<(i32, PathBuf)> {
    let (mut found, mut seen) = (Vec::new(), HashSet::new());
    for pid in processes(proc) {
        let process = proc.join(pid.to_string());
        let Ok(entries) = fs::read_dir(process.join("fd")) else { continue };
        for entry in entries.flatten() {
            // Where a descriptor leads is told for a tenth of what its details cost.
            if !fs::read_link(entry.path()).is_ok_and(|target| target.starts_with(DEVICES)) {
                continue;
            }
            let path = process.join("fdinfo").join(entry.file_name());
            let Some((id, _)) = fs::read_to_string(&path).ok().as_deref().and_then(client) else { continue };
            if seen.insert(id) {
                found.push((pid, path));
            }
        }
    }
    found
}

/// A descriptor's device and client, and its use of each engine.
fn client(text: &str) -> Option<(Client, HashMap<String, Used>)> {
    let value = |name: &str| text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(':').map(str::trim));
    let id = value("drm-client-id")?.to_owned();
    let device = value("drm-pdev").or_else(|| value("drm-driver")).unwrap_or_default().to_owned();
    let number = |name: &str| value(name).and_then(|v| v.split_whitespace().next()?.parse::<u64>().ok());
    let mut engines = HashMap::new();
    for line in text.lines() {
        let Some((key, told)) = line.split_once(':') else { continue };
        if let Some(name) = key.strip_prefix("drm-engine-").filter(|name| !name.starts_with("capacity-")) {
            let Some(ns) = told.trim().strip_suffix(" ns").and_then(|ns| ns.trim().parse().ok()) else { continue };
            let engines_of_kind = number(&format!("drm-engine-capacity-{name}")).unwrap_or(1);
            engines.insert(name.to_owned(), Used::Ns { ns, engines: engines_of_kind });
        } else if let Some(name) = key.strip_prefix("drm-cycles-") {
            let used = told.trim().parse().ok().zip(number(&format!("drm-total-cycles-{name}")));
            if let Some((used, passed)) = used {
                engines.insert(name.to_owned(), Used::Cycles { used, passed });
            }
        }
    }
    (!engines.is_empty()).then_some(((device, id), engines))
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

    /// Two programs on a GPU; what each used so far, in the words of a driver.
    fn tree(root: &Path, told: impl Fn(&str) -> String) {
        for (pid, name) in [(70, "star-map"), (80, "nebula")] {
            let dir = root.join(pid.to_string());
            fs::create_dir_all(dir.join("fdinfo")).unwrap();
            fs::create_dir_all(dir.join("fd")).unwrap();
            for (fd, target) in [("0", "/dev/null"), ("5", "/dev/dri/renderD128"), ("6", "/dev/dri/renderD128")] {
                let _ = std::os::unix::fs::symlink(target, dir.join("fd").join(fd));
            }
            let rest = "S 1 1 1 0 -1 0 0 0 0 0 0 0 0 0 20 0 4 0 5000 100000 500 18446744073709551615 1 1 0 0 0 0 0 0 0 0 0 0 17 1 0 0 0 0 0 0 0 0 0 0 0 0 0";
            fs::write(dir.join("stat"), format!("{pid} ({name}) {rest}\n")).unwrap();
            // The same client twice: a descriptor that was duplicated.
            for fd in ["5", "6"] {
                let text = format!("pos:\t0\ndrm-client-id:\t{pid}\ndrm-pdev:\t0000:00:02.0\n{}", told(name));
                fs::write(dir.join("fdinfo").join(fd), text).unwrap();
            }
            fs::write(dir.join("fdinfo/0"), "pos:\t0\nflags:\t02\n").unwrap();
        }
    }

    /// Shares after one second in which the nebula drew for 0.8 s, the star map for 0.1 s and encoded for 0.3 s.
    fn shares(told: impl Fn(&str, u64) -> String) -> GpuShares {
        let dir = tempfile::tempdir().unwrap();
        let mut clients = GpuClients::default();
        tree(dir.path(), |name| told(name, 1));
        assert_eq!(clients.look(dir.path(), Duration::from_secs(1), false, &[]), None, "one look is not yet a share");
        tree(dir.path(), |name| told(name, 2));
        clients.look(dir.path(), Duration::from_secs(2), false, &[]).unwrap()
    }

    fn check(found: &GpuShares) {
        let near = |share: Option<f64>, expected: f64| assert!((share.unwrap() - expected).abs() < 1e-9, "{found:?}");
        near(found.render, 0.9);
        near(found.video, 0.3);
        assert_eq!(found.render_other.as_ref().unwrap().0, "nebula");
        assert_eq!(found.video_other.as_ref().unwrap().0, "star-map");
    }

    fn of(name: &str, nebula: u64, star_map: u64) -> u64 {
        if name == "nebula" { nebula } else { star_map }
    }

    #[test]
    fn an_intel_gpu_of_the_older_driver() {
        check(&shares(|name, s| {
            let (render, video) = (of(name, 800, 100) * s, of(name, 0, 600) * s);
            format!(
                "drm-driver:\ti915\ndrm-engine-render:\t{render}000000 ns\ndrm-engine-copy:\t5 ns\ndrm-engine-video:\t{video}000000 ns\ndrm-engine-capacity-video:\t2\n"
            )
        }));
    }

    #[test]
    fn an_intel_gpu_of_the_newer_driver() {
        check(&shares(|name, s| {
            let (render, video) = (of(name, 8000, 1000) * s, of(name, 0, 3000) * s);
            format!(
                "drm-driver:\txe\ndrm-cycles-rcs:\t{render}\ndrm-total-cycles-rcs:\t{total}\ndrm-cycles-vcs:\t{video}\ndrm-total-cycles-vcs:\t{total}\n",
                total = 10_000 * s
            )
        }));
    }

    #[test]
    fn an_amd_gpu() {
        check(&shares(|name, s| {
            let (gfx, enc) = (of(name, 800, 100) * s, of(name, 0, 300) * s);
            format!(
                "drm-driver:\tamdgpu\ndrm-engine-gfx:\t{gfx}000000 ns\ndrm-engine-dma:\t9 ns\ndrm-engine-enc_1:\t{enc}000000 ns\ndrm-memory-vram:\t77 KiB\n"
            )
        }));
        let dir = tempfile::tempdir().unwrap();
        let card = dir.path().join("class/drm/card1/device");
        fs::create_dir_all(&card).unwrap();
        fs::write(card.join("gpu_busy_percent"), "37\n").unwrap();
        assert_eq!((busy(dir.path()), busy(Path::new("/nonexistent"))), (Some(0.37), None));
    }

    #[test]
    fn shares_by_program_leave_out_who_is_to_be_left_out() {
        let dir = tempfile::tempdir().unwrap();
        let none = GpuTimes::look(dir.path()).since(&GpuTimes::default(), Duration::from_secs(1), dir.path(), &[]);
        assert_eq!(none, None);
        let told = |s: u64| move |name: &str| format!("drm-engine-render:\t{}000000 ns\n", of(name, 500, 50) * s);
        tree(dir.path(), told(1));
        let before = GpuTimes::look(dir.path());
        tree(dir.path(), told(2));
        let now = GpuTimes::look(dir.path());
        let shares = now.since(&before, Duration::from_secs(1), dir.path(), &[]).unwrap();
        assert_eq!(shares, [("nebula".into(), 0.5), ("star-map".into(), 0.05)]);
        let without = now.since(&before, Duration::from_secs(1), dir.path(), &[80]).unwrap();
        assert_eq!(without, [("star-map".into(), 0.05)]);
    }
}
