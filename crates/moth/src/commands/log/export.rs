//! `moth log export`: files of a broadcast, as `moth judge` makes them of a readings file.

use std::io::Read;
use std::path::Path;

use flate2::read::GzDecoder;
use moth_drawing::evening::Evening;
use moth_drawing::export;

use super::Desk;
use crate::cli::log::LogExportOptions;
use crate::drawings::of_a_recording::{check, said, take};
use crate::failure::{Failure, Outcome};
use crate::logbook::opened::Opened;
use crate::measuring::tested;
use crate::setup_in_use::SetupInUse;

pub(super) fn run(desk: &Desk<'_>, options: &LogExportOptions) -> Outcome {
    if !options.take.writes() && options.readings.is_none() {
        return Err(Failure::NothingAsked);
    }
    check(&options.take, options.with.is_some())?;
    if let Some(to) = &options.readings {
        export::check(to, options.take.pen.force)?;
    }
    let opened = desk.open(&options.nr)?;
    let other = options.with.as_ref().map(|given| desk.open(given)).transpose()?;
    if options.take.writes() {
        let other = other.as_ref().map(|other| evening(desk, other, None)).transpose()?;
        take(evening(desk, &opened, options.take.until)?, other, &options.take)?;
    }
    match &options.readings {
        Some(to) => readings(&opened, to, options.take.pen.force),
        None => Ok(()),
    }
}

/// A broadcast as plain data, with the tests of its day.
pub(super) fn evening(desk: &Desk<'_>, opened: &Opened, standing_at_s: Option<f64>) -> Result<Evening, Failure> {
    let mut evening = opened.evening(standing_at_s);
    // What was tested is told in the words of the setup; names of it may be in what was said.
    if let Ok(in_use) = SetupInUse::open(desk.options)
        && in_use.setup_name == opened.listed.about.setup
    {
        tested::names(&in_use, &mut evening.names);
        let tests = opened.tests();
        let is_made_up = opened.listed.about.is_made_up;
        evening.servers = tests.iter().rev().find_map(|kept| tested::servers(kept, &in_use, is_made_up));
        evening.line = tests.iter().rev().find_map(|kept| tested::line(kept, &in_use, is_made_up));
    }
    Ok(evening)
}

fn readings(opened: &Opened, to: &Path, force: bool) -> Outcome {
    let nr = opened.listed.nr;
    let compressed = opened.readings()?.ok_or(Failure::NoReadings { nr })?;
    let bytes = if to.extension().is_some_and(|extension| extension == "gz") {
        compressed
    } else {
        let mut plain = Vec::new();
        let read = GzDecoder::new(compressed.as_slice()).read_to_end(&mut plain);
        read.map_err(Failure::system("the readings in the logbook could not be read"))?;
        plain
    };
    export::write(to, &bytes, force)?;
    said(to)
}
