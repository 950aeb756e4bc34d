//! ffmpeg as a broadcaster.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

/// The longest broadcast that is encoded before; a longer one repeats it.
const LONGEST_S: u32 = 40;

/// ffmpeg publishing a test picture and tone, paced in real time. The broadcast was encoded before: a test that only waits for frames
/// then takes hardly any of the processor, and several run side by side.
pub fn publish(command: Command, to: &str, seconds: u32, kbps: u32) -> Child {
    send(command, "ffmpeg", seconds, kbps, &["-f", "flv", to])
}

/// The same, with a copy of what is published in a file.
pub fn publish_and_keep(command: Command, to: &str, seconds: u32, kbps: u32, copy: &Path) -> Child {
    let both = format!("[f=flv]{}|[f=flv]{to}", copy.display());
    send(command, "ffmpeg", seconds, kbps, &["-map", "0", "-f", "tee", &both])
}

/// The same by a copy of ffmpeg under another name, and to another output.
pub fn send(mut command: Command, program: &str, seconds: u32, kbps: u32, output: &[&str]) -> Child {
    command
        .args([program, "-hide_banner", "-nostdin", "-loglevel", "error", "-re", "-stream_loop"])
        .args([if seconds > LONGEST_S { "-1" } else { "0" }, "-i"])
        .arg(encoded(seconds.min(LONGEST_S), kbps))
        .args(["-t", &seconds.to_string(), "-c", "copy"])
        .args(output)
        .stderr(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap()
}

/// A file with so many seconds of the test picture and tone. It is made once and never changed: one that another test makes at the
/// same time is the same.
fn encoded(seconds: u32, kbps: u32) -> PathBuf {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("encoded");
    let file = folder.join(format!("{seconds}s-{kbps}k.flv"));
    if !file.exists() {
        fs::create_dir_all(&folder).unwrap();
        let new = tempfile::Builder::new().suffix(".flv").tempfile_in(&folder).unwrap();
        let scene = Scene { pace: &[], ..Scene::default() };
        let output = ["-y", "-f", "flv", new.path().to_str().unwrap()];
        ended_well(publish_scene(Command::new("env"), &scene, &output, seconds, kbps));
        new.persist(&file).unwrap();
    }
    file
}

/// A picture, what is done to it, and how it is encoded.
pub struct Scene<'a> {
    /// `-re` for real time.
    pub pace: &'a [&'a str],
    pub source: &'a str,
    pub filter: &'a str,
    pub encoding: &'a [&'a str],
    pub more: &'a [&'a str],
}

impl Default for Scene<'_> {
    fn default() -> Self {
        Self {
            pace: &["-re"],
            source: "testsrc2=size=640x360:rate=30",
            filter: "null",
            encoding: &["-preset", "superfast", "-g", "60", "-bf", "2", "-threads", "1"],
            more: &[],
        }
    }
}

/// ffmpeg encoding and publishing a scene.
pub fn publish_scene(mut command: Command, scene: &Scene<'_>, output: &[&str], seconds: u32, kbps: u32) -> Child {
    let rate = format!("{kbps}k");
    command
        .args(["ffmpeg", "-hide_banner", "-nostdin", "-loglevel", "error"])
        .args(scene.pace)
        .args(["-f", "lavfi", "-i", scene.source, "-f", "lavfi", "-i", "sine=frequency=440:sample_rate=48000"])
        .args(["-t", &seconds.to_string(), "-vf", scene.filter, "-c:v", "libx264"])
        .args(scene.encoding)
        .args(scene.more)
        // Filler keeps the bitrate constant, as services ask for.
        .args(["-b:v", &rate, "-minrate", &rate, "-maxrate", &rate, "-bufsize", &rate, "-x264-params", "nal-hrd=cbr"])
        .args(["-c:a", "aac", "-b:a", "128k"])
        .args(output)
        .stderr(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap()
}

/// Waits for a broadcaster to end well, with nothing to complain of.
pub fn ended_well(child: Child) {
    let out = child.wait_with_output().unwrap();
    // A stream has no place to go back to and write its length: ffmpeg says so whoever it publishes to.
    let said: String =
        String::from_utf8_lossy(&out.stderr).lines().filter(|l| !l.contains("Failed to update header")).collect();
    assert!(out.status.success() && said.is_empty(), "{}: {said}", out.status);
}
