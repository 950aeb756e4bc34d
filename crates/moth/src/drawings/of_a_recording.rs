//! `moth judge`: a recording's drawings, its report and its tables as files.

use std::path::{Path, PathBuf};

use clap::ValueEnum;
use jiff::fmt::temporal::Pieces;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use moth_drawing::evening::{Evening, Stretch};
use moth_drawing::{
    Drawing, Format, Paper, Theme, comparison, export, journey, lanes, machine, report, table, trial, why,
};

use crate::cli::{Chart, JudgeOptions, PaperSize, PenOptions, SetupInUseOptions, TakeOptions};
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::measuring::tested;
use crate::recordings::judged::{Whole, judge_whole};
use crate::setup_in_use::SetupInUse;
use crate::system::out;

/// `moth judge --list-charts`
pub(crate) fn list() -> Outcome {
    let line = |chart: &Chart| {
        let value = chart.to_possible_value()?;
        Some(format!("{:<12}{}\n", value.get_name(), value.get_help()?))
    };
    let mut text: String = Chart::value_variants().iter().filter_map(line).collect();
    text.push_str(
        "\nBeside these: `moth routes --chart FILE` draws the comparison of servers, `moth uplink --chart FILE` the line and its round \
         trips, `moth plan --chart FILE` the map of pictures.\n",
    );
    out::text(&text)
}

impl PenOptions {
    /// White or black.
    pub(crate) fn theme(self) -> Theme {
        if self.dark { Theme::Dark } else { Theme::Light }
    }
}

impl From<PaperSize> for Paper {
    fn from(size: PaperSize) -> Self {
        match size {
            PaperSize::A4 => Self::A4,
            PaperSize::Letter => Self::Letter,
        }
    }
}

/// The file of a table beside that of the seconds: `tonight.csv` and `tonight.verdicts.csv`.
fn beside(seconds: &Path, name: &str) -> PathBuf {
    let stem = seconds.file_stem().map_or_else(String::new, |stem| stem.to_string_lossy().into_owned());
    seconds.with_file_name(format!("{stem}.{name}.csv"))
}

/// Whether what is asked for could be written.
///
/// # Errors
/// [`Failure`] if a file is there already, its name does not tell what to write, or a comparison has no other side.
pub(crate) fn check(options: &TakeOptions, has_other: bool) -> Outcome {
    let force = options.pen.force;
    let compares = options.chart == Some(Chart::Comparison);
    if compares != (has_other || options.against.is_some()) {
        return Err(Failure::OneSide);
    }
    if let Some(to) = &options.to {
        Format::of(to)?;
    }
    if let Some(to) = &options.report {
        report::check(to, force)?;
    }
    for to in [&options.to, &options.csv, &options.jsonl].into_iter().flatten() {
        export::check(to, force)?;
    }
    if let Some(seconds) = &options.csv {
        for name in ["verdicts", "changes", "tests"] {
            export::check(&beside(seconds, name), force)?;
        }
    }
    Ok(())
}

/// Writes what was asked for of a recording, and says where it is.
pub(crate) fn write(whole: &Whole, file: &Path, options: &JudgeOptions, setup_options: &SetupInUseOptions) -> Outcome {
    let mut evening = evening(whole, file);
    // Without a configuration nothing was tested.
    if let Ok(in_use) = SetupInUse::open(setup_options) {
        tested::join(&mut evening, &in_use, &in_use.history()?, false);
    }
    let other = match &options.with {
        Some(file) => Some(self::evening(&judge_whole(file, None)?, file)),
        None => None,
    };
    take(evening, other, &options.take)
}

