//! `moth judge`: every verdict on a recorded broadcast, with its times.

use std::fmt::Write;

use serde::Serialize;

use crate::cli::{JudgeOptions, SetupInUseOptions};
use crate::drawings::of_a_recording;
use crate::failure::Failure;
use crate::recordings::judged::{Judged, Judgement, judge_whole};
use crate::system::out;

/// What a readings file comes to.
#[derive(Debug, Serialize)]
struct Report<'a> {
    readings: u64,
    seconds: f64,
    verdicts: &'a [Judged],
    /// The first line that was not used, and why.
    damage: Option<String>,
}

/// Judges a file; gives whether all of it could be used.
///
/// # Errors
/// [`Failure`] if it cannot be read, or is no readings file.
pub fn run(options: &JudgeOptions, setup_options: &SetupInUseOptions) -> Result<bool, Failure> {
    // Only --list-charts goes without a file.
    let Some(file) = options.file.as_deref() else { return of_a_recording::list().map(|()| true) };
    // Before anything is judged, as that may take a while.
    of_a_recording::check(&options.take, options.with.is_some())?;
    let whole = judge_whole(file, options.take.until)?;
    if options.take.writes() {
        of_a_recording::write(&whole, file, options, setup_options)?;
        return Ok(whole.judgement.damage.is_none());
    }
    let Judgement { verdicts, seconds, readings, damage, .. } = whole.judgement;
    let damage = damage.map(|damage| format!("line {}: {}; what follows was left out", damage.line, damage.why));
    if options.json {
        out::json(&Report { readings, seconds, verdicts: &verdicts, damage: damage.clone() })?;
    } else {
        let mut text = format!("{readings} readings over {seconds:.0} s\n");
        for verdict in &verdicts {
            let _ = writeln!(
                text,
                "{:8.1} – {:8.1} s  {} ({}), {:.0} % sure: {}",
                verdict.from_s,
                verdict.to_s,
                verdict.fault,
                verdict.cause.unwrap_or("cause unknown"),
                verdict.confidence * 100.0,
                verdict.sentence
            );
            for also in &verdict.also {
                let _ = writeln!(
                    text,
                    "{:22}  at the same time: {} ({})",
                    "",
                    also.fault,
                    also.cause.unwrap_or("cause unknown")
                );
            }
        }
        if verdicts.is_empty() {
            text.push_str("nothing at fault\n");
        }
        if let Some(damage) = &damage {
            let _ = writeln!(text, "{}, {damage}", file.display());
        }
        out::text(&text)?;
    }
    Ok(damage.is_none())
}
