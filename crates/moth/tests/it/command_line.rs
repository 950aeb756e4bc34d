//! The command line: lines of JSON, and what is said of bad usage.

use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::process::{Command, Output, Stdio};

use serde_json::Value;

fn moth() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_moth"));
    command.env_remove("MOTH_STREAM_KEY");
    // Nobody's own configuration is read, let alone written.
    for folder in ["HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"] {
        command.env(folder, "/nonexistent");
    }
    command
}

fn said(out: &Output) -> String {
    assert_eq!(out.status.code(), Some(2));
    assert!(out.stdout.is_empty(), "nothing but JSON goes to standard output");
    let text = String::from_utf8_lossy(&out.stderr).into_owned();
    assert_eq!(text.lines().count(), 1, "one clear line: {text}");
    text
}

#[test]
fn the_demo_prints_one_object_a_second_with_every_key() {
    let out = moth().args(["demo", "--headless", "--for", "4"]).output().unwrap();
    assert!(out.status.success());
    let lines: Vec<Value> =
        String::from_utf8_lossy(&out.stdout).lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert!(lines.len() >= 5, "{}", lines.len());
    let keys = [
        "t",
        "state",
        "fault",
        "cause",
        "confidence",
        "server",
        "frames",
        "audio",
        "rates",
        "queue_ms",
        "rtt_ms",
        "cpu_percent",
    ];
    for line in &lines {
        for key in keys {
            assert!(line.get(key).is_some(), "{key} in {line}");
        }
        for key in ["offered", "delivered", "dropped", "queued"] {
            assert!(line["frames"][key].is_u64() && line["audio"][key].is_u64(), "{line}");
        }
        assert!(line["frames"].get("skipped").is_some() && line["frames"].get("lagged").is_some());
        assert!(line["rates"].get("video_kbps").is_some() && line["rates"].get("sent_kbps").is_some());
    }
    let third = &lines[3];
    assert_eq!(
        (third["t"].as_f64(), third["state"].as_str(), third["fault"].as_str()),
        (Some(3.0), Some("steady"), Some("none"))
    );
    assert_eq!(third["server"], "Aldmoor");
    // At its documented place, each key of a line is described.
    let documented = include_str!("../../../../docs/snapshot.md");
    for key in third.as_object().unwrap().keys() {
        assert!(documented.contains(&format!("`{key}`")), "docs/snapshot.md describes `{key}`");
    }
}

#[test]
fn whoever_reads_may_stop_reading() {
    let mut child = moth().args(["demo", "--headless"]).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut first = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut first).unwrap();
    assert!(first.starts_with('{'));
    assert!(child.wait().unwrap().success(), "a closed pipe ends it well");
}

#[test]
fn the_evenings_are_named() {
    let out = moth().args(["demo", "--list"]).output().unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    for slug in ["calm", "archive-sync", "tired-server", "nebula-scene", "ambitious-preset", "blackout"] {
        assert!(text.lines().any(|l| l.starts_with(slug)), "{slug} in {text}");
    }
}

#[test]
fn bad_usage_is_one_clear_line_and_status_2() {
    let run = |words: &[&str]| said(&moth().args(words).output().unwrap());
    assert!(run(&[]).contains("moth --help"));
    assert!(run(&["wacth"]).contains("wacth"));
    assert!(run(&["demo", "--evening", "gala", "--headless"]).contains("no evening `gala`"));
    let soon = run(&["demo", "--headless", "--for", "soon"]);
    assert!(soon.contains("soon") && soon.contains("like 90, 90s, 1m30s or 2h"), "{soon}");
    assert!(run(&["demo", "--headless", "--serve", "studio"]).contains("or a port by itself"));
    // What may be meant is asked back.
    assert!(run(&["wacth"]).contains("did you mean `watch`?"));
    assert!(run(&["demo", "--evening", "tired-sever"]).contains("did you mean `tired-server`?"));
    assert!(run(&["tell", "bitrat", "3000k"]).contains("did you mean `bitrate`?"));
    assert!(run(&["plan", "--headrom", "20"]).contains("did you mean `--headroom`?"));
    assert!(run(&["plan", "--sustained", "6MB"]).contains("may be bits or bytes"));
    // A port alone is a place to listen at: what is wrong here is another thing.
    assert!(
        run(&["watch", "--headless", "--listen", "127.0.0.1:19350", "--to", "rtmp://localhost:19350/moth"])
            .contains("circle")
    );
    assert!(run(&["plan", "--headroom", "much"]).contains("percent from 0 to 90"));
    assert!(run(&["watch", "--headless"]).contains("there is no setup yet"), "nothing made up is broadcast to");
    let none = run(&["plan", "--sustained", "12M"]);
    assert!(none.contains("`moth` by itself leads to one"), "{none}");
    assert!(run(&["watch", "--headless", "--to", "rtmp://host/live"]).contains("MOTH_STREAM_KEY"));
    assert!(run(&["watch", "--headless", "--to", "http://host/live"]).contains("expected rtmp://"));
    assert!(
        run(&["watch", "--headless", "--to", "rtmp://host/live", "--key-file", "/nonexistent/key"])
            .contains("/nonexistent/key")
    );
    assert!(run(&["watch", "--headless", "--to", "rtmp://localhost:19350/live"]).contains("circle"));
    assert!(run(&["demo", "--headless", "--log", "/nonexistent/log"]).contains("/nonexistent/log"));
    assert!(run(&["watch", "--headless", "--queue-ms", "1", "--to", "rtmp://host/live"]).contains("200"));
}

