//! Changes made to real broadcasts: ffmpeg run by the moth and run again, servers changed and killed, a line that shrinks
//! and grows with the keeper at work.

use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::common::*;
use serde_json::Value;

fn here() -> Command {
    Command::new("env")
}

fn kbps(line: &Value) -> f64 {
    line["rates"]["video_kbps"].as_f64().unwrap_or(0.0)
}

fn on_air_at(moth: &Moth, low: f64, high: f64) {
    wait_for(&format!("{low} to {high} kb/s"), Duration::from_secs(25), || {
        (low..high).contains(&kbps(&moth.newest())).then_some(())
    });
}

/// Timestamps of the pictures in a recording, in seconds, in the order they are in.
fn times(recording: &Path) -> Vec<f64> {
    let out = Command::new("ffprobe")
        .args(["-v", "error", "-select_streams", "v", "-show_entries", "packet=dts_time", "-of", "csv=p=0"])
        .arg(recording)
        .output()
        .unwrap();
    String::from_utf8_lossy(&out.stdout).lines().filter_map(|line| line.trim_matches(',').parse().ok()).collect()
}

#[test]
fn an_encoder_run_by_the_moth_is_run_again_lower_and_the_recording_stays_one() {
    if !have(&["nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::with_encoder(&[("Aldmoor", &nginx.address())], "");
    let before = configured.config();
    let moth = Moth::on_setup(here(), &configured, free_port(), &[]);
    on_air_at(&moth, 2500.0, 3500.0);
    let (status, said) = moth.tell(&["bitrate", "1M"]);
    assert_eq!((status, said.as_str()), (Some(0), "done: video bitrate to 1 000 kb/s"), "{}", moth.log());
    on_air_at(&moth, 700.0, 1300.0);
    let line = moth.newest();
    assert_eq!(line["trial"]["title"], "video bitrate to 1 000 kb/s", "{line}");
    assert_eq!(configured.config(), before, "what is changed while live is not written");
    assert_eq!(line["undo"], "video bitrate to 3 000 kb/s");
    assert_eq!(moth.tell(&["undo"]).1, "done: video bitrate to 3 000 kb/s");
    on_air_at(&moth, 2500.0, 3500.0);
    let line = moth.newest();
    assert_eq!((&line["undo"], &line["fault"]), (&Value::Null, &Value::from("none")), "{line}");
    assert_eq!(moth.tell(&["undo"]), (Some(1), "there is nothing to put back".into()));
    assert_eq!(configured.config(), before, "what is changed while live is not written");
    let (_, lines) = moth.stop();
    let last = lines.last().unwrap();
    let recordings = nginx.recordings();
    assert_eq!(recordings.len(), 1, "the server's connection was kept all the time");
    assert_eq!(decode(&recordings[0]), "");
    assert_eq!(frames(&recordings[0], "v"), last["frames"]["delivered"].as_u64().unwrap(), "{last}");
    let times = times(&recordings[0]);
    let steps: Vec<f64> = times.windows(2).map(|pair| pair[1] - pair[0]).collect();
    assert!(steps.iter().all(|step| *step > 0.0), "timestamps go on");
    let gaps: Vec<&f64> = steps.iter().filter(|step| **step > 0.2).collect();
    assert!(gaps.len() <= 2 && gaps.iter().all(|gap| **gap < 4.0), "only while the encoder begins anew: {gaps:?}");
    assert!(lines.iter().all(|line| line["state"] != "dark" || line["frames"]["offered"] == 0));
}

#[test]
fn an_encoder_that_does_not_take_a_value_runs_on_as_before() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::with_encoder(&[("Aldmoor", &nginx.address())], "");
    let moth = Moth::on_setup(here(), &configured, free_port(), &[]);
    on_air_at(&moth, 2500.0, 3500.0);
    let (status, said) = moth.tell(&["preset", "heavier"]);
    assert_eq!(status, Some(1), "{said}");
    assert!(said.contains("it ended at once") && said.contains("it runs as before"), "{said}");
    on_air_at(&moth, 2500.0, 3500.0);
    assert_eq!(moth.tell(&["preset", "lighter"]).0, Some(0));
    let (status, said) = moth.tell(&["preset", "lighter"]);
    assert_eq!(status, Some(1));
    assert!(said.contains("the lightest of the setup's presets"), "{said}");
    assert_eq!(moth.tell(&["undo"]).1, "done: heavier encoder preset");
    let (_, lines) = moth.stop();
    assert_eq!(nginx.recordings().len(), 1, "and viewers stayed where they were");
    assert_eq!(lines.last().unwrap()["undo"], Value::Null);
}

#[test]
fn a_crash_in_the_middle_of_a_change_leaves_a_usable_setup() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::with_encoder(&[("Aldmoor", &nginx.address())], "");
    let (before, port) = (configured.config(), free_port());
    let moth = Moth::on_setup(here(), &configured, port, &[]);
    on_air_at(&moth, 2500.0, 3500.0);
    let mut telling = Command::new(env!("CARGO_BIN_EXE_moth"));
    telling.args(["tell", "bitrate", "1M", "--socket"]).arg(moth.dir.path().join("moth.sock"));
    let telling = Running(telling.stdout(std::process::Stdio::null()).spawn().unwrap());
    // The encoder is being run again just now.
    std::thread::sleep(Duration::from_millis(120));
    moth.kill();
    drop(telling);
    assert_eq!(configured.config(), before);
    let again = Moth::on_setup(here(), &configured, port, &[]);
    on_air_at(&again, 2500.0, 3500.0);
    assert_eq!(again.newest()["undo"], Value::Null, "exactly the setup as it was written");
    again.stop();
}

