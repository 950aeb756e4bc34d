//! The machine's condition: frequency governor, heat, memory, pressure, disk.

use std::fs;
use std::path::Path;

use moth_plan::check::{Disk, Fact, Governor, Heat, Memory};

fn text(path: &Path) -> Option<String> {
    fs::read_to_string(path).ok().map(|text| text.trim().to_owned())
}

/// Who sets the first core's frequency; the others follow it on all but odd machines.
pub(crate) fn governor(sys: &Path) -> Fact<Governor> {
    let dir = sys.join("devices/system/cpu/cpu0/cpufreq");
    let name = text(&dir.join("scaling_governor")).ok_or("this machine's CPU frequency is not the system's to set")?;
    Ok(Governor { name, driver: text(&dir.join("scaling_driver")).unwrap_or_else(|| "unknown driver".into()) })
}

/// Temperatures of the thermal zones, with the trip point from which each slows the machine down.
pub(crate) fn heat(sys: &Path) -> Fact<Vec<Heat>> {
    let zones = fs::read_dir(sys.join("class/thermal")).map_err(|error| format!("no thermal zones: {error}"))?;
    let found: Vec<Heat> = zones
        .flatten()
        .filter_map(|zone| {
            let at = zone.path();
            let thousandths: f64 = text(&at.join("temp"))?.parse().ok()?;
            // A sensor that is off says zero, or less.
            let celsius = Some(thousandths / 1000.0).filter(|celsius| (1.0..150.0).contains(celsius))?;
            let name = text(&at.join("type")).unwrap_or_else(|| "a sensor".into());
            Some(Heat { name, celsius, limit_celsius: slows_from(&at) })
        })
        .collect();
    if found.is_empty() { Err("no thermal zone tells a temperature".into()) } else { Ok(found) }
}

/// The lowest trip point of the kinds that slow a machine down or stop it.
fn slows_from(zone: &Path) -> Option<f64> {
    let trips = (0..12).filter_map(|i| {
        let kind = text(&zone.join(format!("trip_point_{i}_type")))?;
        let at: f64 = text(&zone.join(format!("trip_point_{i}_temp")))?.parse().ok()?;
        (["passive", "hot", "critical"].contains(&kind.as_str()) && at > 30_000.0).then_some(at / 1000.0)
    });
    trips.reduce(f64::min)
}

/// Memory that could be used, and swap in use.
pub(crate) fn memory(proc: &Path) -> Fact<Memory> {
    let told = text(&proc.join("meminfo")).ok_or("/proc/meminfo cannot be read")?;
    let bytes = |name: &str| -> Option<u64> {
        let line = told.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(':'))?;
        line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok().map(|kib| kib.saturating_mul(1024))
    };
    let available_bytes = bytes("MemAvailable").ok_or("/proc/meminfo tells no available memory")?;
    let swap_used_bytes =
        bytes("SwapTotal").zip(bytes("SwapFree")).map_or(0, |(total, free)| total.saturating_sub(free));
    Ok(Memory { swap_used_bytes, available_bytes, pressure: pressure(proc, "memory").ok() })
}

/// The share of the last minute in which something waited for a resource (kernel, accounting/psi).
pub(crate) fn pressure(proc: &Path, resource: &str) -> Fact<f64> {
    let told = text(&proc.join("pressure").join(resource)).ok_or("this kernel keeps no pressure figures")?;
    let some = told.lines().find(|line| line.starts_with("some"));
    let average = some.and_then(|line| line.split_whitespace().find_map(|word| word.strip_prefix("avg60=")));
    let percent: Option<f64> = average.and_then(|average| average.parse().ok());
    percent.map(|percent| percent / 100.0).ok_or_else(|| "its pressure figures are not as expected".into())
}

/// The share of the last ten seconds in which something waited for a resource.
pub(crate) fn newest_pressure(proc: &Path, resource: &str) -> Option<f64> {
    let told = text(&proc.join("pressure").join(resource))?;
    let some = told.lines().find(|line| line.starts_with("some"))?;
    let average = some.split_whitespace().find_map(|word| word.strip_prefix("avg10="))?;
    average.parse::<f64>().ok().map(|percent| percent / 100.0)
}

/// The folders of the cores.
fn cores(sys: &Path) -> impl Iterator<Item = std::path::PathBuf> {
    let named = |path: &std::path::PathBuf| {
        let name = path.file_name().and_then(|name| name.to_str()).and_then(|name| name.strip_prefix("cpu"));
        name.is_some_and(|number| !number.is_empty() && number.bytes().all(|b| b.is_ascii_digit()))
    };
    let all = fs::read_dir(sys.join("devices/system/cpu")).into_iter().flatten().flatten();
    all.map(|entry| entry.path()).filter(named)
}