#[test]
fn a_key_pasted_into_an_address_is_not_repeated() {
    for address in ["rtmp://host/live?key=plain-secret-9", "rtmp://plain-secret-9@host/live", "plain-secret-9"] {
        let text = said(&moth().args(["watch", "--headless", "--to", address]).output().unwrap());
        assert!(!text.contains("plain-secret-9"), "{text}");
    }
    let others: [&[&str]; 4] = [
        &["watch", "--to", "rtmp://host/live", "plain-secret-9"],
        &["key", "plain-secret-9"],
        &["key", "set", "plain-secret-9"],
        &["key", "set", "nocturne", "plain-secret-9"],
    ];
    for words in others {
        let text = said(&moth().args(words).output().unwrap());
        assert!(!text.contains("plain-secret-9"), "{text}");
    }
}

#[test]
fn a_port_in_use_is_named_before_anything_else_begins() {
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let listen = format!("rtmp://127.0.0.1:{}/moth", taken.local_addr().unwrap().port());
    let out = moth()
        .args(["watch", "--headless", "--to", "rtmp://127.0.0.1:9/live", "--listen", &listen])
        .env("MOTH_STREAM_KEY", "some-secret-key")
        .output()
        .unwrap();
    let text = said(&out);
    assert!(text.contains("cannot listen on 127.0.0.1") && !text.contains("some-secret-key"), "{text}");
}

#[test]
fn a_full_disk_under_standard_output_is_said() {
    if !std::path::Path::new("/dev/full").exists() {
        eprintln!("*** SKIPPED: there is no /dev/full here ***");
        return;
    }
    let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let out = moth().args(["demo", "--headless"]).stdout(full).output().unwrap();
    assert_eq!(out.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&out.stderr).contains("standard output could not be written"));
}

#[test]
fn what_was_seen_is_recorded_and_judged() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("evening.jsonl.gz");
    let path = file.to_str().unwrap();
    let record = || moth().args(["demo", "--headless", "--evening", "calm", "--for", "3", "--record", path]).output();
    assert!(record().unwrap().status.success());
    let out = moth().args(["judge", path, "--json"]).output().unwrap();
    let report: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert!(
        report["readings"].as_u64().unwrap() > 100 && report["verdicts"].as_array().unwrap().is_empty(),
        "{report}"
    );
    assert!(report["damage"].is_null() && report["seconds"].as_f64().unwrap() >= 3.0, "{report}");
    assert!(said(&record().unwrap()).contains("exists"), "one that is there is left alone");
    assert!(said(&moth().args(["judge", "/nonexistent/x"]).output().unwrap()).contains("cannot be read"));
    std::fs::write(&file, "not this").unwrap();
    assert!(said(&moth().args(["judge", path]).output().unwrap()).contains("no readings file"));
    let damaged = dir.path().join("damaged.jsonl");
    std::fs::write(&damaged, "{\"moth_readings\":1,\"servers\":[\"Aldmoor\"]}\nrubbish\n").unwrap();
    let out = moth().arg("judge").arg(&damaged).output().unwrap();
    assert_eq!(out.status.code(), Some(1), "not all of it could be used");
    assert!(String::from_utf8_lossy(&out.stdout).contains("line 2: it is no reading"));
}