fn switched(takes_two: bool) {
    if !have(&["nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    let (first, second) = (Nginx::new(), Nginx::new());
    let configured = Configured::new(&[("Aldmoor", &first.address()), ("Dunmere", &second.address())]);
    let config =
        configured.config().replace("name = \"Nocturne\"", &format!("name = \"Nocturne\"\ntakes_two = {takes_two}"));
    std::fs::write(configured.dir.path().join("moth.toml"), config).unwrap();
    let moth = Moth::on_setup(here(), &configured, free_port(), &[]);
    let ffmpeg = publish(here(), &moth.publish_to(), 16, 1500);
    on_air_at(&moth, 1200.0, 1900.0);
    std::thread::sleep(Duration::from_secs(3));
    let (status, said) = moth.tell(&["server", "dunmere", "--json"]);
    assert_eq!(status, Some(0), "{said}");
    let answer: Value = serde_json::from_str(&said).unwrap();
    assert_eq!((&answer["came"], &answer["says"]), (&"done".into(), &"done: move to Dunmere".into()));
    ended_well(ffmpeg);
    let (_, lines) = moth.stop();
    let last = lines.last().unwrap();
    let moved = last["moved"].clone();
    assert_eq!((&moved["from"], &moved["to"]), (&"Aldmoor".into(), &"Dunmere".into()), "{last}");
    let count = |nginx: &Nginx| {
        let recordings = nginx.recordings();
        assert_eq!(recordings.len(), 1);
        assert_eq!(decode(&recordings[0]), "");
        assert!(first_flags(&recordings[0]).starts_with('K'), "it begins at a keyframe");
        frames(&recordings[0], "v")
    };
    let arrived = count(&first) + count(&second);
    // At 30 frames/s, what is in neither recording is no more than was shown as missing.
    let missing_ms = moved["missing_ms"].as_f64().unwrap();
    let lost = 480 - arrived;
    assert!(lost as f64 <= missing_ms * 0.03 + 1.0, "{lost} pictures lost, {moved} shown");
    assert!(moved["gap_ms"].as_u64().unwrap() < if takes_two { 1500 } else { 4000 }, "{moved}");
    assert_eq!(last["frames"]["dropped"].as_u64().unwrap(), lost, "and each is counted");
}

#[test]
fn a_broadcast_moves_between_two_servers_at_a_keyframe() {
    switched(true);
}

#[test]
fn where_one_connection_is_taken_at_a_time_the_old_one_is_closed_first() {
    switched(false);
}

#[test]
fn a_move_to_a_server_that_does_not_answer_leaves_the_broadcast_where_it_was() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let closed = format!("rtmp://127.0.0.1:{}/live", free_port());
    for takes_two in [true, false] {
        let configured = Configured::new(&[("Aldmoor", &nginx.address()), ("Dunmere", &closed)]);
        let named = format!("name = \"Nocturne\"\ntakes_two = {takes_two}");
        let config = configured.config().replace("name = \"Nocturne\"", &named);
        std::fs::write(configured.dir.path().join("moth.toml"), config).unwrap();
        let moth = Moth::on_setup(here(), &configured, free_port(), &[]);
        let ffmpeg = publish(here(), &moth.publish_to(), 9, 1000);
        on_air_at(&moth, 800.0, 1300.0);
        let (status, said) = moth.tell(&["server", "Dunmere"]);
        assert_eq!(status, Some(1));
        assert!(said.starts_with("not done: move to Dunmere: nothing listens there"), "{said}");
        let back = wait_for("Aldmoor", Duration::from_secs(10), || {
            let line = moth.newest();
            (line["server"] == "Aldmoor" && line["state"] == "steady").then_some(line)
        });
        assert_eq!(back["moved"], Value::Null);
        ended_well(ffmpeg);
        moth.stop();
    }
}

#[test]
fn when_a_server_is_killed_the_broadcast_goes_on_at_the_next_if_that_was_agreed_to() {
    if !have(&["nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    for agreed in [true, false] {
        let (mut first, second) = (Nginx::new(), Nginx::new());
        let configured = Configured::new(&[("Aldmoor", &first.address()), ("Dunmere", &second.address())]);
        let more: &[&str] = if agreed { &["--failover"] } else { &[] };
        let moth = Moth::on_setup(here(), &configured, free_port(), more);
        let ffmpeg = publish(here(), &moth.publish_to(), 22, 1000);
        on_air_at(&moth, 800.0, 1300.0);
        first.kill();
        if agreed {
            let line = wait_for("Dunmere", Duration::from_secs(15), || {
                let line = moth.newest();
                (line["server"] == "Dunmere" && line["state"] == "steady").then_some(line)
            });
            assert_eq!(line["trial"]["title"], "move to Dunmere");
            let moved = wait_for("the gap", Duration::from_secs(5), || {
                Some(moth.newest()["moved"].clone()).filter(|m| !m.is_null())
            });
            assert_eq!((&moved["from"], &moved["to"]), (&"Aldmoor".into(), &"Dunmere".into()));
            // Three seconds of darkness, and what it takes to connect and to come to a keyframe.
            assert!((2000..9000).contains(&moved["gap_ms"].as_u64().unwrap()), "{moved}");
        } else {
            std::thread::sleep(Duration::from_secs(8));
            assert_eq!(moth.newest()["server"], "Aldmoor");
            // Consent may be given while live.
            assert_eq!(moth.tell(&["failover", "on"]).0, Some(0));
            wait_for("Dunmere", Duration::from_secs(10), || (moth.newest()["server"] == "Dunmere").then_some(()));
        }
        // The broadcaster notices nothing of it.
        ended_well(ffmpeg);
        moth.stop();
        let recordings = second.recordings();
        assert!(first_flags(&recordings[0]).starts_with('K') && decode(&recordings[0]).is_empty());
    }
}

#[test]
fn a_change_by_hand_is_looked_for_on_the_wire() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::new(&[("Aldmoor", &nginx.address())]);
    let moth = Moth::on_setup(here(), &configured, free_port(), &[]);
    let ffmpeg = Running(publish(here(), &moth.publish_to(), 60, 2000));
    on_air_at(&moth, 1700.0, 2400.0);
    std::thread::sleep(Duration::from_secs(4));
    let (status, said) = moth.tell(&["bitrate", "800k"]);
    assert_eq!(status, Some(1), "it was not done yet");
    assert!(said.starts_with("by hand:") && said.contains("looked for on the wire"), "{said}");
    let waiting = wait_for("not yet", Duration::from_secs(10), || moth.newest()["awaited"].as_str().map(str::to_owned));
    assert!(waiting.starts_with("Not yet") || waiting.starts_with("Nothing"), "{waiting}");
    // The user does a half of it, as people do: stop, another value, start.
    ffmpeg.signal("INT");
    drop(ffmpeg);
    let ffmpeg = Running(publish(here(), &moth.publish_to(), 60, 1400));
    let half = wait_for("a part", Duration::from_secs(25), || {
        moth.newest()["awaited"].as_str().filter(|said| said.starts_with("Only a part")).map(str::to_owned)
    });
    assert!(half.contains("800 wanted"), "{half}");
    ffmpeg.signal("INT");
    drop(ffmpeg);
    let _ffmpeg = Running(publish(here(), &moth.publish_to(), 60, 800));
    let done = wait_for("the whole", Duration::from_secs(25), || {
        let line = moth.newest();
        (line["trial"]["title"] == "video bitrate to 800 kb/s").then_some(line)
    });
    assert_eq!(done["awaited"], Value::Null);
}

#[test]
fn the_broadcasters_priority_is_set_where_that_is_permitted() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::new(&[("Aldmoor", &nginx.address())]);
    let moth = Moth::on_setup(here(), &configured, free_port(), &[]);
    let (status, said) = moth.tell(&["priority", "low"]);
    assert!(status == Some(1) && said.contains("there is no broadcaster on this machine"), "{said}");
    let ffmpeg = Running(publish(here(), &moth.publish_to(), 30, 1000));
    on_air_at(&moth, 800.0, 1300.0);
    let nice = || -> Vec<String> {
        let threads = std::fs::read_dir(format!("/proc/{}/task", ffmpeg.0.id())).unwrap();
        let stats = threads.flatten().filter_map(|thread| std::fs::read_to_string(thread.path().join("stat")).ok());
        // The 19th field, the 17th behind the name, which may hold blanks (proc_pid_stat(5)).
        stats.map(|stat| stat.rsplit_once(')').unwrap().1.split_whitespace().nth(16).unwrap().to_owned()).collect()
    };
    let before = nice();
    assert_eq!(moth.tell(&["priority", "low"]), (Some(0), "done: broadcaster's priority to low (nice 5)".into()));
    assert!(nice().iter().all(|nice| nice == "5"), "every thread: {:?}", nice());
    let (status, said) = moth.tell(&["undo"]);
    if status == Some(0) {
        assert_eq!(nice(), before, "exactly as it was");
    } else {
        assert!(said.contains("may not raise a priority") && said.contains("renice"), "{said}");
    }
}

