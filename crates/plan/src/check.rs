//! Is this machine fit for a broadcast? Findings, each with its evidence and one thing to do.

use std::time::Duration;

use moth_core::rate::{Bitrate, grouped};
use serde::Serialize;

use crate::surroundings::{Interface, Medium, Upload};
use crate::text::{link_rate, percent};

/// A value, or why it could not be read.
pub type Fact<T> = Result<T, String>;

/// What was read of the machine.
#[derive(Debug, Clone, PartialEq)]
pub struct MachineFacts {
    /// The interface that leads out.
    pub interface: Fact<Interface>,
    /// Who uploads, the busiest first.
    pub uploads: Fact<Vec<Upload>>,
    /// CPU in use.
    pub cpu: Fact<Load>,
    /// GPU in use.
    pub gpu: Fact<Load>,
    /// The disk recordings go to.
    pub disk: Fact<Disk>,
    /// Who sets the CPU's frequency.
    pub governor: Fact<Governor>,
    /// Temperatures.
    pub heat: Fact<Vec<Heat>>,
    /// Memory.
    pub memory: Fact<Memory>,
    /// Share of the last minute in which something waited for the CPU, from 0 to 1.
    pub cpu_pressure: Fact<f64>,
    /// The running broadcaster.
    pub broadcaster: Fact<Priority>,
    /// Name lookups of the servers, and how long each took.
    pub dns: Fact<Vec<Lookup>>,
}

/// How busy something is, and with whom.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Load {
    /// Share of all of it, from 0 to 1; `None` where only programs are told.
    pub whole: Option<f64>,
    /// Programs and their shares of all of it, the busiest first; the broadcaster and the moth are not among them.
    pub programs: Vec<(String, f64)>,
}

/// A disk.
#[derive(Debug, Clone, PartialEq)]
pub struct Disk {
    /// The folder.
    pub folder: String,
    /// Bytes free to this user.
    pub free_bytes: u64,
}

/// Who sets the CPU's frequency.
#[derive(Debug, Clone, PartialEq)]
pub struct Governor {
    /// Its name.
    pub name: String,
    /// The driver below it.
    pub driver: String,
}

/// A temperature.
#[derive(Debug, Clone, PartialEq)]
pub struct Heat {
    /// What is measured.
    pub name: String,
    /// In degrees Celsius.
    pub celsius: f64,
    /// From here on the machine slows down, in degrees Celsius, if it says.
    pub limit_celsius: Option<f64>,
}

/// Memory.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Memory {
    /// Bytes of swap in use.
    pub swap_used_bytes: u64,
    /// Bytes of memory that could be used at once.
    pub available_bytes: u64,
    /// Share of the last minute in which something waited for memory, from 0 to 1.
    pub pressure: Option<f64>,
}

/// A process and its priority.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Priority {
    /// The program's name.
    pub program: String,
    /// Its nice value: −20 is served first, 19 last.
    pub nice: i64,
    /// It is only served when nobody else wants to be (`SCHED_IDLE` or `SCHED_BATCH`).
    pub is_background: bool,
}

/// One name lookup.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lookup {
    /// The name.
    pub name: String,
    /// How long it took, or why it failed.
    pub took: Result<Duration, String>,
}

/// What is asked of the machine.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Asked {
    /// Video and audio together.
    pub planned: Bitrate,
}

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// All is well.
    Fine,
    /// It may hurt.
    Watch,
    /// It would hurt a broadcast.
    Hurts,
}

impl Weight {
    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Fine => "fine",
            Self::Watch => "watch",
            Self::Hurts => "hurts",
        }
    }
}

/// Something found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct CheckFinding {
    /// What it is about.
    pub subject: &'static str,
    /// How bad it is.
    pub weight: Weight,
    /// The evidence, with its numbers.
    pub evidence: String,
    /// One thing to do; `None` if there is nothing.
    pub to_do: Option<String>,
}

/// Something that could not be read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Unread {
    /// What it is about.
    pub subject: &'static str,
    /// Why.
    pub why: String,
}

