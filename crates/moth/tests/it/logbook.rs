//! `moth log` as its users have it: what is imported, what was watched, and what is compared.

use std::fs;
use std::path::Path;
use std::process::{Command, Output};
use std::time::Duration;

use crate::common::*;
use moth_core::Moment;
use moth_logbook::readings::{Header, Writer};
use moth_stage::{Theatre, shipped};
use serde_json::Value;

/// So many seconds of an evening, as a readings file.
fn recorded(slug: &str, path: &Path, seconds: u64) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build().unwrap();
    runtime.block_on(async {
        let evening = shipped().into_iter().find(|e| e.slug == slug).unwrap();
        let mut theatre = Theatre::open(&evening, 41).unwrap();
        let began = Some("2026-11-20T21:04:10+01:00".into());
        let mut writer =
            Writer::create(path, &Header { began, made_up: true, ..Header::new(evening.servers()) }).unwrap();
        while let Some(reading) = theatre.readings.recv().await {
            if reading.at > Moment::from_ms(seconds * 1000) {
                break;
            }
            writer.write(&reading).unwrap();
        }
        writer.finish().unwrap();
    });
}

/// The moth with a home of its own.
fn moth(home: &Path, words: &[&str]) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_moth"));
    command.args(words).current_dir(home).env("HOME", home).env("FONTCONFIG_FILE", "/dev/null");
    command.env("XDG_DATA_HOME", home.join("data")).env("XDG_CONFIG_HOME", home.join("config")).output().unwrap()
}

fn text(out: &Output) -> String {
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).into_owned()
}

fn json(out: &Output) -> Value {
    serde_json::from_str(&text(out)).unwrap()
}

fn refused(out: &Output) -> String {
    assert_eq!(out.status.code(), Some(2), "{}", String::from_utf8_lossy(&out.stdout));
    String::from_utf8_lossy(&out.stderr).into_owned()
}

