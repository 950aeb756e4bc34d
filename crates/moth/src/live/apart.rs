//! A broadcast in a process of its own, which no terminal can end: how it is begun, and how it tells that it began.

use std::ffi::OsString;
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use serde::{Deserialize, Serialize};

use crate::failure::{Failure, Outcome};

/// What says that a process is the one begun here.
pub(crate) const CARRIED: &str = "--carried";

/// Of what it said last so many characters are repeated. Ours.
const MOST_WORDS: usize = 200;

/// Its first and only word to whoever began it, as a line of JSON.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Word {
    /// It is on air, and can be reached there.
    Begun(PathBuf),
    /// It could not begin, and why.
    Failed(String),
}

/// Begins this program once more with these arguments, apart from every terminal, for the `time`th time (from 0); gives where it can be reached. What it says
/// after that it began is written to `log`, if there is a place for it.
///
/// # Errors
/// [`Failure`] if it could not begin, with its own words.
pub(crate) fn begin(arguments: &[OsString], time: u32, log: Option<&Path>) -> Result<(PathBuf, Child), Failure> {
    let failed = Failure::system("the broadcast's own process could not be begun");
    let program = match std::env::current_exe() {
        Ok(program) => program,
        Err(error) => return Err(failed(error)),
    };
    let said = log.and_then(|path| open_log(path).ok()).map_or_else(Stdio::null, Stdio::from);
    let mut command = Command::new(program);
    command.args(arguments).arg(format!("{CARRIED}={time}")).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(said);
    let mut child = command.spawn().map_err(Failure::system("the broadcast's own process could not be begun"))?;
    let mut text = String::new();
    if let Some(words) = child.stdout.take() {
        // If it says nothing it is over.
        let _ = BufReader::new(words).read_line(&mut text);
    }
    match serde_json::from_str(&text) {
        Ok(Word::Begun(socket)) => Ok((socket, child)),
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

/// How a process ended that said nothing of it: by a signal, or with a fault's own words.
pub(crate) fn how_it_ended(child: &mut Child, log: Option<&Path>) -> String {
    // It is over: its connection is closed.
    let signal = child.wait().ok().and_then(|status| status.signal());
    let said = log.and_then(last_words);
    match (signal, said) {
        (Some(signal), _) => format!(" (signal {signal})"),
        (None, Some(said)) => format!(" ({said})"),
        (None, None) => String::new(),
    }
}

/// What it said last; `None` if nothing.
fn last_words(log: &Path) -> Option<String> {
    let said = std::fs::read_to_string(log).ok()?;
    // A panic's own line, else the last there is.
    let line = said.lines().find(|line| line.contains("panicked at")).or(said.lines().next_back())?;
    Some(line.chars().filter(|c| !c.is_control()).take(MOST_WORDS).collect()).filter(|text: &String| !text.is_empty())
}

/// Whether whoever is there wants it begun again.
pub(crate) fn wants_again(lost: &str) -> bool {
    let mut err = std::io::stderr();
    let _ = write!(err, "{lost}. Begin it again? The broadcaster's own reconnect finds it then. [Y/n] ");
    let _ = err.flush();
    let mut answer = String::new();
    let read = std::io::stdin().lock().read_line(&mut answer);
    matches!(read, Ok(1..)) && matches!(answer.trim(), "" | "y" | "Y" | "yes")
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
    let path = own.map_err(|error| {
        Failure::Told(format!("no screen could be attached to it: {error}; --foreground keeps all in one process"))
    })?;
    if path.exists() {
        return Ok(path);
    }
    Err(Failure::Told(format!(
        "no screen could be attached to it: there is no socket at {}; --foreground keeps all in one process",
        path.display()
    )))
}

/// What stands in the way, with who it is if that is another moth.
pub(crate) fn with_who_is_there(failure: Failure) -> Failure {
    let Failure::Listen { address, error } = &failure else { return failure };
    if error.kind() != std::io::ErrorKind::AddrInUse {
        return failure;
    }
    let others = crate::tell::ask::running().unwrap_or_default();
    let is_there = |publish_to: &Option<String>| publish_to.as_deref().is_some_and(|to| to.contains(address.as_str()));
    match others.into_iter().find(|(_, about)| is_there(&about.publish_to)) {
        Some((_, about)) => Failure::Told(format!(
            "another moth listens at {address} already (process {}): `moth attach {0}` opens a screen on it, `moth stop {0}` ends it",
            about.process
        )),
        None => failure,
    }
}

/// Nothing more is to be told.
pub(crate) fn quietly(outcome: Outcome) -> Outcome {
    if let Err(failure) = &outcome {
        tell_failed(failure);
    }
    outcome
}
