//! `moth tell`: has a running moth do something, and says what came of it.
//!
//! - [`words`]: what can be told, and what it comes to.
//! - [`post`]: where a running moth is told; [`told`]: what it does about it.

#[cfg(unix)]
pub mod post;
pub mod told;
pub mod words;

#[cfg(unix)]
use std::io::{BufRead, BufReader, Write};
#[cfg(unix)]
use std::os::unix::net::UnixStream;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use tokio::sync::{mpsc, oneshot};

use crate::cli::TellOptions;
use crate::failure::Failure;
use crate::out;

/// A running moth answers within this long, whatever it was told: an encoder may need twenty seconds to begin anew.
const ANSWERS: Duration = Duration::from_secs(45);

/// What is asked of a running moth, as a line of JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Telling {
    /// The words, as they were given.
    pub tell: Vec<String>,
}

/// What came of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Came {
    /// It was done.
    Done,
    /// It could not be done.
    NotDone,
    /// It is for the user's own hand, and is looked for on the wire.
    ByHand,
    /// The words mean nothing, or nothing possible.
    NotUnderstood,
}

/// What a running moth answers, as a line of JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answer {
    /// What came of it.
    pub came: Came,
    /// In words.
    pub says: String,
    /// What would put it back, in the words to tell.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undo: Option<String>,
}

impl Answer {
    pub(crate) fn new(came: Came, says: impl Into<String>) -> Self {
        Self { came, says: says.into(), undo: None }
    }
}

/// Something told, and where the answer goes.
pub type Told = (Vec<String>, oneshot::Sender<Answer>);

/// Lets a running moth be told things, from now on, on this runtime. A second moth in the same place cannot be, which
/// is said and does no harm.
///
/// # Errors
/// [`Failure::Told`] if a socket that was named cannot be opened.
pub(crate) fn listen(socket: Option<&std::path::Path>) -> Result<mpsc::UnboundedReceiver<Told>, Failure> {
    let (tell, told) = mpsc::unbounded_channel();
    #[cfg(unix)]
    match post::Post::open(socket) {
        Ok(post) => {
            tokio::spawn(post.run(tell));
        }
        Err(error) if socket.is_none() => tracing::warn!(%error, "`moth tell` cannot reach this one"),
        Err(error) => return Err(Failure::Told(format!("the socket given with --socket cannot be opened: {error}"))),
    }
    #[cfg(not(unix))]
    drop((tell, socket));
    Ok(told)
}

/// Tells a running moth; there is no way to on this platform yet.
#[cfg(not(unix))]
pub(crate) fn run(_options: &TellOptions) -> Result<bool, Failure> {
    Err(Failure::Told("a running moth cannot be told anything on this platform yet".into()))
}

/// Tells a running moth; `Ok(false)` if it was not done.
///
/// # Errors
/// [`Failure`] if no moth runs, several do, or the words are wrong.
#[cfg(unix)]
pub(crate) fn run(options: &TellOptions) -> Result<bool, Failure> {
    // Words that cannot mean anything are told so without a moth.
    words::check(&options.words).map_err(Failure::Told)?;
    let socket = post::find(options.socket.as_deref())?;
    let unreachable =
        |error: std::io::Error| Failure::Told(format!("the moth at {} does not answer: {error}", socket.display()));
    let mut stream = UnixStream::connect(&socket).map_err(unreachable)?;
    stream.set_read_timeout(Some(ANSWERS)).map_err(unreachable)?;
    let telling = Telling { tell: options.words.clone() };
    let mut text = serde_json::to_string(&telling).map_err(|error| Failure::Told(error.to_string()))?;
    text.push('\n');
    stream.write_all(text.as_bytes()).map_err(unreachable)?;
    let mut answer = String::new();
    BufReader::new(stream).read_line(&mut answer).map_err(unreachable)?;
    let answer: Answer = serde_json::from_str(&answer)
        .map_err(|_| Failure::Told("what answers there is no moth of this version".into()))?;
    if options.json {
        out::json(&answer)?;
    }
    match answer.came {
        Came::NotUnderstood => Err(Failure::Told(answer.says)),
        came => {
            if !options.json {
                out::text(&format!("{}\n", answer.says))?;
            }
            Ok(came == Came::Done)
        }
    }
}
