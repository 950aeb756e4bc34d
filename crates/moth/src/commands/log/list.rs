//! `moth log list`: the broadcasts, the newest first, each with a drawing of its length.

use std::fmt::Write;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use moth_drawing::ticks::clock;
use moth_evening::digest::{Blamed, Digest, Slice};
use moth_logbook::Listed;
use moth_logbook::about::{Kind, Wanted};
use serde::Serialize;

use super::Desk;
use crate::cli::log::LogListOptions;
use crate::failure::{Failure, Outcome};
use crate::logbook::plan::limits_in;
use crate::logbook::row::{bar, blamed_words, lost_words, titled};
use crate::system::out;

/// A broadcast in JSON.
#[derive(Debug, Serialize)]
pub(super) struct Row<'a> {
    nr: i64,
    /// When it began, with the offset from UTC that held there (RFC 3339).
    began: String,
    kind: Kind,
    made_up: bool,
    setup: &'a str,
    service: &'a str,
    title: &'a str,
    note: &'a str,
    ended: bool,
    thinned: u32,
    bytes: u64,
    lost_percent: Option<f64>,
    #[serde(flatten)]
    digest: &'a Digest,
}

impl<'a> From<&'a Listed> for Row<'a> {
    fn from(one: &'a Listed) -> Self {
        Self {
            nr: one.nr,
            began: one.on_air_at().strftime("%Y-%m-%dT%H:%M:%S%:z").to_string(),
            kind: one.about.kind,
            made_up: one.about.is_made_up,
            setup: &one.about.setup,
            service: &one.about.service,
            title: &one.title,
            note: &one.note,
            ended: one.is_ended,
            thinned: one.thinned,
            bytes: one.bytes,
            lost_percent: one.digest.lost_percent(),
            digest: &one.digest,
        }
    }
}

#[derive(Debug, Serialize)]
struct List<'a> {
    broadcasts: Vec<Row<'a>>,
}

pub(super) fn run(desk: &Desk<'_>, options: &LogListOptions) -> Outcome {
    let start = |date: Date| date.to_zoned(TimeZone::system()).ok().map(|at| at.timestamp());
    if let Some(word) = options.verdict.as_ref().filter(|word| !Wanted::is_verdict(word)) {
        return Err(Failure::NoVerdict { given: word.clone() });
    }
    let wanted = Wanted {
        since: options.since.and_then(start),
        before: options.until.and_then(|date| date.tomorrow().ok()).and_then(start),
        setup: desk.options.setup.clone(),
        verdict: options.verdict.clone(),
        words: options.find.clone(),
        anything: None,
    };
    let logbook = desk.read()?;
    let all = logbook.as_ref().map_or_else(|| Ok(Vec::new()), |logbook| logbook.list(&wanted))?;
    if options.json {
        return out::json(&List { broadcasts: all.iter().map(Row::from).collect() });
    }
    if all.is_empty() {
        let is_asked = wanted != Wanted::default();
        let why = if is_asked {
            "no broadcast in the logbook is like that"
        } else {
            "there is no broadcast in the logbook yet; every one that is watched is kept"
        };
        return out::text(&format!("{why}\n"));
    }
    let mut text = String::new();
    for one in &all {
        let _ = writeln!(text, "{}", line(one));
    }
    let bytes: u64 = all.iter().map(|one| one.bytes).sum();
    let _ = writeln!(
        text,
        "\nOf each, its length from left to right: · nothing lost, ▂ under 0.1 % of the frames, ▄ under 1 %, ▆ under 5 %, █ more or \
         no server. {}",
        crate::logbook::row::taken(all.len(), bytes)
    );
    // Only the whole list says what goes of it.
    if let (Some(logbook), false) = (&logbook, desk.is_demo()) {
        let (_, limits) = limits_in(desk.options)?;
        let going = logbook.beyond(limits, Timestamp::now())?;
        if !going.is_empty() {
            let nrs: Vec<String> = going.iter().map(|one| one.nr.to_string()).collect();
            let _ = writeln!(text, "By your limits these go when the next broadcast begins: {}.", nrs.join(", "));
        }
    }
    out::text(&text)
}

fn line(one: &Listed) -> String {
    let digest = &one.digest;
    let drawn: String = digest.slices.iter().map(|slice: &Slice| bar(*slice)).collect();
    let said = match (titled(one), digest.blamed.first()) {
        (title, None) => title,
        (title, Some(blamed)) if title.is_empty() => said(blamed, digest.blamed.len()),
        (title, Some(blamed)) => format!("{}; {title}", said(blamed, digest.blamed.len())),
    };
    let when = one.began_words();
    let long = clock(f64::from(digest.on_air_s));
    format!("{:>4}  {when}  {long:>8}  {drawn:<24}  {:>9}  {said}", one.nr, lost_words(digest)).trim_end().to_owned()
}

fn said(blamed: &Blamed, all: usize) -> String {
    let more = if all > 1 { format!(" (and {} more)", all - 1) } else { String::new() };
    format!("{}{more}", blamed_words(blamed))
}
