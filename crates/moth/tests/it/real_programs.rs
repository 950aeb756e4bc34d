//! Broadcasts by ffmpeg, through the built moth, to nginx with its RTMP module, which records.

use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::common::*;
use moth_rtmp::session::{Receiver, ReceiverEvent};
use serde_json::Value;

fn here() -> Command {
    Command::new("env")
}

fn count(line: &Value, kind: &str, name: &str) -> u64 {
    line[kind][name].as_u64().unwrap()
}

fn settled(moth: &Moth) -> Value {
    wait_for("the last frames", Duration::from_secs(20), || {
        let last = moth.lines().pop()?;
        (last["state"].is_null() && count(&last, "frames", "offered") > 0 && count(&last, "frames", "queued") == 0)
            .then_some(last)
    })
}

#[test]
fn the_recording_holds_exactly_what_is_called_delivered() {
    if !have(&["nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    let nginx = Nginx::new();
    let moth = Moth::reading_pictures(here(), &[&nginx.address()], &[]);
    let copy = moth.dir.path().join("copy.flv");
    let ffmpeg = publish_and_keep(here(), &moth.publish_to(), 20, 1500, &copy);
    let arguments = wait_for("frames", Duration::from_secs(10), || {
        let on_air = moth.lines().pop().is_some_and(|l| count(&l, "frames", "delivered") > 0);
        on_air.then(|| std::fs::read(format!("/proc/{}/cmdline", moth.id())).unwrap())
    });
    assert!(!String::from_utf8_lossy(&arguments).contains(KEY), "the key is in the process list");
    ended_well(ffmpeg);
    let last = settled(&moth);
    assert_eq!(count(&last, "frames", "offered"), 600);
    assert_eq!((count(&last, "frames", "dropped"), count(&last, "audio", "dropped")), (0, 0));
    let recordings = nginx.recordings();
    assert_eq!(recordings.len(), 1);
    assert_eq!(frames(&recordings[0], "v"), count(&last, "frames", "delivered"));
    assert_eq!(frames(&recordings[0], "a"), count(&last, "audio", "delivered"));
    assert_eq!(decode(&recordings[0]), "");
    assert_eq!(hash(&recordings[0]), hash(&copy), "byte for byte what the broadcaster made");
    let (status, lines) = moth.stop();
    assert_eq!(status, Some(0));
    let on_air: Vec<&Value> = lines.iter().filter(|l| l["state"] == "steady").collect();
    assert!(on_air.len() >= 17, "a line a second: {}", on_air.len());
    assert!(lines.iter().all(|l| l["fault"] == "none"));
    assert!(on_air.iter().any(|l| l["rtt_ms"].is_number() && l["broadcaster_cpu_percent"].is_number()));
    let told = |l: &&Value| l["frames"]["lagged"].is_null() || l["origins"]["lagged"] == "inferred";
    assert!(on_air.iter().all(told), "nobody reported lag, so it is read off the wire or not known");
    assert_eq!(last["frames"]["lagged"].as_u64().unwrap_or(0), 0, "every picture moved");
}

#[test]
fn a_server_killed_and_restarted_goes_unnoticed_by_the_broadcaster() {
    if !have(&["nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    let mut nginx = Nginx::new();
    let moth = Moth::here(&[&nginx.address()]);
    let ffmpeg = publish(here(), &moth.publish_to(), 20, 1500);
    wait_for("six seconds of frames", Duration::from_secs(15), || {
        moth.lines().pop().filter(|l| count(l, "frames", "delivered") > 180)
    });
    nginx.kill();
    let dark = wait_for("the darkness", Duration::from_secs(5), || moth.lines().pop().filter(|l| l["state"] == "dark"));
    assert_eq!((dark["fault"].as_str(), dark["cause"].as_str()), (Some("network"), Some("server-away")));
    nginx.start(None);
    ended_well(ffmpeg);
    let last = settled(&moth);
    assert_eq!(count(&last, "frames", "offered"), 600, "the broadcaster never stopped");
    let recordings = nginx.recordings();
    assert_eq!(recordings.len(), 2);
    assert!(first_flags(&recordings[1]).starts_with('K'), "the second connection begins at a keyframe");
    assert_eq!(decode(&recordings[1]), "");
    let recorded: u64 = recordings.iter().map(|r| frames(r, "v")).sum();
    let delivered = count(&last, "frames", "delivered");
    // What the killed server's host had acknowledged but the server not yet read is delivered by the
    // definition, and in no recording.
    assert!((recorded..recorded + 15).contains(&delivered), "{delivered} delivered, {recorded} recorded");
    let (status, lines) = moth.stop();
    assert_eq!(status, Some(0));
    assert!(
        lines.iter().rev().find(|l| !l["state"].is_null()).is_some_and(|l| l["fault"] == "none"),
        "and all is well again"
    );
}

#[test]
fn a_line_too_small_is_named_and_what_passes_it_decodes() {
    if !have(&["nginx", "ffmpeg", "ffprobe", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::new();
    hosts.narrow(0, 1500, 500);
    let nginx = Nginx::at(&hosts);
    let moth = Moth::watching(hosts.at_home(), &[&format!("rtmp://{SERVER_IP}:1935/live")]);
    let ffmpeg = publish(hosts.at_home(), &moth.publish_to(), 20, 3000);
    ended_well(ffmpeg);
    let last = settled(&moth);
    let recordings = nginx.recordings();
    assert_eq!(recordings.len(), 1);
    assert_eq!(frames(&recordings[0], "v"), count(&last, "frames", "delivered"));
    assert_eq!(frames(&recordings[0], "a"), count(&last, "audio", "delivered"));
    assert_eq!(decode(&recordings[0]), "", "what is still sent decodes");
    let dropped = (count(&last, "frames", "dropped"), count(&last, "audio", "dropped"));
    assert!(dropped.0 > 100 && dropped.1 == 0, "video and audio dropped: {dropped:?}");
    let (_, lines) = moth.stop();
    let verdicts: Vec<&Value> = lines.iter().filter(|l| l["fault"] != "none").collect();
    assert!(verdicts.len() > 8);
    for line in verdicts {
        assert_eq!((line["fault"].as_str(), line["cause"].as_str()), (Some("network"), Some("line-short")), "{line}");
    }
    let sent: Vec<f64> =
        lines.iter().filter(|l| l["state"] == "losing").filter_map(|l| l["rates"]["sent_kbps"].as_f64()).collect();
    let mean = sent.iter().sum::<f64>() / sent.len() as f64;
    assert!((1300.0..1550.0).contains(&mean), "what a bucket of 1500 kb/s lets through: {mean:.0} kb/s");
}

/// A server that takes a broadcast and reads it at so many bytes a second.
fn slow_server(bytes_per_second: usize) -> String {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("rtmp://127.0.0.1:{}/live", listener.local_addr().unwrap().port());
    std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut session = Receiver::default();
        let mut input = vec![0; bytes_per_second / 20];
        while let Ok(count) = stream.read(&mut input) {
            if count == 0 {
                return;
            }
            session.feed(&input[..count]);
            while let Ok(Some(event)) = session.poll() {
                if matches!(event, ReceiverEvent::PublishRequested { .. }) {
                    session.accept();
                }
            }
            if stream.write_all(&session.take_output()).is_err() {
                return;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
    });
    address
}

#[test]
fn a_server_that_reads_slowly_is_told_from_a_line_too_small() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let moth = Moth::here(&[&slow_server(125_000)]);
    ended_well(publish(here(), &moth.publish_to(), 16, 3000));
    let (_, lines) = moth.stop();
    let verdicts: Vec<&Value> = lines.iter().filter(|l| l["fault"] != "none").collect();
    assert!(verdicts.len() > 6, "{}", verdicts.len());
    for line in verdicts {
        assert_eq!((line["fault"].as_str(), line["cause"].as_str()), (Some("network"), Some("server-slow")), "{line}");
    }
    assert!(lines.iter().any(|l| l["receiver_limited_percent"].as_f64().is_some_and(|p| p > 80.0)));
}

#[test]
fn a_second_publisher_a_wrong_application_and_garbage_are_turned_away() {
    if !have(&["nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    let nginx = Nginx::new();
    let moth = Moth::here(&[&nginx.address()]);
    let first = publish(here(), &moth.publish_to(), 6, 1000);
    wait_for("the first broadcaster", Duration::from_secs(10), || {
        moth.lines().pop().filter(|l| l["state"] == "steady")
    });

    let second = publish(here(), &moth.publish_to(), 5, 1000).wait_with_output().unwrap();
    assert!(!second.status.success());
    let said = String::from_utf8_lossy(&second.stderr).into_owned();
    assert!(said.contains("another broadcaster is already publishing"), "{said}");

    let wrong = moth.publish_to().replace("/moth/", "/elsewhere/");
    let said = publish(here(), &wrong, 5, 1000).wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&said.stderr).into_owned();
    assert!(said.contains("publish to the application `moth`"), "{said}");

    for garbage in [&b"GET / HTTP/1.1\r\nHost: x\r\n\r\n"[..], &[0x03; 9000], &[0xff; 5000], b""] {
        let mut stream = TcpStream::connect(("127.0.0.1", moth.port)).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(15))).unwrap();
        let _ = stream.write_all(garbage);
        let _ = stream.shutdown(std::net::Shutdown::Write);
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
        assert!(answer.len() < 20_000);
    }
    ended_well(first);
    let last = settled(&moth);
    assert_eq!(
        (count(&last, "frames", "offered"), count(&last, "frames", "dropped")),
        (180, 0),
        "the first one noticed nothing"
    );
    assert_eq!(frames(&nginx.recordings()[0], "v"), 180);
    let log = moth.log();
    assert!(log.contains("not RTMP's version 3"), "{log}");
    assert_eq!(moth.stop().0, Some(0));
}

#[test]
fn a_server_that_refuses_is_named_with_its_reason_and_asked_again() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    // Somebody already publishes under this key.
    let other = publish(here(), &format!("{}/{KEY}", nginx.address()), 8, 500);
    wait_for("the other broadcast", Duration::from_secs(10), || (!nginx.recordings().is_empty()).then_some(()));
    let moth = Moth::here(&[&nginx.address()]);
    let ffmpeg = publish(here(), &moth.publish_to(), 20, 500);
    let line =
        wait_for("the verdict", Duration::from_secs(10), || moth.lines().pop().filter(|l| l["fault"] == "network"));
    assert_eq!((line["state"].as_str(), line["cause"].as_str()), (Some("dark"), Some("server-refuses")), "{line}");
    assert!(line["sentence"].as_str().unwrap().contains("NetStream.Publish.BadName"), "{line}");
    ended_well(other);
    wait_for("the key to be free", Duration::from_secs(15), || {
        moth.lines().pop().filter(|l| l["state"] == "steady" && l["fault"] == "none")
    });
    ended_well(ffmpeg);
    assert_eq!(moth.stop().0, Some(0));
}

#[test]
fn uneven_timestamps_of_another_muxer_hide_no_skipped_frame() {
    if !have(&["nginx", "gst-launch-1.0"]) {
        return;
    }
    let nginx = Nginx::new();
    let moth = Moth::reading_pictures(here(), &[&nginx.address()], &[]);
    let to = moth.publish_to();
    let pipeline = format!(
        "videotestsrc is-live=true num-buffers=420 pattern=ball ! video/x-raw,width=320,height=180,framerate=30/1 ! \
         x264enc bframes=3 rc-lookahead=20 speed-preset=veryfast bitrate=800 key-int-max=60 ! h264parse ! \
         flvmux streamable=true ! rtmp2sink location={to}"
    );
    let mut command = here();
    command.args(["gst-launch-1.0", "-q"]).args(pipeline.split_whitespace());
    let mut encoder = Running(command.spawn().unwrap());
    let last = settled(&moth);
    let _ = encoder.0.wait();
    assert!(count(&last, "frames", "offered") > 400);
    let (_, lines) = moth.stop();
    let skipped: Vec<u64> = lines.iter().filter_map(|l| l["frames"]["skipped"].as_u64()).collect();
    assert!(skipped.iter().all(|skipped| *skipped <= 1), "420 of 420 came: {skipped:?}");
    assert!(lines.iter().all(|l| l["fault"] == "none"), "{lines:?}");
}

#[test]
fn a_key_that_is_wrong_is_said_to_be_wrong() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::taking_only("another-key");
    let moth = Moth::here(&[&nginx.address()]);
    let _ffmpeg = Running(publish(here(), &moth.publish_to(), 60, 500));
    wait_for("the verdict", Duration::from_secs(15), || (moth.lines().pop()?["fault"] == "network").then_some(()));
    std::thread::sleep(Duration::from_secs(6));
    let (_, lines) = moth.stop();
    let network: Vec<&Value> = lines.iter().filter(|l| l["fault"] == "network").collect();
    assert!(network.iter().all(|l| l["cause"] == "server-refuses"), "{network:#?}");
    let last = network.last().unwrap();
    assert!(last["sentence"].as_str().unwrap().contains("key is wrong"), "{last}");
    assert!(!last["proposals"].to_string().contains("status page"), "{last}");
}

#[test]
fn a_server_killed_four_times_is_away_and_never_slow() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let mut nginx = Nginx::new();
    let moth = Moth::here(&[&nginx.address()]);
    let _ffmpeg = Running(publish(here(), &moth.publish_to(), 120, 1500));
    let mut delivered = delivers(&moth, 60);
    for _ in 0..4 {
        nginx.kill();
        wait_for("the dark", Duration::from_secs(10), || (moth.lines().pop()?["state"] == "dark").then_some(()));
        nginx.start(None);
        delivered = delivers(&moth, delivered + 150);
    }
    let (_, lines) = moth.stop();
    let causes: Vec<&str> = lines.iter().filter_map(|l| l["cause"].as_str()).collect();
    assert!(causes.contains(&"server-away"), "{causes:?}");
    assert!(causes.iter().all(|cause| *cause == "server-away"), "what drains accuses nobody: {causes:?}");
}

/// Waits until more frames than that are delivered; gives how many are.
fn delivers(moth: &Moth, more_than: u64) -> u64 {
    wait_for("frames", Duration::from_secs(60), || {
        let delivered = count(&moth.lines().pop()?, "frames", "delivered");
        (delivered > more_than).then_some(delivered)
    })
}

/// The process that looks at pictures, begun by a moth.
fn onlooker(moth: &Moth) -> Option<u32> {
    let children = fs::read_to_string(format!("/proc/{0}/task/{0}/children", moth.id())).ok()?;
    children
        .split_whitespace()
        .filter_map(|id| id.parse().ok())
        .find(|id| fs::read(format!("/proc/{id}/cmdline")).is_ok_and(|line| line.ends_with(b"\0look\0")))
}

#[test]
fn the_picture_reader_is_killed_five_times_its_program_is_replaced_and_the_broadcast_goes_on() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let (nginx, dir) = (Nginx::new(), tempfile::tempdir().unwrap());
    // A copy, so that it can be replaced.
    let program = dir.path().join("moth");
    let script = format!("cp \"$1\" {0} && shift && exec {0} \"$@\"", program.display());
    let mut command = here();
    command.args(["sh", "-c", &script, "sh"]);
    let moth = Moth::reading_pictures(command, &[&nginx.address()], &[]);
    let _ffmpeg = Running(publish(here(), &moth.publish_to(), 120, 1500));
    let reads = |moth: &Moth| {
        wait_for("pictures that are read", Duration::from_secs(30), || {
            moth.lines().pop()?["origins"]["lagged_trust"].is_string().then_some(())
        });
    };
    reads(&moth);
    fs::remove_file(&program).unwrap();
    fs::write(&program, "another version").unwrap();
    let mut reader = onlooker(&moth).unwrap();
    // It holds no key: the environment it was begun with is empty.
    assert_eq!(fs::read(format!("/proc/{reader}/environ")).unwrap(), b"");
    for _ in 0..4 {
        kill(reader);
        reader = wait_for("another", Duration::from_secs(15), || onlooker(&moth).filter(|id| *id != reader));
    }
    reads(&moth);
    kill(reader);
    wait_for("a notice that it rests", Duration::from_secs(15), || {
        moth.newest()["notices"].to_string().contains("unseen").then_some(())
    });
    let delivered = delivers(&moth, 0);
    delivers(&moth, delivered + 90);
    let (status, lines) = moth.stop();
    assert_eq!(status, Some(0), "the broadcast ended as it was asked to");
    assert!(lines.iter().all(|l| l["frames"]["dropped"] == 0 && l["fault"] == "none"), "{:?}", lines.last());
    assert!(!Path::new(&format!("/proc/{reader}")).exists());
}

