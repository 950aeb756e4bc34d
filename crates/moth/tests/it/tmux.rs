//! The built binary in a real terminal: what is on the screen, what keys do, and what is left behind.

use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::common::terminal::Terminal;
use crate::common::*;

#[test]
fn the_demo_shows_trouble_a_key_mends_it_and_the_terminal_is_left_clean() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(120, 40);
    terminal.demo("");
    let screen = terminal.shows("nothing at fault", 10);
    // Its name is cut once the broadcaster has told its picture.
    assert!(screen.contains("demo: the ar"), "it says that it is a demo:\n{screen}");
    terminal.keys("?");
    terminal.shows("Keys and words", 5);
    terminal.keys("Escape");
    let screen = terminal.shows("network at fault", 40);
    assert!(screen.contains("an upload beyond this machine"), "{screen}");
    // Why it is that: the suspects, the evidence, and a test of every server.
    terminal.keys("2");
    let screen = terminal.shows("Evidence on: an upload beyond this machine", 5);
    assert!(screen.contains("frames dropped") && screen.contains("the route to this server"), "{screen}");
    terminal.keys("t");
    terminal.shows("6 of 6 servers answered", 10);
    terminal.keys("6");
    let screen = terminal.shows("GPU drawing", 5);
    assert!(screen.contains("this machine") && screen.contains("others upload"), "{screen}");
    terminal.keys("1");
    let screen = terminal.shows("lower the video bitrate to", 5);
    assert!(screen.contains("losing") || screen.contains("strained"), "{screen}");
    terminal.keys("b");
    let screen = terminal.shows("nothing at fault", 20);
    assert!(screen.contains("steady") && screen.contains("undo the last change"), "{screen}");
    // Smaller than the screens need, and back.
    terminal.tmux(&["resize-window", "-x", "60", "-y", "20"]);
    let screen = terminal.shows("5:", 5);
    assert!(screen.contains("steady") && screen.contains(" q  quit") && !screen.contains("Watch"), "{screen}");
    terminal.tmux(&["resize-window", "-x", "80", "-y", "24"]);
    terminal.shows("nothing at fault", 5);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn in_trouble_a_change_is_made_proved_put_back_and_missed() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(150, 44);
    terminal.demo("");
    terminal.shows("network at fault", 60);
    // Half a minute of trouble is something to compare with.
    wait_for("25 s of trouble", Duration::from_secs(60), || {
        let screen = terminal.screen();
        let lasted = screen.split("(0:").nth(1)?.split(')').next()?.parse::<u32>().ok()?;
        (lasted >= 25).then_some(())
    });
    // Ten seconds back it was no other, and nothing is changed there.
    terminal.keys("PPage");
    let screen = terminal.shows("┃ at 0:", 5);
    assert!(screen.contains("in that second") && screen.contains("back to now"), "{screen}");
    terminal.keys("b");
    terminal.shows("you look back at what was proposed then", 5);
    terminal.keys("Escape");
    terminal.shows("┃ network at fault", 5);
    terminal.keys("b");
    let screen = terminal.shows("trial", 10);
    assert!(screen.contains("cannot tell yet") && screen.contains("video bitrate to"), "{screen}");
    let screen = terminal.shows("● helped", 40);
    assert!(screen.contains("points less (95 %)") && screen.contains("before → since"), "{screen}");
    terminal.keys("u");
    terminal.shows("put back", 5);
    terminal.shows("network at fault", 20);
    // And the keeper, asked for, does it by itself.
    terminal.keys("k");
    terminal.shows("keeper: act", 5);
    terminal.keys("Down");
    terminal.keys("Enter");
    let screen = terminal.shows("keeper   (act)", 5);
    assert!(screen.contains("losing") || screen.contains("strained"), "{screen}");
    terminal.shows("nothing at fault", 30);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn a_termination_signal_leaves_the_terminal_clean() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(80, 24);
    terminal.run_moth("demo --evening calm");
    terminal.shows("nothing at fault", 10);
    assert!(Command::new("kill").args(["-TERM", &terminal.moth()]).status().unwrap().success());
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn an_interrupt_leaves_the_terminal_clean() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(80, 24);
    terminal.run_moth("demo --evening calm");
    terminal.shows("nothing at fault", 10);
    terminal.keys("C-c");
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn a_terminal_that_goes_away_ends_it() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(80, 24);
    // A shell that outlives the terminal tells how the moth ended.
    let (recording, socket) = (terminal.file("seen.jsonl"), terminal.file("moth.sock"));
    let script = format!(
        "trap : HUP\n{} demo --evening calm --record {recording} --socket {socket}\necho left=$? > {}\n",
        env!("CARGO_BIN_EXE_moth"),
        terminal.file("status")
    );
    std::fs::write(terminal.file("script"), script).unwrap();
    terminal.enter(&format!("sh {}", terminal.file("script")));
    terminal.shows("nothing at fault", 10);
    let lines = || std::fs::read_to_string(&recording).unwrap_or_default().lines().count();
    wait_for("readings", Duration::from_secs(10), || (lines() > 100).then_some(()));
    terminal.tmux(&["kill-server"]);
    let left = wait_for("its end", Duration::from_secs(15), || {
        std::fs::read_to_string(terminal.file("status")).ok().filter(|text| text.ends_with('\n'))
    });
    assert_eq!(left, "left=0\n");
    assert!(!Path::new(&socket).exists(), "what it made is gone");
    assert!(std::fs::read_to_string(recording).unwrap().ends_with("}\n"), "the recording is whole");
}

