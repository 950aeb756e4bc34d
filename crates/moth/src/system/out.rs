//! What commands print: a result on standard output, progress on standard error.

use std::io::{self, BufRead, IsTerminal, Write};
use std::process::ExitCode;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;

use crate::failure::Failure;
use crate::failure::Outcome;

/// Prints text. Whoever stops reading has read enough.
pub(crate) fn text(text: &str) -> Outcome {
    let mut out = io::stdout().lock();
    finish(out.write_all(text.as_bytes()).and_then(|()| out.flush()))
}

/// Prints one JSON object.
pub(crate) fn json(value: &impl Serialize) -> Outcome {
    let mut out = io::stdout().lock();
    let written = serde_json::to_writer_pretty(&mut out, value).map_err(io::Error::from);
    finish(written.and_then(|()| out.write_all(b"\n")).and_then(|()| out.flush()))
}

/// Asks on a terminal whether what was shown is agreed to; `None` if nobody can be asked.
pub(crate) fn agreed(shown: &str) -> Result<Option<bool>, Failure> {
    if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
        return Ok(None);
    }
    let failed = || Failure::system("the terminal could not be used");
    write!(io::stderr(), "{shown}Agree? [y/N] ").map_err(failed())?;
    io::stderr().flush().map_err(failed())?;
    let mut answer = String::new();
    io::stdin().lock().read_line(&mut answer).map_err(failed())?;
    Ok(Some(answer.trim().eq_ignore_ascii_case("y")))
}

/// Standard output's failure, unless it is that nobody reads any more.
pub(crate) fn finish(written: io::Result<()>) -> Outcome {
    match written {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        other => other.map_err(Failure::system("standard output could not be written")),
    }
}

/// Tells on standard error how far something is: in one line that changes, on a terminal; else only what ends.
#[derive(Debug)]
pub(crate) struct Progress {
    is_terminal: bool,
    shown: bool,
}

impl Progress {
    pub(crate) fn new() -> Self {
        Self { is_terminal: io::stderr().is_terminal(), shown: false }
    }

    /// How far it is now.
    pub(crate) fn now(&mut self, text: &str) {
        if self.is_terminal {
            self.shown = true;
            // With standard error closed there is nobody to tell.
            let _ = write!(io::stderr(), "\r\x1b[2K{text}");
        }
    }

    /// Something that stays.
    pub(crate) fn line(&mut self, text: &str) {
        self.clear();
        let _ = writeln!(io::stderr(), "{text}");
    }

    pub(crate) fn clear(&mut self) {
        if std::mem::take(&mut self.shown) {
            let _ = write!(io::stderr(), "\r\x1b[2K");
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.clear();
    }
}

/// `23 Nov 2026 20:14`, on the user's clock.
pub(crate) fn date(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%-d %b %Y %H:%M").to_string()
}

/// Exit status for bad usage, and for an address, file or key that cannot be used.
pub(crate) const UNUSABLE: u8 = 2;

/// Says on standard error what is wrong; gives the exit status.
pub(crate) fn complain(what: &str) -> ExitCode {
    // With standard error closed there is nobody left to tell.
    let _ = writeln!(std::io::stderr(), "moth: {what}");
    ExitCode::from(UNUSABLE)
}
