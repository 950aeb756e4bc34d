//! Programs of other people that publish, in every codec they have, through the moth to servers of other people: what each of them
//! counted, and what the moth told of it. The table in `docs/interoperability.md` is written here: `MOTH_WRITE_TABLE=1`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Mutex;
use std::time::Duration;

use crate::common::*;
use serde_json::Value;

/// Each publishes for so long, in seconds, at 30 frames/s.
const SECONDS: u32 = 3;
const FRAMES: u64 = SECONDS as u64 * 30;
/// So many publish at a time: two cores encode small pictures.
const AT_ONCE: usize = 4;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Publisher {
    Ffmpeg,
    CurrentFfmpeg,
    GstRtmp,
    GstRtmp2,
    PyAv,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Receiver {
    Nginx,
    NodeMedia,
    FfmpegListens,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Case {
    publisher: Publisher,
    video: &'static str,
    audio: &'static str,
    receiver: Receiver,
}

/// What came of a case.
#[derive(Debug)]
struct Row {
    offered: u64,
    delivered: u64,
    dropped: u64,
    audio_delivered: u64,
    /// Frames, and frames of sound, that the server wrote down.
    received: (u64, u64),
    told: Value,
}

fn tool(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tools").join(name)
}

/// Packets of a kind (`v` or `a`) in what a server wrote down.
fn packets(file: &Path, kind: &str) -> u64 {
    let out = Command::new(current_ffmpeg())
        .args(["-v", "quiet", "-i"])
        .arg(file)
        .args(["-map", &format!("0:{kind}"), "-c", "copy", "-f", "framecrc", "-"])
        .output()
        .unwrap();
    String::from_utf8_lossy(&out.stdout).lines().filter(|line| !line.starts_with('#')).count() as u64
}

impl Publisher {
    fn name(self) -> &'static str {
        match self {
            Self::Ffmpeg => "ffmpeg (Debian)",
            Self::CurrentFfmpeg => "ffmpeg (current)",
            Self::GstRtmp => "GStreamer rtmpsink",
            Self::GstRtmp2 => "GStreamer rtmp2sink",
            Self::PyAv => "PyAV",
        }
    }

    fn codecs(self) -> (&'static [&'static str], &'static [&'static str]) {
        match self {
            // Older than the extended header that other codecs need.
            Self::Ffmpeg | Self::GstRtmp | Self::GstRtmp2 => (&["H.264"], &["AAC", "MP3"]),
            Self::CurrentFfmpeg | Self::PyAv => (&["H.264", "HEVC", "AV1"], &["AAC", "MP3", "Opus"]),
        }
    }

    fn command(self, case: Case, to: &str) -> Command {
        let video = match case.video {
            "H.264" => "libx264",
            "HEVC" => "libx265",
            _ => "libsvtav1",
        };
        let audio = match case.audio {
            "AAC" => "aac",
            "MP3" => "libmp3lame",
            _ => "libopus",
        };
        let mut command = match self {
            Self::Ffmpeg | Self::CurrentFfmpeg => {
                let mut command = Command::new(if self == Self::Ffmpeg { "ffmpeg".into() } else { current_ffmpeg() });
                command.args(["-hide_banner", "-nostdin", "-loglevel", "error", "-re", "-f", "lavfi"]);
                command.args(["-i", "testsrc2=size=320x180:rate=30", "-f", "lavfi", "-i", "sine=sample_rate=48000"]);
                command.args(["-t", &SECONDS.to_string(), "-c:v", video, "-b:v", "400k", "-g", "30"]);
                command.args(match case.video {
                    "H.264" => &["-preset", "ultrafast", "-bf", "2"][..],
                    "HEVC" => &["-preset", "ultrafast", "-x265-params", "bframes=2:keyint=30:log-level=none"],
                    _ => &["-preset", "12"],
                });
                command.args(["-c:a", audio, "-b:a", "96k"]);
                // MP3 has no 48 kHz in FLV.
                command.args(if case.audio == "MP3" { &["-ar", "44100"][..] } else { &[] });
                command.args(["-f", "flv", to]);
                command
            }
            Self::GstRtmp | Self::GstRtmp2 => {
                let sink = if self == Self::GstRtmp { "rtmpsink" } else { "rtmp2sink" };
                let sound = if case.audio == "AAC" { "voaacenc ! aacparse" } else { "lamemp3enc ! mpegaudioparse" };
                let words = format!(
                    "-q -e videotestsrc num-buffers={FRAMES} is-live=true ! video/x-raw,width=320,height=180,framerate=30/1 \
                     ! x264enc bframes=2 b-adapt=false key-int-max=30 speed-preset=ultrafast bitrate=400 ! h264parse ! queue ! mux. \
                     audiotestsrc num-buffers={} samplesperbuffer=1024 is-live=true ! audio/x-raw,rate=44100,channels=2 ! audioconvert \
                     ! {sound} ! queue ! mux. flvmux name=mux streamable=true ! {sink} location={to}",
                    SECONDS * 44_100 / 1024
                );
                let mut command = Command::new("gst-launch-1.0");
                command.args(words.split_whitespace());
                command
            }
            Self::PyAv => {
                let mut command = Command::new(tool("python/bin/python"));
                command.arg(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/it/common/publisher.py"));
                command.args([to, video, audio, &SECONDS.to_string()]);
                command
            }
        };
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command
    }
}