/// A recording that may not grow: what a full disk does to it.
fn script_with_a_full_disk(terminal: &Terminal, options: &str) -> String {
    let script = format!(
        "trap : HUP\ntrap '' XFSZ\nulimit -f 40\n{} demo --evening calm --no-log --record {} {options}\necho left=$? > {}\n",
        env!("CARGO_BIN_EXE_moth"),
        terminal.file("seen.jsonl"),
        terminal.file("status")
    );
    std::fs::write(terminal.file("script"), script).unwrap();
    format!("sh {}", terminal.file("script"))
}

#[test]
fn what_went_wrong_is_said_and_is_the_status_also_where_the_screen_is_gone() {
    if !have(&["tmux"]) {
        return;
    }
    for is_killed in [false, true] {
        let terminal = Terminal::new(100, 30);
        terminal.enter(&script_with_a_full_disk(&terminal, &format!("--socket {}", terminal.file("moth.sock"))));
        terminal.shows("nothing at fault", 10);
        // It is said while the broadcast goes on, until a key is pressed.
        terminal.shows("the recording of readings ended early", 20);
        if is_killed {
            terminal.tmux(&["kill-server"]);
        } else {
            terminal.keys("?");
            terminal.keys("Escape");
            wait_for("its place to be free", Duration::from_secs(5), || {
                let screen = terminal.screen();
                let is_free = !screen.contains("ended early") && !screen.contains("Keys and words");
                (is_free && screen.contains("nothing at fault")).then_some(())
            });
            terminal.keys("q");
            terminal.keys("y");
        }
        let left = wait_for("its end", Duration::from_secs(15), || {
            std::fs::read_to_string(terminal.file("status")).ok().filter(|text| text.ends_with('\n'))
        });
        assert_eq!(left, "left=2\n", "killed: {is_killed}");
        if !is_killed {
            terminal.shows("cannot be written", 5);
        }
    }
}

