//! A broadcast in a process of its own, which no terminal can end: how it is begun, and how it tells that it began.

use std::ffi::OsString;
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde::{Deserialize, Serialize};

use crate::failure::{Failure, Outcome};

/// What says that a process is the one begun here.
pub(crate) const CARRIED: &str = "--carried";

/// Its first and only word to whoever began it, as a line of JSON.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Word {
    /// It is on air, and can be reached there.
    Begun(PathBuf),
    /// It could not begin, and why.
    Failed(String),
}

/// Begins this program once more with these arguments, apart from every terminal; gives where it can be reached. What it says
/// after that it began is written to `log`, if there is a place for it.
///
/// # Errors
/// [`Failure`] if it could not begin, with its own words.
pub(crate) fn begin(arguments: &[OsString], log: Option<&Path>) -> Result<PathBuf, Failure> {
    let failed = Failure::system("the broadcast's own process could not be begun");
    let program = match std::env::current_exe() {
        Ok(program) => program,
        Err(error) => return Err(failed(error)),
    };
    let said = log.and_then(|path| open_log(path).ok()).map_or_else(Stdio::null, Stdio::from);
    let mut command = Command::new(program);
    command.args(arguments).arg(CARRIED).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(said);
    let mut child = command.spawn().map_err(Failure::system("the broadcast's own process could not be begun"))?;
    let mut text = String::new();
    if let Some(words) = child.stdout.take() {
        // If it says nothing it is over.
        let _ = BufReader::new(words).read_line(&mut text);
    }
    match serde_json::from_str(&text) {
        Ok(Word::Begun(socket)) => Ok(socket),
        Ok(Word::Failed(why)) => {
            let _ = child.wait();
            Err(Failure::Told(why))
        }
        Err(_) => Err(Failure::Told(
            "the broadcast's own process ended before it began; --foreground keeps all in one".into(),
        )),
    }
}

fn open_log(path: &Path) -> std::io::Result<File> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    // It names servers and programs, which is nobody else's business.
    OpenOptions::new().create(true).write(true).truncate(true).mode(0o600).open(path)
}

/// Leaves the terminal that it was begun on: a session of its own, of which nothing is hung up.
pub(crate) fn leave_the_terminal() {
    // Of a process that leads a group already, nothing is to be left.
    let _ = rustix::process::setsid();
}

/// Says that it began, and where it can be reached; from then on nobody reads what it says.
pub(crate) fn tell_begun(socket: &Path) {
    say(&Word::Begun(socket.to_owned()));
}

/// Says why it could not begin.
pub(crate) fn tell_failed(failure: &Failure) {
    say(&Word::Failed(failure.to_string()));
}

fn say(word: &Word) {
    let mut out = std::io::stdout();
    // Whoever began it may be gone; it goes on all the same.
    let _ = serde_json::to_string(word).map(|text| writeln!(out, "{text}").and_then(|()| out.flush()));
    if let Ok(nowhere) = OpenOptions::new().write(true).open("/dev/null") {
        let _ = rustix::stdio::dup2_stdout(&nowhere);
    }
}

/// The socket of a process that was begun, once it is there.
///
/// # Errors
/// If it is not: nobody could attach to it.
pub(crate) fn reached_at(socket: Option<&Path>) -> Result<PathBuf, Failure> {
    let own = socket.map_or_else(crate::tell::post::own_place, |path| Ok(path.to_owned()));
    let path = own.map_err(|error| Failure::Told(format!("no screen could be attached to it: {error}")))?;
    if path.exists() {
        return Ok(path);
    }
    Err(Failure::Told(format!("no screen could be attached to it: there is no socket at {}", path.display())))
}

/// Nothing more is to be told.
pub(crate) fn quietly(outcome: Outcome) -> Outcome {
    if let Err(failure) = &outcome {
        tell_failed(failure);
    }
    outcome
}
