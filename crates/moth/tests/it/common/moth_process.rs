//! The built program, watching without a screen.

use std::fs::{self, File};
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};
use std::time::Duration;

use serde_json::Value;
use tempfile::TempDir;

use super::{KEY, Running, free_port, wait_for};

/// A configuration with these servers (name and address), and a key.
pub struct Configured {
    pub dir: TempDir,
}

impl Configured {
    pub fn new(servers: &[(&str, &str)]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let list: Vec<String> = servers
            .iter()
            .map(|(name, address)| format!("{{ name = \"{name}\", address = \"{address}\", region = \"here\" }},\n"))
            .collect();
        let config = format!(
            "setup = \"test\"\n[setups.test] # kept\nservice = \"nocturne\"\nbitrate = \"3 Mb/s\"\naudio = \"160k\"\n\
             size = \"640x360\"\nrate = 30\n[services.nocturne]\nname = \"Nocturne\"\nunseen = \"-dim\"\n\
             servers = [\n{}]\n",
            list.concat()
        );
        fs::write(dir.path().join("moth.toml"), config).unwrap();
        fs::write(dir.path().join("key"), KEY).unwrap();
        fs::set_permissions(dir.path().join("key"), fs::Permissions::from_mode(0o600)).unwrap();
        Self { dir }
    }

    /// The moth with this configuration; `command` may be a command to enter a host with.
    pub fn moth(&self, mut command: Command, words: &[&str]) -> std::process::Output {
        let out = command
            .arg(env!("CARGO_BIN_EXE_moth"))
            .args(words)
            .arg("--config")
            .arg(self.dir.path().join("moth.toml"))
            .env_remove("MOTH_STREAM_KEY")
            .stdin(Stdio::null())
            .output()
            .unwrap();
        for text in [&out.stdout, &out.stderr] {
            assert!(!String::from_utf8_lossy(text).contains(KEY), "the key is in what it printed");
        }
        out
    }

    /// A measurement with the key, agreed to, as JSON.
    pub fn measure(&self, command: Command, words: &[&str]) -> Value {
        let key = self.dir.path().join("key").display().to_string();
        let words = [words, &["--yes", "--json", "--key-file", &key]].concat();
        let out = self.moth(command, &words);
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        serde_json::from_slice(&out.stdout).unwrap_or_else(|error| panic!("{error}: {said}"))
    }

    pub fn config(&self) -> String {
        fs::read_to_string(self.dir.path().join("moth.toml")).unwrap()
    }

    /// A configuration with a broadcaster that the moth runs: ffmpeg, paced, with its bitrate left open.
    pub fn with_encoder(servers: &[(&str, &str)], more: &str) -> Self {
        let configured = Self::new(servers);
        let words = "ffmpeg -hide_banner -nostdin -loglevel error -re -f lavfi -i testsrc2=size={size}:rate={rate} -f lavfi \
                     -i sine=frequency=440:sample_rate=48000 -c:v libx264 -preset {preset} -g 60 -bf 2 -threads 1 -b:v {bitrate} \
                     -minrate {bitrate} -maxrate {bitrate} -bufsize {bitrate} -x264-params nal-hrd=cbr -c:a aac -b:a 128k -f flv \
                     {publish}";
        let words: Vec<String> = words.split_whitespace().map(|word| format!("{word:?}")).collect();
        let config = configured.config().replace("rate = 30\n", &format!("rate = 30\npreset = \"superfast\"\n{more}"));
        let broadcaster = format!(
            "[setups.test.broadcaster]\ncommand = [{}]\npresets = [\"ultrafast\", \"superfast\", \"no-such-preset\"]\n",
            words.join(", ")
        );
        fs::write(configured.dir.path().join("moth.toml"), format!("{config}{broadcaster}")).unwrap();
        configured
    }
}

/// `moth watch --headless` on a port of its own.
pub struct Moth {
    pub dir: TempDir,
    pub port: u16,
    pub process: Running,
}

impl Moth {
    pub fn watching(command: Command, to: &[&str]) -> Self {
        Self::watching_with(command, to, &[])
    }

    /// The same, with further words on its command line.
    pub fn watching_with(command: Command, to: &[&str], more: &[&str]) -> Self {
        // Reading pictures takes more of the processor than all the rest: only tests of what is read do so.
        Self::reading_pictures(command, to, &[more, &["--no-look"]].concat())
    }