#[test]
fn warnings_are_on_the_screen_one_after_another() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(140, 40);
    std::fs::write(terminal.file("key"), "made-up-key-5127\n").unwrap();
    let everybody: std::fs::Permissions = std::os::unix::fs::PermissionsExt::from_mode(0o644);
    std::fs::set_permissions(terminal.file("key"), everybody).unwrap();
    terminal.enter(&format!(
        "{} watch --to rtmp://127.0.0.1:9/live --listen rtmp://127.0.0.1:0/moth --key-file {} --also http://127.0.0.1:9",
        env!("CARGO_BIN_EXE_moth"),
        terminal.file("key")
    ));
    terminal.shows("other users of this machine can read the key file", 10);
    terminal.keys("?");
    terminal.keys("Escape");
    terminal.shows("http://127.0.0.1:9/metrics cannot be read", 10);
    assert!(!terminal.screen().contains("5127"));
}

#[test]
fn stopped_and_gone_on_with_it_has_its_terminal_again() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(80, 24);
    terminal.enter("echo was-here-before");
    terminal.enter(&format!("stty -a > {}", terminal.file("before")));
    terminal.enter(&format!("{} demo --evening calm", env!("CARGO_BIN_EXE_moth")));
    terminal.shows("nothing at fault", 10);
    let moth = terminal.moth();
    let signal = |name: &str| assert!(Command::new("kill").args([name, &moth]).status().unwrap().success());
    // It does not let itself be asked to: a broadcast hangs on it.
    signal("-TSTP");
    terminal.keys("?");
    terminal.shows("0-7 Tab", 5);
    // Where it is not asked, the shell has the terminal meanwhile, and sets it as it likes.
    signal("-STOP");
    wait_for("the shell's word on it", Duration::from_secs(5), || {
        let screen = terminal.screen();
        screen.contains("Stopped").then_some(())
    });
    terminal.tmux(&["send-keys", "-l", "stty sane; tput rmcup; fg"]);
    // The terminal is raw still, and knows no Enter.
    terminal.keys("C-j");
    wait_for("the screen once more", Duration::from_secs(5), || {
        let screen = terminal.screen();
        (screen.contains("0-7 Tab") && !screen.contains("Stopped")).then_some(())
    });
    terminal.keys("?");
    terminal.shows("nothing at fault", 5);
    terminal.keys("q");
    terminal.enter(&format!("echo left=$? > {}; stty -a > {}", terminal.file("status"), terminal.file("after")));
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn another_server_is_asked_about_and_then_mends_the_tired_one() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(100, 30);
    terminal.demo("--evening tired-server");
    terminal.shows("move to Brackwater", 40);
    terminal.keys("s");
    terminal.shows("Sure?", 5);
    terminal.keys("y");
    terminal.shows("Every frame arrives at Brackwater.", 20);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn a_real_broadcast_is_shown_without_its_key_and_ended_only_with_a_yes() {
    if !have(&["tmux", "nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let terminal = Terminal::new(100, 30);
    let port = free_port();
    std::fs::write(terminal.file("key"), KEY).unwrap();
    let (key, log) = (terminal.file("key"), terminal.file("log"));
    let listen = format!("rtmp://127.0.0.1:{port}/moth");
    terminal.run_moth(&format!("watch --to {} --key-file {key} --listen {listen} --log {log}", nginx.address()));
    terminal.shows(&format!("Publish to {listen}"), 10);
    // Without a setup the screens work all the same.
    terminal.keys("3");
    terminal.shows("untested", 5);
    terminal.keys("1");
    terminal.shows("keep as a setup", 5);
    let mut ffmpeg = publish(Command::new("env"), &format!("{listen}/local"), 60, 1000);
    let screen = terminal.shows("Every frame offered arrives at 127.0.0.1", 15);
    assert!(screen.contains("640×360") && screen.contains("steady") && !screen.contains(KEY), "{screen}");
    assert!(screen.contains("lagged n/a") || screen.contains("lagged not available"), "{screen}");
    // What was named, and what is sent, is a setup by one key.
    terminal.keys("w");
    terminal.shows("kept as the setup 127-0-0-1", 5);
    let config = std::fs::read_to_string(terminal.file("config/vigilant-moth/moth.toml")).unwrap();
    assert!(config.contains("640x360") && config.contains("rate = 30") && !config.contains(KEY), "{config}");
    terminal.keys("q");
    let screen = terminal.shows("Ended, it is over for your viewers", 5);
    assert!(!screen.contains(KEY));
    terminal.keys("n");
    assert!(terminal.shows("on air 0:03", 10).contains("steady"), "it goes on");
    terminal.keys("q");
    terminal.keys("y");
    assert_eq!(terminal.left(), "left=0");
    let _ = ffmpeg.kill();
    let _ = ffmpeg.wait();
    assert!(frames(&nginx.recordings()[0], "v") > 60, "what was sent until then arrived");
    for file in ["log", "status"] {
        assert!(!std::fs::read_to_string(terminal.file(file)).unwrap().contains(KEY), "the key is in the {file}");
    }
    assert!(std::fs::read_to_string(log).unwrap().contains("other users of this machine can read the key file"));
}

/// Keys beside what is typed, and what is typed.
struct Hand<'a> {
    terminal: &'a Terminal,
    keys: usize,
}

impl Hand<'_> {
    fn key(&mut self, key: &str) {
        self.terminal.keys(key);
        self.keys += 1;
    }

    fn text(&mut self, text: &str) {
        self.terminal.tmux(&["send-keys", "-l", text]);
        self.key("Enter");
    }
}

