//! What is done before going live, through the built moth, against real servers behind real token buckets.

use std::io::Write;
use std::net::TcpListener;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::common::*;
use serde_json::Value;

fn here() -> Command {
    Command::new("env")
}

fn place<'a>(report: &'a Value, server: &str) -> &'a Value {
    let places = report["ranking"].as_array().unwrap();
    places.iter().find(|place| place["server"] == server).unwrap_or_else(|| panic!("{server} in {report}"))
}

fn order(report: &Value) -> Vec<&str> {
    report["ranking"].as_array().unwrap().iter().map(|place| place["server"].as_str().unwrap()).collect()
}

/// Whether a rate in bits per second is within a share of what a bucket lets through.
fn within(bps: &Value, kbps: f64, share: f64) -> bool {
    bps.as_f64().is_some_and(|bps| (bps / 1000.0 / kbps - 1.0).abs() <= share)
}

/// Whether a rate is what a bucket lets through, as far as this machine had time for it: never more, and not much
/// less. A machine busy with something else fills a bucket late, which takes some seconds of the measurement away.
fn through(bps: &Value, kbps: f64) -> bool {
    bps.as_f64().is_some_and(|bps| (0.75..=1.1).contains(&(bps / 1000.0 / kbps)))
}

#[test]
fn real_servers_are_ranked_in_the_order_of_their_buckets() {
    if !have(&["nginx", "node", "node-media-server", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::with(5);
    let buckets = [2200_u32, 5600, 3900, 7600];
    for (i, kbps) in buckets.iter().enumerate() {
        hosts.narrow(i, *kbps, 200);
    }
    let _nginx = [Nginx::at_one_of(&hosts, 0), Nginx::at_one_of(&hosts, 1)];
    let _node = [NodeMedia::at(&hosts, 2), NodeMedia::at(&hosts, 3)];
    let _slow = Ingest::begin(hosts.at(4), &format!("rtmp://{}:1935/live", Hosts::ip(4)), &["--reads", "1500k"]);
    let names = ["Aldmoor", "Brackwater", "Cindervale", "Dunmere", "Elmsreach"];
    let addresses: Vec<String> = (0..5).map(|i| format!("rtmp://{}:1935/live", Hosts::ip(i))).collect();
    let servers: Vec<(&str, &str)> = names.iter().copied().zip(addresses.iter().map(String::as_str)).collect();
    let configured = Configured::new(&servers);
    let report = configured.measure(hosts.at_home(), &["routes", "--up-to", "12M", "--pick", "--line", "the test's"]);
    assert_eq!(order(&report), ["Dunmere", "Brackwater", "Cindervale", "Aldmoor", "Elmsreach"], "{report}");
    for (name, kbps) in names.iter().zip(buckets) {
        let carried = &place(&report, name)["result"]["above"];
        assert!(through(&carried["sustained_bps"], f64::from(kbps)), "{name} behind {kbps} kb/s: {carried}");
        assert!(
            carried["rtt_ms"].as_f64().unwrap() > 5.0,
            "the bucket fills, how far is the kernel's choice: {carried}"
        );
    }
    let grades: Vec<&str> = names.iter().map(|name| place(&report, name)["grade"].as_str().unwrap()).collect();
    assert_eq!(grades, ["short", "holds", "tight", "holds", "short"]);
    let slow = place(&report, "Elmsreach");
    assert!(slow["sentence"].as_str().unwrap().contains("the server reads slowly"), "{slow}");
    assert!(slow["result"]["above"]["receiver_limited"].as_f64().unwrap() > 0.8, "{slow}");
    assert_eq!(report["finding"], "servers");
    assert_eq!(report["around"]["interface"]["name"], "up0", "the way to the first server: {report}");
    assert_eq!(report["around"]["interface"]["qdisc"], "noqueue");
    assert!(
        configured.config().contains("server = \"Dunmere\"") && configured.config().contains("# kept"),
        "{}",
        configured.config()
    );

    // The same again over a line that got worse: compared with before.
    hosts.narrow(3, 4500, 200);
    let report = configured
        .measure(hosts.at_home(), &["routes", "--server", "Dunmere", "--up-to", "12M", "--line", "the test's"]);
    let dunmere = place(&report, "Dunmere");
    assert!(through(&dunmere["before"]["sustained_bps"], 7600.0), "{dunmere}");
    assert!(through(&dunmere["result"]["above"]["sustained_bps"], 4500.0), "{dunmere}");
    let history = configured.moth(here(), &["routes", "--history"]);
    let history = String::from_utf8_lossy(&history.stdout).into_owned();
    assert!(history.contains("2 tests kept") && history.matches("Dunmere").count() == 2, "{history}");
}

#[test]
fn what_is_published_for_a_test_is_a_broadcast_that_decodes() {
    if !have(&["nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::new(&[("Aldmoor", &nginx.address())]);
    let chart = configured.dir.path().join("servers.svg").display().to_string();
    let report = configured.measure(here(), &["routes", "--chart", &chart]);
    let result = &place(&report, "Aldmoor")["result"];
    let drawn = std::fs::read_to_string(&chart).unwrap();
    assert!(!drawn.contains(KEY), "the key is in no drawing");
    assert!(drawn.contains("Aldmoor") && drawn.contains("servers of Nocturne") && drawn.contains("planned"), "{drawn}");
    // The newest of what is kept is drawn again without a test, and without names.
    let again = ["routes", "--history", "--force", "--anonymous", "--chart", &chart];
    assert!(configured.moth(here(), &again).status.success());
    let drawn = std::fs::read_to_string(&chart).unwrap();
    assert!(drawn.contains("server A"), "{drawn}");
    for name in ["Aldmoor", "Nocturne", "127.0.0.1", ">here<"] {
        assert!(!drawn.contains(name), "{name} in {drawn}");
    }
    assert!(result["connect_ms"].as_f64().unwrap() < 100.0 && result["handshake_ms"].as_f64().unwrap() < 500.0);
    assert!(within(&result["planned"]["sustained_bps"], 3160.0, 0.03), "{result}");
    assert!(within(&result["above"]["sustained_bps"], 6320.0, 0.03), "{result}");
    assert_eq!(place(&report, "Aldmoor")["at_least"], true, "it carried all that was offered");
    let recordings = nginx.recordings();
    assert_eq!(recordings.len(), 1);
    assert!(recordings[0].to_str().unwrap().contains(KEY), "under the key, which names the recording");
    assert_eq!(decode(&recordings[0]), "", "any decoder reads it");
    let (video, audio) = (frames(&recordings[0], "v"), frames(&recordings[0], "a"));
    // It ends by the clock: on a busy machine a few frames are not made by then.
    assert!((285..=301).contains(&video) && (445..=471).contains(&audio), "10 s at 30 frames/s: {video}, {audio}");
    assert!(first_flags(&recordings[0]).starts_with('K'));
}

/// A port on which everything is accepted and nothing said.
fn silent() -> (TcpListener, String) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("rtmp://127.0.0.1:{}/live", listener.local_addr().unwrap().port());
    (listener, address)
}

/// A port that speaks something else.
fn web_server() -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("rtmp://127.0.0.1:{}/live", listener.local_addr().unwrap().port());
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let _ = stream.unwrap().write_all(b"HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n");
        }
    });
    address
}

