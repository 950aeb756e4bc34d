//! Snapshots and loads as text that existing monitoring systems scrape; and loads read back from it.
//!
//! Units are base units, and what only grows is a counter, as `promtool check metrics` and OpenMetrics 1.0 want it.

use std::sync::atomic::AtomicU64;

use moth_core::machine_load::{MachineLoad, ProgramShare, Upload};
use moth_core::rate::Bitrate;
use moth_core::{Snapshot, State};
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;

use super::openmetrics::{Sample, samples};

type Labels = Vec<(String, String)>;
type Numbers = Family<Labels, Gauge<f64, AtomicU64>>;

/// Metrics in the making. What is not known is left out, never told as zero.
#[derive(Default)]
struct Sheet(Registry);

impl Sheet {
    fn number(&mut self, name: &str, help: &str, value: Option<f64>) {
        if let Some(value) = value {
            let gauge = Gauge::<f64, AtomicU64>::default();
            gauge.set(value);
            self.0.register(name, help, gauge);
        }
    }

    fn numbers(&mut self, name: &str, help: &str, values: impl IntoIterator<Item = (Labels, f64)>) {
        let family = Numbers::default();
        let mut any = false;
        for (labels, value) in values {
            family.get_or_create(&labels).set(value);
            any = true;
        }
        if any {
            self.0.register(name, help, family);
        }
    }

    fn counts(&mut self, name: &str, help: &str, values: impl IntoIterator<Item = (Labels, u64)>) {
        let family = Family::<Labels, Counter<u64, AtomicU64>>::default();
        let mut any = false;
        for (labels, count) in values {
            family.get_or_create(&labels).inc_by(count);
            any = true;
        }
        if any {
            self.0.register(name, help, family);
        }
    }

    fn text(&self) -> String {
        let mut text = String::new();
        // It writes into memory, which does not fail.
        let _ = encode(&mut text, &self.0);
        text
    }
}

fn label(name: &str, value: &str) -> Labels {
    vec![(name.to_owned(), value.to_owned())]
}

/// A snapshot.
#[must_use]
pub fn of_snapshot(snapshot: &Snapshot) -> String {
    let mut sheet = Sheet::default();
    let video = snapshot.accounts.video;
    sheet.number("moth_on_air", "1 while somebody broadcasts", Some(f64::from(snapshot.on_air_since.is_some())));
    let states = [State::Steady, State::Strained, State::Losing, State::Dark];
    let states = states.map(|state| (label("state", state.word()), f64::from(snapshot.state == Some(state))));
    sheet.numbers(
        "moth_connection_state",
        "1 for the state of the connection; none has it while nobody broadcasts",
        states,
    );
    sheet.numbers("moth_server", "1; the label names the server in use", [(label("server", &snapshot.server), 1.0)]);
    let frames = [
        ("offered", Some(video.offered)),
        ("delivered", Some(video.delivered)),
        ("dropped", Some(video.dropped)),
        ("skipped", snapshot.skipped.value),
        ("lagged", snapshot.lagged.value),
    ];
    let frames = frames.into_iter().filter_map(|(kind, n)| Some((label("kind", kind), n?)));
    sheet.counts("moth_frames", "Video frames since the broadcast began, by what became of them", frames);
    sheet.number("moth_queued_frames", "Video frames that wait in the moth", Some(video.queued as f64));
    let origins = [("skipped", snapshot.skipped.origin), ("lagged", snapshot.lagged.origin)];
    let origins = origins.into_iter().filter_map(|(kind, origin)| {
        let labels = vec![("kind".to_owned(), kind.to_owned()), ("origin".to_owned(), origin?.word().to_owned())];
        Some((labels, 1.0))
    });
    sheet.numbers("moth_frames_origin", "1; how frames of a kind are known: reported, measured or inferred", origins);
    let verdict = &snapshot.verdict;
    let fault = vec![
        ("fault".to_owned(), verdict.fault.word().to_owned()),
        ("cause".to_owned(), verdict.cause.map_or("", |c| c.slug()).to_owned()),
    ];
    sheet.numbers(
        "moth_verdict_confidence",
        "How sure the verdict is; fault and cause are labels",
        [(fault, verdict.confidence)],
    );
    let rate = |kbps: Option<f64>| kbps.map(|kbps| kbps * 1000.0 / 8.0);
    sheet.number("moth_asked_bytes_per_second", "Video and audio offered", rate(snapshot.asked_kbps.value));
    sheet.number("moth_sent_bytes_per_second", "Acknowledged by the server", rate(snapshot.sent_kbps.value));
    sheet.number("moth_queue_seconds", "The longest wait in the queue", snapshot.queue_ms.value.map(|ms| ms / 1000.0));
    sheet.number("moth_round_trip_seconds", "Round trip to the server", snapshot.rtt_ms.value.map(|ms| ms / 1000.0));
    let viewers = &snapshot.viewers;
    sheet.number("moth_viewers_frames_per_second", "New pictures a second that viewers get", viewers.fps.value);
    sheet.counts("moth_freezes", "Freezes since the broadcast began", [(Vec::new(), viewers.freezes.count)]);
    let longest = viewers.freezes.longest_ms as f64 / 1000.0;
    sheet.number("moth_longest_freeze_seconds", "The longest of them", Some(longest));
    load(&mut sheet, &snapshot.machine);
    sheet.text()
}

