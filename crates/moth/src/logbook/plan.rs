//! Where broadcasts are kept, and what is known of one before it begins.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp, Zoned};
use moth_logbook::about::SetupTold;
use moth_logbook::thinning::Limits;
use moth_logbook::{About, Kind, Logbook};
use moth_plan::setup::Setup;
use moth_store::config::{ConfigFile, LogbookChoice};
use moth_store::results::Results;

use crate::cli::SetupInUseOptions;
use crate::failure::Failure;
use crate::live::plan::Plan;
use crate::logbook::made_up;
use crate::setup_in_use::{SetupInUse, places};

/// The database's file, in the folder of results.
const FILE: &str = "logbook.sqlite";
/// A test belongs to a broadcast that begins no later. Ours.
const DAY: SignedDuration = SignedDuration::from_hours(24);

/// Where broadcasts are kept, and what is known of one before it begins.
#[derive(Debug, Clone)]
pub struct LogPlan {
    /// The logbook's file.
    pub path: PathBuf,
    /// The setup's name; empty without one.
    pub setup: String,
    /// The service's name; empty without one.
    pub service: String,
    /// What the setup says.
    pub told: SetupTold,
    /// Where tests of servers and of the line are kept.
    results: Option<Results>,
    /// How long broadcasts are kept.
    pub limits: Limits,
    /// It is the demo's: made up, and gone when nobody uses this any more.
    demo: Option<Arc<tempfile::TempDir>>,
}

impl LogPlan {
    /// For what is put on; `None` if nothing is to be kept.
    ///
    /// # Errors
    /// [`Failure`] if the configuration cannot be read, or a demo's folder cannot be made.
    pub fn of(plan: &Plan, options: &SetupInUseOptions) -> Result<Option<Self>, Failure> {
        match plan {
            Plan::Demo(..) => Self::of_the_demo().map(Some),
            Plan::Live(live) => match live.in_use.as_ref().filter(|in_use| !in_use.is_named()) {
                Some(in_use) => Ok(Self::of_a_setup(in_use)),
                None => Ok(Self::without_a_setup(options)),
            },
        }
    }

    /// The demo's, in a folder of its own.
    ///
    /// # Errors
    /// [`Failure`] if that cannot be made.
    pub fn of_the_demo() -> Result<Self, Failure> {
        let folder = tempfile::tempdir().map_err(Failure::system("the demo's folder could not be made"))?;
        Ok(Self {
            path: folder.path().join(FILE),
            setup: made_up::SETUP.into(),
            service: made_up::SERVICE.into(),
            told: made_up::told(),
            results: None,
            limits: Limits::default(),
            demo: Some(Arc::new(folder)),
        })
    }

    /// One that is nobody's, for tests.
    #[cfg(test)]
    pub(crate) fn at(path: PathBuf) -> Self {
        let (setup, service, told) = ("comet-night".into(), "Nocturne".into(), SetupTold::default());
        Self { path, setup, service, told, results: None, limits: Limits::default(), demo: None }
    }

    /// Of a setup; `None` if the configuration says that nothing is to be kept.
    #[must_use]
    pub fn of_a_setup(in_use: &SetupInUse) -> Option<Self> {
        let choice = in_use.config.logbook;
        let folder = in_use.results.path().parent()?;
        choice.keep.then(|| Self {
            path: folder.join(FILE),
            setup: in_use.setup_name.clone(),
            service: in_use.service.name.clone(),
            told: told(&in_use.setup),
            results: Some(in_use.results.clone()),
            limits: limits(choice),
            demo: None,
        })
    }

    /// Where servers are named on the command line there is no setup, and perhaps no configuration.
    fn without_a_setup(options: &SetupInUseOptions) -> Option<Self> {
        let places = places(options).ok()?;
        let config = ConfigFile::at(places.config).read().unwrap_or_default();
        config.logbook.keep.then(|| Self {
            path: places.data.join(FILE),
            setup: String::new(),
            service: String::new(),
            told: SetupTold::default(),
            results: None,
            limits: limits(config.logbook),
            demo: None,
        })
    }