#[test]
fn from_an_empty_home_folder_to_a_watched_broadcast_without_leaving_the_screen() {
    if !have(&["tmux", "nginx", "ffmpeg", "unshare", "nsenter", "ip"]) {
        return;
    }
    let terminal = Terminal::with_network(120, 40);
    let nginx = Nginx::beside(&terminal);
    terminal.run_moth("");
    terminal.shows("Where do you broadcast to?", 10);
    let mut hand = Hand { terminal: &terminal, keys: 0 };
    hand.text("Harrow Hill");
    hand.key("Enter");
    terminal.shows("Which ingest servers does it have?", 5);
    hand.text(&nginx.address().to_string());
    hand.key("Enter");
    terminal.shows("Whoever has it can broadcast as you", 5);
    hand.text(KEY);
    terminal.shows("What does your broadcaster send?", 5);
    hand.text("1 MB");
    let shown = terminal.shows("= 1 000 kb/s", 5);
    assert!(shown.contains("bits"), "{shown}");
    hand.text("640x360");
    hand.text("30");
    hand.key("Enter");
    terminal.shows("harrow-hill is ready", 5);
    hand.key("Enter");
    terminal.shows("Publish to rtmp://127.0.0.1:19350/moth", 10);
    assert!(hand.keys <= 25, "{} keys", hand.keys);
    let mut ffmpeg = publish(terminal.beside(), "rtmp://127.0.0.1:19350/moth/local", 60, 1000);
    let screen = terminal.shows("Every frame offered arrives at 127.0.0.1", 15);
    assert!(screen.contains("640×360") && screen.contains("steady") && !screen.contains(KEY), "{screen}");
    terminal.shows("on air 0:03", 10);
    let _ = ffmpeg.kill();
    let _ = ffmpeg.wait();
    terminal.shows("no broadcaster", 10);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
    assert!(frames(&nginx.recordings()[0], "v") > 30);

    // The same again is two keys: one for the shell, and one.
    terminal.tmux(&["send-keys", "-l", env!("CARGO_BIN_EXE_moth")]);
    terminal.keys("Enter");
    terminal.shows("Which setup do you go live with?", 10);
    terminal.keys("Enter");
    terminal.shows("Publish to rtmp://127.0.0.1:19350/moth", 10);
    // As long as nobody has come, the list is one key away, and the address is free for whatever is chosen there.
    terminal.keys("g");
    terminal.shows("Which setup do you go live with?", 10);
    terminal.keys("Enter");
    terminal.shows("Publish to rtmp://127.0.0.1:19350/moth", 10);
    terminal.keys("q");
    let config = std::fs::read_to_string(terminal.file("config/vigilant-moth/moth.toml")).unwrap();
    assert!(
        config.contains("[setups.harrow-hill]") && !config.contains(KEY) && !config.contains("octurne"),
        "{config}"
    );
}