impl Receiver {
    fn name(self) -> &'static str {
        match self {
            Self::Nginx => "nginx-rtmp",
            Self::NodeMedia => "node-media-server",
            Self::FfmpegListens => "ffmpeg, listening",
        }
    }
}

/// A server that writes down what it takes.
enum Server {
    Nginx(Nginx),
    NodeMedia(NodeMedia),
    Ffmpeg(Running, tempfile::TempDir, u16),
}

impl Server {
    fn of(receiver: Receiver) -> Self {
        match receiver {
            Receiver::Nginx => Self::Nginx(Nginx::new()),
            Receiver::NodeMedia => Self::NodeMedia(NodeMedia::here()),
            Receiver::FfmpegListens => {
                let (dir, port) = (tempfile::tempdir().unwrap(), free_port());
                let child = Command::new(current_ffmpeg())
                    .args(["-v", "quiet", "-listen", "1", "-i", &format!("rtmp://127.0.0.1:{port}/live/{KEY}")])
                    .args(["-map", "0", "-c", "copy", "-f", "matroska"])
                    .arg(dir.path().join("taken.mkv"))
                    .stdin(Stdio::null())
                    .stdout(Stdio::null())
                    .spawn();
                // Nobody may knock: it takes one connection.
                std::thread::sleep(Duration::from_millis(700));
                Self::Ffmpeg(Running(child.unwrap()), dir, port)
            }
        }
    }

    fn address(&self) -> String {
        match self {
            Self::Nginx(nginx) => nginx.address(),
            Self::NodeMedia(server) => format!("rtmp://127.0.0.1:{}/live", server.port()),
            Self::Ffmpeg(_, _, port) => format!("rtmp://127.0.0.1:{port}/live"),
        }
    }

    /// What it wrote down, once it is over.
    fn received(self) -> (u64, u64) {
        let recordings = match &self {
            Self::Nginx(nginx) => nginx.recordings(),
            Self::NodeMedia(server) => server.recordings(),
            Self::Ffmpeg(..) => Vec::new(),
        };
        if let Self::Ffmpeg(mut running, dir, _) = self {
            let ended = || running.0.try_wait().unwrap();
            wait_for("ffmpeg's end", Duration::from_secs(20), ended);
            let file = dir.path().join("taken.mkv");
            return (packets(&file, "v"), packets(&file, "a"));
        }
        let sum = |kind| recordings.iter().map(|file| packets(file, kind)).sum();
        (sum("v"), sum("a"))
    }
}

fn count(line: &Value, kind: &str, name: &str) -> u64 {
    line[kind][name].as_u64().unwrap_or(0)
}

fn tried(case: Case) -> Row {
    let server = Server::of(case.receiver);
    let moth = Moth::here(&[&server.address()]);
    let mut publisher = Running(case.publisher.command(case, &moth.publish_to()).spawn().unwrap());
    wait_for("the publisher's end", Duration::from_secs(60), || publisher.0.try_wait().unwrap());
    wait_for("the last frame", Duration::from_secs(20), || moth.newest()["state"].is_null().then_some(()));
    // The last line is told when all accounts are settled.
    let (_, lines) = moth.stop();
    let last = lines.last().unwrap();
    let on_air: Vec<&Value> = lines.iter().filter(|line| line["stream"]["b_frames"].is_number()).collect();
    let told = on_air.last().map_or(Value::Null, |line| line["stream"].clone());
    // It closes its file a moment after the connection.
    std::thread::sleep(Duration::from_millis(500));
    Row {
        offered: count(last, "frames", "offered"),
        delivered: count(last, "frames", "delivered"),
        dropped: count(last, "frames", "dropped") + count(last, "audio", "dropped"),
        audio_delivered: count(last, "audio", "delivered"),
        received: server.received(),
        told,
    }
}

