//! `cargo bench --bench logbook`: what keeping twelve hours costs, in CPU, on disk, and to open; before and after thinning.
#![allow(clippy::unwrap_used, clippy::expect_used, missing_docs)]

use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Zoned;
use moth::logbook::opened::Opened;
use moth_core::history::History;
use moth_core::{Core, Moment, Settings, Snapshot};
use moth_logbook::{About, Kind, Logbook, Pen};
use moth_stage::{Theatre, shipped};

const HOURS: u64 = 12;

/// What was seen of an evening, once a second.
fn seen(slug: &str, seconds: u64) -> Vec<Arc<Snapshot>> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build().unwrap();
    runtime.block_on(async {
        let evening = shipped().into_iter().find(|evening| evening.slug == slug).unwrap();
        let (mut core, mut seen) = (Core::new(Settings { servers: evening.servers() }), Vec::new());
        let (mut theatre, mut look) = (Theatre::open(&evening, 41).unwrap(), Moment::from_ms(1000));
        while let Some(reading) = theatre.readings.recv().await {
            while look <= reading.at {
                seen.push(Arc::new(core.snapshot(look)));
                look = Moment::from_ms((seen.len() as u64 + 1) * 1000);
            }
            if reading.at > Moment::from_ms(seconds * 1000) {
                break;
            }
            core.take(&reading);
        }
        seen
    })
}

/// What this process has had of the CPU.
fn cpu() -> Duration {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap();
    let fields: Vec<&str> = stat.rsplit_once(')').unwrap().1.split_whitespace().collect();
    // User and system time, in hundredths of a second (proc(5)).
    let ticks: u64 = fields[11].parse::<u64>().unwrap() + fields[12].parse::<u64>().unwrap();
    Duration::from_millis(ticks * 10)
}

fn open(path: &std::path::Path, nr: i64, what: &str) {
    let began = Instant::now();
    let logbook = Logbook::open_to_read(path).unwrap().unwrap();
    let kept = logbook.kept(nr).unwrap();
    let read = began.elapsed();
    let opened = Opened::open(logbook, nr).unwrap().told().unwrap();
    let all = began.elapsed();
    let began = Instant::now();
    let moments = (0..50).filter(|n| opened.moment(n * 800 + 77).is_some()).count();
    println!(
        "  {what}: {} s read in {read:.1?}, opened and told in ten lines in {:.1?}; a moment in {:.2?} ({moments} of 50 were there)",
        kept.seconds.len(),
        all.saturating_sub(read),
        began.elapsed() / 50
    );
}

fn main() {
    for (what, slug, seconds) in [("calm", "calm", 180), ("in trouble throughout", "archive-sync", 180)] {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("logbook.sqlite");
        let mut logbook = Logbook::open(&path).unwrap();
        let seen = seen(slug, seconds);
        let about = About {
            began: "2025-11-26T20:00:00Z[UTC]".parse::<Zoned>().unwrap(),
            kind: Kind::Broadcast,
            is_made_up: true,
            setup: String::new(),
            service: String::new(),
            told: Default::default(),
        };
        let mut pen = Pen::new(about);
        // Those after the trouble began, over and over.
        let told = &seen[60..];
        let mut spent = [Duration::ZERO; 2];
        // Once without keeping them: what it takes to make the snapshots up is no part of it.
        for (keeps, spent) in [false, true].into_iter().zip(&mut spent) {
            let (mut history, before) = (History::default(), cpu());
            for second in 0..HOURS * 3600 {
                let model = &told[second as usize % told.len()];
                history.push(*model.history.get(model.history.len() - 1).unwrap());
                let snapshot = Snapshot {
                    at: Moment::from_ms((second + 1) * 1000),
                    history: history.clone(),
                    ..model.as_ref().clone()
                };
                if keeps {
                    pen.take(&snapshot);
                    pen.write(&mut logbook).unwrap();
                } else {
                    std::hint::black_box(&snapshot);
                }
            }
            *spent = cpu().saturating_sub(before);
        }
        pen.end(&mut logbook).unwrap();
        let nr = pen.nr().unwrap();
        let bytes = logbook.listed(nr).unwrap().bytes;
        let [made_up, both] = spent.map(|spent| spent.as_secs_f64() / (HOURS * 3600) as f64);
        let spent = both - made_up;
        println!(
            "{HOURS} h, {what}: {:.1} MB; {:.2} ms of CPU a second, {:.3} % of a core",
            bytes as f64 / 1e6,
            spent * 1000.0,
            spent * 100.0
        );
        open(&path, nr, "as it was kept");
        let kept = logbook.kept(nr).unwrap();
        let began = Instant::now();
        logbook.thin(nr, kept).unwrap();
        let thinned = logbook.listed(nr).unwrap().bytes;
        println!("  thinned in {:.1?} to {:.1} MB", began.elapsed(), thinned as f64 / 1e6);
        open(&path, nr, "thinned");
    }
}
