//! Rehearsals with real programs: ffmpeg run by the moth, or by a user, to nginx behind a token bucket.

use std::fs::{self, File};
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::common::*;
use serde_json::Value;

fn here() -> Command {
    Command::new("env")
}

/// A rehearsal under way.
struct Rehearsal {
    out: tempfile::TempDir,
    process: Running,
}

impl Rehearsal {
    /// `moth rehearse` with these words; `command` may be a command to enter a host with.
    fn begin(mut command: Command, configured: &Configured, words: &[&str]) -> Self {
        let out = tempfile::tempdir().unwrap();
        let child = command
            .arg(env!("CARGO_BIN_EXE_moth"))
            .arg("rehearse")
            .args(words)
            .arg("--headless")
            .args(["--listen", &format!("rtmp://127.0.0.1:{}/moth", free_port()), "--config"])
            .arg(configured.dir.path().join("moth.toml"))
            .env_remove("MOTH_STREAM_KEY")
            .stdin(Stdio::null())
            .stdout(File::create(out.path().join("lines")).unwrap())
            .stderr(File::create(out.path().join("log")).unwrap())
            .spawn()
            .unwrap();
        Self { out, process: Running(child) }
    }

    /// The same to the service, under its key, agreed to.
    fn agreed(command: Command, configured: &Configured, words: &[&str]) -> Self {
        let key = configured.dir.path().join("key").display().to_string();
        Self::begin(command, configured, &[words, &["--yes", "--key-file", &key]].concat())
    }

    fn lines(&self) -> Vec<Value> {
        let text = fs::read_to_string(self.out.path().join("lines")).unwrap();
        let whole = text.rsplit_once('\n').map_or("", |(whole, _)| whole);
        whole.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    }

    fn log(&self) -> String {
        fs::read_to_string(self.out.path().join("log")).unwrap()
    }

    /// Waits until it ends by itself: its status, its lines, and the outcome.
    fn end(mut self) -> (Option<i32>, Vec<Value>, Value) {
        let status = self.process.0.wait().unwrap();
        let (lines, log) = (self.lines(), self.log());
        for text in [&log, &fs::read_to_string(self.out.path().join("lines")).unwrap()] {
            assert!(!text.contains(KEY), "the key is in what it printed");
        }
        let outcome = lines.last().map_or(Value::Null, |last| last["outcome"].clone());
        if outcome.is_null() {
            eprintln!("{log}");
        }
        (status.code(), lines, outcome)
    }
}

/// What was tried, in short, for a test that fails.
fn tried(lines: &[Value]) -> Vec<String> {
    let ended = lines.iter().filter(|line| line["clean"].is_boolean());
    ended.map(|l| format!("{} {} {} s {} %", l["value"], l["clean"], l["seconds"], l["lost_percent"])).collect()
}

/// What is left of a token bucket for the video, in kb/s: packets have headers (1448 of 1514 bytes are payload), and so has RTMP;
/// sound takes 128.
fn room_kbps(bucket_kbps: u32) -> f64 {
    f64::from(bucket_kbps) * 0.955 - 132.0
}

