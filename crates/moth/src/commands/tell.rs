//! `moth tell`: has a running moth do something, and says what came of it.

#[cfg(unix)]
use std::io::{BufRead, BufReader, Write};
#[cfg(unix)]
use std::os::unix::net::UnixStream;
use std::time::Duration;

use crate::cli::TellOptions;
use crate::failure::Failure;
use crate::system::out;
use crate::tell::{Answer, Came, Telling, ask, words};

/// A running moth answers within this long, whatever it was told: to play a broadcast back may take fifty seconds. Ours.
const ANSWERS: Duration = Duration::from_secs(60);

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
    let socket = ask::find(options.socket.as_deref())?;
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
