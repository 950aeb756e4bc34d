//! Screens and the broadcast apart: what is killed, stopped and closed, with real programs.

use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::net::UnixStream;
use std::process::Command;
use std::time::Duration;

use crate::common::terminal::Terminal;
use crate::common::*;
use serde_json::Value;

/// A moth that waits at this address in a terminal, for a server.
fn watch(terminal: &Terminal, nginx: &Nginx, listen: &str) {
    watch_with(terminal, nginx, listen, "");
}

fn watch_with(terminal: &Terminal, nginx: &Nginx, listen: &str, options: &str) {
    std::fs::write(terminal.file("key"), KEY).unwrap();
    let key = terminal.file("key");
    std::fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    terminal
        .run_moth(&format!("watch --no-look --to {} --key-file {key} --listen {listen} {options}", nginx.address()));
    terminal.shows(&format!("Publish to {listen}"), 15);
}

fn listen() -> String {
    format!("rtmp://127.0.0.1:{}/moth", free_port())
}

/// What the only moth says of itself.
fn about(terminal: &Terminal) -> Value {
    let out = terminal.outside(&["ls", "--json"]);
    let found: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(found.as_array().unwrap().len(), 1, "{found}");
    found[0].clone()
}

fn process(terminal: &Terminal) -> String {
    about(terminal)["process"].to_string()
}

fn signal(name: &str, process: &str) {
    assert!(Command::new("kill").args([name, process]).status().unwrap().success());
}

/// A screen that attached by itself; its first line was answered.
fn attached(terminal: &Terminal) -> Option<UnixStream> {
    let mut stream = UnixStream::connect(&terminal.sockets()[0]).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let ask = r#"{"attach":{"protocol":1,"version":"0.0.1","size":[120,40],"colours":"full","mouse":false}}"#;
    writeln!(stream, "{ask}").unwrap();
    let mut answer = Vec::new();
    // Byte by byte: what follows is left to be read, or not.
    while answer.last() != Some(&b'\n') {
        let mut byte = [0];
        stream.read_exact(&mut byte).unwrap();
        answer.push(byte[0]);
    }
    String::from_utf8(answer).unwrap().contains("hello").then_some(stream)
}

#[test]
fn a_closed_terminal_a_killed_a_stopped_and_ten_more_screens_cost_the_broadcast_nothing() {
    if !have(&["tmux", "nginx", "ffmpeg"]) {
        return;
    }
    let (nginx, terminal, listen) = (Nginx::new(), Terminal::new(120, 40), listen());
    watch(&terminal, &nginx, &listen);
    let mut ffmpeg = publish(Command::new("env"), &format!("{listen}/local"), 40, 1000);
    terminal.shows("Every frame offered arrives", 15);
    // The window that began it is closed, and its screen is gone as well.
    let screen = terminal.moth();
    terminal.window();
    terminal.tmux(&["kill-window", "-t", "0"]);
    let moth = wait_for("the broadcast goes on", Duration::from_secs(5), || Some(process(&terminal)));
    assert_eq!(about(&terminal)["state"], "steady");
    wait_for("the screen's end", Duration::from_secs(10), || {
        let state = std::fs::read_to_string(format!("/proc/{screen}/stat")).unwrap_or_default();
        (state.is_empty() || state.contains(") Z ")).then_some(())
    });
    // A screen is opened again, and killed.
    terminal.enter(&format!("{} attach", env!("CARGO_BIN_EXE_moth")));
    terminal.shows("Every frame offered arrives", 10);
    let screen = terminal.moth();
    signal("-KILL", &screen);
    // What it leaves of its terminal is nobody's fault.
    terminal.window();
    // One that is stopped, and goes on.
    terminal.enter(&format!("{} attach {moth}", env!("CARGO_BIN_EXE_moth")));
    terminal.shows("Every frame offered arrives", 10);
    let screen = terminal.moth();
    signal("-STOP", &screen);
    // Ten come, the eleventh is turned away, and all go at once.
    let screens: Vec<UnixStream> = (0..9).filter_map(|_| attached(&terminal)).collect();
    assert_eq!(screens.len(), 9, "beside the stopped one");
    assert!(attached(&terminal).is_none());
    std::thread::sleep(Duration::from_secs(5));
    drop(screens);
    // The shell took the terminal back, as it was: there a line ends otherwise.
    terminal.tmux(&["send-keys", "-l", "fg"]);
    terminal.keys("C-j");
    terminal.shows("on air 0:1", 15);
    terminal.keys("q");
    terminal.shows("leave it running", 5);
    terminal.keys("l");
    terminal.shows("The moth goes on.", 5);
    // The encoder never noticed, and every frame arrived.
    assert!(ffmpeg.wait().unwrap().success(), "ffmpeg ended by itself");
    assert_eq!(process(&terminal), moth, "all the time it was the same");
    wait_for("nobody on air", Duration::from_secs(5), || about(&terminal)["on_air_s"].is_null().then_some(()));
    let out = terminal.outside(&["stop"]);
    assert!(String::from_utf8_lossy(&out.stdout).contains("ended"), "nobody is on air: it does not ask");
    assert!(terminal.sockets().is_empty(), "nothing is left behind");
    let recordings = nginx.recordings();
    assert_eq!(recordings.len(), 1, "one recording");
    assert_eq!(frames(&recordings[0], "v"), 40 * 30, "without a gap");
}

