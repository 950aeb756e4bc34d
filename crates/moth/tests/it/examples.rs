//! What ships in `examples/` does what it says.

use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::common::*;

fn example(name: &str) -> String {
    format!("{}/../../examples/{name}", env!("CARGO_MANIFEST_DIR"))
}

fn counters(feed: &str, log: &str, more: &[&str]) -> Running {
    let mut command = Command::new("python3");
    command.arg(example("counters_from_a_log.py")).args(["--feed", feed, log]).args(more);
    Running(command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap())
}

#[test]
fn what_a_program_writes_into_its_log_is_told_by_patterns_also_when_the_log_is_turned_over() {
    if !have(&["nginx", "ffmpeg", "python3"]) {
        return;
    }
    let (nginx, feed) = (Nginx::new(), format!("127.0.0.1:{}", free_port()));
    let moth = Moth::watching_with(Command::new("env"), &[&nginx.address()], &["--feed", &feed]);
    let _ffmpeg =
        Running(publish(Command::new("env"), &format!("rtmp://127.0.0.1:{}/moth/local", moth.port), 60, 1000));
    wait_for("a broadcast", Duration::from_secs(20), || (moth.newest()["state"] == "steady").then_some(()));
    let dir = tempfile::tempdir().unwrap();
    let log = dir.path().join("broadcaster.log");
    std::fs::write(&log, "behind: 9999\n").unwrap();
    let script = counters(&feed, &log.display().to_string(), &["behind: (?P<skipped>\\d+)", "late (?P<lagged>\\d+)"]);
    let opened = |link: std::fs::DirEntry| std::fs::read_link(link.path()).is_ok_and(|opened| opened == log);
    wait_for("the script to open the log", Duration::from_secs(20), || {
        let open = std::fs::read_dir(format!("/proc/{}/fd", script.0.id())).ok()?;
        open.flatten().any(opened).then_some(())
    });
    let write = |line: &str| {
        let mut file = std::fs::OpenOptions::new().append(true).create(true).open(&log).unwrap();
        writeln!(file, "{line}").unwrap();
    };
    let tells = |kind: &str, count: u64| {
        wait_for(kind, Duration::from_secs(10), || {
            let line = moth.newest();
            (line["frames"][kind] == count && line["origins"][kind] == "reported").then_some(())
        });
    };
    // What is said first is where counting begins; what was in the log before is not told.
    write("12:00 late 2, behind: 100");
    tells("skipped", 0);
    write("12:01 late 2, behind: 107");
    tells("skipped", 7);
    std::fs::rename(&log, dir.path().join("broadcaster.log.1")).unwrap();
    write("12:02 late 5");
    tells("lagged", 3);
    let wrong = Command::new("python3").arg(example("counters_from_a_log.py")).args(["-", "(?P<frames>\\d+)"]).output();
    assert_eq!(wrong.unwrap().status.code(), Some(2), "a key that the feed does not know");
}

#[test]
fn the_setup_in_which_the_moth_runs_ffmpeg_goes_on_air_and_takes_a_change() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let port = free_port();
    let text = std::fs::read_to_string(example("ffmpeg_by_the_moth.toml")).unwrap();
    let here = text.replace(":1936/live", &format!(":{port}/live"));
    assert_ne!(text, here);
    let configured = Configured { dir };
    std::fs::write(configured.dir.path().join("moth.toml"), here).unwrap();
    std::fs::write(configured.dir.path().join("key"), KEY).unwrap();
    let key = configured.dir.path().join("key");
    std::fs::set_permissions(key, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let listen = format!("rtmp://127.0.0.1:{port}/live");
    let ingest = Command::new(env!("CARGO_BIN_EXE_moth"))
        .args(["ingest", "--listen", &listen])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let _ingest = Running(ingest.unwrap());
    let moth = Moth::on_setup(Command::new("env"), &configured, free_port(), &[]);
    let kbps = |line: &serde_json::Value| line["rates"]["video_kbps"].as_f64().unwrap_or(0.0);
    wait_for("its bitrate", Duration::from_secs(30), || (kbps(&moth.newest()) > 2000.0).then_some(()));
    assert_eq!(moth.tell(&["bitrate", "900k"]).0, Some(0));
    wait_for("the change", Duration::from_secs(30), || {
        let now = kbps(&moth.newest());
        (now > 100.0 && now < 1400.0).then_some(())
    });
}