#[test]
fn a_readings_file_goes_in_is_told_as_it_is_judged_and_comes_out_again() {
    let dir = tempfile::tempdir().unwrap();
    let home = dir.path();
    recorded("tired-server", &home.join("tired.jsonl.gz"), 50);
    recorded("calm", &home.join("calm.jsonl"), 70);
    assert!(text(&moth(home, &["log"])).contains("there is no broadcast in the logbook yet"));
    assert!(refused(&moth(home, &["log", "show", "last"])).contains("there is no broadcast in the logbook"));
    text(&moth(home, &["log", "import", "tired.jsonl.gz", "--title", "Aldmoor again"]));
    assert_eq!(text(&moth(home, &["log", "import", "calm.jsonl"])), "calm.jsonl is broadcast 2\n");

    let list = json(&moth(home, &["log", "list", "--json"]));
    let all = list["broadcasts"].as_array().unwrap();
    assert_eq!(all.len(), 2);
    let tired = all.iter().find(|one| one["nr"] == 1).unwrap();
    assert_eq!(tired["began"], "2026-11-20T21:04:10+01:00");
    assert_eq!((tired["kind"].as_str(), tired["made_up"].as_bool()), (Some("recording"), Some(true)));
    let rows = text(&moth(home, &["log", "list", "--verdict", "server-slow"]));
    assert!(rows.contains("network: ") && rows.contains("Aldmoor again") && rows.contains('█'), "{rows}");
    assert_eq!(rows.lines().filter(|row| row.contains("2026-11-20")).count(), 1, "{rows}");
    assert!(
        text(&moth(home, &["log", "list", "--find", "ALDMOOR snow"]))
            .contains("no broadcast in the logbook is like that")
    );
    assert!(refused(&moth(home, &["log", "list", "--verdict", "moonlight"])).contains("`moonlight` is no verdict"));

    // What was judged then is what is kept.
    let judged = json(&moth(home, &["judge", "tired.jsonl.gz", "--json"]));
    let shown = json(&moth(home, &["log", "show", "1", "--json"]));
    assert_eq!(shown["verdicts"], judged["verdicts"]);
    assert_eq!(shown["verdicts"][0]["cause"], "server-slow");
    let told = text(&moth(home, &["log", "show", "1"]));
    let (lines, happened) = told.split_once("\n\n").unwrap();
    assert!((5..=10).contains(&lines.lines().count()), "{lines}");
    assert!(lines.contains("The network was at fault once") && lines.contains("Before the next: "), "{lines}");
    assert!(happened.contains("network: "), "{happened}");
    let then = json(&moth(home, &["log", "show", "1", "--at", "40"]));
    assert_eq!((then["fault"].as_str(), then["cause"].as_str()), (Some("network"), Some("server-slow")));
    assert!(refused(&moth(home, &["log", "show", "1", "--at", "1:00:00"])).contains("was not kept"));

    // Tables and readings are the same, by whichever way.
    text(&moth(home, &["judge", "tired.jsonl.gz", "--csv", "judged.csv"]));
    text(&moth(home, &["log", "export", "1", "--csv", "kept.csv", "--readings", "out.jsonl.gz"]));
    for table in ["", ".verdicts", ".changes"] {
        let read = |name: &str| fs::read_to_string(home.join(format!("{name}{table}.csv"))).unwrap();
        assert_eq!(read("kept"), read("judged"), "{table}");
    }
    assert_eq!(fs::read(home.join("out.jsonl.gz")).unwrap(), fs::read(home.join("tired.jsonl.gz")).unwrap());
    text(&moth(home, &["log", "export", "2", "--readings", "out.jsonl"]));
    assert_eq!(fs::read(home.join("out.jsonl")).unwrap(), fs::read(home.join("calm.jsonl")).unwrap());
    for chart in ["lanes", "journey", "why", "machine"] {
        text(&moth(home, &["log", "export", "1", "--chart", chart, "--to", &format!("{chart}.svg")]));
    }
    text(&moth(home, &["log", "export", "1", "--report", "report.pdf", "--jsonl", "lines.jsonl"]));
    text(&moth(home, &["log", "export", "1", "--chart", "comparison", "--with", "2", "--to", "both.pdf"]));
    text(&moth(home, &["log", "compare", "2", "1", "--chart", "compared.svg"]));
    for made in ["lanes.svg", "report.pdf", "lines.jsonl", "both.pdf", "compared.svg"] {
        assert!(fs::metadata(home.join(made)).unwrap().len() > 1000, "{made}");
    }
    assert!(refused(&moth(home, &["log", "export", "1"])).contains("say what to make of it"));

    // Fifty seconds are too little to say anything, and it is said.
    let compared = json(&moth(home, &["log", "compare", "1", "2", "--json"]));
    assert!(compared["sentence"].as_str().unwrap().starts_with("Too little to say"), "{compared}");

    text(&moth(home, &["log", "note", "1", "Rain.\nOld cable.", "--title", "Aldmoor, again"]));
    assert_eq!(text(&moth(home, &["log", "note", "1"])), "Aldmoor, again\nRain.\nOld cable.\n");
    assert!(text(&moth(home, &["log", "show", "1"])).contains("Old cable."));
    let asked = refused(&moth(home, &["log", "remove", "1"]));
    assert!(
        asked.contains("This removes for good:") && asked.contains("Aldmoor, again") && asked.contains("--yes"),
        "{asked}"
    );
    assert!(text(&moth(home, &["log", "remove", "1", "--yes"])).contains("removed: 1 broadcast took"));
    assert!(refused(&moth(home, &["log", "show", "1"])).contains("the logbook has no broadcast 1"));
    assert!(refused(&moth(home, &["log", "show", "first"])).contains("`first` is no broadcast"));
    let limits = json(&moth(home, &["log", "limits", "--json"]));
    assert_eq!((limits["broadcasts"].as_u64(), limits["thinned_after_days"].as_u64()), (Some(1), Some(30)));
}