#[test]
fn when_a_real_server_is_killed_a_key_moves_the_broadcast_to_another() {
    if !have(&["tmux", "nginx", "ffmpeg", "ffprobe"]) {
        return;
    }
    let (mut first, second) = (Nginx::new(), Nginx::new());
    let terminal = Terminal::new(100, 30);
    std::fs::write(terminal.file("key"), KEY).unwrap();
    let (key, listen) = (terminal.file("key"), format!("rtmp://127.0.0.1:{}/moth", free_port()));
    terminal.run_moth(&format!(
        "watch --to {} --to {} --key-file {key} --listen {listen}",
        first.address(),
        second.address()
    ));
    terminal.shows(&format!("Publish to {listen}"), 10);
    let ffmpeg = publish(Command::new("env"), &format!("{listen}/local"), 12, 1000);
    terminal.shows(&format!("Every frame offered arrives at 127.0.0.1:{}", first.port), 15);
    first.kill();
    terminal.shows(&format!("move to 127.0.0.1:{}", second.port), 10);
    terminal.keys("s");
    terminal.shows("Sure?", 5);
    terminal.keys("y");
    terminal.shows(&format!("Every frame offered arrives at 127.0.0.1:{}", second.port), 15);
    ended_well(ffmpeg);
    terminal.shows("Nobody broadcasts.", 15);
    let recordings = second.recordings();
    assert!(first_flags(&recordings[0]).starts_with('K'), "it begins at a keyframe");
    assert!(frames(&recordings[0], "v") > 60);
    assert_eq!(decode(&recordings[0]), "");
    // With nobody on air, quitting ends nothing and asks nothing.
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn before_going_live_servers_are_compared_one_is_picked_and_a_plan_is_made() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(120, 40);
    terminal.demo("--evening calm");
    terminal.shows("nothing at fault", 10);
    terminal.keys("4");
    // In the demo the afternoon before was measured already.
    terminal.shows("The upload sustains 11", 5);
    terminal.keys("3");
    let screen = terminal.shows("Farrowgate", 5);
    assert!(screen.contains("6 160 kb/s planned") && screen.contains("over dome0 (wired)"), "{screen}");
    // The two servers of the north.
    terminal.keys("r");
    terminal.keys("Enter");
    terminal.shows("publishes filler to 2 servers of Nocturne", 5);
    terminal.keys("y");
    let screen = terminal.shows("testing 2 of 2", 30);
    assert!(screen.contains("reads slowly"), "Aldmoor is known already: {screen}");
    let screen = terminal.shows("Aldmoor alone is bad, and it is the server", 30);
    assert!(screen.contains("holds") && screen.contains("short") && screen.contains("untested"), "{screen}");
    terminal.keys("p");
    terminal.shows("Brackwater is now the server of the setup comet-night", 5);
    terminal.keys("4");
    let screen = terminal.shows("Use 8 000 kb/s of video", 5);
    assert!(screen.contains("1664×936") && screen.contains("the service's limit binds"), "{screen}");
    terminal.keys("w");
    terminal.shows("written to comet-night: 8 000 kb/s of video, 1664×936", 5);
    terminal.keys("6");
    // On air the load is read all the time; below it stands what lasts.
    let screen = terminal.shows("Beside its load: nothing would hurt a broadcast.", 10);
    assert!(screen.contains("CPU frequency") && !screen.contains("Close stitch-mosaic"), "{screen}");
    terminal.keys("Tab");
    terminal.keys("Tab");
    terminal.shows("nothing at fault", 5);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn a_real_server_is_tested_on_the_screen_and_the_key_is_never_on_it() {
    if !have(&["tmux", "nginx"]) {
        return;
    }
    let nginx = Nginx::new();
    let configured = Configured::new(&[("Aldmoor", &nginx.address())]);
    let terminal = Terminal::new(120, 40);
    let (config, key) = (configured.dir.path().join("moth.toml"), configured.dir.path().join("key"));
    let words = format!(
        "watch --config {} --key-file {} --listen rtmp://127.0.0.1:{}/moth",
        config.display(),
        key.display(),
        free_port()
    );
    terminal.run_moth(&words);
    terminal.shows("Publish to rtmp://127.0.0.1", 10);
    terminal.keys("3");
    terminal.keys("Enter");
    terminal.shows("publishes filler to one server of Nocturne", 5);
    terminal.keys("y");
    terminal.shows("connected in", 20);
    let screen = terminal.shows("The line carries 3 160 kb/s to Aldmoor", 20);
    assert!(screen.contains("at least 50 %") && !screen.contains(KEY), "{screen}");
    assert_eq!(nginx.recordings().len(), 1);
    terminal.keys("4");
    terminal.shows("measured to Aldmoor", 5);
    // A key of another service's shape, typed and never shown.
    terminal.keys("k");
    terminal.shows("It is not shown", 5);
    terminal.tmux(&["send-keys", "-l", "typed-secret-5"]);
    let screen = terminal.shows("Something is entered", 5);
    assert!(!screen.contains("typed-secret"), "{screen}");
    terminal.keys("Enter");
    terminal.shows("the stream key of Nocturne is replaced", 5);
    let kept = std::fs::read_to_string(configured.dir.path().join("moth.data/keys/nocturne")).unwrap();
    assert_eq!(kept, "typed-secret-5");
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
    for file in ["moth.toml", "moth.data/results.jsonl"] {
        let text = std::fs::read_to_string(configured.dir.path().join(file)).unwrap();
        assert!(!text.contains(KEY) && !text.contains("typed-secret"), "the key is in {file}");
    }
}

#[test]
fn the_lantern_is_one_key_away_and_all_there_is_in_a_small_window_and_a_strip_has_one_line() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(60, 16);
    terminal.demo("--evening tired-server");
    let screen = terminal.shows(" Enter  do it", 60);
    assert!(screen.contains("reads too slowly") && !screen.contains("Watch"), "{screen}");
    // It asks before it leaves the server, also where there is hardly room to.
    terminal.keys("Enter");
    terminal.shows(" y  do it", 5);
    terminal.keys("n");
    terminal.tmux(&["resize-window", "-x", "120", "-y", "40"]);
    terminal.shows("render", 10);
    terminal.keys("0");
    terminal.shows(" 0  back", 5);
    terminal.keys("0");
    terminal.shows("render", 5);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");

    let strip = Terminal::new(70, 8);
    strip.run_moth("demo --evening calm --line --for 5");
    strip.shows("─ steady  on air 0:03  Aldmoor", 20);
    assert_eq!(strip.left(), "left=0");
    // Each line takes the place of the one before: the last is what is left.
    let screen = strip.screen();
    assert!(screen.contains("· no broadcaster") && !screen.contains("steady"), "{screen}");
}