/// The outcome.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Check {
    /// The worst first.
    pub findings: Vec<CheckFinding>,
    /// What could not be read.
    pub unread: Vec<Unread>,
}

/// What changes from one moment to the next, and what only a broadcast shows: while one is on air it is read all the time.
const OF_THE_MOMENT: [&str; 8] = ["CPU", "CPU pressure", "GPU", "uploads", "priority", "heat", "memory", "disk"];

impl Check {
    /// What holds of the machine whatever it does at the moment: for a broadcast that is on air, whose load is read anew each
    /// second, what was found of the load before it says nothing.
    #[must_use]
    pub fn lasting(&self) -> Self {
        let lasts = |subject: &str| !OF_THE_MOMENT.contains(&subject);
        Self {
            findings: self.findings.iter().filter(|finding| lasts(finding.subject)).cloned().collect(),
            unread: self.unread.iter().filter(|unread| lasts(unread.subject)).cloned().collect(),
        }
    }

    /// What it comes to, in a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let hurting = self.findings.iter().filter(|finding| finding.weight == Weight::Hurts).count();
        match (hurting, self.unread.is_empty()) {
            (0, true) => "Nothing would hurt a broadcast.".into(),
            (0, false) => "Nothing that can be read here would hurt a broadcast.".into(),
            (1, _) => "One thing would hurt a broadcast.".into(),
            (more, _) => format!("{more} things would hurt a broadcast."),
        }
    }

    /// Whether something would hurt a broadcast.
    #[must_use]
    pub fn hurts(&self) -> bool {
        self.findings.iter().any(|finding| finding.weight == Weight::Hurts)
    }
}

struct Collector {
    check: Check,
}

impl Collector {
    fn note(&mut self, subject: &'static str, weight: Weight, evidence: String, to_do: &str) {
        let to_do = (weight > Weight::Fine && !to_do.is_empty()).then(|| to_do.to_owned());
        self.check.findings.push(CheckFinding { subject, weight, evidence, to_do });
    }

    /// The value; if there is none, that is noted.
    fn read<'a, T>(&mut self, subject: &'static str, fact: &'a Fact<T>) -> Option<&'a T> {
        match fact {
            Ok(value) => Some(value),
            Err(why) => {
                self.check.unread.push(Unread { subject, why: why.clone() });
                None
            }
        }
    }
}

/// Weighs the facts. Borders without a source beside them are our own.
#[must_use]
pub fn check(facts: &MachineFacts, asked: Asked) -> Check {
    let mut to = Collector { check: Check { findings: Vec::new(), unread: Vec::new() } };
    if let Some(interface) = to.read("link", &facts.interface) {
        link(&mut to, interface, asked);
    }
    if let Some(uploads) = to.read("uploads", &facts.uploads) {
        upload(&mut to, uploads, asked);
    }
    if let Some(load) = to.read("CPU", &facts.cpu) {
        busy(&mut to, "CPU", load, 0.85);
    }
    if let Some(load) = to.read("GPU", &facts.gpu) {
        busy(&mut to, "GPU", load, 0.9);
    }
    if let Some(pressure) = to.read("CPU pressure", &facts.cpu_pressure) {
        // /proc/pressure: the share of time in which at least one task waited (kernel, accounting/psi).
        let weight = if *pressure > 0.4 {
            Weight::Hurts
        } else if *pressure > 0.15 {
            Weight::Watch
        } else {
            Weight::Fine
        };
        let evidence = format!("in {} of the last minute something waited for the CPU", percent(*pressure));
        to.note("CPU pressure", weight, evidence, "Close what is busiest.");
    }
    if let Some(governor) = to.read("CPU frequency", &facts.governor) {
        frequency(&mut to, governor);
    }
    if let Some(heat) = to.read("heat", &facts.heat) {
        warmth(&mut to, heat);
    }
    if let Some(memory) = to.read("memory", &facts.memory) {
        remembered(&mut to, memory);
    }
    if let Some(disk) = to.read("disk", &facts.disk) {
        recording(&mut to, disk, asked);
    }
    if let Some(priority) = to.read("priority", &facts.broadcaster) {
        served(&mut to, priority);
    }
    if let Some(lookups) = to.read("DNS", &facts.dns) {
        looked_up(&mut to, lookups);
    }
    to.check.findings.sort_by_key(|finding| std::cmp::Reverse(finding.weight));
    to.check
}