#[test]
fn a_screen_is_left_or_ends_the_broadcast_and_a_moth_is_ended_only_with_a_yes() {
    if !have(&["tmux", "nginx", "ffmpeg"]) {
        return;
    }
    let (nginx, terminal, listen) = (Nginx::new(), Terminal::new(120, 40), listen());
    let another = Nginx::new();
    watch_with(&terminal, &nginx, &listen, &format!("--to {}", another.address()));
    let mut ffmpeg = publish(Command::new("env"), &format!("{listen}/local"), 60, 1000);
    terminal.shows("Every frame offered arrives", 15);
    terminal.keys("q");
    terminal.keys("l");
    assert_eq!(terminal.left(), "left=0");
    assert!(terminal.screen().contains("`moth attach` opens a screen on it"));
    // Its key is in no list of processes, and it has no terminal.
    let moth = process(&terminal);
    let list = Command::new("ps").args(["-o", "tty=,args=", "-p", &moth]).output().unwrap();
    let list = String::from_utf8(list.stdout).unwrap();
    assert!(list.trim_start().starts_with('?') && !list.contains(KEY), "{list}");
    // A second one at the same address says who is there.
    let key = terminal.file("key");
    let second = terminal.outside(&[
        "watch",
        "--to",
        &nginx.address().to_string(),
        "--key-file",
        &key,
        "--listen",
        &listen,
        "--no-screen",
    ]);
    let said = String::from_utf8_lossy(&second.stderr).into_owned();
    assert_eq!(second.status.code(), Some(2));
    assert!(said.contains(&format!("process {moth}")) && said.contains("moth attach"), "{said}");
    // It is not ended without a yes.
    let out = terminal.outside(&["stop"]);
    assert_eq!(out.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&out.stderr).contains("--yes"));
    terminal.enter(&format!("{} stop; echo said=$?", env!("CARGO_BIN_EXE_moth")));
    terminal.shows("End it? [y/N]", 5);
    terminal.enter("n");
    terminal.shows("said=1", 5);
    // Something is changed on one screen and seen on another, and put back.
    terminal.enter(&format!("{} attach", env!("CARGO_BIN_EXE_moth")));
    terminal.shows("Every frame offered arrives", 10);
    let mut other = attached(&terminal).unwrap();
    terminal.keys("k");
    terminal.shows("keeper", 5);
    terminal.keys("Down");
    terminal.keys("Enter");
    let mut seen = String::new();
    let mut lines = BufReader::new(other.try_clone().unwrap());
    wait_for("the keeper on the other screen", Duration::from_secs(10), || {
        lines.read_line(&mut seen).unwrap();
        seen.contains("keeper").then_some(())
    });
    writeln!(other, "\"leave\"").unwrap();
    terminal.shows("on air 0:04", 15);
    // A change is told from elsewhere, seen on the screen and undone there.
    let name = another.address().replace("rtmp://", "").replace("/live", "");
    assert!(terminal.outside(&["tell", "server", &name]).status.success());
    terminal.shows(&format!("arrives at {name}"), 15);
    terminal.keys("u");
    terminal.shows("Move back to", 5);
    terminal.keys("y");
    terminal.shows(&format!("arrives at {}", nginx.address().replace("rtmp://", "").replace("/live", "")), 15);
    // Ended on the screen, it is over for all.
    terminal.keys("q");
    terminal.keys("y");
    wait_for("the end", Duration::from_secs(20), || terminal.sockets().is_empty().then_some(()));
    terminal.shows("Broadcast", 10);
    let _ = ffmpeg.kill();
    let _ = ffmpeg.wait();
    assert!(frames(&nginx.recordings()[0], "v") > 60);
}

