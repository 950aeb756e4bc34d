//! The programs: the moth in the middle, and ffmpeg that broadcasts through it.

use std::fs::{self, File};
use std::io::{self, Write};
use std::net::TcpListener;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use tempfile::TempDir;
use tokio::time::sleep;

/// It must be found nowhere.
const KEY: &str = "adversary-looks-for-this-key";

/// What the moth's own programs do, by the last digit of the bitrate they are given or the second they run in.
const MISCHIEF: &str = r#"case $(($1 / 1000 % 6)) in
0) head -c 20000000 /dev/zero ;;
1) head -c 20000000 /dev/zero >&2 ;;
2) trap '' TERM INT HUP; sleep 600 ;;
3) sleep 600 & ;;
4) exit 3 ;;
*) yes no | head -c 5000000 ;;
esac
"#;

pub(crate) struct Stage {
    dir: TempDir,
    moth: ChildProgram,
    broadcaster: Option<ChildProgram>,
    pub(crate) server_port: u16,
    pub(crate) publish_port: u16,
    pub(crate) feed_port: u16,
    pub(crate) http_port: u16,
}

/// A program that ends when it is dropped.
struct ChildProgram(Child);

impl ChildProgram {
    fn signal(&self, signal: Signal) {
        if let Some(pid) = i32::try_from(self.0.id()).ok().and_then(Pid::from_raw) {
            let _ = kill_process(pid, signal);
        }
    }
}

impl Drop for ChildProgram {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn cannot(what: &'static str) -> impl Fn(io::Error) -> String {
    move |error| format!("{what}: {error}")
}

fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

impl Stage {
    /// Begins the moth.
    pub(crate) fn set(moth: &Path) -> Result<Self, String> {
        let failed = cannot("the stage could not be set");
        let dir = tempfile::tempdir().map_err(&failed)?;
        let port = || free_port().map_err(&failed);
        let (server_port, publish_port, feed_port, http_port) = (port()?, port()?, port()?, port()?);
        let at = |name: &str| dir.path().join(name);
        let mischief = at("mischief.sh");
        let configuration = format!(
            "setup = \"siege\"\n[setups.siege]\nservice = \"nocturne\"\nbitrate = \"800 kb/s\"\naudio = \"128k\"\n\
             size = \"320x180\"\nrate = 30\n[setups.siege.broadcaster]\nbitrate_command = [\"sh\", \"{}\", \"{{bitrate_bps}}\"]\n\
             [services.nocturne]\nname = \"Nocturne\"\nservers = [\n\
             {{ name = \"Aldmoor\", address = \"rtmp://127.0.0.1:{server_port}/live\", region = \"here\" }},\n\
             {{ name = \"Brackwater\", address = \"rtmp://localhost:{server_port}/live\", region = \"here\" }},\n]\n",
            mischief.display()
        );
        fs::write(at("moth.toml"), configuration).map_err(&failed)?;
        fs::write(at("key"), KEY).map_err(&failed)?;
        fs::write(&mischief, MISCHIEF).map_err(&failed)?;
        let errors = File::create(at("moth.log")).map_err(&failed)?;
        let moth = Command::new(moth)
            .args(["watch", "--no-screen", "--quiet", "1", "--config"])
            .arg(at("moth.toml"))
            .arg("--key-file")
            .arg(at("key"))
            .args(["--listen", &format!("rtmp://127.0.0.1:{publish_port}/moth")])
            .args(["--feed", &format!("127.0.0.1:{feed_port}"), "--serve", &format!("127.0.0.1:{http_port}")])
            .arg("--socket")
            .arg(at("socket"))
            .arg("--record")
            .arg(at("seen.jsonl.gz"))
            .args(["--tell-command", &format!("sh {} $(date +%s)000", mischief.display())])
            .env_remove("MOTH_STREAM_KEY")
            // What a screen exports goes there.
            .current_dir(dir.path())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(errors)
            .spawn()
            .map_err(cannot("the moth could not be started"))?;
        Ok(Self { moth: ChildProgram(moth), dir, broadcaster: None, server_port, publish_port, feed_port, http_port })
    }