fn link(to: &mut Collector, interface: &Interface, asked: Asked) {
    let name = &interface.name;
    let rate = interface.rate.map_or_else(String::new, |rate| format!(" at {}", link_rate(rate)));
    match interface.medium {
        Some(Medium::Wireless) => {
            let signal = interface.signal_dbm;
            // Below −70 dBm most radios fall back to slow, lossy rates.
            let weak = signal.is_some_and(|dbm| dbm < -70.0);
            let told = signal.map_or_else(String::new, |dbm| format!(", signal {dbm:.0} dBm"));
            let weight = if weak { Weight::Hurts } else { Weight::Watch };
            to.note("link", weight, format!("{name} is wireless{rate}{told}"), "Use a cable for the broadcast.");
        }
        medium => {
            let word = medium.map_or("of a kind that cannot be told", Medium::word);
            let small = interface.rate.is_some_and(|rate| rate > Bitrate::ZERO && rate < asked.planned.scaled(2.0));
            let weight = if small { Weight::Hurts } else { Weight::Fine };
            to.note("link", weight, format!("{name} is {word}{rate}"), "Use a faster port or cable.");
        }
    }
    if let Some(errors) = interface.errors {
        let drops = interface.drops.unwrap_or(0);
        let weight = if errors > 0 { Weight::Watch } else { Weight::Fine };
        let qdisc = interface.qdisc.as_ref().map_or_else(String::new, |qdisc| format!("; it queues by {qdisc}"));
        let evidence =
            format!("{name} counted {} errors and {} drops since it came up{qdisc}", grouped(errors), grouped(drops));
        to.note("link errors", weight, evidence, "Try another cable or port.");
    }
}

fn upload(to: &mut Collector, uploads: &[Upload], asked: Asked) {
    let total = Bitrate::from_bps(uploads.iter().map(|upload| upload.rate.bps()).sum());
    let share = total.bps() as f64 / (asked.planned.bps() as f64).max(1.0);
    let weight = if share > 0.25 {
        Weight::Hurts
    } else if share > 0.05 {
        Weight::Watch
    } else {
        Weight::Fine
    };
    let Some(first) = uploads.first().filter(|_| weight > Weight::Fine) else {
        to.note("uploads", Weight::Fine, format!("other programs upload {total} over TCP"), "");
        return;
    };
    let who = first.program.clone().unwrap_or_else(|| "a program of another user".into());
    let evidence = format!("{who} uploads {}, {total} in all: {} of what you plan to send", first.rate, percent(share));
    to.note("uploads", weight, evidence, &format!("Pause {who} until you are off air."));
}

fn busy(to: &mut Collector, subject: &'static str, load: &Load, full: f64) {
    let whole = load.whole.map_or_else(String::new, |whole| format!("{} of it in use", percent(whole)));
    let first = load.programs.first().filter(|(_, share)| *share >= 0.03);
    let is_full = load.whole.is_some_and(|whole| whole > full);
    let weight = match first {
        _ if is_full => Weight::Hurts,
        Some((_, share)) if *share > 0.25 => Weight::Hurts,
        Some((_, share)) if *share > 0.1 => Weight::Watch,
        _ => Weight::Fine,
    };
    let told = first.map_or_else(
        || "no other program takes much".to_owned(),
        |(name, share)| format!("{name} takes {}", percent(*share)),
    );
    let evidence = if whole.is_empty() { told } else { format!("{whole}; {told}") };
    let to_do = first.map_or_else(|| "Find out what is running.".to_owned(), |(name, _)| format!("Close {name}."));
    to.note(subject, weight, evidence, &to_do);
}

