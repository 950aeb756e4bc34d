//! Real trouble, made with real programs, and the cause the built moth names.

use std::collections::BTreeMap;
use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use crate::common::*;
use serde_json::Value;

fn here() -> Command {
    Command::new("env")
}

/// How many lines told each fault and cause.
fn told(lines: &[Value]) -> BTreeMap<(String, String), usize> {
    let mut told = BTreeMap::new();
    for line in lines.iter().filter(|l| l["fault"] != "none") {
        let word = |name: &str| line[name].as_str().unwrap_or("unknown").to_owned();
        *told.entry((word("fault"), word("cause"))).or_default() += 1;
    }
    told
}

/// The verdict that stood for most lines, of at least so many; what stood beside it for at most a fifth of its time.
fn verdict(lines: &[Value], at_least: usize) -> (String, String) {
    let told = told(lines);
    let (verdict, count) = told.iter().max_by_key(|(_, count)| **count).unwrap_or_else(|| panic!("no verdict at all"));
    let others: usize = told.values().sum::<usize>() - count;
    assert!(*count >= at_least && others * 5 <= *count, "{told:?}");
    verdict.clone()
}

fn is(verdict: &(String, String), fault: &str, cause: &str) -> bool {
    (verdict.0.as_str(), verdict.1.as_str()) == (fault, cause)
}

fn sentence(lines: &[Value], cause: &str) -> String {
    let line = lines.iter().rev().find(|l| l["cause"] == cause).unwrap();
    line["sentence"].as_str().unwrap().to_owned()
}

/// A copy of a program under another name.
fn copy_of(program: &str, dir: &Path, name: &str) -> PathBuf {
    let found = std::env::split_paths(&std::env::var_os("PATH").unwrap()).map(|p| p.join(program)).find(|p| p.exists());
    let copy = dir.join(name);
    fs::copy(fs::canonicalize(found.unwrap()).unwrap(), &copy).unwrap();
    copy
}

/// Publishes for so long and then, ready or not, ends: an encoder that is too slow would take for ever.
fn publish_for(seconds: u64, command: Command, scene: &Scene<'_>, to: &str, kbps: u32) {
    let mut ffmpeg = Running(publish_scene(command, scene, &["-f", "flv", to], 600, kbps));
    std::thread::sleep(Duration::from_secs(seconds));
    ffmpeg.signal("KILL");
    ffmpeg.0.wait().unwrap();
}

#[test]
fn a_preset_too_heavy_for_the_machine_is_the_encoder() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let moth = Moth::reading_pictures(here(), &[&nginx.address()], &[]);
    let heavy = Scene {
        source: "testsrc2=size=1280x720:rate=60",
        filter: "noise=alls=20:allf=t",
        encoding: &["-preset", "veryslow", "-g", "120", "-threads", "2"],
        ..Scene::default()
    };
    publish_for(16, here(), &heavy, &moth.publish_to(), 6000);
    let (_, lines) = moth.stop();
    assert!(is(&verdict(&lines, 5), "encoder", "preset-heavy"), "{:?}", told(&lines));
    assert!(sentence(&lines, "preset-heavy").contains("of real time"), "{}", sentence(&lines, "preset-heavy"));
}

#[test]
fn a_program_that_takes_the_cpu_beside_the_encoder_is_named() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let moth = Moth::reading_pictures(here(), &[&nginx.address()], &[]);
    let stitch = copy_of("sh", moth.dir.path(), "plate-stitch");
    let scene = Scene {
        source: "testsrc2=size=1280x720:rate=30",
        encoding: &["-preset", "faster", "-g", "60", "-threads", "2"],
        ..Scene::default()
    };
    let mut ffmpeg = Running(publish_scene(here(), &scene, &["-f", "flv", &moth.publish_to()], 600, 4000));
    std::thread::sleep(Duration::from_secs(7));
    let before = told(&moth.lines());
    let cores = std::thread::available_parallelism().unwrap().get();
    let hogs: Vec<Running> = (0..cores * 6)
        .map(|_| Running(Command::new(&stitch).args(["-c", "while :; do :; done"]).spawn().unwrap()))
        .collect();
    std::thread::sleep(Duration::from_secs(13));
    drop(hogs);
    ffmpeg.signal("KILL");
    ffmpeg.0.wait().unwrap();
    let (_, lines) = moth.stop();
    assert_eq!(before, BTreeMap::new(), "the encoder keeps up with the machine to itself");
    assert!(is(&verdict(&lines, 4), "encoder", "cpu-starved"), "{:?}", told(&lines));
    assert!(sentence(&lines, "cpu-starved").contains("plate-stitch"), "{}", sentence(&lines, "cpu-starved"));
}

