//! The moth among peers that misbehave: the place on air is always given back, and a broadcaster always gets through.

use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crate::common::*;
use moth_adversary::words::{EMPTY_MESSAGE, ONE_MORE, PING, Words};

fn here() -> Command {
    Command::new("env")
}

/// A moth whose server is away: what is looked at is the broadcaster's side.
fn moth() -> Moth {
    Moth::here(&[&format!("rtmp://127.0.0.1:{}/live", free_port())])
}

fn connect(moth: &Moth) -> TcpStream {
    let stream = TcpStream::connect(("127.0.0.1", moth.port)).unwrap();
    stream.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
    stream
}

/// Says pieces, waiting for an answer after each.
fn say(stream: &mut TcpStream, pieces: &[Vec<u8>]) {
    for piece in pieces {
        stream.write_all(piece).unwrap();
        let _ = stream.read(&mut [0; 8192]);
    }
}

/// ffmpeg gets on air: within six seconds of its start it has brought more than a second of frames.
fn gets_on_air(moth: &Moth) {
    let began = Instant::now();
    let offered = |moth: &Moth| moth.newest()["frames"]["offered"].as_u64().unwrap();
    let before = offered(moth);
    let _ffmpeg = Running(publish(here(), &moth.publish_to(), 60, 500));
    wait_for("frames of a new broadcaster", Duration::from_secs(10), || (offered(moth) > before + 30).then_some(()));
    assert!(began.elapsed() < Duration::from_secs(6), "{:?}", began.elapsed());
}

#[test]
fn who_publishes_and_ends_in_one_breath_gives_the_place_back() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let moth = moth();
    let words = Words::to("moth");
    let Some((publish, begin)) = words.introduction.split_last() else { panic!("it says nothing") };
    for ending in [&words.end[..], &[0xff; 64]].map(|end| [publish, end].concat()) {
        let mut stream = connect(&moth);
        say(&mut stream, begin);
        stream.write_all(&ending).unwrap();
        let _ = stream.read(&mut [0; 8192]);
    }
    gets_on_air(&moth);
    assert_eq!(moth.stop().0, Some(0));
}

#[test]
fn silent_connections_and_ones_that_never_read_keep_nobody_out() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let moth = moth();
    let (port, stop) = (moth.port, Arc::new(AtomicBool::new(false)));
    let asks = {
        // Pings without end, whose answers are never read.
        [Words::to("moth").introduction[..2].concat(), PING.repeat(4000)].concat()
    };
    let flood = std::thread::spawn({
        let stop = stop.clone();
        move || {
            let mut open: Vec<TcpStream> = Vec::new();
            while !stop.load(Ordering::Relaxed) {
                if let Ok(mut stream) = TcpStream::connect(("127.0.0.1", port)) {
                    stream.set_nonblocking(true).unwrap();
                    if open.len().is_multiple_of(4) {
                        let _ = stream.write(&asks);
                    }
                    open.push(stream);
                }
                if open.len() > 40 {
                    open.drain(..20);
                }
                std::thread::sleep(Duration::from_millis(20));
            }
        }
    });
    std::thread::sleep(Duration::from_secs(1));
    gets_on_air(&moth);
    stop.store(true, Ordering::Relaxed);
    flood.join().unwrap();
    assert_eq!(moth.stop().0, Some(0));
}

#[test]
fn a_frozen_broadcaster_is_told_of_and_makes_room() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let moth = moth();
    let frozen = Running(publish(here(), &moth.publish_to(), 60, 500));
    wait_for("frames", Duration::from_secs(10), || {
        (moth.lines().pop()?["frames"]["offered"].as_u64()? > 30).then_some(())
    });
    frozen.signal("STOP");
    std::thread::sleep(Duration::from_millis(5500));
    gets_on_air(&moth);
    frozen.signal("CONT");
    let (status, lines) = moth.stop();
    assert_eq!(status, Some(0));
    assert!(lines.iter().all(|line| line["cause"].is_null() || line["cause"] == "server-away"), "{lines:#?}");
}