#[test]
fn without_a_terminal_it_says_what_to_use_instead() {
    let out = Command::new(env!("CARGO_BIN_EXE_moth")).args(["demo"]).output().unwrap();
    assert_eq!(out.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&out.stderr).contains("--headless"));
    // A replay has no lines to print.
    let out = Command::new(env!("CARGO_BIN_EXE_moth")).args(["replay", "none.jsonl"]).output().unwrap();
    let said = String::from_utf8_lossy(&out.stderr).into_owned();
    assert!(out.status.code() == Some(2) && said.contains("moth judge FILE") && !said.contains("--headless"), "{said}");
}

#[test]
fn a_recording_is_replayed_back_and_forth() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(120, 40);
    let file = terminal.file("tired.jsonl.gz");
    let recorded = Command::new(env!("CARGO_BIN_EXE_moth"))
        .args(["demo", "--speed", "8", "--evening", "tired-server", "--headless", "--for", "24", "--record", &file])
        .output()
        .unwrap();
    assert!(recorded.status.success());
    terminal.run_moth(&format!("replay {file} --from 21 --speed 0.25"));
    terminal.shows("the server is too slow", 10);
    terminal.keys("s");
    terminal.shows("this is a replay", 5);
    terminal.keys("Space");
    terminal.shows("paused", 5);
    terminal.keys("[");
    terminal.shows("paused 0:00", 5);
    terminal.keys("]");
    let screen = terminal.shows("replay over", 5);
    assert!(screen.contains("no broadcaster"), "at the end it has left:\n{screen}");
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn what_is_on_the_screen_is_written_into_the_folder_it_was_started_in() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(120, 40);
    let folder = terminal.file("taken");
    std::fs::create_dir(&folder).unwrap();
    terminal.enter(&format!("cd {folder}"));
    terminal.demo("--evening calm");
    terminal.on_air_for(4);
    terminal.keys("e");
    terminal.shows("Take it away", 5);
    terminal.keys("n");
    terminal.shows("left out", 5);
    terminal.keys("Enter");
    terminal.shows("/taken/moth-lanes-", 10);
    terminal.keys("E");
    terminal.shows("a report on the broadcast so far", 5);
    terminal.keys("Enter");
    terminal.shows("/taken/moth-report-", 10);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
    let mut files: Vec<_> = std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    assert_eq!(files.len(), 2, "{files:?}");
    let svg = std::fs::read_to_string(&files[0]).unwrap();
    assert!(svg.contains("none was lost") && svg.contains("a demo, all made up"), "{svg}");
    assert!(std::fs::read(&files[1]).unwrap().starts_with(b"%PDF"));
}