    /// What it tells a program that follows it.
    pub(crate) async fn lines(&mut self) -> Result<UnixStream, String> {
        let by = Instant::now() + Duration::from_secs(10);
        let mut stream = loop {
            match UnixStream::connect(self.socket()) {
                Ok(stream) => break stream,
                Err(error) if Instant::now() > by => return Err(format!("the moth's socket: {error}\n{}", self.log())),
                Err(_) => sleep(Duration::from_millis(20)).await,
            }
        };
        stream.write_all(b"{\"follow\":true}\n").map_err(cannot("the moth cannot be followed"))?;
        Ok(stream)
    }

    pub(crate) fn moth_id(&self) -> u32 {
        self.moth.0.id()
    }

    pub(crate) fn socket(&self) -> PathBuf {
        self.dir.path().join("socket")
    }

    /// ffmpeg begins to broadcast.
    pub(crate) fn broadcast(&mut self) -> Result<(), String> {
        let errors = File::create(self.dir.path().join("ffmpeg.log")).map_err(cannot("ffmpeg's log"))?;
        let child = Command::new("ffmpeg")
            .args(["-hide_banner", "-nostdin", "-loglevel", "error", "-re", "-f", "lavfi"])
            .args(["-i", "testsrc2=size=320x180:rate=30", "-f", "lavfi", "-i", "sine=sample_rate=48000"])
            .args(["-c:v", "libx264", "-preset", "ultrafast", "-g", "30", "-threads", "1", "-b:v", "800k"])
            .args(["-c:a", "aac", "-f", "flv", &format!("rtmp://127.0.0.1:{}/moth/camera", self.publish_port)])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(errors)
            .spawn()
            .map_err(cannot("ffmpeg could not be started"))?;
        self.broadcaster = Some(ChildProgram(child));
        Ok(())
    }

    pub(crate) fn broadcaster_stays(&mut self) -> Result<(), String> {
        let Some(broadcaster) = &mut self.broadcaster else { return Ok(()) };
        match broadcaster.0.try_wait() {
            Ok(None) => Ok(()),
            _ => {
                let said = fs::read_to_string(self.dir.path().join("ffmpeg.log")).unwrap_or_default();
                Err(format!("the broadcaster was disconnected: {said}\n{}", self.log()))
            }
        }
    }

    pub(crate) fn end_broadcast(&mut self, killed: bool) {
        if let Some(mut broadcaster) = self.broadcaster.take() {
            broadcaster.signal(if killed { Signal::KILL } else { Signal::TERM });
            let _ = broadcaster.0.wait();
        }
    }

    /// The end of what it told on standard error.
    pub(crate) fn log(&self) -> String {
        let log = fs::read_to_string(self.dir.path().join("moth.log")).unwrap_or_default();
        let from = log.char_indices().rev().nth(3000).map_or(0, |(at, _)| at);
        log.get(from..).unwrap_or_default().to_owned()
    }

    /// Asks the moth to end while it is on air; gives how long it took.
    pub(crate) async fn end(&mut self, within: Duration) -> Result<Duration, String> {
        let began = Instant::now();
        self.moth.signal(Signal::TERM);
        loop {
            match self.moth.0.try_wait() {
                Ok(Some(status)) if status.success() => return Ok(began.elapsed()),
                Ok(Some(status)) => return Err(format!("the moth ended with {status}:\n{}", self.log())),
                Ok(None) if began.elapsed() < within => sleep(Duration::from_millis(20)).await,
                _ => return Err(format!("the moth had not ended {within:?} after SIGTERM:\n{}", self.log())),
            }
        }
    }

    /// What it left behind.
    pub(crate) fn left_well(&self) -> Result<(), String> {
        if self.socket().exists() {
            return Err("its socket is still there".into());
        }
        for name in ["moth.log", "seen.jsonl.gz"] {
            let bytes = fs::read(self.dir.path().join(name)).map_err(cannot("what it wrote could not be read"))?;
            if bytes.windows(KEY.len()).any(|window| window == KEY.as_bytes()) {
                return Err(format!("the key is in {name}"));
            }
        }
        let log = fs::metadata(self.dir.path().join("moth.log")).map_or(0, |file| file.len());
        if log > 1 << 20 {
            return Err(format!("its log has {log} bytes:\n{}", self.log()));
        }
        Ok(())
    }
}