#[test]
fn repeats_in_a_moving_picture_are_the_rendering_and_a_still_picture_is_nothing() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    for b_frames in ["0", "2"] {
        let moth = Moth::reading_pictures(here(), &[&nginx.address()], &[]);
        // For six seconds every picture moves, then every third shows the last one again.
        let encoding = ["-preset", "veryfast", "-g", "60", "-bf", b_frames, "-threads", "1"];
        let scene = Scene { filter: "select='lt(t\\,6)+mod(n\\,3)',fps=30", encoding: &encoding, ..Scene::default() };
        publish_for(15, here(), &scene, &moth.publish_to(), 2500);
        let (_, lines) = moth.stop();
        assert_eq!(verdict(&lines, 4).0, "rendering", "{b_frames} B-frames: {:?}", told(&lines));
        let last = lines.iter().rev().find(|l| l["frames"]["lagged"].is_u64()).unwrap();
        let lagged = last["frames"]["lagged"].as_u64().unwrap();
        assert!((50..=95).contains(&lagged), "{lagged} of about 80, with {b_frames} B-frames");
        assert_eq!(last["origins"]["lagged"], "inferred");
        // What was counted stays when the broadcaster has left; how far it can be trusted is told while it is read.
        let trusted = lines.iter().rev().find(|l| l["origins"]["lagged_trust"].is_string()).unwrap();
        assert_eq!(trusted["origins"]["lagged_trust"], "good", "with {b_frames} B-frames");
    }
    let moth = Moth::reading_pictures(here(), &[&nginx.address()], &[]);
    let still =
        Scene { source: "color=c=gray:size=640x360:rate=30", filter: "drawbox=x=80:w=90:c=red", ..Scene::default() };
    publish_for(15, here(), &still, &moth.publish_to(), 2500);
    let (_, lines) = moth.stop();
    assert_eq!(told(&lines), BTreeMap::new());
    let noticed = lines.iter().any(|l| l["notices"].as_array().unwrap().iter().any(|n| n == "still-picture"));
    assert!(noticed, "and it is said that nothing moves");
}

/// A second server at the end of the same line: it answers handshakes, which is all it is asked for.
fn second_server(hosts: &Hosts, server: usize) -> Ingest {
    Ingest::begin(hosts.at(server), &format!("rtmp://{}:1936/live", Hosts::ip(server)), &[])
}

/// What is told on a line of so many kb/s while `upload` sends beside a broadcast of so many, which has the line to
/// itself before, and then nothing is told.
fn told_beside([line_kbps, kbps]: [u32; 2], upload: impl FnOnce(&Hosts, &Moth) -> Child) -> Vec<Value> {
    let hosts = Hosts::new();
    hosts.narrow(0, line_kbps, 400);
    let _nginx = Nginx::at(&hosts);
    let _second = second_server(&hosts, 0);
    let to = [format!("rtmp://{SERVER_IP}:1935/live"), format!("rtmp://{SERVER_IP}:1936/live")];
    let moth = Moth::watching(hosts.at_home(), &[&to[0], &to[1]]);
    let mut ffmpeg = Running(publish(hosts.at_home(), &moth.publish_to(), 600, kbps));
    // Long enough to know what the line carries when all is well.
    std::thread::sleep(Duration::from_secs(14));
    let before = moth.lines();
    let accused = before.iter().rev().find(|line| line["fault"] != "none");
    assert!(accused.is_none(), "{:?}, the last of them {}", told(&before), accused.unwrap_or(&Value::Null));
    let mut upload = Running(upload(&hosts, &moth));
    std::thread::sleep(Duration::from_secs(14));
    upload.signal("KILL");
    ffmpeg.signal("KILL");
    upload.0.wait().unwrap();
    ffmpeg.0.wait().unwrap();
    moth.stop().1
}

