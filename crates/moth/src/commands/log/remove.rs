//! `moth log remove` and `moth log limits`: what goes is shown first.

use std::fmt::Write;

use jiff::Timestamp;
use moth_logbook::Listed;
use moth_logbook::about::Wanted;
use moth_logbook::thinning::{AFTER_DAYS, Limits};
use serde::Serialize;

use super::Desk;
use super::list::Row;
use crate::cli::log::{LogLimitsOptions, LogRemoveOptions};
use crate::failure::{Failure, Outcome};
use crate::logbook::plan;
use crate::logbook::row::{lost_words, size, taken};
use crate::system::out;

pub(super) fn run(desk: &Desk<'_>, options: &LogRemoveOptions) -> Result<bool, Failure> {
    let mut logbook = desk.filled()?;
    let now = Timestamp::now();
    let limits =
        Limits { days: options.older_than, bytes: options.beyond.map(|megabytes| u64::from(megabytes) * 1_000_000) };
    let going: Vec<Listed> = if options.nrs.is_empty() {
        logbook.beyond(limits, now)?
    } else {
        let mut nrs = options.nrs.iter().map(|given| desk.nr(&logbook, given)).collect::<Result<Vec<_>, _>>()?;
        nrs.sort_unstable();
        nrs.dedup();
        nrs.into_iter().map(|nr| logbook.listed(nr)).collect::<Result<_, _>>()?
    };
    if going.is_empty() {
        out::text("nothing is to be removed\n")?;
        return Ok(true);
    }
    let mut shown = String::from("This removes for good:\n");
    going.iter().for_each(|one| shown.push_str(&line(one)));
    if !options.yes {
        match out::agreed(&shown)? {
            None => return Err(Failure::NotAgreed { what: shown.trim_end().to_owned() }),
            Some(false) => {
                out::text("nothing was removed\n")?;
                return Ok(false);
            }
            Some(true) => {}
        }
    }
    drop(logbook);
    logbook = desk.write()?;
    logbook.remove(&going.iter().map(|one| one.nr).collect::<Vec<_>>(), now)?;
    let bytes = going.iter().map(|one| one.bytes).sum();
    out::text(&format!("removed: {} took {}\n", count(going.len()), size(bytes)))?;
    Ok(true)
}

fn count(broadcasts: usize) -> String {
    if broadcasts == 1 { "1 broadcast".into() } else { format!("{broadcasts} broadcasts") }
}

fn line(one: &Listed) -> String {
    let title = if one.title.is_empty() { String::new() } else { format!("  {}", one.title) };
    let when = one.began_words();
    format!("{:>4}  {when}  {:>9}  {:>8}{title}\n", one.nr, lost_words(&one.digest), size(one.bytes))
}

#[derive(Debug, Serialize)]
struct Kept<'a> {
    days: Option<u32>,
    bytes: Option<u64>,
    thinned_after_days: i64,
    broadcasts: usize,
    taken_bytes: u64,
    going: Vec<Row<'a>>,
}

pub(super) fn limits(desk: &Desk<'_>, options: &LogLimitsOptions) -> Outcome {
    let (file, limits) = plan::limits_in(desk.options)?;
    let logbook = desk.read()?;
    let all = logbook.as_ref().map_or_else(|| Ok(Vec::new()), |logbook| logbook.list(&Wanted::default()))?;
    let going = logbook.as_ref().map_or_else(|| Ok(Vec::new()), |logbook| logbook.beyond(limits, Timestamp::now()))?;
    let taken_bytes = all.iter().map(|one| one.bytes).sum();
    if options.json {
        return out::json(&Kept {
            days: limits.days,
            bytes: limits.bytes,
            thinned_after_days: AFTER_DAYS,
            broadcasts: all.len(),
            taken_bytes,
            going: going.iter().map(Row::from).collect(),
        });
    }
    let mut text = format!("{} In {}.\n", taken(all.len(), taken_bytes), desk.path().display());
    let days = limits.days.map_or_else(|| "none goes for its age".into(), |days| format!("they go after {days} days"));
    let bytes = limits
        .bytes
        .map_or_else(|| "none goes for its size".into(), |bytes| format!("the oldest go beyond {}", size(bytes)));
    let _ = writeln!(
        text,
        "After {AFTER_DAYS} days they are thinned, and keep every loss and every extreme; {days}; {bytes}."
    );
    let _ = writeln!(text, "The limits are `days` and `megabytes` under [logbook] in {}.", file.display());
    if !going.is_empty() {
        text.push_str("When the next broadcast begins, these go:\n");
        going.iter().for_each(|one| text.push_str(&line(one)));
    }
    out::text(&text)
}