/// The fastest core's frequency, as a share of the most it may have (kernel, *cpufreq*).
pub(crate) fn frequency(sys: &Path) -> Option<f64> {
    let share = |core: std::path::PathBuf| {
        let khz = |file: &str| text(&core.join("cpufreq").join(file))?.parse::<f64>().ok();
        let most = khz("cpuinfo_max_freq").filter(|most| *most > 0.0)?;
        Some((khz("scaling_cur_freq")? / most).min(1.0))
    };
    cores(sys).filter_map(share).reduce(f64::max)
}

/// How often the cores slowed themselves down for their heat since the machine started, where the driver counts it.
pub(crate) fn throttled(sys: &Path) -> Option<u64> {
    let count = |core: std::path::PathBuf| {
        ["core_throttle_count", "package_throttle_count"]
            .iter()
            .filter_map(|file| text(&core.join("thermal_throttle").join(file))?.parse::<u64>().ok())
            .max()
    };
    cores(sys).filter_map(count).max()
}

/// What is free for this user on the disk of a folder.
pub(crate) fn disk(folder: &Path) -> Fact<Disk> {
    let told = rustix::fs::statvfs(folder).map_err(|error| format!("{}: {error}", folder.display()))?;
    Ok(Disk { folder: folder.display().to_string(), free_bytes: told.f_bavail.saturating_mul(told.f_frsize) })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn write(root: &Path, files: &[(&str, &str)]) {
        for (path, text) in files {
            let path = root.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
    }

    #[test]
    fn a_recorded_tree_is_read() {
        let dir = tempfile::tempdir().unwrap();
        write(
            dir.path(),
            &[
                ("devices/system/cpu/cpu0/cpufreq/scaling_governor", "powersave\n"),
                ("devices/system/cpu/cpu0/cpufreq/scaling_driver", "intel_pstate\n"),
                ("class/thermal/thermal_zone0/type", "x86_pkg_temp\n"),
                ("class/thermal/thermal_zone0/temp", "61000\n"),
                ("class/thermal/thermal_zone0/trip_point_0_type", "active\n"),
                ("class/thermal/thermal_zone0/trip_point_0_temp", "50000\n"),
                ("class/thermal/thermal_zone0/trip_point_1_type", "passive\n"),
                ("class/thermal/thermal_zone0/trip_point_1_temp", "95000\n"),
                ("class/thermal/thermal_zone1/temp", "0\n"),
                ("meminfo", "MemTotal: 100 kB\nMemAvailable:   2000 kB\nSwapTotal:  900 kB\nSwapFree:  400 kB\n"),
                (
                    "pressure/memory",
                    "some avg10=9.00 avg60=12.50 avg300=1.24 total=1\nfull avg10=0.00 avg60=0.00 avg300=0.00 total=0\n",
                ),
            ],
        );
        assert_eq!(governor(dir.path()), Ok(Governor { name: "powersave".into(), driver: "intel_pstate".into() }));
        assert_eq!(
            heat(dir.path()),
            Ok(vec![Heat { name: "x86_pkg_temp".into(), celsius: 61.0, limit_celsius: Some(95.0) }])
        );
        let expected = Memory { swap_used_bytes: 500 * 1024, available_bytes: 2000 * 1024, pressure: Some(0.125) };
        assert_eq!(memory(dir.path()), Ok(expected));
        assert!(disk(dir.path()).unwrap().free_bytes > 0);
    }

    #[test]
    fn clocks_and_throttling_are_read_from_every_core() {
        let dir = tempfile::tempdir().unwrap();
        write(
            dir.path(),
            &[
                ("devices/system/cpu/cpu0/cpufreq/scaling_cur_freq", "1200000\n"),
                ("devices/system/cpu/cpu0/cpufreq/cpuinfo_max_freq", "4800000\n"),
                ("devices/system/cpu/cpu0/thermal_throttle/core_throttle_count", "3\n"),
                ("devices/system/cpu/cpu1/cpufreq/scaling_cur_freq", "2400000\n"),
                ("devices/system/cpu/cpu1/cpufreq/cpuinfo_max_freq", "4800000\n"),
                ("devices/system/cpu/cpu1/thermal_throttle/package_throttle_count", "17\n"),
                ("devices/system/cpu/cpufreq/ondemand", "not a core\n"),
                ("pressure/io", "some avg10=41.50 avg60=12.50 avg300=1.24 total=1\n"),
            ],
        );
        assert_eq!((frequency(dir.path()), throttled(dir.path())), (Some(0.5), Some(17)));
        assert_eq!(newest_pressure(dir.path(), "io"), Some(0.415));
        let nowhere = Path::new("/nonexistent");
        assert_eq!((frequency(nowhere), throttled(nowhere), newest_pressure(nowhere, "io")), (None, None, None));
    }

    #[test]
    fn what_is_not_there_is_said() {
        let nowhere = Path::new("/nonexistent");
        assert!(governor(nowhere).unwrap_err().contains("frequency"));
        assert!(
            heat(nowhere).is_err() && memory(nowhere).is_err() && disk(nowhere).unwrap_err().contains("/nonexistent")
        );
        assert!(pressure(nowhere, "cpu").unwrap_err().contains("kernel"));
    }
}