fn climb_behind(bucket_kbps: u32, from: &str, to: &str) {
    if !have(&["nginx", "ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::new();
    hosts.narrow(0, bucket_kbps, 300);
    let nginx = Nginx::at(&hosts);
    let configured = Configured::with_encoder(&[("Aldmoor", &format!("rtmp://{SERVER_IP}:1935/live"))], "");
    let before = configured.config();
    let chart = configured.dir.path().join("climb.svg").display().to_string();
    // Shorter than it should be: the run that confirms takes what is left of the time.
    let bounds = ["bitrate", "--from", from, "--to", to, "--step", "500k", "--step-seconds", "5", "--for", "240"];
    let words = [&bounds[..], &["--chart", &chart]].concat();
    let (status, lines, outcome) = Rehearsal::agreed(hosts.at_home(), &configured, &words).end();
    let told = tried(&lines);
    let clean = outcome["highest_clean"].as_f64().unwrap_or_else(|| panic!("{told:?} {outcome}")) / 1000.0;
    let room = room_kbps(bucket_kbps);
    assert!(clean <= room + 60.0 && clean + 500.0 > room, "{clean} of {room} kb/s: {told:?}");
    assert!(["done", "time-over"].contains(&outcome["end"].as_str().unwrap()), "{outcome}");
    assert_eq!((status, &outcome["gave_way"]), (Some(0), &Value::from("network")), "{told:?} {outcome}");
    assert_eq!(outcome["cause"], "line-short", "{told:?} {outcome}");
    // A quarter stays free, as far as the ladder goes down.
    let recommended = outcome["recommended"].as_f64().unwrap() / 1000.0;
    assert!(recommended <= 0.76 * clean || lines[0]["rungs"][0] == format!("{recommended:.0}k"), "{outcome}");
    assert_eq!((&outcome["short"], &outcome["simulated"]), (&Value::from(true), &Value::Null));
    // Every step is told as it begins and as it ends.
    let steps = |key: &str| lines.iter().filter(|line| !line[key].is_null() && !line["step"].is_null()).count();
    assert_eq!((steps("begins"), steps("clean")), (told.len(), told.len()), "{lines:?}");
    assert!(fs::read_to_string(&chart).unwrap().contains("gave way"));
    assert_eq!(configured.config(), before, "without --keep nothing is written");
    // It went to the service as a run that nobody sees.
    let recordings = nginx.recordings();
    assert!(!recordings.is_empty());
    for recording in recordings {
        assert!(recording.to_str().unwrap().contains(&format!("{KEY}-dim")), "{recording:?}");
    }
    assert!(kept(&configured).contains("\"climb\""));
}

fn kept(configured: &Configured) -> String {
    fs::read_to_string(configured.dir.path().join("moth.data/rehearsals.jsonl")).unwrap_or_default()
}

#[test]
fn behind_a_bucket_of_1900_the_climb_ends_at_what_it_carries() {
    climb_behind(1900, "500k", "2500k");
}

#[test]
fn what_cannot_be_tried_is_status_2_and_the_setup_stays_byte_for_byte() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::taking_only("another-key-altogether");
    let configured = Configured::with_encoder(&[("Aldmoor", &nginx.address())], "");
    let (whole, key) = (configured.config(), configured.dir.path().join("key").display().to_string());
    let refused = |words: &[&str]| {
        let out = configured.moth(here(), &[&["rehearse"], words, &["--headless", "--key-file", &key]].concat());
        assert_eq!(out.status.code(), Some(2), "{words:?}: {}", String::from_utf8_lossy(&out.stdout));
        String::from_utf8_lossy(&out.stderr).into_owned()
    };
    // Nobody agreed; no such steps; nothing measured for a stand-in.
    assert!(refused(&["bitrate"]).contains("under your key, as a run nobody sees"), "{}", refused(&["bitrate"]));
    assert!(refused(&["preset", "--from", "placebo", "--yes"]).contains("none of the setup's presets"));
    assert!(refused(&["bitrate", "--from", "5M", "--to", "4M", "--yes"]).contains("is over"));
    assert!(refused(&["bitrate", "--no-server"]).contains("nothing was measured yet"));
    // The service cannot hide a run: an agreement to publish is none to being seen.
    fs::write(configured.dir.path().join("moth.toml"), whole.replace("unseen = \"-dim\"\n", "")).unwrap();
    let said = refused(&["bitrate", "--yes"]);
    assert!(said.contains("has no way to hide a run") && said.contains("--on-air"), "{said}");
    fs::write(configured.dir.path().join("moth.toml"), &whole).unwrap();
    // The server refuses the key.
    let (status, lines, outcome) = Rehearsal::agreed(here(), &configured, &["bitrate", "--to", "2M"]).end();
    assert_eq!((status, &outcome["end"]), (Some(2), &Value::from("no-server")), "{outcome}");
    assert!(outcome["why"].as_str().unwrap().contains("Aldmoor") && tried(&lines).is_empty(), "{outcome}");
    assert!(outcome["highest_clean"].is_null() && outcome["recommended"].is_null() && outcome["sure"].is_null());
    assert_eq!(configured.config(), whole);
}

#[test]
fn ended_by_a_signal_in_any_phase_it_says_what_was_found_and_leaves_the_setup() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::with_encoder(&[("Aldmoor", &nginx.address())], "");
    let whole = configured.config();
    // While it waits, while a step is set, and in the middle of one.
    type Is = fn(&[Value]) -> bool;
    let phases: [(&str, Is); 3] = [
        ("the first line", |lines| !lines.is_empty()),
        ("a step that ended", |lines| lines.iter().any(|line| line["clean"] == true)),
        ("the third step", |lines| lines.iter().filter(|line| line["begins"] == true).count() == 3),
    ];
    for (what, is_there) in phases {
        let rehearsal =
            Rehearsal::agreed(here(), &configured, &["bitrate", "--from", "1M", "--to", "3M", "--step-seconds", "5"]);
        wait_for(what, Duration::from_secs(90), || is_there(&rehearsal.lines()).then_some(()));
        rehearsal.process.signal("INT");
        let (status, lines, outcome) = rehearsal.end();
        assert_eq!(outcome["end"], "cancelled", "{what}: {outcome}");
        assert_eq!(status, Some(if tried(&lines).is_empty() { 2 } else { 1 }), "{what}: nothing was confirmed");
        assert_eq!(configured.config(), whole, "{what}");
    }
    // Killed, it tells nobody; the next one tells what it had found.
    let rehearsal =
        Rehearsal::agreed(here(), &configured, &["bitrate", "--from", "1M", "--to", "3M", "--step-seconds", "5"]);
    wait_for("a step that ended", Duration::from_secs(90), || {
        rehearsal.lines().iter().any(|line| line["clean"] == true).then_some(())
    });
    let before = kept(&configured).lines().count();
    rehearsal.process.signal("KILL");
    let (status, ..) = rehearsal.end();
    assert_eq!((status, configured.config()), (None, whole.clone()));
    let next = Rehearsal::agreed(here(), &configured, &["bitrate", "--to", "2M"]);
    wait_for("what was cut off", Duration::from_secs(20), || next.log().contains("was cut off").then_some(()));
    let log = next.log();
    assert!(log.contains("A rehearsal (bitrate) was cut off") && log.contains("1 000 kb/s held"), "{log}");
    next.process.signal("INT");
    next.end();
    assert_eq!(kept(&configured).lines().count(), before + 2, "each is kept once");
    assert_eq!(configured.config(), whole);
}

