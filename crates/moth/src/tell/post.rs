//! Where a running moth is told: a socket that only its user can reach.

use std::fs::{self, DirBuilder};
use std::io::{self, BufRead, Write};
use std::os::unix::fs::{DirBuilderExt, FileTypeExt, MetadataExt};
use std::os::unix::net::UnixStream as Blocking;
use std::path::{Path, PathBuf};
use std::sync::Weak;
use std::time::Duration;

use moth_core::State;
use moth_relay::lobby::{Lobby, Progress, Stay};
use serde::Deserialize;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{UnixListener, UnixStream};
use tokio::sync::{mpsc, oneshot};
use tokio::time::timeout;

use super::about::About;
use super::{Answer, Came, Telling, ToldWords};
use crate::attach::words::{self, Follow, Knock};
use crate::failure::Failure;
use crate::terminal::hub::Hub;

/// A telling is no longer than this, in bytes. Ours.
const LONGEST: u64 = 4096;
/// Who connects says something within this. Ours.
const SAYS: Duration = Duration::from_secs(5);
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
    let mut found = sockets()?;
    match found.len() {
        0 => Err(Failure::Told("no moth is running that could be told; `moth watch` or `moth demo` begins one".into())),
        1 => Ok(found.remove(0)),
        count => {
            let names: Vec<String> = found.iter().map(|path| format!("--socket {}", path.display())).collect();
            Err(Failure::Told(format!("{count} moths are running; say which: {}", names.join(" or "))))
        }
    }
}

/// The sockets of all moths that run, in the usual folder.
fn sockets() -> Result<Vec<PathBuf>, Failure> {
    let folder = folder().map_err(|error| Failure::Told(format!("no running moth can be found: {error}")))?;
    let Ok(entries) = fs::read_dir(folder) else { return Ok(Vec::new()) };
    let mut found: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
    found.retain(|path| path.extension().is_some_and(|e| e == "sock") && Blocking::connect(path).is_ok());
    found.sort();
    Ok(found)
}

/// Where this process's own socket is, if no place was named for it.
///
/// # Errors
/// If there is no folder for it.
pub(crate) fn own_place() -> io::Result<PathBuf> {
    Ok(folder()?.join(format!("{}.sock", std::process::id())))
}

/// All moths that run, each with its socket and what it says of itself.
///
/// # Errors
/// [`Failure::Told`] if they cannot be found.
pub(crate) fn running() -> Result<Vec<(PathBuf, About)>, Failure> {
    // One that ends in this moment says nothing.
    Ok(sockets()?.into_iter().filter_map(|path| about(&path).ok().map(|about| (path, about))).collect())
}

/// The socket of the moth with this setup or of this process; without a name, of the only one.
///
/// # Errors
/// [`Failure::Told`] if there is none, or there are several.
pub(crate) fn find_named(socket: Option<&Path>, name: Option<&str>) -> Result<PathBuf, Failure> {
    let Some(name) = name.filter(|_| socket.is_none()) else { return find(socket) };
    let is_it = |about: &About| about.setup.as_deref() == Some(name) || about.process.to_string() == name;
    let mut found: Vec<PathBuf> =
        running()?.into_iter().filter(|(_, about)| is_it(about)).map(|(path, _)| path).collect();
    match found.len() {
        0 => Err(Failure::Told(format!(
            "no moth runs with the setup `{name}`, nor under that number; `moth ls` tells which do"
        ))),
        1 => Ok(found.remove(0)),
        _ => Err(Failure::Told(format!(
            "several moths run with the setup `{name}`; name one by its number, which `moth ls` tells"
        ))),
    }
}

/// Asks a moth something that it answers with one line.
fn ask(socket: &Path, asked: &str) -> Result<(String, Blocking), Failure> {
    let unreachable =
        |error: io::Error| Failure::Told(format!("the moth at {} does not answer: {error}", socket.display()));
    let mut stream = Blocking::connect(socket).map_err(unreachable)?;
    stream.set_read_timeout(Some(SAYS)).map_err(unreachable)?;
    stream.write_all(format!("{asked}\n").as_bytes()).map_err(unreachable)?;
    let mut answer = String::new();
    std::io::BufReader::new(&stream).read_line(&mut answer).map_err(unreachable)?;
    Ok((answer, stream))
}

/// What a moth says of itself.
///
/// # Errors
/// [`Failure::Told`] if it does not answer.
pub(crate) fn about(socket: &Path) -> Result<About, Failure> {
    let (answer, stream) = ask(socket, r#"{"about":true}"#)?;
    if let Ok(about) = serde_json::from_str(&answer) {
        return Ok(about);
    }
    // One without screens says little; whose it is the system knows.
    let process =
        rustix::net::sockopt::socket_peercred(&stream).map_or(0, |of| of.pid.as_raw_nonzero().get().cast_unsigned());
    let (answer, _) = ask(socket, r#"{"tell":["state"]}"#)?;
    let says = serde_json::from_str::<Answer>(&answer).map_or_else(|_| String::new(), |answer| answer.says);
    let server = says.split_once(" at ").and_then(|(_, rest)| rest.split_once(". ")).map_or("", |(server, _)| server);
    let word = says.split(',').next().unwrap_or_default();
    let state =
        [State::Steady, State::Strained, State::Losing, State::Dark].into_iter().find(|state| state.word() == word);
    Ok(About {
        process,
        version: String::new(),
        setup: None,
        publish_to: None,
        server: server.to_owned(),
        state,
        on_air_s: state.map(|_| 0.0),
        is_made_up: false,
    })
}

/// Ends a moth.
///
/// # Errors
/// [`Failure::Told`] if it does not answer.
pub(crate) fn stop(socket: &Path) -> Result<(), Failure> {
    let (answer, stream) = ask(socket, r#"{"stop":true}"#)?;
    if serde_json::from_str::<Answer>(&answer).is_ok_and(|answer| answer.came == Came::Done) {
        return Ok(());
    }
    // One without screens is asked as the system asks.
    let of = rustix::net::sockopt::socket_peercred(&stream);
    let ended = of.and_then(|of| rustix::process::kill_process(of.pid, rustix::process::Signal::TERM));
    ended.map_err(|error| Failure::Told(format!("the moth at {} could not be ended: {error}", socket.display())))
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
        return hub.guests.welcome(hub.clone(), writing.into_std()?, &attach, rest);
    }
    if let (Ok(Asked { about: true, .. }), Some(hub)) = (serde_json::from_str(&line), hub.upgrade()) {
        return writing.write_all(&words::line(&About::of(&hub))).await;
    }
    if let (Ok(Asked { stop: true, .. }), Some(hub)) = (serde_json::from_str(&line), hub.upgrade()) {
        hub.end();
        return writing.write_all(&words::line(&Answer::new(Came::Done, "it ends"))).await;
    }
    if let (Ok(Follow { follow: true }), Some(hub)) = (serde_json::from_str(&line), hub.upgrade()) {
        return hub.guests.follow(&hub, writing).await;
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