/// A machine's load.
#[must_use]
pub fn of_load(machine: &MachineLoad, name: &str) -> String {
    let mut sheet = Sheet::default();
    sheet.numbers("moth_host", "1; the label names the machine", [(label("host", name), 1.0)]);
    load(&mut sheet, machine);
    sheet.text()
}

fn load(sheet: &mut Sheet, machine: &MachineLoad) {
    let bytes = |bytes: Option<u64>| bytes.map(|bytes| bytes as f64);
    sheet.number("moth_host_cpu_share", "Share of all cores in use", machine.cpu);
    let cores = machine.cores.iter().enumerate().map(|(i, share)| (label("core", &i.to_string()), *share));
    sheet.numbers("moth_host_core_share", "Share of each core in use", cores);
    let program =
        |program: &Option<ProgramShare>| program.as_ref().map(|(name, share)| (label("program", name), *share));
    sheet.numbers(
        "moth_host_program_cpu_share",
        "The busiest program's share of all cores",
        program(&machine.busiest_other),
    );
    sheet.number("moth_host_gpu_render_share", "Share of the GPU's rendering engine in use", machine.gpu_render);
    sheet.numbers(
        "moth_host_program_gpu_render_share",
        "The busiest program's share of it",
        program(&machine.gpu_busiest_other),
    );
    sheet.number("moth_host_gpu_video_share", "Share of the GPU's video engine in use", machine.gpu_encode);
    sheet.numbers(
        "moth_host_program_gpu_video_share",
        "The busiest program's share of it",
        program(&machine.gpu_encode_other),
    );
    let uploads = machine.uploads.iter().flatten().map(|u| (label("program", u.name()), u.rate.bps() as f64 / 8.0));
    sheet.numbers("moth_host_program_upload_bytes_per_second", "What programs send to other machines", uploads);
    let pressure =
        [("memory", machine.memory_pressure), ("cpu", machine.cpu_pressure), ("disk", machine.disk_pressure)];
    let pressure = pressure.into_iter().filter_map(|(what, share)| Some((label("resource", what), share?)));
    sheet.numbers("moth_host_pressure_share", "Share of ten seconds in which something waited for it", pressure);
    sheet.number(
        "moth_host_memory_available_bytes",
        "Memory that could be used",
        bytes(machine.memory_available_bytes),
    );
    sheet.number("moth_host_swap_used_bytes", "Swap in use", bytes(machine.swap_used_bytes));
    sheet.number("moth_host_clock_share", "The fastest core's frequency, of its most", machine.frequency);
    sheet.number(
        "moth_host_throttled_times",
        "Times the CPU slowed itself down since it started",
        bytes(machine.throttled),
    );
    sheet.number("moth_host_celsius", "The sensor nearest its limit", machine.celsius);
    sheet.number("moth_host_limit_celsius", "That limit", machine.limit_celsius);
    sheet.number("moth_host_disk_free_bytes", "Free where recordings go", bytes(machine.disk_free_bytes));
    sheet.number("moth_host_disk_write_seconds", "Mean time a write took", machine.disk_write_ms.map(|ms| ms / 1000.0));
}

