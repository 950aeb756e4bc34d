//! Where a running moth is told: a socket that only its user can reach.

use std::fs::{self, DirBuilder};
use std::io;
use std::os::unix::fs::{DirBuilderExt, FileTypeExt, MetadataExt};
use std::os::unix::net::UnixStream as Blocking;
use std::path::{Path, PathBuf};
use std::time::Duration;

use moth_relay::lobby::{Lobby, Progress, Stay};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{UnixListener, UnixStream};
use tokio::sync::{mpsc, oneshot};
use tokio::time::timeout;

use super::{Answer, Came, Telling, ToldWords};
use crate::failure::Failure;

/// A telling is no longer than this, in bytes. Ours.
const LONGEST: u64 = 4096;
/// Who connects says something within this. Ours.
const SAYS: Duration = Duration::from_secs(5);
/// Who tells something at a time. Ours.
const MOST_TELLERS: usize = 16;

/// The open socket; its file goes with it.
pub struct Post {
    listener: UnixListener,
    path: PathBuf,
}

impl Drop for Post {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
    }
}

/// The folder that the sockets of this user's moths are in.
///
/// # Errors
/// If it cannot be made, or is not this user's alone.
fn folder() -> io::Result<PathBuf> {
    let own = rustix::process::geteuid().as_raw();
    let folder = match std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|dir| dir.is_absolute()) {
        Some(runtime) => runtime.join("vigilant-moth"),
        None => std::env::temp_dir().join(format!("vigilant-moth-{own}")),
    };
    match DirBuilder::new().mode(0o700).create(&folder) {
        Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(error),
        _ => {}
    }
    let found = fs::symlink_metadata(&folder)?;
    if !found.is_dir() || found.uid() != own || found.mode() & 0o077 != 0 {
        let what = format!("{} is not a folder of yours alone; remove it", folder.display());
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, what));
    }
    Ok(folder)
}

/// The socket to tell: the one named, else that of the only moth that runs.
///
/// # Errors
/// [`Failure::Told`] if there is none, or there are several.
pub fn find(named: Option<&Path>) -> Result<PathBuf, Failure> {
    if let Some(path) = named {
        return Ok(path.to_owned());
    }
    let nobody =
        || Failure::Told("no moth is running that could be told; `moth watch` or `moth demo` begins one".into());
    let folder = folder().map_err(|error| Failure::Told(format!("no running moth can be found: {error}")))?;
    let entries = fs::read_dir(folder).map_err(|_| nobody())?;
    let mut found: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
    found.retain(|path| path.extension().is_some_and(|e| e == "sock") && Blocking::connect(path).is_ok());
    found.sort();
    match found.len() {
        0 => Err(nobody()),
        1 => Ok(found.remove(0)),
        count => {
            let names: Vec<String> = found.iter().map(|path| format!("--socket {}", path.display())).collect();
            Err(Failure::Told(format!("{count} moths are running; say which: {}", names.join(" or "))))
        }
    }
}

impl Post {
    /// Opens the socket: at this path, or in the usual folder under this process's number.
    ///
    /// # Errors
    /// What the system says.
    pub fn open(path: Option<&Path>) -> io::Result<Self> {
        let path = match path {
            Some(path) => path.to_owned(),
            None => {
                let folder = folder()?;
                sweep(&folder);
                folder.join(format!("{}.sock", std::process::id()))
            }
        };
        make_way(&path)?;
        // Nobody else may reach it even for a moment: its rights are there before it is.
        let usual = rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o177));
        let listener = UnixListener::bind(&path);
        rustix::process::umask(usual);
        Ok(Self { listener: listener?, path })
    }

    /// Takes tellings for as long as it is polled.
    pub async fn run(self, told: mpsc::UnboundedSender<ToldWords>) {
        let lobby = Lobby::new(MOST_TELLERS);
        loop {
            match self.listener.accept().await {
                Ok((stream, _)) => {
                    let told = told.clone();
                    let guest = lobby.welcome(move |stay| async move {
                        if let Err(error) = serve(stream, told, &stay).await {
                            tracing::info!(%error, "a telling ended early");
                        }
                    });
                    let _turned_away = guest.await;
                }
                Err(error) => {
                    tracing::warn!(%error, "a telling could not be taken");
                    tokio::time::sleep(Duration::from_millis(200)).await;
                }
            }
        }
    }
}

/// Removes a socket that a killed moth left at this path; anything else there is somebody's, and stays.
fn make_way(path: &Path) -> io::Result<()> {
    let found = match fs::symlink_metadata(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        found => found?,
    };
    let refuse = |kind, what: &str| Err(io::Error::new(kind, format!("{} {what}", path.display())));
    if !found.file_type().is_socket() || found.uid() != rustix::process::geteuid().as_raw() {
        return refuse(io::ErrorKind::AlreadyExists, "is there already and no socket of yours; name another path");
    }
    if Blocking::connect(path).is_ok() {
        return refuse(io::ErrorKind::AddrInUse, "is the socket of another moth that runs; name another path");
    }
    fs::remove_file(path)
}

/// Removes what killed moths left.
fn sweep(folder: &Path) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.extension().is_some_and(|e| e == "sock") {
            // One that is still in use, or is none, stays.
            let _ = make_way(&path);
        }
    }
}

async fn serve(stream: UnixStream, told: mpsc::UnboundedSender<ToldWords>, stay: &Stay) -> io::Result<()> {
    let (reading, mut writing) = stream.into_split();
    let mut line = String::new();
    let mut reading = BufReader::new(reading.take(LONGEST));
    let read = timeout(SAYS, reading.read_line(&mut line)).await;
    if !matches!(read, Ok(Ok(1..))) {
        return Ok(());
    }
    stay.progressed(Progress::Asks);
    let answer = match serde_json::from_str::<Telling>(&line) {
        Err(_) => Answer::new(Came::NotUnderstood, "expected a line of JSON like {\"tell\":[\"undo\"]}"),
        Ok(Telling { tell }) => {
            let (reply, answered) = oneshot::channel();
            let over = || Answer::new(Came::NotDone, "the broadcast is over");
            match told.send((tell, reply)) {
                Ok(()) => answered.await.unwrap_or_else(|_| over()),
                Err(_) => over(),
            }
        }
    };
    let mut text = serde_json::to_vec(&answer)?;
    text.push(b'\n');
    writing.write_all(&text).await
}
