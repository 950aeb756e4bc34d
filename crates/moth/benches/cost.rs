//! `cargo bench --bench cost`: what watching costs. One core step, one screen, a judged evening of eight hours, and the
//! whole program with its terminal open while it relays a real broadcast.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

// A bench uses a part of what the tests use.
#[allow(dead_code, unused_imports)]
#[path = "../tests/it/common/mod.rs"]
mod common;

use std::fs;
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, Instant};

use common::*;
use moth::live::plan::Banner;
use moth::recordings::judged::judge_whole;
use moth::terminal::app::App;
use moth::terminal::draw;
use moth::terminal::style::palette::Palette;
use moth_core::moment::Moment;
use moth_core::reading::Reading;
use moth_core::{Core, Settings};
use moth_drawing::{Format, Paper, Theme, lanes, report};
use moth_logbook::readings::{Header, Writer};
use moth_stage::{Evening, Theatre, shipped};
use ratatui::Terminal;
use ratatui::backend::TestBackend;

/// A minute of an evening.
fn minute(evening: &Evening) -> Vec<Reading> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().start_paused(true).build().unwrap();
    runtime.block_on(async {
        let mut theatre = Theatre::open(evening, 41).unwrap();
        let mut readings = Vec::new();
        while let Some(reading) = theatre.readings.recv().await {
            if reading.at >= Moment::from_ms(60_000) {
                return readings;
            }
            readings.push(reading);
        }
        readings
    })
}

fn evening(slug: &str) -> Evening {
    shipped().into_iter().find(|e| e.slug == slug).unwrap()
}

fn core_and_screen() {
    for slug in ["calm", "archive-sync"] {
        let evening = evening(slug);
        let readings = minute(&evening);
        let mut core = Core::new(Settings { servers: evening.servers() });
        let (mut taking, mut looking, mut looks, mut next) = (Duration::ZERO, Duration::ZERO, 0_u32, Moment::START);
        for reading in &readings {
            while next <= reading.at {
                let began = Instant::now();
                std::hint::black_box(core.snapshot(next));
                looking += began.elapsed();
                (looks, next) = (looks + 1, Moment::after(next.since(Moment::START) + Duration::from_millis(200)));
            }
            let began = Instant::now();
            core.take(reading);
            taking += began.elapsed();
        }
        println!(
            "core, {slug}: {:.1} µs for a reading ({} in a minute), {:.0} µs for a snapshot; {:.2} % of a core in all",
            taking.as_secs_f64() * 1e6 / readings.len() as f64,
            readings.len(),
            looking.as_secs_f64() * 1e6 / f64::from(looks),
            (taking + looking).as_secs_f64() / 60.0 * 100.0
        );
        let banner = Banner { demo: Some(evening.name.clone()), publish_to: None, replay: None };
        let mut app = App::new(banner, true, Palette::Full);
        app.show(Some(Arc::new(core.snapshot(Moment::from_ms(60_000)))));
        for (width, height) in [(80, 24), (200, 60)] {
            let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
            let began = Instant::now();
            for _ in 0..300 {
                terminal.draw(|frame| draw(frame, &app)).unwrap();
            }
            println!("screen {width}x{height}, {slug}: {:.2} ms", began.elapsed().as_secs_f64() * 1000.0 / 300.0);
        }
    }
}

/// The most memory this process ever held, in megabytes.
fn peak_mb() -> f64 {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    peak.and_then(|peak| peak.trim().trim_end_matches(" kB").parse::<f64>().ok()).unwrap_or(f64::NAN) / 1000.0
}

