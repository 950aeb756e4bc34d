//! Which moths run, and what they answer.

use std::fs;
use std::io::{self, BufRead, Write};
use std::os::unix::net::UnixStream as Blocking;
use std::path::{Path, PathBuf};

use moth_core::State;

use super::about::About;
use super::post::{SAYS, folder};
use super::{Answer, Came};
use crate::failure::Failure;

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
        is_on_air: state.is_some(),
        on_air_s: None,
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
