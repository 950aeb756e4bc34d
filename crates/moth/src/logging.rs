//! Where log lines go: a file, or standard error when the screen is not in use. Never standard output.

use std::fs::OpenOptions;
use std::sync::Mutex;

use tracing_subscriber::filter::LevelFilter;
use tracing_subscriber::fmt;

use crate::cli::ShowOptions;
use crate::failure::Failure;

/// Begins to log. Only the moth's own lines are written, from information upwards.
pub(crate) fn begin(options: &ShowOptions) -> Result<(), Failure> {
    let builder = fmt().with_max_level(LevelFilter::INFO).with_target(false);
    if let Some(path) = &options.log {
        let file = OpenOptions::new().create(true).append(true).open(path);
        let file = file.map_err(|error| Failure::Log { path: path.clone(), error })?;
        // A second call in one process (tests) keeps the first log.
        let _ = builder.with_ansi(false).with_writer(Mutex::new(file)).try_init();
    } else if options.headless {
        let _ = builder.with_ansi(false).with_writer(std::io::stderr).try_init();
    }
    Ok(())
}

/// Warnings of a command that prints a report go to standard error.
pub(crate) fn warnings() {
    let builder = fmt().with_max_level(LevelFilter::WARN).with_target(false).without_time();
    // A second call in one process (tests) keeps the first log.
    let _ = builder.with_ansi(false).with_writer(std::io::stderr).try_init();
}