#[test]
fn each_failure_is_one_clear_line_and_the_others_are_still_tested() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let (good, strict) = (Nginx::new(), Nginx::taking_only("some-other-key"));
    let busy = Nginx::new();
    let other = publish(here(), &format!("{}/{KEY}", busy.address()), 60, 300);
    wait_for("the other broadcast", Duration::from_secs(10), || (!busy.recordings().is_empty()).then_some(()));
    let (_listener, silent) = silent();
    let wrong_app = good.address().replace("/live", "/nowhere");
    let no_tls = good.address().replace("rtmp://", "rtmps://");
    let closed = format!("rtmp://127.0.0.1:{}/live", free_port());
    let web = web_server();
    let (strict_address, busy_address, good_address) = (strict.address(), busy.address(), good.address());
    let cases = [
        ("wrong-key", strict_address.as_str(), "refused", "the key is wrong or in use"),
        ("key-in-use", &busy_address, "refused", "NetStream.Publish.BadName"),
        ("wrong-app", &wrong_app, "", ""),
        (
            "no-name",
            "rtmp://no-such-host.invalid/live",
            "name-not-found",
            "the name `no-such-host.invalid` was not found",
        ),
        ("closed", &closed, "port-closed", "nothing listens there"),
        ("silent", &silent, "silent", "does not take a broadcast within 8 s"),
        ("no-tls", &no_tls, "tls", "begins with rtmp://"),
        ("web", &web, "not-rtmp", ""),
    ];
    let mut servers: Vec<(&str, &str)> = cases.iter().map(|(name, address, ..)| (*name, *address)).collect();
    servers.push(("good", &good_address));
    let configured = Configured::new(&servers);
    let began = Instant::now();
    // Without what a service adds for an unseen run: the key must be the very one that is in use.
    let plain = configured.config().replace("unseen = \"-dim\"\n", "");
    std::fs::write(configured.dir.path().join("moth.toml"), plain).unwrap();
    let report = configured.measure(here(), &["routes", "--on-air"]);
    assert!(began.elapsed() < Duration::from_secs(45), "{:?}", began.elapsed());
    for (name, _, kind, why) in cases {
        let place = place(&report, name);
        assert_eq!(place["grade"], "failed", "{name}: {place}");
        let failure = &place["result"]["failure"];
        if !kind.is_empty() {
            assert_eq!(failure["kind"], kind, "{name}: {failure}");
        }
        let said = failure["why"].as_str().unwrap();
        assert!(said.contains(why) && !said.contains('\n') && said.len() > 15, "{name}: {said}");
    }
    assert_eq!(order(&report)[0], "good");
    assert_eq!(place(&report, "good")["grade"], "holds", "{report}");
    drop(Running(other));
}

