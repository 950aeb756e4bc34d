//! Looks at the moth all the time: its lines, its memory, its open files.

use std::io::{BufRead, BufReader};
use std::os::unix::net::UnixStream;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use serde_json::Value;
use tokio::time::sleep;

/// Five come each second; on a machine that is kept busy, a little later. Ours.
const LONGEST_SILENCE: Duration = Duration::from_millis(2500);
/// While somebody broadcasts, frames come within this. Ours.
const FRAMES_WITHIN: Duration = Duration::from_secs(4);
/// What the moth may take at the most while it is attacked: memory in kilobytes, of which ten screens of the largest size there is take
/// most, and descriptors. Ours.
const MOST_KB: u64 = 384 << 10;
const MOST_DESCRIPTORS: usize = 200;

#[derive(Debug)]
struct Seen {
    lines: u64,
    line_at: Instant,
    longest_silence: Duration,
    offered: u64,
    offered_at: Instant,
    wrong: Option<String>,
    most_kb: u64,
    most_descriptors: usize,
    on_air: bool,
    is_ending: bool,
}

#[derive(Debug, Clone)]
pub(crate) struct Watch(Arc<Mutex<Seen>>);

impl Watch {
    pub(crate) fn begin(lines: UnixStream, moth: u32) -> Self {
        let now = Instant::now();
        let watch = Self(Arc::new(Mutex::new(Seen {
            lines: 0,
            line_at: now,
            longest_silence: Duration::ZERO,
            offered: 0,
            offered_at: now,
            wrong: None,
            most_kb: 0,
            most_descriptors: 0,
            on_air: false,
            is_ending: false,
        })));
        let (reads, looks) = (watch.clone(), watch.clone());
        std::thread::spawn(move || {
            BufReader::new(lines).lines().map_while(Result::ok).for_each(|line| reads.line(&line))
        });
        // As long as there is something to look at.
        std::thread::spawn(move || {
            while let Some((kb, descriptors)) = weight(moth) {
                let mut seen = looks.seen_now();
                seen.most_kb = seen.most_kb.max(kb);
                seen.most_descriptors = seen.most_descriptors.max(descriptors);
                drop(seen);
                std::thread::sleep(Duration::from_millis(50));
            }
        });
        watch
    }

    fn seen_now(&self) -> MutexGuard<'_, Seen> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn line(&self, line: &str) {
        let mut seen = self.seen_now();
        let now = Instant::now();
        if seen.lines > 0 && !seen.is_ending {
            seen.longest_silence = seen.longest_silence.max(now.duration_since(seen.line_at));
        }
        (seen.lines, seen.line_at) = (seen.lines + 1, now);
        let Ok(line) = serde_json::from_str::<Value>(line) else {
            seen.wrong = Some(format!("no JSON: {line}"));
            return;
        };
        for kind in ["frames", "audio"] {
            let n = |name: &str| line[kind][name].as_u64().unwrap_or(u64::MAX / 4);
            if n("offered") != n("delivered") + n("dropped") + n("queued") {
                seen.wrong = Some(format!("the accounts of {kind} do not balance: {}", line[kind]));
            }
        }
        let offered = line["frames"]["offered"].as_u64().unwrap_or_default();
        if offered > seen.offered {
            (seen.offered, seen.offered_at) = (offered, now);
        }
    }

    pub(crate) async fn first_line(&self) -> Result<(), String> {
        let by = Instant::now() + Duration::from_secs(10);
        while self.seen_now().lines == 0 {
            if Instant::now() > by {
                return Err("the moth says nothing".into());
            }
            sleep(Duration::from_millis(20)).await;
        }
        Ok(())
    }

    /// Waits for the frames of a broadcaster that was just started, which takes a program a while.
    pub(crate) async fn broadcast_begins(&self) -> Result<(), String> {
        let (by, before) = (Instant::now() + Duration::from_secs(8), self.seen_now().offered);
        while self.seen_now().offered <= before {
            if Instant::now() > by {
                return Err("no frame of a new broadcaster arrives".into());
            }
            self.all_is_well()?;
            sleep(Duration::from_millis(50)).await;
        }
        self.seen_now().on_air = true;
        Ok(())
    }

    pub(crate) fn broadcast_ends(&self) {
        self.seen_now().on_air = false;
    }

    /// From now on it owes no more lines.
    pub(crate) fn ending(&self) {
        self.seen_now().is_ending = true;
    }

    pub(crate) fn all_is_well(&self) -> Result<(), String> {
        let seen = self.seen_now();
        if let Some(wrong) = &seen.wrong {
            return Err(wrong.clone());
        }
        let silence = if !seen.is_ending { seen.line_at.elapsed() } else { Duration::ZERO }.max(seen.longest_silence);
        if silence > LONGEST_SILENCE {
            return Err(format!("no line of JSON for {silence:.1?}"));
        }
        if !seen.is_ending && seen.on_air && seen.offered_at.elapsed() > FRAMES_WITHIN {
            return Err(format!("no frame of the broadcaster for {:.1?}", seen.offered_at.elapsed()));
        }
        if seen.most_kb > MOST_KB {
            return Err(format!("{} kB of memory", seen.most_kb));
        }
        if seen.most_descriptors > MOST_DESCRIPTORS {
            return Err(format!("{} files open", seen.most_descriptors));
        }
        Ok(())
    }

    pub(crate) fn seen(&self) -> (Duration, u64, usize) {
        let seen = self.seen_now();
        (seen.longest_silence, seen.most_kb, seen.most_descriptors)
    }
}

/// A process's resident memory in kB, and how many files it has open (proc(5)).
fn weight(process: u32) -> Option<(u64, usize)> {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    let resident = status.lines().find_map(|line| line.strip_prefix("VmRSS:"))?;
    let descriptors = std::fs::read_dir(format!("/proc/{process}/fd")).ok()?.count();
    Some((resident.trim().trim_end_matches(" kB").parse().ok()?, descriptors))
}