#[test]
fn a_terminal_of_65535_columns_and_rows_takes_no_memory() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(100, 30);
    terminal.enter("stty rows 65535 cols 65535");
    terminal.enter(&format!("{} demo --evening calm; echo left=$?", env!("CARGO_BIN_EXE_moth")));
    let moth = wait_for("the moth", Duration::from_secs(5), || Some(terminal.moth()).filter(|id| !id.is_empty()));
    std::thread::sleep(Duration::from_secs(2));
    let status = std::fs::read_to_string(format!("/proc/{moth}/status")).unwrap();
    let resident = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    let kb: u64 = resident.trim().trim_end_matches(" kB").parse().unwrap();
    assert!(kb < 200 << 10, "{kb} kB");
    terminal.enter("q");
    terminal.keys("y");
    terminal.shows("left=0", 10);
}

#[test]
fn a_climb_in_the_demo_is_begun_ended_by_a_key_and_the_evening_begins_anew() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(120, 40);
    terminal.demo("--evening calm");
    terminal.shows("nothing at fault", 10);
    terminal.keys("5");
    let screen = terminal.shows("How much does this rig bear?", 5);
    assert!(screen.contains("on the observatory's afternoon, in short steps"), "{screen}");
    terminal.keys("Enter");
    let screen = terminal.shows("3 000 kb/s (1 of 7) is tried", 15);
    assert!(screen.contains("rehearsal, all made up") && screen.contains("rehearsing 0:"), "{screen}");
    terminal.shows("(2 of 7) is tried", 30);
    assert!(terminal.screen().contains("held"), "the first one did");
    terminal.keys("Escape");
    let screen = terminal.shows("Ended by hand: this is what was found by then.", 10);
    assert!(screen.contains("No rung was confirmed: 3 000 kb/s held") && screen.contains("all made up"), "{screen}");
    assert!(!screen.contains("keep it in the setup"), "there is nothing to keep");
    // The evening is on again, from its beginning.
    terminal.keys("1");
    terminal.shows("on air 0:0", 10);
    terminal.keys("5");
    terminal.keys("Enter");
    terminal.shows("nothing was clean", 5);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
}

