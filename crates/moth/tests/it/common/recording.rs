//! What a server recorded, read by ffmpeg.

use std::path::Path;
use std::process::Command;

/// Frames of one kind (`v` or `a`) in a recording, counted by ffprobe.
pub fn frames(recording: &Path, kind: &str) -> u64 {
    let out = Command::new("ffprobe")
        .args([
            "-v",
            "error",
            "-select_streams",
            kind,
            "-count_packets",
            "-show_entries",
            "stream=nb_read_packets",
            "-of",
            "csv=p=0",
        ])
        .arg(recording)
        .output()
        .unwrap();
    String::from_utf8_lossy(&out.stdout).trim().parse().unwrap_or(0)
}

/// What ffmpeg complains of when it decodes a recording; empty is good.
pub fn decode(recording: &Path) -> String {
    let out = Command::new("ffmpeg")
        .args(["-v", "error", "-i"])
        .arg(recording)
        // Milliseconds, as the recording has them: in steps of a picture, which this output would count in, two pictures behind a
        // restart can round to one time, and that would be told as a fault.
        .args(["-enc_time_base:v", "1/1000", "-f", "null", "-"])
        .output()
        .unwrap();
    assert!(out.status.success());
    String::from_utf8_lossy(&out.stderr).into_owned()
}

/// A hash of every packet's bytes, a line a stream.
pub fn hash(recording: &Path) -> String {
    let out = Command::new("ffmpeg")
        .args(["-v", "error", "-i"])
        .arg(recording)
        .args(["-map", "0", "-c", "copy", "-f", "streamhash", "-hash", "sha256", "-"])
        .output()
        .unwrap();
    assert!(out.status.success());
    let mut lines: Vec<String> = String::from_utf8_lossy(&out.stdout)
        .lines()
        // Which stream comes first is the writer's choice: `0,v,SHA256=…` becomes `v,SHA256=…`.
        .map(|line| line.split_once(',').unwrap().1.to_owned())
        .collect();
    lines.sort();
    lines.join("\n")
}

/// The first video packet's flags (`K` for a keyframe).
pub fn first_flags(recording: &Path) -> String {
    let out = Command::new("ffprobe")
        .args([
            "-v",
            "error",
            "-select_streams",
            "v",
            "-read_intervals",
            "%+#1",
            "-show_entries",
            "packet=flags",
            "-of",
            "csv=p=0",
        ])
        .arg(recording)
        .output()
        .unwrap();
    String::from_utf8_lossy(&out.stdout).trim().to_owned()
}
