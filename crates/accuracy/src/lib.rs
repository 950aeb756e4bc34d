//! How often the verdict is right: evenings made up from seeds, recorded as readings files, judged, and counted.
//!
//! Nothing here knows how a verdict is reached. The evenings come from the stage, whose world knows no threshold of the
//! core's; the verdicts come from the files, as `moth judge` gives them.
//!
//! ```
//! use moth_accuracy::tally::Tally;
//!
//! let tally = Tally::default();
//! assert_eq!(tally.false_alarms(), 0);
//! ```

pub mod case;
pub mod clip;
pub mod clips;
pub mod score;
pub mod tally;

use std::path::{Path, PathBuf};

use moth_stage::{Evening, Truth};

use case::CaseError;
use score::Score;

/// Judges a case that lies in a folder.
///
/// # Errors
/// If the file, or its truth, cannot be read.
pub fn judged(readings: &Path) -> Result<Score, Box<dyn std::error::Error + Send + Sync>> {
    let truth = case::truth(readings)?;
    let judgement = moth::recordings::judged::judge(readings).map_err(|failure| failure.to_string())?;
    Ok(score::score(&truth, &judgement))
}

/// Makes a case. The clock of the evening runs as fast as it can.
///
/// # Errors
/// [`CaseError`].
pub fn made(folder: &Path, seed: u64, (evening, truth): (Evening, Truth)) -> Result<PathBuf, CaseError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().start_paused(true).build();
    let runtime = runtime.map_err(|error| CaseError::Truth { path: folder.to_owned(), why: error.to_string() })?;
    runtime.block_on(case::record(folder, seed, evening, truth))
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_stage::Shapes;
    use tally::Tally;

    fn tally(shapes: Shapes, seeds: std::ops::Range<u64>) -> Tally {
        let folder = tempfile::tempdir().unwrap();
        let mut tally = Tally::default();
        for seed in seeds {
            let path = made(folder.path(), seed, Evening::made_up(seed, shapes)).unwrap();
            tally.take(&judged(&path).unwrap());
            std::fs::remove_file(path).unwrap();
        }
        tally
    }

    fn are_judged_rightly(samples: [(Shapes, std::ops::Range<u64>); 2]) {
        for (shapes, seeds) in samples {
            let tally = tally(shapes, seeds);
            let told = tally.text(&format!("{shapes:?}"));
            assert!(tally.fault_share() >= 0.98 && tally.cause_share() >= 0.95, "{told}");
            assert!(tally.wait_s(0.5) <= 3.0 && tally.false_alarms() == 0, "{told}");
            assert_eq!(tally.contradictions(), Vec::<String>::new());
        }
    }

    #[test]
    fn a_sample_of_evenings_is_judged_rightly() {
        are_judged_rightly([(Shapes::Known, 10_000..10_012), (Shapes::HeldOut, 20_000..20_006)]);
    }

    mod long {
        use super::*;

        /// The whole evaluation is `cargo run --release -p moth-accuracy`; every kind of trouble is among these.
        #[test]
        fn a_larger_sample_of_evenings_is_judged_rightly() {
            are_judged_rightly([(Shapes::Known, 10_000..10_096), (Shapes::HeldOut, 20_000..20_048)]);
        }
    }

    #[test]
    fn a_case_of_ones_own_is_a_file_and_its_truth() {
        let folder = tempfile::tempdir().unwrap();
        let path = made(folder.path(), 2, Evening::made_up(2, Shapes::Known)).unwrap();
        assert!(case::truth_path(&path).exists());
        let truth = case::truth_path(&path);
        std::fs::write(&truth, "{}").unwrap();
        assert!(judged(&path).unwrap_err().to_string().contains(".truth.json"), "what is missing is said");
        std::fs::remove_file(truth).unwrap();
        assert!(judged(&path).is_err());
    }
}