#[test]
fn another_programs_upload_through_the_same_line_is_named() {
    if !have(&["nginx", "ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let lines = told_beside([5000, 3000], |hosts, moth| {
        let sync = copy_of("ffmpeg", moth.dir.path(), "archive-sync");
        let upload = format!("rtmp://{SERVER_IP}:1935/live/archive");
        send(hosts.at_home(), sync.to_str().unwrap(), 600, 9000, &["-f", "flv", &upload])
    });
    assert!(is(&verdict(&lines, 4), "network", "upload-here"), "{:?}", told(&lines));
    assert!(sentence(&lines, "upload-here").contains("archive-sync"), "{}", sentence(&lines, "upload-here"));
}

#[test]
fn an_upload_that_is_not_tcp_is_named_as_far_as_the_kernel_tells() {
    if !have(&["nginx", "ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let lines = told_beside([8000, 6000], |hosts, _| {
        // As QUIC would: datagrams that give way to nobody.
        let upload = format!("udp://{SERVER_IP}:4433?pkt_size=1316");
        send(hosts.at_home(), "ffmpeg", 600, 3000, &["-muxrate", "4500k", "-f", "mpegts", &upload])
    });
    assert!(is(&verdict(&lines, 4), "network", "upload-here"), "{:?}", told(&lines));
    let sentence = sentence(&lines, "upload-here");
    let kbps = sentence.split("sends ").nth(1).and_then(|text| text.split(" kb/s").next()).map(|n| n.replace(' ', ""));
    let kbps: f64 = kbps.unwrap_or_else(|| panic!("{sentence}")).parse().unwrap();
    assert!((3900.0..5400.0).contains(&kbps) && sentence.contains("that no TCP connection"), "{sentence}");
}