fn eight_hours() {
    let evening = evening("calm");
    let readings = minute(&evening);
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("evening.jsonl");
    let mut writer = Writer::create(&path, &Header::new(evening.servers())).unwrap();
    for n in 0..480_u64 {
        for reading in &readings {
            let at = Moment::after(reading.at.since(Moment::START) + Duration::from_secs(60 * n));
            writer.write(&Reading { at, ..reading.clone() }).unwrap();
        }
    }
    writer.finish().unwrap();
    let megabytes = fs::metadata(&path).unwrap().len() as f64 / 1e6;
    let began = Instant::now();
    let whole = judge_whole(&path, None).unwrap();
    let took = began.elapsed().as_secs_f64();
    println!(
        "eight hours judged: {:.1} million readings, {megabytes:.0} MB, in {took:.1} s: {:.0} times as fast as they passed",
        whole.judgement.readings as f64 / 1e6,
        whole.judgement.seconds / took
    );
    let began_at = Some("2026-11-26T21:04:10+01:00[+01:00]".parse().unwrap());
    let before_mb = peak_mb();
    let began = Instant::now();
    let evening = whole.chronicle.evening(&whole.last, &whole.standing, "eight hours".into(), began_at);
    let drawing = lanes::draw(&evening, evening.whole(), Theme::Light);
    let svg = (began.elapsed(), drawing.svg.len());
    let pdf = drawing.bytes(Format::Pdf).unwrap();
    println!(
        "eight hours as lanes: SVG in {:.0} ms, {:.0} kB; with PDF {:.0} ms, {:.0} kB; the most memory rose by {:.0} MB to {:.0} MB",
        svg.0.as_secs_f64() * 1000.0,
        svg.1 as f64 / 1000.0,
        began.elapsed().as_secs_f64() * 1000.0,
        pdf.len() as f64 / 1000.0,
        peak_mb() - before_mb,
        peak_mb()
    );
    let began = Instant::now();
    let pdf = report::pdf(&evening, Paper::A4).unwrap();
    println!(
        "eight hours as a report: {:.0} ms, {:.0} kB",
        began.elapsed().as_secs_f64() * 1000.0,
        pdf.len() as f64 / 1000.0
    );
}

/// Processor time so far, in seconds, and memory in megabytes.
fn used(pid: &str) -> (f64, f64) {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).unwrap();
    let fields: Vec<&str> = stat.rsplit_once(") ").unwrap().1.split(' ').collect();
    let ticks: f64 = fields[11].parse::<f64>().unwrap() + fields[12].parse::<f64>().unwrap();
    let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let rss = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).unwrap();
    (ticks / 100.0, rss.split_whitespace().next().unwrap().parse::<f64>().unwrap() / 1000.0)
}

fn whole_program() {
    if !have(&["nginx", "ffmpeg", "tmux"]) {
        return;
    }
    let nginx = Nginx::new();
    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join("key"), format!("{KEY}\n")).unwrap();
    let (socket, port) = (dir.path().join("tmux"), free_port());
    let tmux = |words: &[&str]| {
        let out = Command::new("tmux").arg("-S").arg(&socket).args(words).output().unwrap();
        String::from_utf8_lossy(&out.stdout).trim().to_owned()
    };
    let moth = format!(
        "exec {} watch --to {} --key-file {} --listen rtmp://127.0.0.1:{port}/moth",
        env!("CARGO_BIN_EXE_moth"),
        nginx.address(),
        dir.path().join("key").display()
    );
    tmux(&["new-session", "-d", "-x", "160", "-y", "50", &moth]);
    let pid = tmux(&["display-message", "-p", "#{pane_pid}"]);
    // Encoded beforehand: only the moth's own work is to be measured.
    let file = dir.path().join("1080p60.flv");
    let made = Command::new("ffmpeg")
        .args(["-v", "error", "-f", "lavfi", "-i", "testsrc2=size=1920x1080:rate=60", "-f", "lavfi", "-i", "sine"])
        .args(["-t", "4", "-c:v", "libx264", "-preset", "ultrafast", "-g", "120", "-b:v", "8000k", "-minrate", "8000k"])
        .args(["-maxrate", "8000k", "-bufsize", "8000k", "-x264-params", "nal-hrd=cbr", "-c:a", "aac"])
        .arg(&file)
        .status()
        .unwrap();
    assert!(made.success());
    let ffmpeg = Command::new("ffmpeg")
        .args(["-v", "error", "-re", "-stream_loop", "8", "-i"])
        .arg(&file)
        .args(["-c", "copy", "-f", "flv", &format!("rtmp://127.0.0.1:{port}/moth/local")])
        .spawn()
        .unwrap();
    let ffmpeg = Running(ffmpeg);
    std::thread::sleep(Duration::from_secs(8));
    let (before, _) = used(&pid);
    std::thread::sleep(Duration::from_secs(20));
    let (after, megabytes) = used(&pid);
    println!(
        "the whole program, terminal 160x50 open, relaying 1080p60 at 8 Mb/s: {:.2} % of a core, {megabytes:.1} MB",
        (after - before) / 20.0 * 100.0
    );
    drop(ffmpeg);
    tmux(&["kill-server"]);
}

fn main() {
    // `cargo test --benches` and nextest start it too: then it only says that it is there.
    if !std::env::args().any(|a| a == "--bench") {
        println!("run it with cargo bench");
        return;
    }
    core_and_screen();
    eight_hours();
    whole_program();
}
