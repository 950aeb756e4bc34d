//! `moth log`: past broadcasts, kept, found and compared.

mod compare;
mod export;
mod import;
mod list;
pub(crate) mod note;
mod remove;
mod show;

use std::path::Path;

use jiff::Timestamp;
use moth_logbook::Logbook;
use moth_logbook::about::Wanted;
use tempfile::TempDir;

use crate::cli::SetupInUseOptions;
use crate::cli::log::{LogDeed, LogListOptions, LogOptions};
use crate::failure::Failure;
use crate::logbook::made_up;
use crate::logbook::opened::Opened;
use crate::logbook::plan::file_in;
use crate::setup_in_use::places;

/// The logbook that is meant.
struct Desk<'a> {
    path: std::path::PathBuf,
    options: &'a SetupInUseOptions,
    /// The demo's is gone afterwards.
    demo: Option<TempDir>,
}

/// Does what is asked; gives whether all is well.
///
/// # Errors
/// [`Failure`] if the logbook cannot be read, or does not have what is asked for.
pub fn run(options: &LogOptions, in_use: &SetupInUseOptions) -> Result<bool, Failure> {
    let desk = Desk::new(options.demo, in_use)?;
    let list = LogListOptions::default();
    match options.deed.as_ref().unwrap_or(&LogDeed::List(list)) {
        LogDeed::List(options) => list::run(&desk, options)?,
        LogDeed::Show(options) => show::run(&desk, options)?,
        LogDeed::Compare(options) => compare::run(&desk, options)?,
        LogDeed::Note(options) => note::run(&desk, options)?,
        LogDeed::Remove(options) => return remove::run(&desk, options),
        LogDeed::Limits(options) => remove::limits(&desk, options)?,
        LogDeed::Export(options) => export::run(&desk, options)?,
        LogDeed::Import(options) => return import::run(&desk, options),
    }
    Ok(true)
}

impl<'a> Desk<'a> {
    fn new(is_demo: bool, options: &'a SetupInUseOptions) -> Result<Self, Failure> {
        if is_demo {
            let folder = tempfile::tempdir().map_err(Failure::system("the demo's folder could not be made"))?;
            let path = file_in(folder.path());
            made_up::unpack(&path, Timestamp::now())?;
            return Ok(Self { path, options, demo: Some(folder) });
        }
        Ok(Self { path: file_in(&places(options)?.data), options, demo: None })
    }

    fn is_demo(&self) -> bool {
        self.demo.is_some()
    }

    fn path(&self) -> &Path {
        &self.path
    }

    /// The logbook; `None` if there is none yet.
    fn read(&self) -> Result<Option<Logbook>, Failure> {
        Ok(Logbook::open_to_read(&self.path)?)
    }

    /// The logbook, in which there must be something.
    fn filled(&self) -> Result<Logbook, Failure> {
        self.read()?.ok_or_else(|| Failure::NothingKept { path: self.path.clone() })
    }

    fn write(&self) -> Result<Logbook, Failure> {
        Ok(Logbook::open(&self.path)?)
    }

    /// The number of a broadcast as it was given. `last` keeps to the setup that was named, if one was.
    fn nr(&self, logbook: &Logbook, given: &str) -> Result<i64, Failure> {
        if given.eq_ignore_ascii_case("last") {
            let wanted = Wanted { setup: self.options.setup.clone(), ..Wanted::default() };
            let newest = logbook.list(&wanted)?.first().map(|newest| newest.nr);
            return newest.ok_or_else(|| Failure::NothingKept { path: self.path.clone() });
        }
        given.parse().map_err(|_| Failure::NoNumber { given: given.to_owned() })
    }

    fn open(&self, given: &str) -> Result<Opened, Failure> {
        let logbook = self.filled()?;
        let nr = self.nr(&logbook, given)?;
        Opened::open(logbook, nr)
    }
}