fn frequency(to: &mut Collector, governor: &Governor) {
    // With these drivers the processor itself raises the frequency (kernel, admin-guide/pm/intel_pstate, amd-pstate).
    let own = ["intel_pstate", "amd-pstate-epp", "amd_pstate_epp"].contains(&governor.driver.as_str());
    let weight = match governor.name.as_str() {
        "powersave" if !own => Weight::Hurts,
        "conservative" => Weight::Watch,
        _ => Weight::Fine,
    };
    let evidence = format!("governor {} ({})", governor.name, governor.driver);
    to.note(
        "CPU frequency",
        weight,
        evidence,
        "Choose the performance or schedutil governor, or the system's performance profile.",
    );
}

fn warmth(to: &mut Collector, heat: &[Heat]) {
    let over = |h: &Heat| h.celsius - h.limit_celsius.unwrap_or(95.0);
    let Some(hottest) = heat.iter().max_by(|a, b| over(a).total_cmp(&over(b))) else { return };
    let room = -over(hottest);
    let weight = if room < 5.0 {
        Weight::Hurts
    } else if room < 15.0 {
        Weight::Watch
    } else {
        Weight::Fine
    };
    let limit = hottest.limit_celsius.map_or_else(String::new, |limit| format!(", slows down from {limit:.0} °C"));
    let evidence = format!("{} is at {:.0} °C{limit}", hottest.name, hottest.celsius);
    to.note(
        "heat",
        weight,
        evidence,
        "Let it cool, clear the vents, or use a lighter preset: a broadcast adds heat for hours.",
    );
}

fn remembered(to: &mut Collector, memory: &Memory) {
    let gb = |bytes: u64| bytes as f64 / 1e9;
    let pressure = memory.pressure.unwrap_or(0.0);
    let weight = if pressure > 0.05 || memory.available_bytes < 500_000_000 {
        Weight::Hurts
    } else if memory.available_bytes < 2_000_000_000 {
        Weight::Watch
    } else {
        Weight::Fine
    };
    let waited = memory.pressure.map_or_else(String::new, |share| {
        format!("; in {:.1} % of the last minute something waited for memory", share * 100.0)
    });
    let evidence = format!(
        "{:.1} GB free to use, {:.1} GB of swap in use{waited}",
        gb(memory.available_bytes),
        gb(memory.swap_used_bytes)
    );
    to.note("memory", weight, evidence, "Close programs with many windows; swapping stalls an encoder.");
}

fn recording(to: &mut Collector, disk: &Disk, asked: Asked) {
    let hours = disk.free_bytes as f64 * 8.0 / (asked.planned.bps() as f64).max(1.0) / 3600.0;
    let weight = if hours < 2.0 {
        Weight::Hurts
    } else if hours < 8.0 {
        Weight::Watch
    } else {
        Weight::Fine
    };
    let evidence = format!(
        "{:.1} GB free in {}: {} of recording at {}",
        disk.free_bytes as f64 / 1e9,
        disk.folder,
        if hours > 200.0 { "over 200 h".to_owned() } else { format!("{hours:.1} h") },
        asked.planned
    );
    to.note("disk", weight, evidence, "Free some space, or record elsewhere.");
}

fn served(to: &mut Collector, priority: &Priority) {
    let weight = if priority.is_background || priority.nice > 0 { Weight::Hurts } else { Weight::Fine };
    let how = if priority.is_background { ", only when nobody else wants the CPU" } else { "" };
    let evidence = format!("{} runs at nice {}{how}", priority.program, priority.nice);
    to.note("priority", weight, evidence, "Start the broadcaster with an ordinary priority, or a higher one.");
}