#[test]
fn ports_that_others_could_reach_must_be_meant_and_addresses_must_be_some() {
    let key = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(key.path(), "k\n").unwrap();
    let watch = ["watch", "--headless", "--to", "rtmp://192.0.2.1/live", "--listen", "rtmp://127.0.0.1:1/moth"];
    let complaint = |more: &[&str]| {
        let out = moth().args(watch).arg("--key-file").arg(key.path()).args(more).output().unwrap();
        assert_eq!(out.status.code(), Some(2), "{more:?}");
        String::from_utf8_lossy(&out.stderr).lines().last().unwrap_or_default().to_owned()
    };
    assert!(complaint(&["--serve", "0.0.0.0:9378"]).contains("--serve-beyond"));
    assert!(complaint(&["--feed", "0.0.0.0:9379"]).contains("127.0.0.1"));
    assert!(complaint(&["--also", "dome-left:9377"]).contains("http://"));
    assert!(complaint(&["--serve", "nowhere"]).contains("--serve"));
    let out = moth().args(["replay", "/nonexistent.jsonl", "--speed", "0"]).output().unwrap();
    assert_eq!(out.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&out.stderr).contains("0.1 to 1000"));
}

#[test]
fn a_command_is_told_of_the_verdict_as_json() {
    let dir = tempfile::tempdir().unwrap();
    let told = dir.path().join("told");
    let command = format!("cat >> {}", told.display());
    let out = moth()
        .args([
            "demo",
            "--speed",
            "8",
            "--evening",
            "tired-server",
            "--headless",
            "--for",
            "26",
            "--tell-command",
            &command,
        ])
        .output()
        .unwrap();
    assert!(out.status.success());
    let told = std::fs::read_to_string(told).unwrap();
    let lines: Vec<Value> = told.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), 1, "once, and quiet then: {told}");
    let line = &lines[0];
    assert_eq!((line["news"].as_str(), line["cause"].as_str()), (Some("new"), Some("server-slow")));
    assert!(line["sentence"].as_str().unwrap().contains("Aldmoor") && line["evidence"].as_array().unwrap().len() > 1);
    assert!(line["viewers"]["fps"]["value"].is_number());
}

#[test]
fn a_recording_is_drawn_into_a_file_and_no_file_is_written_over() {
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| dir.path().join(name);
    let recording = at("evening.jsonl");
    let recorded = moth()
        .args(["demo", "--speed", "8", "--headless", "--evening", "archive-sync", "--for", "8", "--record"])
        .arg(&recording)
        .output()
        .unwrap();
    assert!(recorded.status.success());
    let draw = |to: &str, more: &[&str]| {
        let mut judge = moth();
        judge.arg("judge").arg(&recording).args(["--chart", "lanes", "--to"]).arg(at(to)).args(more).output().unwrap()
    };
    for (name, begins) in [("lanes.svg", &b"<svg"[..]), ("lanes.pdf", b"%PDF")] {
        let out = draw(name, &[]);
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        assert!(String::from_utf8_lossy(&out.stdout).contains(name), "it says where the drawing is");
        assert!(std::fs::read(at(name)).unwrap().starts_with(begins));
        assert!(said(&draw(name, &[])).contains("--force"));
        assert!(draw(name, &["--force", "--dark", "--from", "0:02", "--until", "0:06"]).status.success());
    }
    assert!(std::fs::read_to_string(at("lanes.svg")).unwrap().contains("00:02 to 00:06 of evening.jsonl"));
    assert!(said(&draw("lanes.txt", &[])).contains("neither .svg nor .pdf"));
    assert!(said(&draw("nowhere/lanes.svg", &[])).contains("cannot be written"));
    assert!(said(&draw("late.svg", &["--from", "59:00"])).contains("--from must lie before"));
    assert!(said(&draw("odd.svg", &["--from", "1:75"])).contains("1:20:00"));
    let tables = |more: &[&str]| {
        let mut judge = moth();
        let judge = judge.arg("judge").arg(&recording).arg("--csv").arg(at("all.csv"));
        judge.arg("--jsonl").arg(at("all.jsonl")).args(more).output().unwrap()
    };
    assert!(tables(&[]).status.success());
    let csv = std::fs::read_to_string(at("all.csv")).unwrap();
    assert!(csv.starts_with("time_utc,local_offset,t_s,state,") && (8..12).contains(&csv.lines().count()), "{csv}");
    assert!(csv.lines().nth(1).unwrap().starts_with("20"), "a recording tells when it began");
    assert!(said(&tables(&[])).contains("all.csv is there already"));
    assert!(tables(&["--force"]).status.success());
    let listed = moth().args(["judge", "--list-charts"]).output().unwrap();
    assert!(String::from_utf8_lossy(&listed.stdout).starts_with("lanes "));
}
