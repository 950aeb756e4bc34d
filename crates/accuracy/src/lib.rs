//! How often the verdict is right: evenings made up from seeds, recorded as readings files, judged, and counted.
//!
//! Nothing here knows how a verdict is reached. The evenings come from the stage, whose world knows no threshold of the
//! core's; the verdicts come from the files, as `moth judge` gives them.

pub mod case;
pub mod score;
pub mod tally;

use std::path::{Path, PathBuf};

use moth_stage::Shapes;

use case::CaseError;
use score::Score;

/// Judges a case that lies in a folder.
///
/// # Errors
/// If the file, or its truth, cannot be read.
pub fn judged(readings: &Path) -> Result<Score, Box<dyn std::error::Error + Send + Sync>> {
    let truth = case::truth(readings)?;
    let judgement = moth::judge::judge(readings).map_err(|failure| failure.to_string())?;
    Ok(score::score(&truth, &judgement))
}

/// Makes a case. The clock of the evening runs as fast as it can.
///
/// # Errors
/// [`CaseError`].
pub fn made(folder: &Path, seed: u64, shapes: Shapes) -> Result<PathBuf, CaseError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().start_paused(true).build();
    let runtime = runtime.map_err(|error| CaseError::Truth { path: folder.to_owned(), why: error.to_string() })?;
    runtime.block_on(case::record(folder, seed, shapes))
}