#[test]
fn a_soak_on_the_screen_is_ticked_marked_on_the_lanes_and_told_when_left() {
    if !have(&["tmux", "ffmpeg"]) {
        return;
    }
    let address = format!("rtmp://127.0.0.1:{}/moth", free_port());
    let _ingest = Ingest::begin(Command::new("env"), &address, &[]);
    let configured = Configured::new(&[("Aldmoor", "rtmp://127.0.0.1:9/live")]);
    let (config, listen) = (configured.dir.path().join("moth.toml"), format!("rtmp://127.0.0.1:{}/moth", free_port()));
    let terminal = Terminal::new(140, 40);
    let words = format!("rehearse soak --for 15 --ingest {address} --listen {listen} --config {}", config.display());
    terminal.run_moth(&words);
    let screen = terminal.shows("Waiting for your broadcaster", 10);
    assert!(screen.contains(&format!("publish to {listen}")) && screen.contains("begin a call"), "{screen}");
    let ffmpeg = Running(publish(Command::new("env"), &format!("{listen}/local"), 60, 1000));
    terminal.shows("Nothing was lost in", 20);
    terminal.keys("Space");
    terminal.shows("✓ show the heaviest scene", 5);
    terminal.keys("n");
    terminal.tmux(&["send-keys", "-l", "let the cat in"]);
    terminal.keys("Enter");
    terminal.shows("· let the cat in", 5);
    terminal.keys("1");
    let screen = terminal.shows("rehearsing 0:", 5);
    assert!(screen.contains("show the heaviest scene"), "it is an event on the lanes:\n{screen}");
    terminal.keys("5");
    terminal.shows("Soak: over", 25);
    terminal.shows("nothing is on", 5);
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
    let screen = terminal.screen();
    assert!(screen.contains("Nothing was lost in 15 s.") && screen.contains("is ruled out"), "{screen}");
    assert!(configured.config().contains("let the cat in") && configured.config().contains("# kept"));
    drop(ffmpeg);
}

#[test]
fn a_past_evening_is_found_gone_through_and_compared_and_quitting_tells_what_became_of_this_one() {
    if !have(&["tmux"]) {
        return;
    }
    let terminal = Terminal::new(150, 45);
    terminal.demo("--evening calm");
    terminal.on_air_for(3);
    terminal.keys("7");
    let screen = terminal.shows("The night before the new router", 10);
    assert!(screen.contains("13 broadcasts take") && screen.contains("it goes on"), "{screen}");
    terminal.keys("/");
    terminal.tmux(&["send-keys", "-l", "tired"]);
    terminal.keys("Enter");
    terminal.shows("1 broadcast takes", 5);
    terminal.keys("Enter");
    let screen = terminal.shows("network: the server is too slow", 5);
    assert!(screen.contains("move to Brackwater") && screen.contains("Nocturne says they look into it"), "{screen}");
    terminal.keys("Down");
    terminal.keys("Enter");
    terminal.shows("past broadcast 3", 5);
    let screen = terminal.shows("as it stood at", 5);
    assert!(screen.contains("delivered"), "{screen}");
    terminal.keys("Escape");
    terminal.shows("Esc  the list", 5);
    terminal.keys("Escape");
    terminal.keys("Escape");
    terminal.shows("13 broadcasts take", 5);
    terminal.keys("c");
    terminal.shows("now the one to compare it with", 5);
    terminal.keys("Down");
    terminal.keys("c");
    terminal.shows("B has, with 95 % confidence", 5);
    terminal.keys("Escape");
    terminal.keys("q");
    assert_eq!(terminal.left(), "left=0");
    let screen = terminal.screen();
    assert!(screen.contains("Broadcast 13,") && screen.contains("on air to Aldmoor"), "{screen}");
    assert!(screen.contains("Before the next: nothing needs to be done."), "{screen}");
}
