//! A case: a readings file, and beside it what is truly wrong in it. Anyone can add one.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use moth_core::moment::Moment;
use moth_core::reading::Observation;
use moth_core::{Core, Settings};
use moth_logbook::readings::{Header, ReadingsError, Writer};
use moth_relay::scout;
use moth_stage::{Evening, EveningError, Theatre, Truth};

/// The core is asked this often, as on the screen: what it doubts, the scout looks into. Ours.
const LOOK: Duration = Duration::from_millis(200);
/// Ordinary noise loses a frame now and then; this many more are the trouble's. Ours.
const STRAYS: u64 = 2;

/// Why a case could not be made or read.
#[derive(Debug, thiserror::Error)]
pub enum CaseError {
    /// The evening cannot be put on.
    #[error("the evening cannot be put on: {0}")]
    Evening(#[from] EveningError),
    /// The readings file.
    #[error("{0}")]
    Readings(#[from] ReadingsError),
    /// What is truly wrong cannot be read or written.
    #[error("{}: {why}; beside each readings file stands one of the same name that ends in .truth.json", path.display())]
    Truth {
        /// Which file.
        path: PathBuf,
        /// Why.
        why: String,
    },
}

/// Where the truth of a readings file stands.
#[must_use]
pub fn truth_path(readings: &Path) -> PathBuf {
    let name = readings.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let stem = name.trim_end_matches(".gz").trim_end_matches(".jsonl");
    readings.with_file_name(format!("{stem}.truth.json"))
}

/// Where the truth of a clip stands.
#[must_use]
pub fn clip_truth_path(clip: &Path) -> PathBuf {
    clip.with_extension("truth.json")
}

/// Reads what is truly wrong in a case.
///
/// # Errors
/// [`CaseError::Truth`].
pub fn truth(readings: &Path) -> Result<Truth, CaseError> {
    let path = truth_path(readings);
    let text = fs::read_to_string(&path).map_err(|e| CaseError::Truth { path: path.clone(), why: e.to_string() })?;
    serde_json::from_str(&text).map_err(|e| CaseError::Truth { path, why: e.to_string() })
}

/// Puts an evening on and writes it, with its truth, into a folder; gives the readings file.
///
/// # Errors
/// [`CaseError`].
pub async fn record(folder: &Path, seed: u64, evening: Evening, mut truth: Truth) -> Result<PathBuf, CaseError> {
    let path = folder.join(format!("{}.jsonl", evening.slug));
    let mut writer = Writer::create(&path, &Header::new(evening.servers()))?;
    let mut theatre = Theatre::open(&evening, seed)?;
    let mut core = Core::new(Settings { servers: evening.servers() });
    let (mut look, end) = (Moment::START, Moment::after(Duration::from_secs_f64(truth.end_s)));
    let (mut dropped, mut before) = (0, None);
    while let Some(reading) = theatre.readings.recv().await {
        while look <= reading.at {
            scout::tell(&theatre.doubt, &core.snapshot(look));
            look = Moment::after(look.since(Moment::START) + LOOK);
        }
        if let Observation::Relay { accounts, .. } = &reading.what {
            dropped = accounts.video.dropped;
        }
        let counted = theatre.broadcaster.counted();
        let known = |count: Option<u64>| count.unwrap_or(0);
        // What was rendered and not encoded was skipped, or is late.
        let skipped = known(counted.rendered).saturating_sub(known(counted.encoded));
        let lost = [("network", dropped), ("encoder", skipped), ("rendering", known(counted.lagged))];
        if (truth.from_s..truth.to_s).contains(&reading.at.seconds()) {
            let before = *before.get_or_insert(lost);
            for (now, before) in lost.iter().zip(before).filter(|(now, before)| now.1 > before.1 + STRAYS) {
                let meant = truth.wrong.iter().any(|wrong| wrong.fault == now.0);
                if meant {
                    truth.first_loss_s = truth.first_loss_s.or(Some(reading.at.seconds()));
                }
                truth.lost.insert(now.0.into(), now.1 - before.1);
            }
        }
        core.take(&reading);
        writer.write(&reading)?;
        if reading.at >= end {
            break;
        }
    }
    writer.finish()?;
    let path_of_truth = truth_path(&path);
    let text = serde_json::to_string_pretty(&truth).unwrap_or_default();
    fs::write(&path_of_truth, text).map_err(|e| CaseError::Truth { path: path_of_truth, why: e.to_string() })?;
    Ok(path)
}