    /// One that reads the pictures of the broadcast, as the moth does by itself.
    pub fn reading_pictures(mut command: Command, to: &[&str], more: &[&str]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let key = dir.path().join("key");
        fs::write(&key, format!("{KEY}\n")).unwrap();
        fs::set_permissions(&key, fs::Permissions::from_mode(0o600)).unwrap();
        let port = free_port();
        command.arg(env!("CARGO_BIN_EXE_moth")).arg("watch").arg("--headless");
        for address in to {
            command.args(["--to", address]);
        }
        if !more.contains(&"--record") {
            command.arg("--record").arg(dir.path().join("seen.jsonl"));
        }
        if !more.contains(&"--socket") {
            command.arg("--socket").arg(dir.path().join("moth.sock"));
        }
        command.args(more).arg("--key-file").arg(&key);
        if !more.contains(&"--listen") {
            command.args(["--listen", &format!("rtmp://127.0.0.1:{port}/moth")]);
        }
        Self::begin(command, dir, port)
    }

    /// Begins it, and waits until it tells something.
    fn begin(mut command: Command, dir: TempDir, port: u16) -> Self {
        // Nobody's own logbook is written.
        let child = command
            .env("XDG_DATA_HOME", dir.path().join("data"))
            .env("XDG_CONFIG_HOME", dir.path().join("config"))
            .stdout(File::create(dir.path().join("lines.json")).unwrap())
            .stderr(File::create(dir.path().join("moth.log")).unwrap())
            .spawn()
            .unwrap();
        let moth = Self { dir, port, process: Running(child) };
        wait_for("the moth's first line", Duration::from_secs(10), || (!moth.lines().is_empty()).then_some(()));
        moth
    }

    /// The same with a setup's configuration instead of an address.
    pub fn on_setup(mut command: Command, configured: &Configured, port: u16, more: &[&str]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        command
            .arg(env!("CARGO_BIN_EXE_moth"))
            .args(["watch", "--headless", "--no-look", "--config"])
            .arg(configured.dir.path().join("moth.toml"))
            .arg("--record")
            .arg(dir.path().join("seen.jsonl"))
            .args(more)
            .arg("--key-file")
            .arg(configured.dir.path().join("key"))
            .args(["--listen", &format!("rtmp://127.0.0.1:{port}/moth"), "--socket"])
            .arg(dir.path().join("moth.sock"));
        Self::begin(command, dir, port)
    }

    /// Tells it something: the exit status, and what it said.
    pub fn tell(&self, words: &[&str]) -> (Option<i32>, String) {
        let out = Command::new(env!("CARGO_BIN_EXE_moth"))
            .args(["tell", "--socket"])
            .arg(self.dir.path().join("moth.sock"))
            .args(words)
            .output()
            .unwrap();
        let said = [out.stdout, out.stderr].concat();
        (out.status.code(), String::from_utf8_lossy(&said).trim().to_owned())
    }

    /// Its newest line.
    pub fn newest(&self) -> Value {
        self.lines().pop().unwrap()
    }

    pub fn here(to: &[&str]) -> Self {
        Self::watching(Command::new("env"), to)
    }

    pub fn publish_to(&self) -> String {
        format!("rtmp://127.0.0.1:{}/moth/local-name", self.port)
    }

    pub fn id(&self) -> u32 {
        self.process.0.id()
    }

    pub fn lines(&self) -> Vec<Value> {
        let text = fs::read_to_string(self.dir.path().join("lines.json")).unwrap();
        let whole = text.rsplit_once('\n').map_or("", |(whole, _)| whole);
        whole.lines().map(|line| serde_json::from_str(line).unwrap_or_else(|e| panic!("{e} in {line}"))).collect()
    }

    pub fn log(&self) -> String {
        fs::read_to_string(self.dir.path().join("moth.log")).unwrap()
    }

    /// Ends it as a crash would.
    pub fn kill(mut self) {
        self.process.signal("KILL");
        self.process.0.wait().unwrap();
    }

    /// What it went by is judged again: no sentence may contradict its own numbers at any moment.
    fn assert_it_says_what_is_so(&self) {
        let seen = self.dir.path().join("seen.jsonl");
        if seen.exists() {
            let judgement = moth::recordings::judged::judge(&seen).unwrap_or_else(|failure| panic!("{failure}"));
            assert!(judgement.damage.is_none(), "{:?}", judgement.damage);
            assert_eq!(judgement.contradictions, Vec::<String>::new());
        }
    }

    /// Asks it to stop, and gives its exit status and all its lines.
    pub fn stop(mut self) -> (Option<i32>, Vec<Value>) {
        self.process.signal("TERM");
        let status = self.process.0.wait().unwrap();
        let lines = self.lines();
        for line in &lines {
            for kind in ["frames", "audio"] {
                let n = |name: &str| line[kind][name].as_u64().unwrap();
                assert_eq!(n("offered"), n("delivered") + n("dropped") + n("queued"), "{line}");
            }
        }
        for file in ["lines.json", "moth.log", "seen.jsonl"] {
            let text = fs::read_to_string(self.dir.path().join(file)).unwrap_or_default();
            assert!(!text.contains(KEY), "the key is in {file}");
        }
        self.assert_it_says_what_is_so();
        (status.code(), lines)
    }
}
