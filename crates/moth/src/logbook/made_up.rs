//! The demo's logbook: a dozen made-up evenings at Harrow Hill Observatory, put on by the stand-ins once and kept here.
//!
//! `cargo run --release -p moth --example made_up_logbook` puts them on again and writes the file.

use std::io::Read;
use std::path::Path;

use flate2::read::GzDecoder;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use moth_logbook::about::{SetupTold, Wanted};
use moth_logbook::{Logbook, LogbookError};

/// The setup of all of them.
pub const SETUP: &str = "comet-night";
/// The service of all of them.
pub const SERVICE: &str = "Nocturne";
/// The evenings, as a compressed logbook.
const PACKED: &[u8] = include_bytes!("made_up.sqlite.gz");

/// What the setup says.
#[must_use]
pub fn told() -> SetupTold {
    SetupTold {
        video_kbps: Some(6000.0),
        audio_kbps: Some(160.0),
        size: Some((1280, 720)),
        fps: Some(60.0),
        preset: Some("veryfast".into()),
        headroom_percent: Some(25.0),
    }
}

/// Puts the evenings into a file, the newest of them yesterday, unless there is one already.
///
/// # Errors
/// [`LogbookError`] if the file cannot be written.
pub fn unpack(path: &Path, now: Timestamp) -> Result<(), LogbookError> {
    if path.exists() {
        return Ok(());
    }
    let io = |error| LogbookError::Io { path: path.to_owned(), error };
    let mut bytes = Vec::new();
    GzDecoder::new(PACKED).read_to_end(&mut bytes).map_err(io)?;
    let folder = path.parent().unwrap_or(Path::new("."));
    let new = tempfile::Builder::new().prefix(".made-up-").tempfile_in(folder).map_err(io)?;
    std::fs::write(new.path(), bytes).map_err(io)?;
    let logbook = Logbook::open(new.path())?;
    if let Some(newest) = logbook.list(&Wanted::default())?.first() {
        let yesterday = now.to_zoned(TimeZone::UTC).date().yesterday().unwrap_or(Date::MAX);
        let days = newest.on_air_at().date().until(yesterday).map_or(0, |span| i64::from(span.get_days()));
        logbook.move_by_days(days)?;
    }
    logbook.close()?;
    match new.persist_noclobber(path) {
        Err(error) if error.error.kind() != std::io::ErrorKind::AlreadyExists => Err(io(error.error)),
        _ => Ok(()),
    }
}
