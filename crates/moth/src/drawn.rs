//! A judged recording as plain data, and its drawings as files.

use std::path::Path;

use clap::ValueEnum;
use jiff::fmt::temporal::Pieces;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use moth_core::Snapshot;
use moth_core::figure::Origin;
use moth_core::suspects::Fault;
use moth_drawing::evening::{Changed, Evening, Stood, Stretch};
use moth_drawing::{Format, Theme, export, lanes, table};

use crate::cli::{Chart, JudgeOptions};
use crate::failure::Failure;
use crate::judge::Judgement;
use crate::{Outcome, out};

/// `moth judge --list-charts`
pub(crate) fn list() -> Outcome {
    let line = |chart: &Chart| {
        let value = chart.to_possible_value()?;
        Some(format!("{:<10}{}\n", value.get_name(), value.get_help()?))
    };
    out::text(&Chart::value_variants().iter().filter_map(line).collect::<String>())
}

/// Whether what is asked for could be written.
///
/// # Errors
/// [`Failure`] if a file is there already, or its name does not tell what to write.
pub(crate) fn check(options: &JudgeOptions) -> Outcome {
    if let Some(to) = &options.to {
        Format::of(to)?;
    }
    for to in [&options.to, &options.csv, &options.jsonl].into_iter().flatten() {
        export::check(to, options.force)?;
    }
    Ok(())
}

/// Writes what was asked for of a recording, and says where it is.
pub(crate) fn write(judgement: &Judgement, last: &Snapshot, file: &Path, options: &JudgeOptions) -> Outcome {
    let evening = evening(judgement, last, file);
    if let (Some(chart), Some(to)) = (options.chart, &options.to) {
        draw(chart, &evening, to, options)?;
    }
    let tables = [(&options.csv, table::csv as fn(&Evening) -> _), (&options.jsonl, table::json_lines)];
    for (to, table) in tables {
        if let Some(to) = to {
            export::write(to, &table(&evening)?, options.force)?;
            out::text(&format!("{}\n", to.display()))?;
        }
    }
    Ok(())
}

fn draw(chart: Chart, evening: &Evening, to: &Path, options: &JudgeOptions) -> Outcome {
    let whole = evening.whole();
    let stretch =
        Stretch { from_s: options.from.unwrap_or(whole.from_s), until_s: options.until.unwrap_or(whole.until_s) };
    if stretch.from_s >= stretch.until_s || stretch.from_s >= whole.until_s {
        return Err(Failure::Stretch { length_s: whole.until_s });
    }
    let theme = if options.dark { Theme::Dark } else { Theme::Light };
    let drawing = match chart {
        Chart::Lanes => lanes::draw(evening, stretch, theme),
    };
    drawing.write(to, options.force)?;
    out::text(&format!("{}\n", to.display()))
}

/// A recording as plain data.
fn evening(judgement: &Judgement, last: &Snapshot, file: &Path) -> Evening {
    let history = &last.history;
    let stood = judgement.verdicts.iter().map(|verdict| Stood {
        from_s: verdict.from_s,
        until_s: verdict.to_s,
        fault: [Fault::Network, Fault::Encoder, Fault::Rendering]
            .into_iter()
            .find(|fault| fault.word() == verdict.fault)
            .unwrap_or(Fault::None),
        cause: verdict.cause.map(str::to_owned),
        sentence: verdict.sentence.clone(),
        confidence: verdict.confidence,
    });
    let changes = last.marks.iter().filter(|mark| mark.is_change);
    let known = [("skipped", last.skipped.origin), ("lagged", last.lagged.origin)];
    let known = known.map(|(kind, origin)| format!("{kind} frames: {}", origin.map_or("not available", Origin::word)));
    let mut unseen: Vec<String> = last.wire.unseen.iter().cloned().collect();
    if let Some(damage) = &judgement.damage {
        unseen.push(format!("what follows line {} of the recording, which is damaged: {}", damage.line, damage.why));
    }
    Evening {
        source: file.file_name().map_or_else(|| "a recording".into(), |name| name.to_string_lossy().into_owned()),
        began: judgement.began.as_deref().and_then(begun),
        seconds: (0..history.len()).filter_map(|second| history.get(second)).copied().collect(),
        queue_limit_ms: last.queue_limit_ms,
        verdicts: stood.collect(),
        changes: changes.map(|mark| Changed { at_s: mark.at.seconds(), what: mark.text.clone() }).collect(),
        known: known.to_vec(),
        unseen,
    }
}

/// A time with its offset from UTC (RFC 3339); `None` if it is none.
fn begun(text: &str) -> Option<Zoned> {
    let offset = Pieces::parse(text).ok()?.to_numeric_offset()?;
    text.parse::<Timestamp>().ok().map(|at| at.to_zoned(TimeZone::fixed(offset)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::tz::Offset;

    #[test]
    fn a_recordings_beginning_keeps_its_offset() {
        let at = begun("2026-11-26T21:04:10.250-03:30").unwrap();
        assert_eq!(at.strftime("%Y-%m-%d %H:%M:%S %:z").to_string(), "2026-11-26 21:04:10 -03:30");
        assert_eq!(begun("2026-11-26T21:04:10Z").unwrap().offset(), Offset::UTC);
        assert!(begun("yesterday").is_none() && begun("").is_none());
    }
}