#[test]
fn a_soak_of_an_encoder_below_real_time_is_not_clean() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::with_encoder(&[("Aldmoor", &nginx.address())], "");
    let slow = configured
        .config()
        .replace("size = \"640x360\"", "size = \"1280x720\"")
        .replace("rate = 30\n", "rate = 60\n")
        .replace("testsrc2=size={size}:rate={rate}", "testsrc2=size={size}:rate={rate},noise=alls=20:allf=t")
        .replace("\"superfast\", \"no-such-preset\"", "\"veryslow\"")
        .replace("preset = \"superfast\"", "preset = \"veryslow\"");
    fs::write(configured.dir.path().join("moth.toml"), slow).unwrap();
    let (status, _, outcome) = Rehearsal::agreed(here(), &configured, &["soak", "--for", "20"]).end();
    // It loses no frame: each comes later than the one before.
    let broke = &outcome["broke"][0];
    assert_eq!((status, &outcome["clean"]), (Some(1), &Value::from(false)), "{outcome}");
    assert_eq!((&broke["how"], &broke["gave_way"]), (&Value::from("late"), &Value::from("encoder")), "{outcome}");
}

/// A user who does what the moth asks for: ffmpeg at another bitrate.
fn user(publish_to: &str, kbps: u32) -> Running {
    Running(publish(here(), publish_to, 600, kbps))
}

