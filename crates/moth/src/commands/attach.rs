//! `moth attach`: a screen on a moth that runs.

use std::path::Path;

use crate::attach::client::{Ended, attach};
use crate::cli::AttachOptions;
use crate::failure::{Failure, Outcome};
use crate::system::out;
use crate::tell::post;
use crate::terminal::Left;

/// Opens a screen on a moth that runs, until it is left or the moth ends.
///
/// # Errors
/// [`Failure`] if none runs, several do, or it cannot be reached.
pub(crate) fn run(options: &AttachOptions) -> Outcome {
    let socket = post::find_named(options.which.socket.as_deref(), options.which.name.as_deref())?;
    show(&socket, (!options.no_mouse, false)).map(|_| ())
}

/// Shows the moth behind a socket, and says what goes on without the screen.
pub(crate) fn show(socket: &Path, hands: (bool, bool)) -> Result<Left, Failure> {
    let told = match attach(socket, hands)? {
        Ended::Setups => return Ok(Left::ForTheSetups),
        Ended::Left => "The moth goes on. `moth attach` opens a screen on it, `moth stop` ends it.".into(),
        Ended::Over(lines) => lines.join("\n"),
        Ended::Lost => return Err(Failure::Told(
            "the moth that kept the broadcast ended without a word: it was killed, or met a fault; `moth watch` begins it again, and the broadcaster finds it".into(),
        )),
    };
    if !told.is_empty() {
        // The terminal may be gone.
        let _ = out::text(&format!("{told}\n"));
    }
    Ok(Left::ForGood)
}
