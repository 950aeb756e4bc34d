//! A broadcaster that takes a bitrate live, the one that ships as an example, over a token bucket that falls and rises.

use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::*;
use serde_json::Value;

/// What a bucket lets through, in kb/s, and for how long, in seconds.
type Line = [(u32, u64)];
/// Video that is asked for at the beginning, in kb/s.
const ASKED: u32 = 4500;

/// What a run came to.
#[derive(Debug)]
struct Run {
    offered: u64,
    dropped: u64,
    /// What the bucket could have carried of what was asked, in percent.
    share_percent: f64,
    changes: usize,
    /// From the bucket's fall until the first change, and from its rise until the last.
    down_s: Option<f64>,
    up_s: Option<f64>,
    freezes: u64,
    /// What comes in the end is what was asked for in the beginning.
    back_at_the_end: bool,
    lines: Vec<Value>,
}

fn over_the_bucket(line: &Line, mode: &str) -> Run {
    let hosts = Hosts::new();
    hosts.narrow(0, line[0].0, 200);
    let nginx = Nginx::at(&hosts);
    let feed = format!("127.0.0.1:{}", free_port());
    let address = format!("rtmp://{SERVER_IP}:1935/live");
    let moth = Moth::watching_with(hosts.at_home(), &[&address], &["--keeper", mode, "--feed", &feed]);
    let program = concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/gstreamer_broadcaster.py");
    let broadcaster = hosts
        .at_home()
        .arg(python_with_gstreamer().unwrap())
        .args([program, "--to", &format!("rtmp://127.0.0.1:{}/moth/gstreamer", moth.port), "--feed", &feed])
        .args(["--size", "640x360", "--bitrate", &ASKED.to_string(), "--preset", "ultrafast"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let broadcaster = Running(broadcaster.unwrap());
    wait_for("a steady broadcast", Duration::from_secs(20), || (moth.newest()["state"] == "steady").then_some(()));
    let (mut turns, mut could) = (Vec::new(), 0.0);
    for &(kbps, seconds) in line {
        hosts.narrow(0, kbps, 200);
        turns.push(moth.newest()["t"].as_f64().unwrap());
        could += f64::from(kbps.min(ASKED + 128)) * seconds as f64;
        let until = Instant::now() + Duration::from_secs(seconds);
        std::thread::sleep(until - Instant::now());
    }
    let end = moth.newest();
    drop(broadcaster);
    let (_, lines) = moth.stop();
    drop(nginx);
    let from = turns[0];
    let within = |line: &&Value| line["t"].as_f64().is_some_and(|t| t >= from && t <= end["t"].as_f64().unwrap());
    let carried: f64 = lines.iter().filter(within).filter_map(|line| line["rates"]["sent_kbps"].as_f64()).sum();
    let seconds = lines.iter().filter(within).count() as f64;
    let could = could / line.iter().map(|(_, seconds)| *seconds as f64).sum::<f64>();
    let mut changes: Vec<(f64, String)> = Vec::new();
    for line in &lines {
        if let (Some(t), Some(title)) = (line["t"].as_f64(), line["trial"]["title"].as_str())
            && changes.last().is_none_or(|(_, last)| last != title)
        {
            changes.push((t, title.to_owned()));
        }
    }
    let within = |from: f64, until: f64| {
        let times = changes.iter().map(|(t, _)| *t).filter(move |t| *t >= from && *t < until);
        times.map(|t| t - from).collect::<Vec<f64>>()
    };
    let account = &end["frames"];
    Run {
        offered: account["offered"].as_u64().unwrap(),
        dropped: account["dropped"].as_u64().unwrap(),
        share_percent: carried / seconds / could * 100.0,
        changes: changes.len(),
        down_s: within(turns[1], turns.get(2).copied().unwrap_or(f64::INFINITY)).first().copied(),
        up_s: turns.get(2).and_then(|rise| within(*rise, f64::INFINITY).last().copied()),
        back_at_the_end: end["rates"]["video_kbps"].as_f64().is_some_and(|kbps| kbps > 0.9 * f64::from(ASKED)),
        freezes: end["viewers"]["freezes"]["count"].as_u64().unwrap(),
        lines,
    }
}

impl Run {
    /// A row of the table.
    fn row(&self) -> String {
        let Self { offered, dropped, share_percent, changes, down_s, up_s, freezes, .. } = self;
        format!(
            "{dropped} of {offered} frames dropped ({:.2} %), {share_percent:.1} % of what could be carried, {changes} changes, down after \
             {down_s:?} s, last change after the rise {up_s:?} s, {freezes} freezes",
            *dropped as f64 / *offered as f64 * 100.0
        )
    }
}

#[test]
fn the_keeper_lowers_a_live_bitrate_once_when_the_bucket_shrinks() {
    if !have(&["nginx", "python3-gi", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let run = over_the_bucket(&[(6000, 10), (2500, 25)], "act");
    let said: Vec<String> = run.lines.iter().map(|line| format!("{} {}", line["t"], line["keeper"])).collect();
    assert!(run.down_s.is_some_and(|s| s < 20.0) && run.changes <= 2, "{run:?}\n{said:#?}");
    assert!(run.dropped * 100 <= run.offered && !run.back_at_the_end, "under one percent: {run:?}\n{said:#?}");
}

mod long {
    use super::*;

    const LINE: [(u32, u64); 3] = [(6000, 20), (2500, 40), (6000, 80)];

    #[test]
    fn the_keeper_follows_a_broadcaster_that_takes_a_bitrate_live() {
        if !have(&["nginx", "python3-gi", "unshare", "nsenter", "ip", "tc"]) {
            return;
        }
        let run = over_the_bucket(&LINE, "act");
        eprintln!("keeper act: {}", run.row());
        // The table in `docs/keeper.md` has a run without it beside that.
        if std::env::var_os("MOTH_WRITE_TABLE").is_some() {
            eprintln!("keeper off: {}", over_the_bucket(&LINE, "off").row());
        }
        let said: Vec<String> =
            run.lines.iter().map(|line| format!("{} {} {}", line["t"], line["rates"], line["keeper"])).collect();
        assert!(run.dropped * 200 <= run.offered, "under half a percent: {run:?}\n{said:#?}");
        assert!(run.share_percent > 80.0 && run.changes <= 6, "{run:?}\n{said:#?}");
        // When it climbs is its own affair: bursts may fit a little before the bucket rises. In the end it is back.
        assert!(run.down_s.is_some_and(|s| s < 30.0) && run.back_at_the_end, "{run:?}\n{said:#?}");
    }
}