#[test]
fn the_demos_logbook_has_a_dozen_evenings_and_the_routers_nights_differ() {
    let dir = tempfile::tempdir().unwrap();
    let home = dir.path();
    let list = json(&moth(home, &["log", "--demo", "list", "--json"]));
    let all = list["broadcasts"].as_array().unwrap();
    assert_eq!(all.len(), 12);
    assert!(all.iter().all(|one| one["made_up"] == true && one["setup"] == "comet-night"));
    let nr = |title: &str| {
        let found = all.iter().find(|one| one["title"].as_str().unwrap().contains(title)).unwrap();
        found["nr"].to_string()
    };
    let (before, after) = (nr("before the new router"), nr("after the new router"));
    let compared = json(&moth(home, &["log", "--demo", "compare", &before, &after, "--json"]));
    let sentence = compared["sentence"].as_str().unwrap();
    assert!(sentence.contains("dropped") && sentence.contains("points fewer"), "{sentence}");
    for (words, is_named) in [(vec!["named.svg"], true), (vec!["unnamed.svg", "--anonymous"], false)] {
        text(&moth(home, &[&["log", "--demo", "compare", &before, &after, "--chart"], &words[..]].concat()));
        let svg = fs::read_to_string(home.join(words[0])).unwrap();
        assert_eq!(svg.contains("the new router"), is_named, "a title is a name as well");
        assert_eq!(svg.contains("Against A, B dropped"), !is_named);
    }
    let within = nr("Repeater");
    let around = json(&moth(home, &["log", "--demo", "compare", &within, "--around", "9:10", "--json"]));
    assert!(around["differences"][0]["told"].as_bool().unwrap(), "{around}");
    let same = json(&moth(home, &["log", "--demo", "compare", &before, &before, "--json"]));
    assert!(same["sentence"].as_str().unwrap().contains("do not differ"), "{same}");
    assert!(!home.join("data").exists(), "nothing of it is left behind");
}

#[test]
fn a_file_that_is_no_logbook_is_left_alone_and_the_broadcast_goes_on_without_it() {
    let dir = tempfile::tempdir().unwrap();
    let home = dir.path();
    let data = home.join("data/vigilant-moth");
    fs::create_dir_all(&data).unwrap();
    fs::write(data.join("logbook.sqlite"), "These are words.").unwrap();
    let said = refused(&moth(home, &["log", "list"]));
    assert!(said.contains("is no logbook of the moth") && said.lines().count() == 1, "{said}");
    assert!(refused(&moth(home, &["log", "import", "nothing.jsonl"])).contains("nothing.jsonl"));
    assert_eq!(fs::read_to_string(data.join("logbook.sqlite")).unwrap(), "These are words.");
}

/// Something done in a moth's own view of the file system.
fn beside(moth: &Moth, words: &[&str]) -> Output {
    let mut command = Command::new("nsenter");
    command.args(["-t", &moth.id().to_string(), "-U", "-m", "--preserve-credentials"]).args(words);
    command.env("XDG_DATA_HOME", moth.dir.path().join("data")).env("XDG_CONFIG_HOME", moth.dir.path().join("config"));
    command.output().unwrap()
}

/// A moth whose logbook is on a disk of its own, made with these options.
fn on_a_disk(options: &str, to: &str) -> Moth {
    let mut command = Command::new("unshare");
    let script =
        format!("mkdir -p \"$XDG_DATA_HOME\" && mount -t tmpfs -o {options} tmpfs \"$XDG_DATA_HOME\" && exec \"$@\"");
    command.args(["-r", "-m", "sh", "-c", &script, "sh"]);
    Moth::watching(command, &[to])
}

/// The broadcast goes on while its logbook cannot be written, that is told, and once it can be everything is in it.
fn keeping_stops_and_goes_on(disk: &str, said: &str, mended: &str) {
    let nginx = Nginx::new();
    let moth = on_a_disk(disk, &nginx.address());
    let _ffmpeg = Running(publish(Command::new("env"), &moth.publish_to(), 120, 800));
    wait_for(said, Duration::from_secs(60), || moth.log().contains(said).then_some(()));
    assert!(moth.log().contains("the broadcast goes on, it is tried again"), "{}", moth.log());
    let delivered = || moth.newest()["frames"]["delivered"].as_u64().unwrap();
    let before = delivered();
    wait_for("frames all the same", Duration::from_secs(10), || (delivered() > before + 60).then_some(()));
    assert_eq!(moth.newest()["frames"]["dropped"], 0);
    let data = moth.dir.path().join("data").display().to_string();
    let out = beside(&moth, &["mount", "-o", mended, &data]);
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    wait_for("the logbook again", Duration::from_secs(20), || moth.log().contains("is kept again").then_some(()));
    let shown = beside(&moth, &[env!("CARGO_BIN_EXE_moth"), "log", "show", "last", "--json"]);
    let (shown, now) = (json(&shown), moth.newest()["t"].as_f64().unwrap());
    let on_air = shown["on_air_s"].as_f64().unwrap();
    // From the first second on; the broadcaster came within the first few.
    assert!(on_air > 2.0 && on_air > now - 10.0, "{on_air} of {now} s: {shown}");
    assert_eq!(shown["ended"], false);
    let (status, _) = moth.stop();
    assert_eq!(status, Some(0));
}

