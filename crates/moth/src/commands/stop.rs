//! `moth stop`: ends a moth that runs.

use std::io::{BufRead, IsTerminal, Write};
use std::time::{Duration, Instant};

use crate::cli::StopOptions;
use crate::failure::Failure;
use crate::system::out;
use crate::tell::about::About;
use crate::tell::ask;

/// A moth ends within this: what waits is delivered first. Ours.
const ENDS: Duration = Duration::from_secs(20);

/// Ends a moth; `Ok(false)` if it was left running.
///
/// # Errors
/// [`Failure`] if none runs, several do, or it does not end.
pub(crate) fn run(options: &StopOptions) -> Result<bool, Failure> {
    let socket = ask::find_named(options.which.socket.as_deref(), options.which.name.as_deref())?;
    let about = ask::about(&socket)?;
    if about.is_on_air && !about.is_made_up && !options.yes && !agrees(&about)? {
        out::text("left running\n")?;
        return Ok(false);
    }
    ask::stop(&socket)?;
    let until = Instant::now() + ENDS;
    while socket.exists() {
        if Instant::now() > until {
            return Err(Failure::Told(format!(
                "the moth at {} was asked to end, and has not within {} s",
                socket.display(),
                ENDS.as_secs()
            )));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    out::text("ended\n")?;
    Ok(true)
}

/// Whether a broadcast is to be ended.
fn agrees(about: &About) -> Result<bool, Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::Told("somebody is on air; --yes ends the broadcast all the same".into()));
    }
    let mut err = std::io::stderr();
    let _ = write!(err, "A broadcast to {} is on air: it is over for its viewers then. End it? [y/N] ", about.server);
    let _ = err.flush();
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer).map_err(Failure::system("the answer could not be read"))?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}