/// Reads a load back.
///
/// # Errors
/// What is wrong with the text, in a sentence.
pub fn read_load(text: &str) -> Result<MachineLoad, String> {
    let samples = samples(text).map_err(|error| format!("it is no metrics text: {error}"))?;
    let value = |sample: &Sample| sample.value;
    let all = |name: &'static str| samples.iter().filter(move |s| s.name == name);
    let number = |name: &'static str| all(name).find_map(value);
    let share = |name: &'static str| number(name).map(|share| share.clamp(0.0, 1.0));
    let bytes = |name: &'static str| number(name).map(|bytes| bytes.max(0.0) as u64);
    let named = |sample: &Sample, label: &str| sample.label(label).map(clean);
    let program = |name: &'static str| all(name).find_map(|s| Some((named(s, "program")?, value(s)?.clamp(0.0, 1.0))));
    let pressure = |resource: &str| {
        let found = all("moth_host_pressure_share").find(|s| s.label("resource") == Some(resource));
        found.and_then(value).map(|share| share.clamp(0.0, 1.0))
    };
    let host = all("moth_host").find_map(|s| named(s, "host")).ok_or("it does not name its machine (moth_host)")?;
    // A moth of an older version tells bits.
    let told = [("moth_host_program_upload_bytes_per_second", 8.0), ("moth_host_program_upload_bits_per_second", 1.0)];
    let uploads = told.into_iter().flat_map(|(name, bits)| all(name).map(move |sample| (sample, bits))).take(50);
    let uploads: Vec<Upload> = uploads
        .filter_map(|(s, bits)| {
            let rate = Bitrate::from_bps((value(s)? * bits).max(0.0).round() as u64);
            Some(Upload { program: named(s, "program"), rate })
        })
        .collect();
    let numbered = |s: &Sample| Some((s.label("core")?.parse::<u32>().ok()?, value(s)?));
    let mut cores: Vec<(u32, f64)> = all("moth_host_core_share").filter_map(numbered).take(1024).collect();
    cores.sort_by_key(|(core, _)| *core);
    Ok(MachineLoad {
        host: Some(host),
        cpu: share("moth_host_cpu_share"),
        cores: cores.into_iter().map(|(_, share)| share.clamp(0.0, 1.0)).collect(),
        busiest_other: program("moth_host_program_cpu_share"),
        gpu_render: share("moth_host_gpu_render_share"),
        gpu_busiest_other: program("moth_host_program_gpu_render_share"),
        gpu_encode: share("moth_host_gpu_video_share"),
        gpu_encode_other: program("moth_host_program_gpu_video_share"),
        uploads: (!uploads.is_empty()).then_some(uploads),
        memory_pressure: pressure("memory"),
        cpu_pressure: pressure("cpu"),
        disk_pressure: pressure("disk"),
        memory_available_bytes: bytes("moth_host_memory_available_bytes"),
        swap_used_bytes: bytes("moth_host_swap_used_bytes"),
        frequency: share("moth_host_clock_share"),
        throttled: bytes("moth_host_throttled_times"),
        celsius: number("moth_host_celsius"),
        limit_celsius: number("moth_host_limit_celsius"),
        disk_free_bytes: bytes("moth_host_disk_free_bytes"),
        disk_write_ms: number("moth_host_disk_write_seconds").map(|s| s * 1000.0),
        ..MachineLoad::default()
    })
}

/// A name from another machine, fit for a screen.
fn clean(name: &str) -> String {
    name.chars().filter(|c| !c.is_control()).take(40).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::{Core, Moment, Settings};

    fn machine() -> MachineLoad {
        MachineLoad {
            cpu: Some(0.5),
            cores: vec![0.25, 0.75],
            busiest_other: Some(("plate \"stitch\"\\".into(), 0.3)),
            gpu_render: Some(0.9),
            uploads: Some(vec![Upload { program: Some("archive-sync".into()), rate: Bitrate::from_kbps(3000) }]),
            memory_available_bytes: Some(9_300_000_000),
            disk_pressure: Some(0.125),
            celsius: Some(71.5),
            disk_write_ms: Some(4.0),
            ..MachineLoad::default()
        }
    }

    #[test]
    fn a_load_is_read_back_as_it_was() {
        let text = of_load(&machine(), "dome-left");
        assert!(text.ends_with("# EOF\n"), "as OpenMetrics ends");
        let read = read_load(&text).unwrap();
        assert_eq!(read, MachineLoad { host: Some("dome-left".into()), ..machine() });
        let older = text.replace(
            "upload_bytes_per_second{program=\"archive-sync\"} 375000.0",
            "upload_bits_per_second{program=\"archive-sync\"} 3000000.0",
        );
        assert_ne!(older, text);
        assert_eq!(read_load(&older).unwrap(), read, "of an older version");
    }

    #[test]
    fn what_is_not_known_is_left_out() {
        let text = of_load(&MachineLoad::default(), "dome-left");
        assert!(!text.contains("cpu_share") && text.contains("moth_host{host=\"dome-left\"} 1"), "{text}");
        let snapshot = Core::new(Settings::default()).snapshot(Moment::START);
        let text = of_snapshot(&snapshot);
        assert!(text.contains("moth_on_air 0") && !text.contains("moth_queue_seconds"), "{text}");
        assert!(!text.contains("kind=\"lagged\""), "nobody told of lagged frames");
        assert!(text.contains("moth_connection_state{state=\"dark\"} 0"), "{text}");
        assert!(text.contains("moth_frames_total{kind=\"offered\"} 0"), "{text}");
    }

    #[test]
    fn foreign_text_is_refused_with_a_reason() {
        assert!(read_load("<html>").is_err());
        assert!(read_load("").unwrap_err().contains("moth_host"));
        let rude = "moth_host{host=\"a\\u001b[31m\x1b[31mb\"} 1\nmoth_host_cpu_share 7\nmoth_host_celsius NaN\n";
        let read = read_load(rude).unwrap();
        assert!(!read.host.unwrap().contains('\x1b'));
        assert_eq!((read.cpu, read.celsius), (Some(1.0), None));
    }
}