#[test]
fn the_line_is_measured_and_a_deep_buffer_told_from_a_shallow_one() {
    if !have(&["unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::new();
    let address = format!("rtmp://{SERVER_IP}:19351/moth");
    let _ingest = Ingest::begin(hosts.at_server(), &address, &[]);
    let configured = Configured::new(&[("Aldmoor", "rtmp://127.0.0.1:9/live")]);
    let mut bloat = Vec::new();
    for (kbps, buffer_ms, word) in [(6000, 30, "shallow"), (4000, 600, "deep")] {
        hosts.narrow(0, kbps, buffer_ms);
        let chart = configured.dir.path().join(format!("line-{word}.svg")).display().to_string();
        let words = ["uplink", "--to", &address, "--line", "the test's", "--chart", &chart];
        let report = configured.measure(hosts.at_home(), &words);
        let drawn = std::fs::read_to_string(&chart).unwrap();
        assert!(drawn.contains(&format!("a {word} buffer")) && drawn.contains("bufferbloat"), "{drawn}");
        let reading = &report["reading"];
        assert!(through(&reading["sustained_bps"], f64::from(kbps)), "{kbps}: {reading}");
        assert_eq!(reading["buffer"], word, "{reading}");
        assert!(reading["idle_rtt_ms"].as_f64().unwrap() < 20.0, "{reading}");
        assert_eq!(report["around"]["interface"]["name"], "up0", "{report}");
        assert_eq!(report["line"], "the test's");
        assert!(report["runs"][0]["carried"]["per_second_bps"].as_array().unwrap().len() >= 8);
        bloat.push((reading["bufferbloat_ms"].as_f64().unwrap(), reading["rpm"].as_u64().unwrap()));
    }
    assert!(bloat[0].0 < 50.0 && bloat[1].0 > 300.0 && bloat[0].1 > 4 * bloat[1].1, "{bloat:?}");

    // A plan rests on the newest of it.
    let chart = configured.dir.path().join("pictures.pdf").display().to_string();
    let plan = configured.moth(here(), &["plan", "--json", "--motion", "fast", "--chart", &chart]);
    assert!(std::fs::read(&chart).unwrap().starts_with(b"%PDF"));
    let refused = configured.moth(here(), &["plan", "--chart", &chart]);
    assert_eq!(refused.status.code(), Some(2), "it is not written over");
    let plan: Value = serde_json::from_slice(&plan.stdout).unwrap();
    assert!(plan["basis"]["from"].as_str().unwrap().contains("the test's"), "{plan}");
    assert!(through(&plan["video_bps"], 4000.0 * 0.95 * 0.75 - 160.0), "{plan}");
    // Of a small picture in which little moves, no more is of use than it needs.
    let small = configured.moth(here(), &["plan", "--json", "--motion", "talking"]);
    let small: Value = serde_json::from_slice(&small.stdout).unwrap();
    assert_eq!(small["binding"], "picture", "{small}");
    assert!(small["video_bps"].as_f64().unwrap() < 1_000_000.0, "{small}");
}

#[test]
fn another_upload_on_the_line_is_named_with_its_program() {
    if !have(&["ffmpeg", "nginx", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::with(2);
    let nginx = Nginx::at_one_of(&hosts, 1);
    let address = format!("rtmp://{SERVER_IP}:19351/moth");
    let _ingest = Ingest::begin(hosts.at_server(), &address, &[]);
    let other = publish(hosts.at_home(), &format!("rtmp://{}:1935/live/x", Hosts::ip(1)), 60, 2500);
    wait_for("the other upload", Duration::from_secs(10), || (!nginx.recordings().is_empty()).then_some(()));
    hosts.narrow(0, 6000, 100);
    let configured = Configured::new(&[("Aldmoor", "rtmp://127.0.0.1:9/live")]);
    let report = configured.measure(hosts.at_home(), &["uplink", "--to", &address]);
    drop(Running(other));
    let upload = &report["around"]["uploads"][0];
    assert_eq!(upload["program"], "ffmpeg", "{report}");
    assert!(within(&upload["rate_bps"], 2630.0, 0.25), "{upload}");
    let held = report["reading"]["held_back"][0].as_str().unwrap();
    assert!(held.contains("ffmpeg was already uploading"), "{held}");
}

#[test]
fn what_was_tested_until_ctrl_c_is_told_and_kept() {
    if !have(&["nginx"]) {
        return;
    }
    let nginx = Nginx::new();
    let (one, two) = (nginx.address(), nginx.address().replace("127.0.0.1", "localhost"));
    let configured = Configured::new(&[("Aldmoor", &one), ("Brackwater", &two)]);
    let child = here()
        .arg(env!("CARGO_BIN_EXE_moth"))
        .args(["routes", "--yes", "--json", "--key-file"])
        .arg(configured.dir.path().join("key"))
        .arg("--config")
        .arg(configured.dir.path().join("moth.toml"))
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let running = Running(child);
    wait_for("the second server's turn", Duration::from_secs(30), || (nginx.recordings().len() == 2).then_some(()));
    std::thread::sleep(Duration::from_millis(3500));
    running.signal("INT");
    let mut running = running;
    let mut text = String::new();
    std::io::Read::read_to_string(&mut running.0.stdout.take().unwrap(), &mut text).unwrap();
    assert_eq!(running.0.wait().unwrap().code(), Some(0));
    let report: Value = serde_json::from_str(&text).unwrap();
    assert_eq!(report["cancelled"], true);
    assert_eq!(place(&report, "Aldmoor")["grade"], "holds");
    assert_eq!(place(&report, "Brackwater")["result"]["cancelled"], true);
    assert!(configured.dir.path().join("moth.data/results.jsonl").exists());
}

#[test]
fn a_measuring_host_takes_one_key_only_if_told_so_and_survives_garbage() {
    let dir = tempfile::tempdir().unwrap();
    let key = dir.path().join("its-key");
    std::fs::write(&key, "orbit-of-its-own").unwrap();
    let address = format!("rtmp://127.0.0.1:{}/moth", free_port());
    let _ingest = Ingest::begin(here(), &address, &["--key-file", key.to_str().unwrap()]);
    let port = address.split(':').nth(2).unwrap().split('/').next().unwrap();
    for garbage in [&b"GET / HTTP/1.1\r\n\r\n"[..], &[3; 9000], &[0xff; 4000], b""] {
        let mut stream = std::net::TcpStream::connect(format!("127.0.0.1:{port}")).unwrap();
        let _ = stream.write_all(garbage);
    }
    let configured = Configured::new(&[("Aldmoor", "rtmp://127.0.0.1:9/live")]);
    let refused = configured.moth(here(), &["uplink", "--to", &address]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert_eq!(refused.status.code(), Some(2));
    assert!(said.contains("this key is not known here") && said.lines().count() == 1, "{said}");
    let wrong = configured.moth(here(), &["uplink", "--to", &address.replace("/moth", "/elsewhere")]);
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("no such application"));
    let words = ["uplink", "--to", &address, "--up-to", "20M", "--json", "--key-file", key.to_str().unwrap()];
    let taken = configured.moth(here(), &words);
    assert!(taken.status.success());
    let report: Value = serde_json::from_slice(&taken.stdout).unwrap();
    let reading = &report["reading"];
    assert!(reading["at_least"] == true && within(&reading["sustained_bps"], 20_000.0, 0.01), "{reading}");
    assert!(reading["first"].as_str().unwrap().contains("it carried all it was given"), "{reading}");
}

#[test]
fn nobody_publishes_under_a_key_without_consent() {
    let configured = Configured::new(&[("Aldmoor", "rtmp://127.0.0.1:9/live")]);
    let key = configured.dir.path().join("key").display().to_string();
    let refused = |words: &[&str]| {
        let out = configured.moth(here(), &[words, &["--key-file", &key]].concat());
        assert_eq!(out.status.code(), Some(2));
        String::from_utf8_lossy(&out.stderr).into_owned()
    };
    let said = refused(&["routes"]);
    assert!(
        said.contains("publishes filler to one server of Nocturne under your key") && said.contains("--yes"),
        "{said}"
    );
    assert!(refused(&["uplink"]).contains("--yes"));
    let config = configured.config().replace("unseen = \"-dim\"\n", "");
    std::fs::write(configured.dir.path().join("moth.toml"), config).unwrap();
    assert!(refused(&["routes", "--yes"]).contains("--on-air"), "what viewers would see needs more than a yes");
}
