//! Programs that the moth runs for its user: without the stream key in their environment, in a group that ends with all it
//! began, and with what they say read no further than it is of use.

use std::ffi::OsStr;
use std::process::{Command, ExitStatus, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

#[cfg(unix)]
use rustix::process::{Pid, Signal};
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio::process::Child;
use tokio::time::timeout;

use crate::setup_in_use::key_source::VARIABLE;

/// The last line a program said is kept up to this many bytes. Ours.
const SAID_BYTES: usize = 200;

/// A command that does not inherit the stream key.
#[must_use]
pub fn command(program: impl AsRef<OsStr>) -> Command {
    let mut command = Command::new(program);
    command.env_remove(VARIABLE);
    command
}

/// Lets a program begin a group of its own, which [`kill_group`] ends.
pub fn in_a_group(command: &mut Command) {
    #[cfg(unix)]
    std::os::unix::process::CommandExt::process_group(command, 0);
    #[cfg(not(unix))]
    let _ = command;
}

/// Ends a program that began a group, and all of the group.
pub fn kill_group(child: &mut std::process::Child) {
    #[cfg(unix)]
    if let Some(id) = Pid::from_raw(child.id().cast_signed()) {
        signal_group(id, Signal::KILL);
    }
    let _ = child.kill();
}

#[cfg(unix)]
fn signal_group(id: Pid, signal: Signal) {
    // All of it may have ended this moment.
    let _ = rustix::process::kill_process_group(id, signal);
}

/// A program and all that it begins: `sh -c "encoder …"` is a shell and an encoder, and both end.
#[derive(Debug)]
pub struct Group {
    child: Child,
    /// Of the group, as long as any of it may run.
    #[cfg(unix)]
    id: Option<Pid>,
    said: Arc<Mutex<String>>,
}

impl Group {
    /// Starts a program that is given nothing to read, and of which only the last line on standard error is kept.
    ///
    /// # Errors
    /// If it cannot be started.
    pub fn start(mut command: Command) -> std::io::Result<Self> {
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
        in_a_group(&mut command);
        let mut command = tokio::process::Command::from(command);
        let mut child = command.kill_on_drop(true).spawn()?;
        let said = Arc::<Mutex<String>>::default();
        if let Some(errors) = child.stderr.take() {
            tokio::spawn(keep_last_line(errors, said.clone()));
        }
        Ok(Self {
            #[cfg(unix)]
            id: child.id().and_then(|id| Pid::from_raw(id.cast_signed())),
            child,
            said,
        })
    }

    /// Waits until the program has ended; what it began and left behind is ended then.
    ///
    /// # Errors
    /// If the system does not tell.
    pub async fn wait(&mut self) -> std::io::Result<ExitStatus> {
        let status = self.child.wait().await;
        self.kill();
        status
    }

    /// Asks all of it to end, and ends what does not within this time.
    pub async fn end(mut self, within: Duration) {
        #[cfg(unix)]
        if let Some(id) = self.id {
            signal_group(id, Signal::INT);
            if timeout(within, self.wait()).await.is_ok() {
                return;
            }
        }
        self.kill();
        let _ = self.child.kill().await;
    }

    /// The last line it said, without control characters; empty if it said nothing.
    #[must_use]
    pub fn said(&self) -> String {
        self.said.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn kill(&mut self) {
        #[cfg(unix)]
        if let Some(id) = self.id.take() {
            signal_group(id, Signal::KILL);
        }
    }
}

impl Drop for Group {
    fn drop(&mut self) {
        self.kill();
    }
}

/// Reads all that is said, so that the program never waits for a reader, and keeps the beginning of the last line that says
/// something.
async fn keep_last_line(mut from: impl AsyncRead + Unpin, said: Arc<Mutex<String>>) {
    let (mut buffer, mut line) = ([0; 4096], Vec::with_capacity(SAID_BYTES));
    let keep = |line: &[u8]| {
        let text: String = String::from_utf8_lossy(line).chars().filter(|c| !c.is_control()).collect();
        if !text.trim().is_empty() {
            *said.lock().unwrap_or_else(PoisonError::into_inner) = text;
        }
    };
    while let Ok(read @ 1..) = from.read(&mut buffer).await {
        for byte in &buffer[..read] {
            match byte {
                // Some draw over what they said last.
                b'\n' | b'\r' => {
                    keep(&line);
                    line.clear();
                }
                byte if line.len() < SAID_BYTES => line.push(*byte),
                _ => {}
            }
        }
    }
    keep(&line);
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shell(line: &str) -> Command {
        let mut shell = command("sh");
        shell.args(["-c", line]);
        shell
    }

    #[tokio::test]
    async fn of_what_a_program_says_the_last_line_is_kept_and_no_more_of_it_than_fits() {
        let said = Arc::<Mutex<String>>::default();
        keep_last_line("first\n\u{1b}[1mlast\n \n".as_bytes(), said.clone()).await;
        assert_eq!(*said.lock().unwrap(), "[1mlast");
        // Without an end of line, for as long as it likes.
        keep_last_line(tokio::io::repeat(b'x').take(50_000_000), said.clone()).await;
        assert_eq!(*said.lock().unwrap(), "x".repeat(SAID_BYTES));
    }

    #[cfg(unix)]
    #[tokio::test]
    async fn what_a_shell_began_ends_with_it() {
        let dir = tempfile::tempdir().unwrap();
        let (pid, begun) = (dir.path().join("pid"), dir.path().join("begun"));
        let line = format!("sleep 60 & echo $! > {}; mv {0} {}; wait", pid.display(), begun.display());
        for way in ["end", "drop"] {
            let _ = std::fs::remove_file(&begun);
            let group = Group::start(shell(&line)).unwrap();
            while !begun.exists() {
                tokio::task::yield_now().await;
            }
            let pid = std::fs::read_to_string(&begun).unwrap().trim().parse().ok();
            let pid = pid.and_then(Pid::from_raw).unwrap();
            match way {
                "end" => group.end(Duration::from_secs(5)).await,
                _ => drop(group),
            }
            // Whoever adopts it may take a moment to bury it.
            while rustix::process::test_kill_process(pid).is_ok() && !is_buried(pid) {
                tokio::task::yield_now().await;
            }
        }
    }

    #[cfg(unix)]
    fn is_buried(pid: rustix::process::Pid) -> bool {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", pid.as_raw_nonzero())).unwrap_or_default();
        stat.is_empty() || stat.contains(") Z ")
    }

    #[test]
    fn no_program_gets_the_stream_key() {
        let removed = |command: &Command| command.get_envs().any(|(name, value)| name == VARIABLE && value.is_none());
        assert!(removed(&shell("true")));
    }
}