fn cases() -> Vec<Case> {
    use Publisher::{CurrentFfmpeg, Ffmpeg, GstRtmp, GstRtmp2, PyAv};
    let mut cases = Vec::new();
    for publisher in [Ffmpeg, CurrentFfmpeg, GstRtmp, GstRtmp2, PyAv] {
        let (videos, audios) = publisher.codecs();
        for video in videos {
            for audio in audios {
                for receiver in [Receiver::Nginx, Receiver::NodeMedia, Receiver::FfmpegListens] {
                    cases.push(Case { publisher, video, audio, receiver });
                }
            }
        }
    }
    cases
}

fn table(rows: &BTreeMap<Case, Row>) -> String {
    let mut text = String::from(
        "| publisher | video, audio | server | frames offered | delivered | the server wrote down | told of it |\n|---|---|---|---|---|---|---|\n",
    );
    for (case, row) in rows {
        let (pictures, sounds) = row.received;
        let told = &row.told;
        text.push_str(&format!(
            "| {} | {}, {} | {} | {} | {} and {} of sound | {pictures} and {sounds} | {} {}, {}×{} at {}, B-frames {} |\n",
            case.publisher.name(),
            case.video,
            case.audio,
            case.receiver.name(),
            row.offered,
            row.delivered,
            row.audio_delivered,
            told["video_codec"].as_str().unwrap_or("?"),
            told["audio_codec"].as_str().unwrap_or("?"),
            told["width"],
            told["height"],
            told["fps"],
            told["b_frames"],
        ));
    }
    text
}

/// Tries cases, several at a time: what the moth counted and told is what the server wrote down.
fn counted_alike(cases: Vec<Case>) -> BTreeMap<Case, Row> {
    let (waiting, rows) = (Mutex::new(cases), Mutex::new(BTreeMap::new()));
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE {
            scope.spawn(|| {
                loop {
                    let Some(case) = waiting.lock().unwrap().pop() else { return };
                    let row = tried(case);
                    eprintln!("{case:?} {row:?}");
                    rows.lock().unwrap().insert(case, row);
                }
            });
        }
    });
    let rows = rows.into_inner().unwrap();
    for (case, row) in &rows {
        assert_eq!((row.offered, row.delivered, row.dropped), (FRAMES, FRAMES, 0), "{case:?}: {row:?}");
        let told = &row.told;
        assert_eq!(
            (told["video_codec"].as_str(), told["audio_codec"].as_str()),
            (Some(case.video), Some(case.audio)),
            "{case:?}: {row:?}"
        );
        assert_eq!((told["width"].as_u64(), told["height"].as_u64()), (Some(320), Some(180)), "{case:?}: {row:?}");
        assert!(told["fps"].as_f64().is_some_and(|fps| (29.5..30.5).contains(&fps)), "{case:?}: {row:?}");
        // nginx acknowledges what it does not know, and throws it away.
        let is_thrown_away = case.receiver == Receiver::Nginx && case.video != "H.264";
        let taken = if is_thrown_away { 0 } else { row.delivered };
        assert_eq!(row.received.0, taken, "{case:?}: {row:?}");
        assert!(is_thrown_away || row.received.1 == row.audio_delivered, "{case:?}: {row:?}");
        let b_frames = if case.video == "AV1" { 0 } else { 2 };
        assert_eq!(told["b_frames"].as_u64(), Some(b_frames), "{case:?}: {row:?}");
    }
    rows
}

const PROGRAMS: [&str; 5] = ["nginx", "ffmpeg", "gst-launch-1.0", "node-media-server", "pypi"];

/// Each program, codec and server is in one of these.
#[test]
fn every_program_codec_and_server_is_counted_alike_once() {
    if !have(&PROGRAMS) {
        return;
    }
    use Publisher::{CurrentFfmpeg, Ffmpeg, GstRtmp, GstRtmp2, PyAv};
    use Receiver::{FfmpegListens, Nginx, NodeMedia};
    let cases = [
        (Ffmpeg, "H.264", "MP3", Nginx),
        (CurrentFfmpeg, "AV1", "Opus", NodeMedia),
        (GstRtmp, "H.264", "AAC", FfmpegListens),
        (GstRtmp2, "H.264", "AAC", Nginx),
        (PyAv, "HEVC", "AAC", NodeMedia),
    ];
    let case = |(publisher, video, audio, receiver)| Case { publisher, video, audio, receiver };
    counted_alike(cases.map(case).into());
}

mod long {
    use super::*;

    #[test]
    fn every_program_in_every_codec_is_counted_as_the_server_counts_it() {
        if !have(&PROGRAMS) {
            return;
        }
        let table = table(&counted_alike(cases()));
        println!("{table}");
        if std::env::var_os("MOTH_WRITE_TABLE").is_some() {
            std::fs::write(tool("interoperability.md"), &table).unwrap();
        }
    }
}
