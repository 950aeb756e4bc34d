//! The broadcast played back from real servers, over a way whose delay is known.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use crate::common::*;
use serde_json::Value;

/// A way to a server on which everything takes so much longer, in either direction.
fn longer_way(to_port: u16, each_way: Duration) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let carry = move |mut from: TcpStream, mut to: TcpStream| {
        let (put, take) = mpsc::channel::<(Instant, Vec<u8>)>();
        thread::spawn(move || {
            while let Ok((due, bytes)) = take.recv() {
                thread::sleep(due.saturating_duration_since(Instant::now()));
                if to.write_all(&bytes).is_err() {
                    break;
                }
            }
            let _ = to.shutdown(Shutdown::Write);
        });
        thread::spawn(move || {
            let mut bytes = vec![0; 64 << 10];
            while let Ok(count @ 1..) = from.read(&mut bytes) {
                if put.send((Instant::now() + each_way, bytes[..count].to_vec())).is_err() {
                    return;
                }
            }
        });
    };
    thread::spawn(move || {
        for near in listener.incoming().map_while(Result::ok) {
            let Ok(far) = TcpStream::connect(("127.0.0.1", to_port)) else { continue };
            near.set_nodelay(true).unwrap();
            far.set_nodelay(true).unwrap();
            carry(near.try_clone().unwrap(), far.try_clone().unwrap());
            carry(far, near);
        }
    });
    port
}

/// Publishes until it is dropped.
fn publisher(program: Command, codec: &str, to: &str) -> Running {
    let mut command = program;
    command.args(["-hide_banner", "-nostdin", "-loglevel", "error", "-re"]);
    command.args(["-f", "lavfi", "-i", "testsrc2=size=320x180:rate=30", "-f", "lavfi", "-i", "sine=sample_rate=48000"]);
    command.args(["-t", "120", "-c:v", codec, "-preset", "ultrafast", "-b:v", "500k", "-g", "30", "-c:a", "aac"]);
    command.args(if codec == "libx265" { &["-x265-params", "keyint=30:log-level=none"][..] } else { &["-bf", "2"] });
    command.args(["-f", "flv", to]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    Running(command.spawn().unwrap())
}

/// A moth towards this address, with a broadcast on air.
fn on_air(address: &str, codec: &str, more: &[&str]) -> (Moth, Running) {
    let moth = Moth::watching_with(Command::new("env"), &[address], more);
    let program = if codec == "libx265" { Command::new(current_ffmpeg()) } else { Command::new("ffmpeg") };
    let publisher = publisher(program, codec, &moth.publish_to());
    wait_for("frames", Duration::from_secs(20), || {
        (moth.newest()["frames"]["delivered"].as_u64() > Some(30)).then_some(())
    });
    (moth, publisher)
}

fn played(moth: &Moth) -> Value {
    wait_for("what came of it", Duration::from_secs(40), || {
        let played = moth.newest()["played_back"].clone();
        played.is_object().then_some(played)
    })
}

/// 150 ms each way: what comes back is 300 ms late, and what the server's own program takes.
fn comes_back_as_late_as_it_is(to_port: u16) {
    let port = longer_way(to_port, Duration::from_millis(150));
    let (moth, _publisher) = on_air(&format!("rtmp://127.0.0.1:{port}/live"), "libx264", &[]);
    let (status, said) = moth.tell(&["play"]);
    assert_eq!(status, Some(0), "{said}");
    assert!(said.contains(" plays it: ") && said.contains("not at a viewer"), "{said}");
    assert!(!said.contains(KEY), "{said}");
    let played = played(&moth);
    let delay_ms = played["delay_ms"].as_f64().unwrap();
    assert!((300.0..360.0).contains(&delay_ms), "within 20 % of 300 ms: {played}");
    for (kind, fewest) in [("pictures", 200), ("sound", 350)] {
        let (came, of) = (played[kind]["came"].as_u64().unwrap(), played[kind]["of"].as_u64().unwrap());
        assert!(came == of && of > fewest, "all that it took comes back: {played}");
    }
    let (_, lines) = moth.stop();
    assert!(lines.iter().all(|line| line["frames"]["dropped"] == 0), "playing costs the broadcast nothing");
}

#[test]
fn nginx_plays_the_broadcast_back_and_the_delay_is_the_one_of_the_way() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    comes_back_as_late_as_it_is(nginx.port());
}

#[test]
fn another_server_plays_the_broadcast_back_and_the_delay_is_the_one_of_the_way() {
    if !have(&["node-media-server", "ffmpeg"]) {
        return;
    }
    let server = NodeMedia::here();
    comes_back_as_late_as_it_is(server.port());
}

#[test]
fn a_server_that_throws_the_pictures_away_is_found_out_at_the_start_with_the_users_consent() {
    if !have(&["nginx", "pypi"]) {
        return;
    }
    let nginx = Nginx::new();
    let (moth, _publisher) = on_air(&nginx.address(), "libx265", &["--play-back"]);
    let played = played(&moth);
    assert!(played["pictures"]["came"] == 0 && played["pictures"]["of"].as_u64() > Some(200), "{played}");
    assert!(played["sound"]["came"].as_u64() > Some(300), "{played}");
    let notices = wait_for("the notice", Duration::from_secs(10), || {
        let notices = moth.newest()["notices"].to_string();
        notices.contains("no-picture").then_some(notices)
    });
    assert!(notices.contains("codec"), "{notices}");
    moth.stop();
}

#[test]
fn a_server_that_lets_nobody_play_says_nothing_of_viewers() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::that_plays_nothing();
    let (moth, _publisher) = on_air(&nginx.address(), "libx264", &[]);
    let (status, said) = moth.tell(&["play"]);
    assert_eq!(status, Some(1), "{said}");
    assert!(said.contains("nothing came of it") && said.contains("Viewers may get it all the same"), "{said}");
    assert!(!said.contains(KEY), "{said}");
    let notices = moth.newest()["notices"].to_string();
    assert!(!notices.contains("no-picture"), "{notices}");
    let (_, lines) = moth.stop();
    assert!(lines.iter().all(|line| line["frames"]["dropped"] == 0));
}
