//! `moth tell`: a running moth is told things over its socket.

use std::process::{Command, Stdio};
use std::time::Duration;

/// A demo that can be told things, in a runtime folder of its own.
fn demo_at(runtime: &std::path::Path) -> crate::common::Running {
    let child = Command::new(env!("CARGO_BIN_EXE_moth"))
        .args(["demo", "--evening", "calm", "--headless", "--for", "60"])
        .env("XDG_RUNTIME_DIR", runtime)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let socket = runtime.join(format!("vigilant-moth/{}.sock", child.id()));
    crate::common::wait_for("its socket", Duration::from_secs(10), || socket.exists().then_some(()));
    crate::common::Running(child)
}

#[test]
fn a_running_moth_is_told_things_and_wrong_words_none_and_two_are_told_clearly() {
    let runtime = tempfile::tempdir().unwrap();
    let tell = |words: &[&str]| {
        let out = Command::new(env!("CARGO_BIN_EXE_moth"))
            .arg("tell")
            .args(words)
            .env("XDG_RUNTIME_DIR", runtime.path())
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).trim().to_owned();
        (out.status.code(), said)
    };
    let (status, said) = tell(&["undo"]);
    assert_eq!(status, Some(2));
    assert!(said.contains("no moth is running"), "{said}");
    let first = demo_at(runtime.path());
    for (words, expected) in [
        (&["dance"][..], "expected one of: bitrate"),
        (&["bitrate", "6000"], "has no unit"),
        (&["bitrate", "900M"], "from 100 kb/s to 200 Mb/s"),
        (&["server", "Grimsby"], "there is no server `Grimsby`; there is: Aldmoor"),
        (&["keeper", "perhaps"], "off, advise or act"),
        (&["rate", "999"], "from 1 to 240"),
    ] {
        let (status, said) = tell(words);
        assert!(status == Some(2) && said.contains(expected) && said.lines().count() == 1, "{words:?}: {said}");
    }
    crate::common::wait_for("frames", Duration::from_secs(10), || {
        tell(&["state"]).1.starts_with("steady").then_some(())
    });
    let (status, said) = tell(&["state", "--json"]);
    assert!(status == Some(0) && said.contains("\"came\": \"done\""), "{said}");
    assert_eq!(tell(&["bitrate", "-50%"]), (Some(0), "done: video bitrate to 3 000 kb/s".into()));
    assert_eq!(tell(&["undo"]), (Some(0), "done: video bitrate to 6 000 kb/s".into()));
    assert_eq!(tell(&["undo"]), (Some(1), "there is nothing to put back".into()));
    assert_eq!(tell(&["keeper", "act"]), (Some(0), "done: keeper: act".into()));
    let (status, said) = tell(&["rate", "30"]);
    assert!(status == Some(1) && said.contains("the stand-in broadcaster keeps its frame rate"), "{said}");
    assert!(tell(&["state"]).1.starts_with("steady, at Aldmoor."));
    let line =
        Command::new(env!("CARGO_BIN_EXE_moth")).arg("state").env("XDG_RUNTIME_DIR", runtime.path()).output().unwrap();
    let line = String::from_utf8(line.stdout).unwrap();
    assert!(
        line.starts_with("─ steady  on air 0:") && line.ends_with("  Aldmoor\n") && line.lines().count() == 1,
        "{line}"
    );
    // The socket is its user's alone, and whoever says something else is told so.
    let socket = runtime.path().join(format!("vigilant-moth/{}.sock", first.0.id()));
    let mode = |path: &std::path::Path| std::os::unix::fs::MetadataExt::mode(&path.metadata().unwrap()) & 0o777;
    assert_eq!((mode(&socket), mode(socket.parent().unwrap())), (0o600, 0o700));
    let mut stranger = std::os::unix::net::UnixStream::connect(&socket).unwrap();
    std::io::Write::write_all(&mut stranger, b"GET / HTTP/1.1\n").unwrap();
    let mut answer = String::new();
    std::io::Read::read_to_string(&mut stranger, &mut answer).unwrap();
    assert!(answer.contains("not-understood") && answer.contains("expected a line of JSON"), "{answer}");

    let second = demo_at(runtime.path());
    let (status, said) = tell(&["undo"]);
    assert_eq!(status, Some(2));
    assert!(said.contains("2 moths are running; say which: --socket"), "{said}");
    assert_eq!(tell(&["state", "--socket", socket.to_str().unwrap()]).0, Some(0));
    // One that was killed leaves its socket behind, and is not counted.
    second.signal("KILL");
    drop(second);
    assert_eq!(tell(&["state"]).0, Some(0));
}