mod long {
    use super::*;

    /// What the keeper said, second by second, and on what.
    fn story(lines: &[Value]) -> Vec<String> {
        let tell = |line: &Value| {
            let (says, queue) = (&line["keeper"]["says"], &line["queue_ms"]);
            format!("{} {:.0} kb/s, sent {}, queue {queue}: {says}", line["t"], kbps(line), line["rates"]["sent_kbps"])
        };
        lines.iter().map(tell).collect()
    }

    #[test]
    fn the_keeper_follows_a_line_that_shrinks_and_grows_again() {
        if !have(&["nginx", "ffmpeg", "ffprobe", "unshare", "nsenter", "ip", "tc"]) {
            return;
        }
        let hosts = Hosts::new();
        hosts.narrow(0, 8000, 200);
        let nginx = Nginx::at(&hosts);
        let address = format!("rtmp://{SERVER_IP}:1935/live");
        let configured =
            Configured::with_encoder(&[("Aldmoor", &address)], "keeper = \"act\"\nkeeper_floor = \"500 kb/s\"\n");
        let moth = Moth::on_setup(hosts.at_home(), &configured, free_port(), &[]);
        on_air_at(&moth, 2500.0, 3500.0);
        std::thread::sleep(Duration::from_secs(6));
        assert_eq!(moth.newest()["trial"], Value::Null, "it does nothing while nothing is wrong");
        hosts.narrow(0, 1800, 200);
        // Down once, to less than the bucket lets through.
        on_air_at(&moth, 700.0, 1700.0);
        let lowered = moth.newest();
        assert_eq!(lowered["keeper"]["mode"], "act");
        wait_for("a steady connection", Duration::from_secs(30), || (moth.newest()["state"] == "steady").then_some(()));
        hosts.narrow(0, 8000, 200);
        // Up again after a while, as every change restarts this encoder; it is told how long.
        wait_for("its patience", Duration::from_secs(70), || {
            moth.newest()["keeper"]["says"].as_str().is_some_and(|says| says.contains("climbs in")).then_some(())
        });
        wait_for("the climb", Duration::from_secs(170), || (kbps(&moth.newest()) > 2000.0).then_some(()));
        // A hand on the bitrate counts more.
        assert_eq!(moth.tell(&["bitrate", "1200k"]).0, Some(0));
        let line = wait_for("its rest", Duration::from_secs(5), || {
            let line = moth.newest();
            (line["keeper"]["rests"] == true).then_some(line)
        });
        assert!(line["keeper"]["says"].as_str().unwrap().contains("by hand"), "{line}");
        let (_, lines) = moth.stop();
        let mut titles: Vec<&str> = lines.iter().filter_map(|line| line["trial"]["title"].as_str()).collect();
        titles.dedup();
        // Down once or twice, up once or twice, and the hand's.
        assert!(titles.len() <= 5, "no cascade: {titles:?}: {:#?}", story(&lines));
        let recordings = nginx.recordings();
        assert_eq!(recordings.len(), 1, "the server's connection was kept all the time");
        // Where another bitrate changes the parameter sets, ffmpeg's parser (its name is NULL) says so, and decodes on.
        let said = decode(&recordings[0]);
        let complaints: Vec<&str> = said.lines().filter(|line| !line.starts_with("[NULL @")).collect();
        assert!(complaints.is_empty(), "{complaints:?}");
    }
}