#[test]
fn a_user_is_asked_step_by_step_and_a_broadcaster_that_goes_away_ends_it() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let address = format!("rtmp://127.0.0.1:{}/moth", free_port());
    let _ingest = Ingest::begin(here(), &address, &[]);
    let configured = Configured::new(&[("Aldmoor", "rtmp://127.0.0.1:9/live")]);
    let whole = configured.config();
    let words =
        ["bitrate", "--from", "1M", "--to", "2500k", "--step", "500k", "--step-seconds", "5", "--ingest", &address];
    // To a host of one's own nobody has to agree.
    let rehearsal = Rehearsal::begin(here(), &configured, &words);
    let first = wait_for("the first line", Duration::from_secs(10), || rehearsal.lines().first().cloned());
    let publish_to = format!("{}/x", first["publish_to"].as_str().unwrap());
    let asked = |n: usize| {
        wait_for("what is asked for", Duration::from_secs(60), || {
            let asks: Vec<Value> = rehearsal.lines().into_iter().filter(|line| line["asks"].is_string()).collect();
            asks.get(n).map(|line| line["asks"].as_str().unwrap().to_owned())
        })
    };
    let mut broadcaster = user(&publish_to, 3000);
    for (n, (kbps, words)) in [(1000, "1 000 kb/s"), (1500, "1 500 kb/s")].into_iter().enumerate() {
        let asks = asked(n);
        assert!(asks.contains(words), "{asks}");
        let count = || rehearsal.lines().iter().filter(|line| line["begins"] == true).count();
        assert_eq!(count(), n, "nothing counts before the wire shows it");
        drop(broadcaster);
        broadcaster = user(&publish_to, kbps);
        wait_for("the step to begin", Duration::from_secs(60), || (count() > n).then_some(()));
    }
    // In the middle of the second step it goes away, and nobody can put it back.
    drop(broadcaster);
    let (status, lines, outcome) = rehearsal.end();
    assert_eq!((status, tried(&lines).len()), (Some(1), 1), "{outcome}");
    assert_eq!(
        (&outcome["end"], &outcome["left_at"]),
        (&Value::from("broadcaster-gone"), &Value::from(1_500_000)),
        "{outcome}"
    );
    let told = outcome["sentences"].to_string();
    assert!(told.contains("1 000 kb/s held") && told.contains("it may still be at 1 500 kb/s"), "{told}");
    assert_eq!(configured.config(), whole);
}

/// A climb of so many seconds at most against a stand-in, behind the line that was measured just before.
fn climb_on_a_stand_in(limit_s: &str) -> (Option<i32>, Vec<Value>, Value) {
    let hosts = Hosts::new();
    hosts.narrow(0, 2400, 200);
    let address = format!("rtmp://{SERVER_IP}:19351/moth");
    let ingest = Ingest::begin(hosts.at_server(), &address, &[]);
    let configured = Configured::with_encoder(&[("Aldmoor", "rtmp://127.0.0.1:9/live")], "");
    configured.measure(hosts.at_home(), &["uplink", "--to", &address]);
    drop(ingest);
    // Nobody agreed to anything, and there is no server.
    let bounds = [
        "bitrate",
        "--from",
        "1M",
        "--to",
        "3M",
        "--step",
        "500k",
        "--step-seconds",
        "5",
        "--no-server",
        "--for",
        limit_s,
    ];
    let (status, lines, outcome) = Rehearsal::begin(here(), &configured, &bounds).end();
    assert!(outcome["simulated"].as_str().unwrap().contains("measured on"), "{outcome}");
    assert!(outcome["sentences"].to_string().contains("The line was simulated"), "{outcome}");
    assert!(kept(&configured).contains("\"simulated\":\"your line"));
    (status, lines, outcome)
}