#[test]
fn a_narrow_link_a_narrow_route_and_a_narrow_line_are_told_apart() {
    if !have(&["nginx", "ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::with(2);
    let _nginx = Nginx::at(&hosts);
    let _other = Ingest::begin(hosts.at(1), &format!("rtmp://{}:1935/live", Hosts::ip(1)), &[]);
    let _second = second_server(&hosts, 0);
    let (first, same_way, other_way) = (
        format!("rtmp://{SERVER_IP}:1935/live"),
        format!("rtmp://{SERVER_IP}:1936/live"),
        format!("rtmp://{}:1935/live", Hosts::ip(1)),
    );
    // The bucket is before the first router, on the way to one server only, or on the way to all.
    for (at_home, other, cause) in
        [(true, &same_way, "local-link"), (false, &other_way, "route"), (false, &same_way, "line-short")]
    {
        let moth = Moth::watching(hosts.at_home(), &[&first, other]);
        let mut ffmpeg = Running(publish(hosts.at_home(), &moth.publish_to(), 600, 3000));
        std::thread::sleep(Duration::from_secs(5));
        if at_home {
            hosts.run_home("tc qdisc replace dev up0 root tbf rate 2000kbit burst 10kb limit 130kb");
        } else {
            hosts.narrow(0, 2000, 500);
        }
        std::thread::sleep(Duration::from_secs(13));
        ffmpeg.signal("KILL");
        ffmpeg.0.wait().unwrap();
        if at_home {
            hosts.run_home("tc qdisc del dev up0 root");
        } else {
            hosts.narrow(0, 100_000, 500);
        }
        let (_, lines) = moth.stop();
        assert!(is(&verdict(&lines, 4), "network", cause), "{cause}: {:?}", told(&lines));
    }
}

/// What an HTTP server answers to a request, as it is.
fn ask(port: u16, request: &str) -> String {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    String::from_utf8_lossy(&answer).into_owned()
}

fn get(port: u16, path: &str) -> String {
    ask(port, &format!("GET {path} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n"))
}

#[test]
fn ffmpegs_progress_a_second_machine_and_the_endpoint_work_beside_a_broadcast() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let (feed, load, endpoint) = (free_port(), free_port(), free_port());
    let folder = tempfile::tempdir().unwrap();
    let recording = folder.path().join("seen.jsonl");
    let moth_binary = env!("CARGO_BIN_EXE_moth");
    let host = Command::new(moth_binary)
        .args(["host", "--serve", &format!("127.0.0.1:{load}"), "--name", "dome-left"])
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let host = Running(host);
    let more = [
        "--feed".to_owned(),
        format!("127.0.0.1:{feed}"),
        "--also".to_owned(),
        format!("http://127.0.0.1:{load}"),
        "--serve".to_owned(),
        format!("127.0.0.1:{endpoint}"),
        "--record".to_owned(),
        recording.display().to_string(),
    ];
    let more: Vec<&str> = more.iter().map(String::as_str).collect();
    let moth = Moth::watching_with(here(), &[&nginx.address()], &more);
    let progress = format!("tcp://127.0.0.1:{feed}");
    let scene = Scene { more: &["-progress", &progress], ..Scene::default() };
    let ffmpeg = publish_scene(here(), &scene, &["-f", "flv", &moth.publish_to()], 12, 1500);
    let reported = wait_for("ffmpeg's own count", Duration::from_secs(15), || {
        moth.lines().pop().filter(|l| l["origins"]["skipped"] == "reported")
    });
    assert_eq!((reported["frames"]["skipped"].as_u64(), reported["frames"]["lagged"].as_u64()), (Some(0), Some(0)));
    let metrics = wait_for("metrics", Duration::from_secs(5), || {
        Some(get(endpoint, "/metrics")).filter(|text| text.contains("moth_frames_total{kind=\"delivered\"}"))
    });
    assert!(metrics.contains("text/plain; version=0.0.4") && !metrics.contains("# EOF"), "{metrics}");
    let newer = "Host: localhost\r\nAccept: application/openmetrics-text;version=1.0.0,text/plain;q=0.5";
    let newer = ask(endpoint, &format!("GET /metrics HTTP/1.1\r\n{newer}\r\nConnection: close\r\n\r\n"));
    assert!(newer.contains("application/openmetrics-text") && newer.trim_end().ends_with("# EOF"), "{newer}");
    let body = get(endpoint, "/snapshot");
    let json: Value = serde_json::from_str(body.rsplit("\r\n\r\n").next().unwrap()).unwrap();
    assert_eq!(json["server"], "127.0.0.1:".to_owned() + nginx.address().split([':', '/']).nth(4).unwrap());
    // A web page whose name was pointed here, or that asks from elsewhere, reads nothing.
    for lines in ["Host: pages.farrowgate.invalid", "Host: localhost\r\nOrigin: https://pages.farrowgate.invalid"] {
        for path in ["/snapshot", "/metrics"] {
            let answer = ask(endpoint, &format!("GET {path} HTTP/1.1\r\n{lines}\r\nConnection: close\r\n\r\n"));
            assert!(answer.starts_with("HTTP/1.1 403"), "{answer}");
        }
    }
    assert!(get(load, "/metrics").contains("moth_host{host=\"dome-left\"} 1"));
    // Garbage on either port changes nothing.
    for port in [feed, load, endpoint] {
        ask(port, "\0\u{1}\u{2} not http at all\r\n\r\n");
        ask(port, &format!("GET /{} HTTP/1.1\r\n\r\n", "x".repeat(200_000)));
    }
    assert!(get(endpoint, "/nowhere").starts_with("HTTP/1.1 404"));
    ended_well(ffmpeg);
    host.signal("TERM");
    wait_for("the silent machine to be told", Duration::from_secs(10), || {
        fs::read_to_string(&recording).unwrap().contains("/metrics cannot be read").then_some(())
    });
    let (status, lines) = moth.stop();
    assert_eq!(status, Some(0));
    let seen = fs::read_to_string(&recording).unwrap();
    let second = seen.lines().filter(|line| line.contains("\"host\":\"dome-left\""));
    assert!(
        second.filter(|line| line.contains("\"cpu\":0.") || line.contains("\"cpu\":1.0")).count() > 5,
        "its load was read while it told"
    );
    assert!(lines.iter().all(|l| l["fault"] == "none"), "{:?}", told(&lines));
}