#[test]
fn a_killed_moth_is_told_of_and_begun_again_and_the_encoders_own_reconnect_finds_it() {
    if !have(&["tmux", "nginx", "ffmpeg"]) {
        return;
    }
    let (nginx, terminal, listen) = (Nginx::new(), Terminal::new(120, 40), listen());
    let recording = terminal.file("evening.jsonl.gz");
    watch_with(&terminal, &nginx, &listen, &format!("--record {recording}"));
    let mut first = publish(Command::new("env"), &format!("{listen}/local"), 60, 1000);
    // What is to go on must have been kept.
    terminal.shows("on air 0:04", 15);
    signal("-KILL", &process(&terminal));
    let screen = terminal.shows("Begin it again?", 10);
    assert!(screen.contains("it was killed, or met a fault"), "{screen}");
    let _ = first.wait();
    terminal.keys("Enter");
    terminal.shows(&format!("Publish to {listen}"), 15);
    let mut again = publish(Command::new("env"), &format!("{listen}/local"), 60, 1000);
    terminal.shows("Every frame offered arrives", 15);
    terminal.keys("m");
    let marks = terminal.shows("begun again: the process before was killed", 5);
    assert!(marks.matches("the broadcaster came").count() == 2, "those before are there as well: {marks}");
    terminal.keys("Escape");
    // Of what was before the lanes are there, and nothing is made up beside them.
    terminal.keys("Home");
    terminal.shows("How everything stood then was not kept", 5);
    terminal.keys("End");
    assert_eq!(terminal.sockets().len(), 1, "what the killed one left behind is gone");
    terminal.keys("q");
    terminal.keys("y");
    assert_eq!(terminal.left(), "left=0");
    let _ = again.kill();
    let _ = again.wait();
    // One broadcast in the logbook and one file, with a gap that is told.
    let told = |words: &[&str]| String::from_utf8(terminal.outside(words).stdout).unwrap();
    let list: Value = serde_json::from_str(&told(&["log", "list", "--json"])).unwrap();
    assert_eq!(list["broadcasts"].as_array().unwrap().len(), 1, "{list}");
    let shown = told(&["log", "show", "last"]);
    assert!(shown.contains("begun again") && shown.matches("the broadcaster came").count() == 2, "{shown}");
    let judged: Value = serde_json::from_str(&told(&["judge", &recording, "--json"])).unwrap();
    assert!(judged["damage"].is_null() && judged["readings"].as_u64().unwrap() > 100, "{judged}");
    let files = std::fs::read_dir(terminal.dir.path()).unwrap().flatten();
    assert_eq!(files.filter(|file| file.file_name().to_string_lossy().contains(".jsonl")).count(), 1);
}

#[test]
fn fifty_screens_that_never_read_take_no_memory_and_lose_no_frame() {
    if !have(&["tmux", "nginx", "ffmpeg"]) {
        return;
    }
    let (nginx, terminal, listen) = (Nginx::new(), Terminal::new(120, 40), listen());
    watch(&terminal, &nginx, &listen);
    let mut ffmpeg = publish(Command::new("env"), &format!("{listen}/local"), 20, 1000);
    terminal.shows("Every frame offered arrives", 15);
    let moth = process(&terminal);
    let memory = || {
        let status = std::fs::read_to_string(format!("/proc/{moth}/status")).unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS")).unwrap().to_owned();
        line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap()
    };
    let before = memory();
    let ask = r#"{"attach":{"protocol":1,"version":"0.0.1","size":[1000,400],"colours":"full","mouse":false}}"#;
    let mut silent = Vec::new();
    for n in 0..50 {
        let mut stream = UnixStream::connect(&terminal.sockets()[0]).unwrap();
        // Some say nothing, some follow, some say nonsense.
        let line = match n % 5 {
            0 => "{\"follow\":true}\n".into(),
            1 => "{\"attach\":7}\n".into(),
            2 => String::new(),
            _ => format!("{ask}\n"),
        };
        let _ = stream.write_all(line.as_bytes());
        silent.push(stream);
    }
    std::thread::sleep(Duration::from_secs(6));
    let grown = memory().saturating_sub(before);
    // Ten pictures of the largest size there is, each cell with its colours, and what draws them.
    assert!(grown < 150_000, "{grown} kB more");
    drop(silent);
    assert!(ffmpeg.wait().unwrap().success());
    wait_for("room for another", Duration::from_secs(10), || attached(&terminal));
    assert_eq!(frames(&nginx.recordings()[0], "v"), 20 * 30);
}

#[test]
fn programs_follow_it_and_a_service_file_keeps_it() {
    if !have(&["tmux", "nginx"]) {
        return;
    }
    let (nginx, terminal, listen) = (Nginx::new(), Terminal::new(120, 40), listen());
    watch(&terminal, &nginx, &listen);
    let mut stream = UnixStream::connect(&terminal.sockets()[0]).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    stream.write_all(b"{\"follow\":true}\n").unwrap();
    let lines: Vec<Value> =
        BufReader::new(stream).lines().take(5).map(|line| serde_json::from_str(&line.unwrap()).unwrap()).collect();
    assert!(lines.windows(2).all(|pair| pair[1]["t"].as_f64() > pair[0]["t"].as_f64()));
    assert!(lines[4]["t"].as_f64().unwrap() - lines[0]["t"].as_f64().unwrap() < 2.0, "five a second");
    let mode = std::fs::metadata(&terminal.sockets()[0]).unwrap();
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&mode.permissions()) & 0o777, 0o600, "its user's alone");
    let file = String::from_utf8(terminal.outside(&["service"]).stdout).unwrap();
    assert!(
        file.contains("ExecStart=\"/") && file.contains("watch --no-screen") && file.contains("moth attach"),
        "{file}"
    );
}
