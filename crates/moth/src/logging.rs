//! Where log lines go: a file, or standard error when the screen is not in use. Never standard output.

use std::fs::OpenOptions;
use std::path::Path;

use tracing_appender::non_blocking;
use tracing_appender::non_blocking::WorkerGuard;
use tracing_subscriber::filter::LevelFilter;
use tracing_subscriber::fmt;

use crate::failure::Failure;

/// Begins to log, for as long as what it gives is kept. Only the moth's own lines are written, from information upwards, on a
/// thread of their own: a disk, or a reader, that stops costs lines and never a frame.
pub(crate) fn to(log: Option<&Path>, is_headless: bool) -> Result<Option<WorkerGuard>, Failure> {
    let (lines, guard) = if let Some(path) = log {
        let mut options = OpenOptions::new();
        // It names servers and programs, which is nobody else's business.
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let file = options.create(true).append(true).open(path);
        non_blocking(file.map_err(|error| Failure::Log { path: path.to_owned(), error })?)
    } else if is_headless {
        non_blocking(std::io::stderr())
    } else {
        return Ok(None);
    };
    let builder = fmt().with_max_level(LevelFilter::INFO).with_target(false);
    // A second call in one process (tests) keeps the first log.
    let _ = builder.with_ansi(false).with_writer(lines).try_init();
    Ok(Some(guard))
}

/// Warnings of a command that prints a report go to standard error.
pub(crate) fn warnings() {
    let builder = fmt().with_max_level(LevelFilter::WARN).with_target(false).without_time();
    // A second call in one process (tests) keeps the first log.
    let _ = builder.with_ansi(false).with_writer(std::io::stderr).try_init();
}
