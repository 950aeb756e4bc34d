//! Where a running moth is told, and screens come to: a socket that only its user can reach.

use std::fs::{self, DirBuilder};
use std::io;
use std::os::unix::fs::{DirBuilderExt, FileTypeExt, MetadataExt};
use std::os::unix::net::UnixStream as Blocking;
use std::path::{Path, PathBuf};
use std::sync::Weak;
use std::time::Duration;

use moth_relay::lobby::{Lobby, Progress, Stay};
use serde::Deserialize;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{UnixListener, UnixStream};
use tokio::sync::{mpsc, oneshot};
use tokio::time::timeout;

use super::about::About;
use super::{Answer, Came, Telling, ToldWords};
use crate::attach::reception;
use crate::attach::words::{self, Follow, Knock};
use crate::terminal::hub::Hub;

/// A telling is no longer than this, in bytes. Ours.
const LONGEST: u64 = 4096;
/// Who connects says something within this. Ours.
pub(super) const SAYS: Duration = Duration::from_secs(5);
/// Who tells something at a time. Ours.
const MOST_TELLERS: usize = 16;

/// What a moth itself is asked.
#[derive(Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Asked {
    about: bool,
    stop: bool,
}

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
pub(super) fn folder() -> io::Result<PathBuf> {
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

/// Where this process's own socket is, if no place was named for it.
///
/// # Errors
/// If there is no folder for it.
pub(crate) fn own_place() -> io::Result<PathBuf> {
    Ok(folder()?.join(format!("{}.sock", std::process::id())))
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
    pub(crate) async fn run(self, told: mpsc::UnboundedSender<ToldWords>, hub: Weak<Hub>) {
        let lobby = Lobby::new(MOST_TELLERS);
        loop {
            match self.listener.accept().await {
                Ok((stream, _)) => {
                    let (told, hub) = (told.clone(), hub.clone());
                    let guest = lobby.welcome(move |stay| async move {
                        if let Err(error) = serve(stream, (told, hub), &stay).await {
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

async fn serve(
    stream: UnixStream,
    (told, hub): (mpsc::UnboundedSender<ToldWords>, Weak<Hub>),
    stay: &Stay,
) -> io::Result<()> {
    let mut line = String::new();
    let mut reading = BufReader::new(stream.take(LONGEST));
    let read = timeout(SAYS, reading.read_line(&mut line)).await;
    if !matches!(read, Ok(Ok(1..))) {
        return Ok(());
    }
    stay.progressed(Progress::Asks);
    let rest = reading.buffer().to_vec();
    let mut writing = reading.into_inner().into_inner();
    // A screen is handed to a thread of its own, and waits for nothing here.
    if let (Ok(Knock { attach }), Some(hub)) = (serde_json::from_str(&line), hub.upgrade()) {
        return reception::welcome(hub, writing.into_std()?, &attach, rest);
    }
    if let (Ok(Asked { about: true, .. }), Some(hub)) = (serde_json::from_str(&line), hub.upgrade()) {
        return writing.write_all(&words::line(&About::of(&hub))).await;
    }
    if let (Ok(Asked { stop: true, .. }), Some(hub)) = (serde_json::from_str(&line), hub.upgrade()) {
        hub.end();
        return writing.write_all(&words::line(&Answer::new(Came::Done, "it ends"))).await;
    }
    if let (Ok(Follow { follow: true }), Some(hub)) = (serde_json::from_str(&line), hub.upgrade()) {
        return reception::follow(&hub, writing).await;
    }
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