fn kill(id: u32) {
    assert!(Command::new("kill").args(["-KILL", &id.to_string()]).status().unwrap().success());
}

/// Ends a way while somebody broadcasts along it, and opens it again.
fn is_away_while(end: impl Fn(&Hosts), begin: impl Fn(&Hosts)) {
    if !have(&["nginx", "ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::new();
    let _nginx = Nginx::at(&hosts);
    let moth = Moth::watching(hosts.at_home(), &[&format!("rtmp://{SERVER_IP}:1935/live")]);
    let _ffmpeg = Running(publish(hosts.at_home(), &moth.publish_to(), 120, 1500));
    let delivered = delivers(&moth, 100);
    end(&hosts);
    wait_for("the dark", Duration::from_secs(20), || (moth.lines().pop()?["state"] == "dark").then_some(()));
    begin(&hosts);
    delivers(&moth, delivered + 100);
    let (_, lines) = moth.stop();
    let network: Vec<&Value> = lines.iter().filter(|l| l["fault"] == "network").collect();
    let told: Vec<String> = network.iter().map(|l| format!("{} {} {}", l["t"], l["cause"], l["sentence"])).collect();
    assert!(!told.is_empty() && network.iter().all(|l| l["cause"] == "server-away"), "{told:#?}");
}

#[test]
fn a_route_that_vanishes_is_away_and_nobody_is_slow() {
    // Packets go out and nothing comes back: nobody says that the way is gone.
    is_away_while(|hosts| hosts.vanish(0, true), |hosts| hosts.vanish(0, false));
}

#[test]
fn a_line_that_is_offline_is_away_and_nobody_is_slow() {
    let (up, route) = ("ip link set up0 up", "ip route add 10.77.0.0/24 via 10.78.0.2");
    // The cable is pulled: the machine itself knows of no way any more.
    is_away_while(
        |hosts| hosts.run_home("ip link set up0 down"),
        |hosts| [up, route].iter().for_each(|words| hosts.run_home(words)),
    );
}