fn looked_up(to: &mut Collector, lookups: &[Lookup]) {
    let failed: Vec<(&str, &str)> =
        lookups.iter().filter_map(|l| Some((l.name.as_str(), l.took.as_ref().err()?.as_str()))).collect();
    if let Some((name, why)) = failed.first() {
        let others = match failed.len() - 1 {
            0 => String::new(),
            more => format!(" and {more} more of {}", lookups.len()),
        };
        let to_do = "Check the servers' names in the configuration, then the connection.";
        to.note("DNS", Weight::Hurts, format!("{name}{others}: {why}"), to_do);
    }
    let slowest = lookups.iter().filter_map(|l| Some((&l.name, l.took.as_ref().ok()?))).max_by_key(|(_, took)| **took);
    if let Some((name, took)) = slowest {
        let ms = took.as_secs_f64() * 1000.0;
        let weight = if ms > 1000.0 {
            Weight::Hurts
        } else if ms > 200.0 {
            Weight::Watch
        } else {
            Weight::Fine
        };
        let found = lookups.len() - failed.len();
        let evidence =
            format!("{found} name{} found, the slowest ({name}) in {ms:.0} ms", if found == 1 { "" } else { "s" });
        to.note("DNS", weight, evidence, "Use another resolver: a reconnect begins with a lookup.");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ASKED: Asked = Asked { planned: Bitrate::from_kbps(6000) };

    fn unknown<T>() -> Fact<T> {
        Err("not on this machine".into())
    }

    fn well() -> MachineFacts {
        MachineFacts {
            interface: Ok(Interface {
                name: "eth0".into(),
                medium: Some(Medium::Wired),
                rate: Some(Bitrate::from_kbps(1_000_000)),
                errors: Some(0),
                drops: Some(0),
                ..Interface::default()
            }),
            uploads: Ok(Vec::new()),
            cpu: Ok(Load { whole: Some(0.3), programs: vec![("editor".into(), 0.02)] }),
            gpu: unknown(),
            disk: Ok(Disk { folder: "/home".into(), free_bytes: 100_000_000_000 }),
            governor: Ok(Governor { name: "schedutil".into(), driver: "acpi-cpufreq".into() }),
            heat: Ok(vec![Heat { name: "package".into(), celsius: 55.0, limit_celsius: Some(95.0) }]),
            memory: Ok(Memory { swap_used_bytes: 0, available_bytes: 9_000_000_000, pressure: Some(0.0) }),
            cpu_pressure: Ok(0.02),
            broadcaster: unknown(),
            dns: Ok(vec![Lookup { name: "aldmoor.nocturne.invalid".into(), took: Ok(Duration::from_millis(30)) }]),
        }
    }

    fn weight_of(facts: &MachineFacts, subject: &str) -> Weight {
        let check = check(facts, ASKED);
        check.findings.iter().filter(|f| f.subject == subject).map(|f| f.weight).max().unwrap()
    }

    #[test]
    fn on_air_what_was_found_of_the_load_before_it_is_left_out_and_what_lasts_stays() {
        let facts = MachineFacts {
            cpu: Ok(Load { whole: Some(0.97), programs: vec![("editor".into(), 0.5)] }),
            governor: Ok(Governor { name: "powersave".into(), driver: "acpi-cpufreq".into() }),
            ..well()
        };
        let found = check(&facts, ASKED);
        let lasting = found.lasting();
        let hurting = |check: &Check| -> Vec<&str> {
            check.findings.iter().filter(|f| f.weight == Weight::Hurts).map(|f| f.subject).collect()
        };
        assert_eq!((hurting(&found), hurting(&lasting)), (vec!["CPU", "CPU frequency"], vec!["CPU frequency"]));
        assert!(
            found.unread.iter().any(|u| u.subject == "priority") && lasting.unread.is_empty(),
            "a broadcaster runs"
        );
    }

    #[test]
    fn a_machine_that_is_well_has_nothing_to_do_and_the_unread_is_listed() {
        let check = check(&well(), ASKED);
        assert!(
            !check.hurts() && check.findings.iter().all(|f| f.weight == Weight::Fine && f.to_do.is_none()),
            "{check:?}"
        );
        assert_eq!(check.sentence(), "Nothing that can be read here would hurt a broadcast.");
        assert_eq!(check.unread.iter().map(|u| u.subject).collect::<Vec<_>>(), ["GPU", "priority"]);
    }

    #[test]
    fn each_trouble_hurts_with_evidence_and_one_thing_to_do() {
        let wireless =
            Interface { medium: Some(Medium::Wireless), signal_dbm: Some(-78.0), ..well().interface.unwrap() };
        let upload = Upload { program: Some("archive-sync".into()), rate: Bitrate::from_kbps(4000) };
        let hot = Heat { name: "package".into(), celsius: 93.0, limit_celsius: Some(95.0) };
        let cases = [
            ("link", MachineFacts { interface: Ok(wireless), ..well() }, "-78 dBm"),
            ("uploads", MachineFacts { uploads: Ok(vec![upload]), ..well() }, "archive-sync uploads 4 000 kb/s"),
            (
                "CPU",
                MachineFacts { cpu: Ok(Load { whole: Some(0.5), programs: vec![("stitch".into(), 0.4)] }), ..well() },
                "stitch takes 40 %",
            ),
            ("GPU", MachineFacts { gpu: Ok(Load { whole: Some(0.97), programs: Vec::new() }), ..well() }, "97 % of it"),
            ("CPU pressure", MachineFacts { cpu_pressure: Ok(0.6), ..well() }, "60 % of the last minute"),
            (
                "CPU frequency",
                MachineFacts {
                    governor: Ok(Governor { name: "powersave".into(), driver: "acpi-cpufreq".into() }),
                    ..well()
                },
                "powersave",
            ),
            ("heat", MachineFacts { heat: Ok(vec![hot]), ..well() }, "93 °C, slows down from 95 °C"),
            (
                "memory",
                MachineFacts { memory: Ok(Memory { pressure: Some(0.2), ..well().memory.unwrap() }), ..well() },
                "20.0 % of the last minute",
            ),
            (
                "disk",
                MachineFacts { disk: Ok(Disk { folder: "/rec".into(), free_bytes: 2_700_000_000 }), ..well() },
                "2.7 GB free in /rec: 1.0 h",
            ),
            (
                "priority",
                MachineFacts {
                    broadcaster: Ok(Priority { program: "encoder".into(), nice: 10, is_background: false }),
                    ..well()
                },
                "nice 10",
            ),
            (
                "DNS",
                MachineFacts {
                    dns: Ok(vec![Lookup { name: "x.invalid".into(), took: Err("no such name".into()) }]),
                    ..well()
                },
                "no such name",
            ),
        ];
        for (subject, facts, evidence) in cases {
            let check = check(&facts, ASKED);
            let first = &check.findings[0];
            assert_eq!((first.subject, first.weight), (subject, Weight::Hurts), "{first:?}");
            assert!(first.evidence.contains(evidence), "{first:?}");
            assert!(first.to_do.as_ref().is_some_and(|to_do| to_do.ends_with('.')), "{first:?}");
            assert!(check.hurts() && check.sentence() == "One thing would hurt a broadcast.");
        }
    }

    #[test]
    fn what_only_may_hurt_does_not_fail_the_check() {
        let wireless =
            Interface { medium: Some(Medium::Wireless), signal_dbm: Some(-50.0), ..well().interface.unwrap() };
        assert_eq!(weight_of(&MachineFacts { interface: Ok(wireless), ..well() }, "link"), Weight::Watch);
        let own = Governor { name: "powersave".into(), driver: "intel_pstate".into() };
        assert_eq!(weight_of(&MachineFacts { governor: Ok(own), ..well() }, "CPU frequency"), Weight::Fine);
        let slow = Lookup { name: "x".into(), took: Ok(Duration::from_millis(400)) };
        assert_eq!(weight_of(&MachineFacts { dns: Ok(vec![slow]), ..well() }, "DNS"), Weight::Watch);
    }
}
