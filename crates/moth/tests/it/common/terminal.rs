//! A shell in tmux, in a home folder of its own.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use super::{Hosts, wait_for};

/// A shell in tmux.
pub struct Terminal {
    socket: String,
    /// Everything it runs has this network to itself, if there is one.
    hosts: Option<Hosts>,
    pub dir: tempfile::TempDir,
}

impl Terminal {
    pub fn new(columns: u16, rows: u16) -> Self {
        Self::begin(columns, rows, None)
    }

    /// One whose programs have a network of their own, and so every port: for addresses that cannot be chosen.
    pub fn with_network(columns: u16, rows: u16) -> Self {
        Self::begin(columns, rows, Some(Hosts::with(0)))
    }

    /// A command to run in the same network; add its words.
    pub fn beside(&self) -> Command {
        self.hosts.as_ref().map_or_else(|| Command::new("env"), Hosts::at_home)
    }

    fn begin(columns: u16, rows: u16, hosts: Option<Hosts>) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let terminal = Self { socket: dir.path().join("socket").display().to_string(), hosts, dir };
        let size = [columns.to_string(), rows.to_string()];
        terminal.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", &size[0], "-y", &size[1], &terminal.shell()]);
        terminal
    }

    /// A shell in a home folder of its own: nobody's own logbook is written.
    fn shell(&self) -> String {
        let home = self.dir.path().display();
        format!("env PS1='$ ' ENV= XDG_DATA_HOME={home}/data XDG_CONFIG_HOME={home}/config XDG_RUNTIME_DIR={home} sh")
    }

    pub fn tmux(&self, words: &[&str]) -> String {
        let out = self.beside().args(["tmux", "-S", &self.socket]).args(words).env_remove("TMUX").output().unwrap();
        assert!(out.status.success(), "{words:?}: {}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8_lossy(&out.stdout).into_owned()
    }

    pub fn enter(&self, line: &str) {
        self.tmux(&["send-keys", "-l", line]);
        self.tmux(&["send-keys", "Enter"]);
    }

    pub fn keys(&self, keys: &str) {
        self.tmux(&["send-keys", keys]);
    }

    pub fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// Waits until the screen has a text, and gives the whole of that screen.
    pub fn shows(&self, text: &str, within_s: u64) -> String {
        let read = || Some(self.screen()).filter(|screen| screen.contains(text));
        let first = wait_for(text, Duration::from_secs(within_s), read);
        // It may have been read in the middle of being drawn.
        std::thread::sleep(Duration::from_millis(100));
        read().unwrap_or(first)
    }

    /// Waits until a broadcast has been on air for so long.
    pub fn on_air_for(&self, seconds: u64) {
        wait_for(&format!("{seconds} s on air"), Duration::from_secs(20), || {
            let screen = self.screen();
            let (minutes, rest) = screen.split("on air ").nth(1)?.split_once(':')?;
            let rest: String = rest.chars().take_while(char::is_ascii_digit).collect();
            (minutes.parse::<u64>().ok()? * 60 + rest.parse::<u64>().ok()? >= seconds).then_some(())
        });
    }

    /// Runs the demo, eight times as fast: where a test is about screens, it need not wait for the clock.
    pub fn demo(&self, words: &str) {
        self.run_moth(&format!("demo --speed 8 {words}"));
    }

    pub fn file(&self, name: &str) -> String {
        self.dir.path().join(name).display().to_string()
    }

    /// Runs the moth between two looks at the terminal's settings.
    pub fn run_moth(&self, words: &str) {
        let moth = env!("CARGO_BIN_EXE_moth");
        self.enter("echo was-here-before");
        self.enter(&format!(
            "stty -a > {0}; {moth} {words}; echo left=$? > {1}; stty -a > {2}",
            self.file("before"),
            self.file("status"),
            self.file("after")
        ));
    }

    /// The number of the moth's process: the shell's only child.
    pub fn moth(&self) -> String {
        let shell = self.tmux(&["display-message", "-p", "#{pane_pid}"]);
        let children = std::fs::read_to_string(format!("/proc/{0}/task/{0}/children", shell.trim())).unwrap();
        children.trim().to_owned()
    }

    /// Where the moths that run in it are told.
    pub fn sockets(&self) -> Vec<PathBuf> {
        let folder = self.dir.path().join("vigilant-moth");
        let found = std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        found.filter(|path| path.extension().is_some_and(|e| e == "sock")).collect()
    }

    /// The moth outside the terminal, as if it were in it.
    pub fn outside(&self, words: &[&str]) -> std::process::Output {
        let mut command = Command::new(env!("CARGO_BIN_EXE_moth"));
        let place = |name: &str| self.dir.path().join(name);
        command.env("XDG_RUNTIME_DIR", self.dir.path());
        command.env("XDG_DATA_HOME", place("data")).env("XDG_CONFIG_HOME", place("config"));
        command.args(words).stdin(Stdio::null()).output().unwrap()
    }

    /// Another window with a shell, which is shown from now on.
    pub fn window(&self) {
        self.tmux(&["new-window", &self.shell()]);
    }

    /// The exit status, once the terminal is as it was found.
    pub fn left(&self) -> String {
        let status = self.file("status");
        wait_for("the end", Duration::from_secs(20), || {
            Path::new(&self.file("after")).metadata().ok().filter(|m| m.len() > 0)
        });
        // The first line tells the size, which a test may have changed.
        let read =
            |name: &str| std::fs::read_to_string(self.file(name)).unwrap().split_once('\n').unwrap().1.to_owned();
        assert_eq!(read("before"), read("after"), "the terminal's settings are as they were");
        let screen = self.shows("was-here-before", 5);
        assert!(!screen.contains("vigilant moth"), "the screen is as it was:\n{screen}");
        assert_eq!(self.tmux(&["display-message", "-p", "#{cursor_flag} #{alternate_on}"]).trim(), "1 0");
        std::fs::read_to_string(status).unwrap().trim().to_owned()
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = Command::new("tmux").arg("-S").arg(&self.socket).arg("kill-server").status();
        // A broadcast outlives its terminal.
        for socket in self.sockets() {
            let mut stop = Command::new(env!("CARGO_BIN_EXE_moth"));
            let _ = stop
                .args(["stop", "--yes", "--socket"])
                .arg(socket)
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .status();
        }
    }
}
