//! `moth log import`: readings files go through the core as they did when they were recorded, and into the logbook.

use std::io::Write;
use std::path::Path;

use flate2::Compression;
use flate2::write::GzEncoder;
use jiff::{SignedDuration, Timestamp, Zoned};
use moth_core::Moment;
use moth_logbook::about::SetupTold;
use moth_logbook::readings::{Damage, Reader};
use moth_logbook::{About, Kind, Logbook, Pen};

use super::Desk;
use crate::cli::log::LogImportOptions;
use crate::drawings::of_a_recording::begun;
use crate::failure::Failure;
use crate::measuring::tested::here;
use crate::recordings::judged::go_through;
use crate::system::out;

/// What was seen is written each so many looks: a minute of a broadcast. Ours.
const WRITE_EACH: usize = 300;

/// Takes files in; gives whether all of each could be used.
pub(super) fn run(desk: &Desk<'_>, options: &LogImportOptions) -> Result<bool, Failure> {
    let mut is_whole = true;
    // Before anything is written: a file that is none is told at once.
    for file in &options.files {
        Reader::open(file)?;
    }
    let mut logbook = desk.write()?;
    for file in &options.files {
        let (nr, damage) = import(&mut logbook, file)?;
        if let Some(title) = &options.title {
            logbook.write_down(nr, Some(title), None)?;
        }
        let damage = damage.map(|damage| format!("; line {}: {}, what follows was left out", damage.line, damage.why));
        is_whole &= damage.is_none();
        out::text(&format!("{} is broadcast {nr}{}\n", file.display(), damage.unwrap_or_default()))?;
    }
    Ok(is_whole)
}

fn import(logbook: &mut Logbook, file: &Path) -> Result<(i64, Option<Damage>), Failure> {
    let mut reader = Reader::open(file)?;
    let began = match reader.header.began.as_deref().and_then(begun) {
        Some(began) => began,
        None => ended(file, last(file)?),
    };
    let about = About {
        began,
        kind: Kind::Recording,
        is_made_up: reader.header.made_up,
        setup: String::new(),
        service: String::new(),
        told: SetupTold::default(),
    };
    let mut pen = Pen::new(about);
    let (mut looks, mut written) = (0, Ok(()));
    go_through(&mut reader, |snapshot| {
        pen.take(&snapshot);
        looks += 1;
        if looks % WRITE_EACH == 0 && written.is_ok() {
            written = pen.write(logbook);
        }
    });
    written?;
    pen.end(logbook)?;
    let nr = pen.nr().ok_or_else(|| Failure::NobodyBroadcast { path: file.to_owned() })?;
    logbook.keep_readings(nr, &compressed(file)?)?;
    Ok((nr, reader.damage))
}

/// When the last reading was.
fn last(file: &Path) -> Result<Moment, Failure> {
    Ok(Reader::open(file)?.by_ref().last().map_or(Moment::START, |reading| reading.at))
}

/// An older file does not tell when it began; it was written last when it ended.
fn ended(file: &Path, last: Moment) -> Zoned {
    let modified = file.metadata().and_then(|found| found.modified()).ok();
    let ended = modified.and_then(|at| Timestamp::try_from(at).ok()).unwrap_or_else(Timestamp::now);
    let long = SignedDuration::try_from(last.since(Moment::START)).unwrap_or_default();
    here(ended.checked_sub(long).unwrap_or(ended))
}

fn compressed(file: &Path) -> Result<Vec<u8>, Failure> {
    let failed = || Failure::system("the readings file could not be read again");
    let bytes = std::fs::read(file).map_err(failed())?;
    if file.extension().is_some_and(|extension| extension == "gz") {
        return Ok(bytes);
    }
    let mut gz = GzEncoder::new(Vec::new(), Compression::default());
    gz.write_all(&bytes).and_then(|()| gz.finish()).map_err(failed())
}
