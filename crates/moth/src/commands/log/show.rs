//! `moth log show`: a broadcast in ten lines, and what happened in it.

use std::fmt::Write;

use moth_drawing::ticks::clock;
use moth_logbook::about::SetupTold;
use serde::Serialize;

use super::Desk;
use super::list::Row;
use crate::cli::log::LogShowOptions;
use crate::failure::{Failure, Outcome};
use crate::logbook::opened::{Opened, Station};
use crate::outlets::json_line::JsonLine;
use crate::recordings::judged::Judged;
use crate::system::out;

/// A broadcast in JSON.
#[derive(Debug, Serialize)]
struct Shown<'a> {
    #[serde(flatten)]
    row: Row<'a>,
    setup_told: &'a SetupTold,
    lines: &'a [String],
    verdicts: Vec<Judged>,
    marks: Vec<Marked<'a>>,
}

#[derive(Debug, Serialize)]
struct Marked<'a> {
    at_s: f64,
    text: &'a str,
    is_change: bool,
}

pub(super) fn run(desk: &Desk<'_>, options: &LogShowOptions) -> Outcome {
    let opened = desk.open(&options.nr)?.told()?;
    if let Some(at_s) = options.at {
        let moment = opened.moment(at_s as usize).ok_or(Failure::NoMoment { at_s })?;
        // As a line of `moth watch --headless`.
        return out::json(&JsonLine::from(&moment));
    }
    if options.json {
        let chronicle = opened.chronicle();
        let marks = chronicle.marks().iter();
        return out::json(&Shown {
            row: Row::from(&opened.listed),
            setup_told: &opened.listed.about.told,
            lines: &opened.lines,
            verdicts: chronicle.verdicts().iter().map(Judged::from).collect(),
            marks: marks
                .map(|mark| Marked { at_s: mark.at.seconds(), text: &mark.text, is_change: mark.is_change })
                .collect(),
        });
    }
    out::text(&text(&opened))
}

/// The ten lines, the note, and what happened with its times.
fn text(opened: &Opened) -> String {
    let mut text = format!("{}\n", opened.lines.join("\n"));
    if !opened.listed.note.is_empty() {
        let _ = writeln!(text, "\n{}", opened.listed.note);
    }
    if !opened.stations.is_empty() {
        text.push('\n');
    }
    for station in &opened.stations {
        let _ = writeln!(text, "{}", line(station));
    }
    text
}

fn line(station: &Station) -> String {
    let until = if station.until_s > station.at_s { format!(" to {}", clock(station.until_s)) } else { String::new() };
    format!("{:>20}  {}", format!("{}{until}", clock(station.at_s)), station.words)
}