    /// Whether everything in it is a stand-in's.
    #[must_use]
    pub fn is_demo(&self) -> bool {
        self.demo.is_some()
    }

    /// What is known of a broadcast whose clock began then.
    #[must_use]
    pub fn about(&self, kind: Kind, began: Zoned) -> About {
        About {
            began,
            kind,
            is_made_up: self.is_demo(),
            setup: self.setup.clone(),
            service: self.service.clone(),
            told: self.told.clone(),
        }
    }

    /// Tests of servers and of the line that were made within a day, as JSON.
    #[must_use]
    pub fn tests(&self, now: Timestamp) -> Vec<String> {
        let history = self.results.as_ref().and_then(|results| results.read().ok()).unwrap_or_default();
        let is_of_the_day = history.kept.iter().filter(|kept| now.duration_since(kept.date) <= DAY);
        is_of_the_day.filter_map(|kept| serde_json::to_string(kept).ok()).collect()
    }

    /// Opens it to write.
    ///
    /// # Errors
    /// [`moth_logbook::LogbookError`].
    pub fn open(&self) -> Result<Logbook, moth_logbook::LogbookError> {
        if self.is_demo() {
            made_up::unpack(&self.path, Timestamp::now())?;
        }
        Logbook::open(&self.path)
    }

    /// Opens it to read; `None` if there is none yet.
    ///
    /// # Errors
    /// [`moth_logbook::LogbookError`].
    pub fn open_to_read(&self) -> Result<Option<Logbook>, moth_logbook::LogbookError> {
        if self.is_demo() {
            made_up::unpack(&self.path, Timestamp::now())?;
        }
        Logbook::open_to_read(&self.path)
    }
}

/// The logbook's file beside a configuration.
pub(crate) fn file_in(data: &Path) -> PathBuf {
    data.join(FILE)
}

/// The configuration, and the limits in it.
///
/// # Errors
/// [`Failure`] if it cannot be read.
pub(crate) fn limits_in(options: &SetupInUseOptions) -> Result<(PathBuf, Limits), Failure> {
    let file = ConfigFile::at(places(options)?.config);
    Ok((file.path().to_owned(), limits(file.read()?.logbook)))
}

fn limits(choice: LogbookChoice) -> Limits {
    Limits { days: choice.days, bytes: choice.megabytes.map(|megabytes| u64::from(megabytes) * 1_000_000) }
}

/// What a setup says, without its secrets.
fn told(setup: &Setup) -> SetupTold {
    SetupTold {
        video_kbps: Some(setup.bitrate.kbps()),
        audio_kbps: Some(setup.audio.kbps()),
        size: Some((setup.size.width, setup.size.height)),
        fps: Some(setup.rate),
        preset: setup.preset.clone(),
        headroom_percent: Some(setup.headroom.percent()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::rate::Bitrate;
    use moth_store::results::{Kept, Tested};

    #[test]
    fn tests_of_the_day_belong_to_a_broadcast_also_those_made_while_one_waited_for_it() {
        let dir = tempfile::tempdir().unwrap();
        let results = Results::below(dir.path());
        let plan = LogPlan { results: Some(results.clone()), ..LogPlan::at(dir.path().join(FILE)) };
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        assert_eq!(plan.tests(at("2026-11-26T21:00:00Z")), Vec::<String>::new());
        for date in ["2026-11-24T20:00:00Z", "2026-11-26T20:50:00Z"] {
            let (line, service, planned) = ("eth0".into(), Some("nocturne".into()), Bitrate::from_kbps(6160));
            let what = Tested::Routes { servers: Vec::new() };
            results.add(&Kept { date: at(date), line, service, planned, what }).unwrap();
        }
        let tests = plan.tests(at("2026-11-26T21:00:00Z"));
        assert!(tests.len() == 1 && tests[0].contains("2026-11-26T20:50:00Z"), "{tests:?}");
    }
}