/// Writes what was asked for of a broadcast, and says where it is; `other` is what it is compared with, if not with itself.
pub(crate) fn take(mut evening: Evening, mut other: Option<Evening>, options: &TakeOptions) -> Outcome {
    let force = options.pen.force;
    if options.pen.anonymous {
        evening = evening.anonymous();
        other = other.map(Evening::anonymous);
    }
    if let (Some(chart), Some(to)) = (options.chart, &options.to) {
        draw(chart, &evening, other.as_ref(), options)?.write(to, force)?;
        said(to)?;
    }
    if let Some(to) = &options.report {
        export::write(to, &report::pdf(&evening, options.paper.into())?, force)?;
        said(to)?;
    }
    if let Some(seconds) = &options.csv {
        for table in table::csv(&evening)? {
            let to = if table.name == "seconds" { seconds.clone() } else { beside(seconds, table.name) };
            export::write(&to, &table.csv, force)?;
            said(&to)?;
        }
    }
    if let Some(to) = &options.jsonl {
        export::write(to, &table::json_lines(&evening)?, force)?;
        said(to)?;
    }
    Ok(())
}

pub(crate) fn said(to: &Path) -> Outcome {
    out::text(&format!("{}\n", to.display()))
}

/// What lies between two times, if given, else all of it.
pub(crate) fn stretch_of(evening: &Evening, from: Option<f64>, until: Option<f64>) -> Result<Stretch, Failure> {
    let whole = evening.whole();
    let stretch = Stretch { from_s: from.unwrap_or(0.0), until_s: until.unwrap_or(whole.until_s) };
    if stretch.from_s >= stretch.until_s || stretch.from_s >= whole.until_s {
        return Err(Failure::Stretch { length_s: whole.until_s });
    }
    Ok(Stretch { until_s: stretch.until_s.min(whole.until_s), ..stretch })
}

fn draw(chart: Chart, evening: &Evening, other: Option<&Evening>, options: &TakeOptions) -> Result<Drawing, Failure> {
    let theme = options.pen.theme();
    let stretch = stretch_of(evening, options.from, options.until)?;
    let is_whole = options.from.is_none() && options.until.is_none();
    let none = |what| Failure::NothingToDraw { what };
    Ok(match chart {
        Chart::Lanes => lanes::draw(evening, stretch, theme),
        Chart::Journey => {
            let standing = evening.standing.as_ref().ok_or(none("a journey"))?;
            journey::draw(evening, standing, theme)
        }
        Chart::Why => {
            let stood = evening.longest_verdict(stretch).ok_or(none("a verdict"))?;
            // Without a stretch, that of the verdict.
            let stretch = if is_whole { why::around(evening, stood) } else { stretch };
            why::draw(evening, stood, stretch, theme)
        }
        Chart::Trial => trial::draw(evening, evening.newest_trial(stretch).ok_or(none("a change"))?, theme),
        Chart::Machine => {
            let machine = evening.machines.first().ok_or(none("the load on a machine"))?;
            machine::draw(evening, machine, stretch, theme)
        }
        Chart::Comparison => {
            let other = other.unwrap_or(evening);
            let against = options.against;
            let against = stretch_of(other, against.map(|span| span.from_s), against.map(|span| span.until_s))?;
            let first = comparison::Side { evening, stretch };
            comparison::draw(first, comparison::Side { evening: other, stretch: against }, None, theme)
        }
    })
}

/// A recording as plain data.
fn evening(whole: &Whole, file: &Path) -> Evening {
    let source = file.file_name().map_or_else(|| "a recording".into(), |name| name.to_string_lossy().into_owned());
    let source = if whole.is_made_up { format!("{source}, all made up") } else { source };
    let began = whole.judgement.began.as_deref().and_then(begun);
    let mut evening = whole.chronicle.evening(&whole.last, &whole.standing, source, began);
    evening.is_made_up = whole.is_made_up;
    if let Some(damage) = &whole.judgement.damage {
        let what = format!("what follows line {} of the recording, which is damaged: {}", damage.line, damage.why);
        evening.unseen.push(what);
    }
    evening
}

/// A time with its offset from UTC (RFC 3339); `None` if it is none.
pub(crate) fn begun(text: &str) -> Option<Zoned> {
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

    #[test]
    fn tables_stand_beside_the_one_of_the_seconds() {
        assert_eq!(beside(Path::new("/tmp/tonight.csv"), "verdicts"), Path::new("/tmp/tonight.verdicts.csv"));
        assert_eq!(beside(Path::new("tonight"), "tests"), Path::new("tonight.tests.csv"));
    }
}