#[test]
fn a_full_disk_costs_the_keeping_and_never_the_broadcast() {
    if have(&["nginx", "ffmpeg", "unshare", "nsenter", "mount"]) {
        keeping_stops_and_goes_on("size=400k", "is full", "remount,size=16m");
    }
}

#[test]
fn a_disk_that_may_only_be_read_costs_the_keeping_and_never_the_broadcast() {
    if have(&["nginx", "ffmpeg", "unshare", "nsenter", "mount"]) {
        keeping_stops_and_goes_on("ro", "Read-only file system", "remount,rw");
    }
}

mod long {
    use super::*;

    /// Two evenings with real programs: the same encoder behind a token bucket that is too small, and behind a bigger one.
    #[test]
    fn behind_a_bigger_bucket_the_second_evening_carries_more_and_how_much_is_told() {
        if !have(&["nginx", "ffmpeg", "unshare", "nsenter", "ip", "tc"]) {
            return;
        }
        let dir = tempfile::tempdir().unwrap();
        let hosts = Hosts::new();
        let nginx = Nginx::at(&hosts);
        let address = format!("rtmp://{SERVER_IP}:1935/live");
        let servers = [("Aldmoor", address.as_str())];
        let configured = Configured::new(&servers);
        for kbps in [1500, 6000] {
            hosts.narrow(0, kbps, 500);
            let moth = Moth::on_setup(hosts.at_home(), &configured, free_port(), &[]);
            let mut ffmpeg = Running(publish(hosts.at_home(), &moth.publish_to(), 90, 3000));
            std::thread::sleep(Duration::from_secs(72));
            ffmpeg.signal("KILL");
            ffmpeg.0.wait().unwrap();
            moth.stop();
        }
        drop(nginx);
        let told = |words: &[&str]| {
            let out = configured.moth(Command::new("env"), words);
            assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
            String::from_utf8_lossy(&out.stdout).into_owned()
        };
        let list: Value = serde_json::from_str(&told(&["log", "list", "--json"])).unwrap();
        let all = list["broadcasts"].as_array().unwrap();
        assert_eq!(all.len(), 2, "{list}");
        assert!(all.iter().all(|one| one["setup"] == "test" && one["service"] == "Nocturne" && one["ended"] == true));
        let compared: Value = serde_json::from_str(&told(&["log", "compare", "1", "2", "--json"])).unwrap();
        let of = |what: &str| {
            let all = compared["differences"].as_array().unwrap();
            all.iter().find(|difference| difference["what"] == what).unwrap().clone()
        };
        let carried = of("carried_kbps");
        // A bucket of 1500 kb/s lets through what is tested beside it to be 1300 to 1550; all that is asked is about 3100.
        let (least, most) = (carried["more_at_least"].as_f64().unwrap(), carried["more_at_most"].as_f64().unwrap());
        assert!(carried["told"] == true && least > 1000.0 && most < 2400.0, "{carried}");
        assert!(of("dropped_percent")["told"] == true, "{compared}");
        let sentence = compared["sentence"].as_str().unwrap();
        assert!(sentence.starts_with("Against broadcast 1, broadcast 2 dropped"), "{sentence}");
        let shown = told(&["log", "show", "last"]);
        assert!(shown.contains("on air to Aldmoor") && shown.contains("the broadcaster left"), "{shown}");
        // The key is nowhere in what was kept.
        for entry in fs::read_dir(configured.dir.path().join("moth.data")).unwrap() {
            let path = entry.unwrap().path();
            if path.is_file() && path.file_name().unwrap().to_str().unwrap().starts_with("logbook") {
                let bytes = fs::read(&path).unwrap();
                assert!(!bytes.windows(KEY.len()).any(|window| window == KEY.as_bytes()), "{}", path.display());
            }
        }
        drop(dir);
    }
}