#[test]
fn a_stand_in_behind_the_measured_line_is_climbed_and_the_outcome_says_so() {
    if !have(&["ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let (_, lines, outcome) = climb_on_a_stand_in("40");
    assert_eq!(outcome["end"], "time-over", "{outcome}");
    assert!(tried(&lines).iter().any(|step| step.contains("true")), "a step held: {:?}", tried(&lines));
}

#[test]
fn a_soak_tells_what_broke_it_and_ends_with_status_1_if_anything_did() {
    if !have(&["nginx", "ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::new();
    let _nginx = Nginx::at(&hosts);
    let configured =
        Configured::with_encoder(&[("Aldmoor", &format!("rtmp://{SERVER_IP}:1935/live"))], "soak = [\"sing\"]\n");
    let (status, lines, outcome) = Rehearsal::agreed(hosts.at_home(), &configured, &["soak", "--for", "15"]).end();
    assert_eq!((status, &outcome["clean"]), (Some(0), &Value::from(true)), "{outcome}");
    assert_eq!(
        (&lines[0]["to_do"][0], &outcome["sure"]["rules_out_loss_every_s"]),
        (&Value::from("sing"), &Value::from(5.0))
    );
    let rehearsal = Rehearsal::agreed(hosts.at_home(), &configured, &["soak", "--for", "40"]);
    wait_for("it to run", Duration::from_secs(30), || rehearsal.lines().iter().any(|l| l["of"] == 40).then_some(()));
    hosts.narrow(0, 1500, 200);
    let (status, lines, outcome) = rehearsal.end();
    assert_eq!((status, &outcome["broke"][0]["gave_way"]), (Some(1), &Value::from("network")), "{outcome}");
    assert!(lines.iter().any(|line| line["broke"]["lost"].as_u64().is_some_and(|lost| lost > 0)), "{lines:?}");
    assert!(outcome["sentences"].to_string().contains("On "), "beside the one before: {outcome}");
}

mod long {
    use super::*;

    #[test]
    fn behind_a_bucket_of_3000_the_climb_ends_at_what_it_carries() {
        climb_behind(3000, "2M", "3500k");
    }

    #[test]
    fn behind_a_bucket_of_3950_the_climb_ends_at_what_it_carries() {
        climb_behind(3950, "3M", "4500k");
    }

    /// A preset that this machine cannot encode in real time ends the climb: needs all its cores.
    #[test]
    fn presets_are_climbed_until_the_machine_gives_way() {
        if !have(&["nginx", "ffmpeg"]) {
            return;
        }
        let nginx = Nginx::new();
        let configured = Configured::with_encoder(&[("Aldmoor", &nginx.address())], "");
        let heavy = configured
            .config()
            .replace("size = \"640x360\"", "size = \"1280x720\"")
            .replace("testsrc2=size={size}:rate={rate}", "testsrc2=size={size}:rate={rate},noise=alls=20:allf=t")
            .replace("\"-threads\", \"1\"", "\"-threads\", \"2\"")
            .replace("\"superfast\", \"no-such-preset\"", "\"medium\", \"veryslow\"")
            .replace("preset = \"superfast\"", "preset = \"medium\"");
        fs::write(configured.dir.path().join("moth.toml"), &heavy).unwrap();
        let rehearsal =
            Rehearsal::agreed(here(), &configured, &["preset", "--step-seconds", "5", "--for", "170", "--keep"]);
        let (status, lines, outcome) = rehearsal.end();
        let told = tried(&lines);
        assert_eq!(outcome["gave_way"], "encoder", "{told:?} {outcome}");
        assert_eq!(status, Some(0), "{told:?} {outcome}");
        let rungs: Vec<&str> = lines[0]["rungs"].as_array().unwrap().iter().filter_map(Value::as_str).collect();
        let place = |what: &str| rungs.iter().position(|rung| outcome[what] == *rung);
        // What is tried in between is not known of every machine; the heaviest is too much for any that runs this.
        let (clean, failed) = (place("highest_clean").unwrap(), place("lowest_failed").unwrap());
        assert!(failed == clean + 1 && clean < rungs.len() - 1, "{told:?} {outcome}");
        assert!(place("recommended").unwrap() <= clean);
        // What is kept is the one value, and the encoder of the next broadcast has it.
        let kept = outcome["recommended"].as_str().unwrap();
        let expected = heavy.replace("preset = \"medium\"", &format!("preset = \"{kept}\""));
        assert_eq!(configured.config(), expected);
    }

    #[test]
    fn a_stand_in_behind_the_measured_line_gives_what_the_line_would() {
        if !have(&["ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
            return;
        }
        let (status, lines, outcome) = climb_on_a_stand_in("150");
        let (told, room) = (tried(&lines), room_kbps(2400));
        let clean = outcome["highest_clean"].as_f64().unwrap_or_else(|| panic!("{told:?} {outcome}")) / 1000.0;
        // The stand-in line has no headers of the network; what was measured had.
        assert!(clean <= room + 200.0 && clean + 700.0 > room, "{clean} of {room} kb/s: {told:?}");
        assert_eq!((status, &outcome["gave_way"]), (Some(0), &Value::from("network")), "{told:?} {outcome}");
    }
}
