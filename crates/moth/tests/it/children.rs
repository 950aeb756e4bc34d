//! Programs that the moth runs: they never get the stream key, they end with all they began, what they say costs no memory, and
//! one that is refused is not started again and again.

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::common::*;

const IN_THE_ENVIRONMENT: &str = "environment-secret-4711";

fn here() -> Command {
    let mut command = Command::new("env");
    command.arg(format!("MOTH_STREAM_KEY={IN_THE_ENVIRONMENT}"));
    command
}

/// A configured whose encoder is a shell that says something first, and then begins ffmpeg as a child of its own.
fn with_shell(first: &str) -> Configured {
    let configured = Configured::new(&[("Aldmoor", &format!("rtmp://127.0.0.1:{}/live", free_port()))]);
    let line = format!(
        "{first}; ffmpeg -hide_banner -nostdin -loglevel error -re -f lavfi -i testsrc2=size=320x180:rate=30 -c:v libx264 \
         -preset ultrafast -g 60 -b:v {{bitrate}} -f flv {{publish}} & wait"
    );
    let config = format!("{}[setups.test.broadcaster]\ncommand = [\"sh\", \"-c\", {line:?}]\n", configured.config());
    fs::write(configured.dir.path().join("moth.toml"), config).unwrap();
    configured
}

fn offered(moth: &Moth) -> u64 {
    moth.newest()["frames"]["offered"].as_u64().unwrap_or(0)
}

/// Programs whose command line has this word.
fn running(word: &str) -> usize {
    let is = |pid: &Path| {
        let line = fs::read(pid.join("cmdline")).unwrap_or_default();
        line.starts_with(b"ffmpeg") && String::from_utf8_lossy(&line).contains(word)
    };
    fs::read_dir("/proc").unwrap().flatten().filter(|entry| is(&entry.path())).count()
}

#[test]
fn an_encoder_begun_by_a_shell_is_changed_and_ended_and_knows_no_key() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let kept = tempfile::tempdir().unwrap();
    let environment = kept.path().join("environment");
    // It says 300 MB without an end of line.
    let configured =
        with_shell(&format!("env > {}; head -c 300000000 /dev/zero | tr '\\0' x >&2", environment.display()));
    let port = free_port();
    let told = kept.path().join("told");
    let tell = format!("env > {}", told.display());
    let moth = Moth::on_setup(here(), &configured, port, &["--tell-command", &tell]);
    let here = format!(":{port}/");
    wait_for("frames of the shell's encoder", Duration::from_secs(20), || (offered(&moth) > 30).then_some(()));
    assert_eq!(running(&here), 1);
    let peak = fs::read_to_string(format!("/proc/{}/status", moth.process.0.id())).unwrap();
    let peak = peak.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    let peak: u64 = peak.trim().trim_end_matches(" kB").parse().unwrap();
    assert!(peak < 100_000, "{peak} kB");
    // The one that holds the place ends with its shell, so the next one gets it.
    let (status, said) = moth.tell(&["bitrate", "1M"]);
    assert_eq!((status, said.as_str()), (Some(0), "done: video bitrate to 1 000 kb/s"), "{}", moth.log());
    assert_eq!(running(&here), 1);
    for file in [&environment, &told] {
        let environment = wait_for("what a command got", Duration::from_secs(20), || {
            fs::read_to_string(file).ok().filter(|text| text.contains("PATH="))
        });
        assert!(!environment.contains(IN_THE_ENVIRONMENT) && !environment.contains("STREAM_KEY"), "{environment}");
    }
    moth.stop();
    wait_for("the end of all", Duration::from_secs(5), || (running(&here) == 0).then_some(()));
}

#[test]
fn an_encoder_that_is_refused_waits_until_the_place_is_free() {
    if !have(&["ffmpeg"]) {
        return;
    }
    let kept = tempfile::tempdir().unwrap();
    let (left, starts) = (kept.path().join("left"), kept.path().join("starts"));
    // The first time it leaves an encoder behind in a session of its own, which nothing that ends a group can reach.
    let first = format!(
        "echo start >> {}; if [ ! -e {left} ]; then setsid ffmpeg -nostdin -loglevel error -re -f lavfi -i \
         testsrc2=size=320x180:rate=30 -c:v libx264 -preset ultrafast -g 60 -f flv {{publish}} & echo $! > {left}; sleep 4; exit 1; fi",
        starts.display(),
        left = left.display(),
    );
    let configured = with_shell(&first);
    let moth = Moth::on_setup(here(), &configured, free_port(), &[]);
    let started = || fs::read_to_string(&starts).unwrap_or_default().lines().count();
    wait_for("a word on who holds the place", Duration::from_secs(20), || {
        moth.log().contains("holds the place").then_some(())
    });
    let on = offered(&moth);
    wait_for("six seconds more of what was left behind", Duration::from_secs(15), || {
        (offered(&moth) > on + 180).then_some(())
    });
    assert_eq!(started(), 1, "it is not started for nothing");
    let (status, said) = moth.tell(&["bitrate", "1M"]);
    assert!(status == Some(1) && said.contains("holds the place"), "{said}");
    let pid = fs::read_to_string(&left).unwrap();
    assert!(Command::new("kill").arg(pid.trim()).status().unwrap().success());
    wait_for("another start", Duration::from_secs(15), || (started() == 2).then_some(()));
    let on = offered(&moth);
    wait_for("the encoder's own frames", Duration::from_secs(15), || (offered(&moth) > on + 60).then_some(()));
    moth.stop();
}