#[test]
fn a_file_that_is_no_socket_is_never_removed() {
    let dir = tempfile::tempdir().unwrap();
    let notes = dir.path().join("notes.txt");
    fs::write(&notes, "the plates of tonight").unwrap();
    let out = Command::new(env!("CARGO_BIN_EXE_moth"))
        .args(["demo", "--headless", "--for", "2", "--socket"])
        .arg(&notes)
        .output()
        .unwrap();
    assert_eq!(out.status.code(), Some(2));
    let said = String::from_utf8_lossy(&out.stderr);
    assert!(said.contains("notes.txt is there already") && said.contains("--socket"), "{said}");
    assert_eq!(fs::read_to_string(&notes).unwrap(), "the plates of tonight");
}

/// Killed at moments all over a second, `MOTH_KILLS` times (4, unless more are asked for).
#[test]
fn a_recording_that_is_killed_has_all_but_the_last_second() {
    let kills = std::env::var("MOTH_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(4_u32);
    for kill in 0..kills {
        let dir = tempfile::tempdir().unwrap();
        let files = ["jsonl", "jsonl.gz"].map(|ending| dir.path().join(format!("evening.{ending}")));
        let began = Instant::now();
        let moths = files.each_ref().map(|file| {
            let mut moth = Command::new(env!("CARGO_BIN_EXE_moth"));
            moth.args(["demo", "--headless", "--evening", "calm", "--record"]).arg(file);
            Running(moth.stdout(std::process::Stdio::null()).spawn().unwrap())
        });
        // Multiples of the golden section lie everywhere.
        let after_s = 2.2 + 2.0 * (f64::from(kill) * 0.618_034).fract();
        std::thread::sleep(Duration::from_secs_f64(after_s));
        let lived_s = began.elapsed().as_secs_f64();
        drop(moths);
        for file in files {
            let judgement = moth::recordings::judged::judge(&file).unwrap_or_else(|failure| panic!("{failure}"));
            // A second, and what it takes to begin.
            let least_s = lived_s - 1.6;
            assert!(judgement.seconds > least_s, "{}: {} s of {lived_s}", file.display(), judgement.seconds);
        }
    }
}

#[test]
fn a_reader_that_stops_costs_lines_and_no_frame() {
    if !have(&["nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    let nginx = Nginx::new();
    let (dir, port) = (tempfile::tempdir().unwrap(), free_port());
    let key = dir.path().join("key");
    fs::write(&key, KEY).unwrap();
    fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    // Full after two or three lines, and nobody reads.
    let (_unread, out) = std::io::pipe().unwrap();
    rustix::pipe::fcntl_setpipe_size(&out, 4096).unwrap();
    let moth = Command::new(env!("CARGO_BIN_EXE_moth"))
        .args(["watch", "--headless", "--to", &nginx.address(), "--listen", &format!("rtmp://127.0.0.1:{port}/moth")])
        .arg("--key-file")
        .arg(&key)
        .stderr(out.try_clone().unwrap())
        .stdout(out)
        .spawn()
        .unwrap();
    let mut moth = Running(moth);
    wait_for("its port", Duration::from_secs(10), || TcpStream::connect(("127.0.0.1", port)).ok());
    ended_well(publish(here(), &format!("rtmp://127.0.0.1:{port}/moth/local-name"), 12, 500));
    moth.signal("TERM");
    let began = Instant::now();
    wait_for("its end", Duration::from_secs(10), || moth.0.try_wait().unwrap());
    assert!(began.elapsed() < Duration::from_secs(6), "{:?}", began.elapsed());
    assert_eq!(nginx.recordings().iter().map(|recording| frames(recording, "v")).sum::<u64>(), 360);
}

#[test]
fn idle_clients_take_no_descriptor_that_the_broadcast_needs() {
    if !have(&["nginx", "ffmpeg", "prlimit"]) {
        return;
    }
    let mut nginx = Nginx::new();
    let (serve, feed) = (free_port(), free_port());
    let mut few = Command::new("prlimit");
    few.arg("--nofile=160:160");
    let addresses = [serve, feed].map(|port| format!("127.0.0.1:{port}"));
    let moth = Moth::watching_with(few, &[&nginx.address()], &["--serve", &addresses[0], "--feed", &addresses[1]]);
    let _ffmpeg = Running(publish(here(), &moth.publish_to(), 60, 500));
    let delivered = |moth: &Moth| moth.newest()["frames"]["delivered"].as_u64().unwrap();
    wait_for("frames", Duration::from_secs(10), || (delivered(&moth) > 30).then_some(()));
    let idle: Vec<TcpStream> = [serve, feed, moth.port]
        .iter()
        .flat_map(|port| (0..300).filter_map(|_| TcpStream::connect(("127.0.0.1", *port)).ok()))
        .collect();
    assert!(idle.len() > 800, "{}", idle.len());
    nginx.kill();
    wait_for("the dark", Duration::from_secs(10), || (moth.newest()["state"] == "dark").then_some(()));
    let before = delivered(&moth);
    nginx.start(None);
    let began = Instant::now();
    wait_for("the server's return", Duration::from_secs(15), || (delivered(&moth) > before + 30).then_some(()));
    assert!(began.elapsed() < Duration::from_secs(10), "{:?}", began.elapsed());
    let mut asks = TcpStream::connect(("127.0.0.1", serve)).unwrap();
    asks.write_all(b"GET /snapshot HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n").unwrap();
    let mut answer = String::new();
    asks.read_to_string(&mut answer).unwrap();
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    assert!(!moth.log().contains("Too many open files"), "{}", moth.log());
}

/// The longest time without a line of JSON, while `during` runs.
fn longest_silence(moth: &Moth, during: impl FnOnce()) -> Duration {
    let stop = Arc::new(AtomicBool::new(false));
    let watch = std::thread::spawn({
        let (stop, path) = (stop.clone(), moth.dir.path().join("lines.json"));
        move || {
            let (mut length, mut at, mut longest) = (0, Instant::now(), Duration::ZERO);
            while !stop.load(Ordering::Relaxed) {
                let now = fs::metadata(&path).unwrap().len();
                if now > length {
                    (length, at) = (now, Instant::now());
                }
                longest = longest.max(at.elapsed());
                std::thread::sleep(Duration::from_millis(20));
            }
            longest
        }
    });
    during();
    stop.store(true, Ordering::Relaxed);
    watch.join().unwrap()
}

#[test]
fn floods_of_tiny_messages_stop_nothing() {
    let moth = moth();
    let words = Words::to("moth");
    let (opens, publishes) = (&words.introduction[..2], &words.introduction[..]);
    let stop = Arc::new(AtomicBool::new(false));
    // One publishes to a server that is away, so that everything waits; three do not publish at all.
    let floods: Vec<_> = [publishes, opens, opens, opens]
        .into_iter()
        .map(|begin| {
            let mut stream = connect(&moth);
            say(&mut stream, begin);
            stream.write_all(&EMPTY_MESSAGE).unwrap();
            stream.set_write_timeout(Some(Duration::from_millis(100))).unwrap();
            let (stop, port, begin) = (stop.clone(), moth.port, begin.to_vec());
            std::thread::spawn(move || {
                while !stop.load(Ordering::Relaxed) {
                    let said = stream.write(&[ONE_MORE; 16 << 10]);
                    if said.is_err_and(|error| error.kind() != std::io::ErrorKind::WouldBlock) {
                        // Sent away, it comes again.
                        let Ok(again) = TcpStream::connect(("127.0.0.1", port)) else { continue };
                        stream = again;
                        let _ = stream.set_read_timeout(Some(Duration::from_millis(100)));
                        let _ = stream.set_write_timeout(Some(Duration::from_millis(100)));
                        begin.iter().for_each(|piece| {
                            let _ = stream.write(piece).and_then(|_| stream.read(&mut [0; 8192]));
                        });
                        let _ = stream.write(&EMPTY_MESSAGE);
                    }
                }
            })
        })
        .collect();
    let silence = longest_silence(&moth, || std::thread::sleep(Duration::from_secs(8)));
    assert!(silence < Duration::from_secs(3), "{silence:?} without a line");
    let began = Instant::now();
    let log = moth.dir.path().join("moth.log");
    moth.process.signal("INT");
    let mut moth = moth;
    wait_for("its end", Duration::from_secs(20), || moth.process.0.try_wait().unwrap());
    assert!(began.elapsed() < Duration::from_secs(3), "{:?}", began.elapsed());
    assert!(fs::read_to_string(log).unwrap().contains("messages a second and is read no faster"));
    stop.store(true, Ordering::Relaxed);
    floods.into_iter().for_each(|flood| flood.join().unwrap());
}

#[test]
fn strangers_fill_neither_log_nor_recording() {
    let feed = format!("127.0.0.1:{}", free_port());
    let moth = Moth::watching_with(here(), &["rtmp://127.0.0.1:1/live"], &["--feed", &feed]);
    let size = |name: &str| fs::metadata(moth.dir.path().join(name)).unwrap().len();
    let before = [size("moth.log"), size("seen.jsonl")];
    let began = Instant::now();
    for _ in 0..1500 {
        for to in [format!("127.0.0.1:{}", moth.port), feed.clone()] {
            if let Ok(mut stream) = TcpStream::connect(to) {
                let _ = stream.write_all(b"GET / HTTP/1.1\r\nHost: nowhere\r\n\r\n");
            }
        }
    }
    std::thread::sleep(Duration::from_secs(1));
    let seconds = began.elapsed().as_secs() + 1;
    let grown = [size("moth.log") - before[0], size("seen.jsonl") - before[1]];
    assert!(grown[0] < 4000, "{} bytes of log:\n{}", grown[0], moth.log());
    // Ten accounts a second and the machine's load are what every second costs.
    assert!(grown[1] < 20_000 * seconds, "{} bytes of recording in {seconds} s", grown[1]);
    assert_eq!(moth.stop().0, Some(0));
}

#[test]
fn a_moth_that_stood_still_says_so_and_blames_nobody() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let moth = Moth::here(&[&nginx.address()]);
    let ffmpeg = Running(publish(here(), &moth.publish_to(), 60, 500));
    wait_for("frames", Duration::from_secs(10), || {
        (moth.newest()["frames"]["delivered"].as_u64().unwrap() > 150).then_some(())
    });
    assert_eq!(moth.newest()["viewers"]["freezes"]["count"], 0, "{}", moth.newest());
    moth.process.signal("STOP");
    std::thread::sleep(Duration::from_secs(8));
    moth.process.signal("CONT");
    std::thread::sleep(Duration::from_secs(6));
    let newest = moth.newest();
    assert_eq!(newest["viewers"]["freezes"]["count"], 1, "{newest}");
    assert!(moth.log().contains("the moth itself stood still for 8 s"), "{}", moth.log());
    drop(ffmpeg);
    let (status, lines) = moth.stop();
    assert_eq!(status, Some(0));
    let blamed: Vec<_> = lines.iter().filter(|line| line["fault"] != "none").collect();
    assert!(blamed.is_empty(), "{blamed:#?}");
}

/// For longer, and over many seeds: `cargo run --release -p moth-adversary -- --minutes 30`.
#[test]
fn the_broadcast_bears_an_adversary_on_every_side() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let plan =
        moth_adversary::SiegePlan { moth: env!("CARGO_BIN_EXE_moth").into(), seed: 1, long: Duration::from_secs(30) };
    let report = moth_adversary::run(&plan).unwrap_or_else(|what| panic!("{what}"));
    assert!(report.attacks.len() > 30, "{:#?}", report.attacks);
}
