//! `moth attach`: a screen on a moth that runs.

use std::path::Path;

use crate::attach::client::{Ended, attach};
use crate::attach::words::Hands;
use crate::cli::AttachOptions;
use crate::failure::{Failure, Outcome};
use crate::system::out;
use crate::tell::ask;

/// Opens a screen on a moth that runs, until it is left or the moth ends.
///
/// # Errors
/// [`Failure`] if none runs, several do, or it cannot be reached.
pub(crate) fn run(options: &AttachOptions) -> Outcome {
    let socket = ask::find_named(options.which.socket.as_deref(), options.which.name.as_deref())?;
    match show(&socket, Hands { mouse: !options.no_mouse, began: false, setups: false })? {
        After::Lost => {
            Err(Failure::Told(format!("{LOST}; `moth watch` begins it again, and the broadcaster finds it")))
        }
        After::Left | After::Setups => Ok(()),
    }
}

/// How a screen on a moth was left.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum After {
    /// For good: it goes on, or has ended.
    Left,
    /// To go back to the list of setups.
    Setups,
    /// The moth ended without a word.
    Lost,
}

/// What is to be known of a moth that ended without a word.
pub(crate) const LOST: &str = "the moth that kept the broadcast ended without a word: it was killed, or met a fault";

/// Shows the moth behind a socket, and says what goes on without the screen.
pub(crate) fn show(socket: &Path, hands: Hands) -> Result<After, Failure> {
    let told = match attach(socket, hands)? {
        Ended::Setups => return Ok(After::Setups),
        Ended::Left => "The moth goes on. `moth attach` opens a screen on it, `moth stop` ends it.".into(),
        Ended::Over(lines) => lines.join("\n"),
        Ended::Lost => return Ok(After::Lost),
    };
    if !told.is_empty() {
        // The terminal may be gone.
        let _ = out::text(&format!("{told}\n"));
    }
    Ok(After::Left)
}
