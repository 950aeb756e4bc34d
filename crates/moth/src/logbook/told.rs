//! A broadcast in ten lines: how long, what was lost and when, whose fault it was, what was changed, how it compares with those before,
//! and what to do before the next.

use moth_core::figure::Origin;
use moth_core::rate::grouped;
use moth_core::sentence::capitalised;
use moth_drawing::evening::Evening;
use moth_drawing::summary;
use moth_drawing::ticks::clock;
use moth_logbook::Listed;

use crate::failure::Failure;
use crate::logbook::opened::Opened;

/// Broadcasts of the same setup that one is compared with. Ours.
const BEFORE: usize = 5;
/// Lines of each kind, so that there are ten in all. Ours.
const FAULTS: usize = 2;
const CHANGES: usize = 2;
/// A shorter broadcast is compared with none, in seconds on air. Ours.
pub(crate) const LEAST_S: u32 = 300;
/// Where less than this was lost, in percent, there is nothing to do about it: a frame in 17 s at 60/s. Ours.
const LITTLE: f64 = 0.1;

/// The broadcast in at most ten lines.
///
/// # Errors
/// [`Failure`] if the logbook cannot be read.
pub fn lines(opened: &Opened) -> Result<Vec<String>, Failure> {
    let (listed, evening) = (&opened.listed, opened.evening(None));
    let mut lines = vec![heading(opened, &evening)];
    if listed.digest.lost.due == 0 {
        lines.push("No frame was due: there is nothing to tell of it.".into());
        return Ok(lines);
    }
    // The first line is what, the others when and for how long.
    let losses = summary::losses(&evening);
    let what = losses.iter().take(2).cloned().chain(origins(opened));
    lines.push(what.collect::<Vec<_>>().join(" "));
    if losses.len() > 2 {
        lines.push(losses[2..].join(" "));
    }
    lines.extend(some(summary::faults(&evening), FAULTS, "at fault"));
    lines.extend(some(summary::changes(&evening), CHANGES, "changed"));
    lines.extend(keeper(opened));
    if listed.digest.on_air_s >= LEAST_S {
        lines.extend(compared(listed, &opened.before(BEFORE)?));
    }
    if !opened.goes_on {
        lines.push(next(opened, &evening));
    }
    Ok(lines)
}

/// How the counts are known: dropped frames the moth counts itself.
fn origins(opened: &Opened) -> Option<String> {
    let told = match opened.origins().map(|(kind, origin)| (kind, origin.map(Origin::word))) {
        [(_, None), (_, None)] => return None,
        [(one, Some(word)), (other, same)] if same == Some(word) => format!("{one} and {other} ones {word}"),
        each => each
            .into_iter()
            .filter_map(|(kind, word)| Some(format!("{kind} ones {}", word?)))
            .collect::<Vec<_>>()
            .join(", "),
    };
    Some(format!("Dropped frames are measured, {told}."))
}

/// The first of several, and how many more there are.
fn some(mut all: Vec<String>, most: usize, what: &str) -> Vec<String> {
    let more = all.len().saturating_sub(most);
    all.truncate(most);
    if let (Some(last), true) = (all.last_mut(), more > 0) {
        last.push_str(&format!(" ({more} more {what})"));
    }
    all
}

fn heading(opened: &Opened, evening: &Evening) -> String {
    let listed = &opened.listed;
    let title = if listed.title.is_empty() { String::new() } else { format!(" \u{201c}{}\u{201d}", listed.title) };
    let made_up = if listed.about.is_made_up { ", all made up" } else { "" };
    let kind = listed.about.kind.word();
    let to = if evening.server.is_empty() { String::new() } else { format!(" to {}", evening.server) };
    let setup = if listed.about.setup.is_empty() { String::new() } else { format!(", setup {}", listed.about.setup) };
    let asked = listed
        .digest
        .asked_kbps
        .map_or_else(String::new, |kbps| format!(", {} kb/s offered", grouped(kbps.max(0.0).round() as u64)));
    let broke_off = match (opened.goes_on, opened.broke_off) {
        (true, _) => "; it goes on",
        (_, true) => "; it broke off",
        _ => "",
    };
    format!(
        "{} {}{title}, {}: {} on air{to}{asked}{setup}{made_up}{broke_off}.",
        capitalised(kind),
        listed.nr,
        listed.began_words(),
        clock(f64::from(listed.digest.on_air_s)),
    )
}

/// What the automatic bitrate did, if it did anything.
fn keeper(opened: &Opened) -> Option<String> {
    let marks = opened.chronicle().marks();
    let moved = marks.iter().filter(|mark| mark.text.starts_with("keeper, to ")).count();
    let advised = marks.iter().filter(|mark| mark.text.starts_with("keeper advises ")).count();
    let times = |count: usize| if count == 1 { "once".to_owned() } else { format!("{count} times") };
    match (moved, advised) {
        (0, 0) => None,
        (0, advised) => Some(format!("The keeper advised another bitrate {}.", times(advised))),
        (moved, _) => Some(format!("The keeper moved the bitrate {}.", times(moved))),
    }
}

/// How it compares with those before it; `None` if there is none.
fn compared(listed: &Listed, before: &[Listed]) -> Option<String> {
    let this = listed.digest.lost_percent()?;
    let mut shares: Vec<f64> = before.iter().filter_map(|one| one.digest.lost_percent()).collect();
    shares.sort_unstable_by(f64::total_cmp);
    let (least, most) = (*shares.first()?, *shares.last()?);
    let better = shares.iter().filter(|share| this < **share).count();
    let of = match shares.len() {
        1 => format!("the evening of this setup before it lost {least:.2} %"),
        many => {
            format!("the {many} evenings of this setup before it lost {least:.2} to {most:.2} %, {better} of them more")
        }
    };
    Some(format!("It lost {this:.2} % of its frames; {of}."))
}

/// What to do before the next.
fn next(opened: &Opened, evening: &Evening) -> String {
    let whole = evening.whole();
    let lost = opened.listed.digest.lost_percent().unwrap_or(0.0);
    match evening.longest_verdict(whole) {
        _ if lost < LITTLE && opened.listed.digest.in_state_s[3] == 0 => {
            "Before the next: nothing needs to be done.".into()
        }
        None => "Before the next: nothing was lost for long enough to say what to do.".into(),
        Some(stood) => match opened.proposed_at(stood.surest_s) {
            Some(proposal) => {
                format!("Before the next: {proposal}; that was the best there was to do against {}.", against(stood))
            }
            None => format!("Before the next: see to this: {}.", stood.cause_words()),
        },
    }
}

fn against(stood: &moth_drawing::evening::Stood) -> String {
    match stood.cause {
        Some(cause) => format!("what stood longest, {}", cause.words()),
        None => format!("what stood longest, the {} at fault", stood.fault.word()),
    }
}
