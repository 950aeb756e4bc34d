//! A broadcast in words: what was lost, when, whose fault it was, how sure that is, and what changes did.

use moth_core::State;
use moth_core::history::Second;
use moth_core::suspects::{Cause, Evidence, Fault};
use moth_plan::measurement::quantile;

use crate::evening::{Evening, Lost, Stood, Stretch};
use crate::lanes;
use crate::ticks::{clock, number};

/// Losses that are no further apart are one stretch, in seconds. Ours.
const APART: usize = 10;

/// What was lost, and when.
#[must_use]
pub fn losses(evening: &Evening) -> Vec<String> {
    let lost = Lost::of(&evening.seconds);
    let mut said = vec![format!("{}.", lanes::title(&lost))];
    let is_unknown = |of: fn(&Second) -> Option<u32>| evening.seconds.iter().all(|second| of(second).is_none());
    let kinds = [("skipped", is_unknown(|s| s.skipped)), ("lagged", is_unknown(|s| s.lagged))];
    let unknown: Vec<&str> = kinds.iter().filter(|(_, unknown)| *unknown).map(|(kind, _)| *kind).collect();
    if !unknown.is_empty() && lost.due > 0 {
        said.push(format!("Whether frames were {} is not known.", unknown.join(" or ")));
    }
    if let Some((from, frames)) = worst_minute(&evening.seconds) {
        let at = when(evening, from as f64);
        said.push(format!("The worst minute began at {at}: {} in it.", were_lost(frames)));
    }
    let still: u64 = evening.seconds.iter().filter_map(|s| s.frozen_ms).map(u64::from).sum();
    if let Some(longest) = evening.seconds.iter().filter_map(|s| s.frozen_ms).max().filter(|ms| *ms > 0) {
        said.push(format!(
            "For viewers the picture stood still for {:.1} s in all, for {} ms at the longest.",
            still as f64 / 1000.0,
            number(f64::from(longest))
        ));
    }
    let dark = evening.seconds.iter().filter(|s| s.state == Some(State::Dark)).count();
    if dark > 0 {
        said.push(format!("For {} no server took the broadcast.", clock(dark as f64)));
    }
    said
}

/// The minute in which most was lost, from its first second; `None` if nothing was, or less than a minute is known.
fn worst_minute(seconds: &[Second]) -> Option<(usize, u64)> {
    const MINUTE: usize = 60;
    let lost: Vec<u64> = seconds.iter().map(|second| Lost::of(std::slice::from_ref(second)).all()).collect();
    let minutes = lost.windows(MINUTE).enumerate().map(|(from, minute)| (from, minute.iter().sum::<u64>()));
    // Of minutes that hold as much the last, which begins with the trouble and not before it.
    minutes.max_by_key(|(_, frames)| *frames).filter(|(_, frames)| *frames > 0)
}

/// Whose fault it was, and how sure that is.
#[must_use]
pub fn faults(evening: &Evening) -> Vec<String> {
    let mut said = Vec::new();
    for fault in [Fault::Network, Fault::Encoder, Fault::Rendering] {
        let stood: Vec<&Stood> = evening.verdicts.iter().filter(|stood| stood.fault == fault).collect();
        let Some(surest) = stood.iter().max_by(|a, b| a.confidence.total_cmp(&b.confidence)) else { continue };
        let length: f64 = stood.iter().map(|stood| stood.until_s - stood.from_s).sum();
        let times = if stood.len() == 1 { "once".to_owned() } else { format!("{} times", stood.len()) };
        said.push(format!(
            "The {} was at fault {times}, for {} in all; at its surest, at {}: {} ({:.0} % sure).",
            fault.word(),
            clock(length),
            when(evening, surest.surest_s),
            surest.cause_words(),
            surest.confidence * 100.0
        ));
    }
    // What was at fault beside a verdict, and never had one of its own.
    for fault in [Fault::Network, Fault::Encoder, Fault::Rendering] {
        let has_its_own = evening.verdicts.iter().any(|stood| stood.fault == fault);
        let beside = evening.verdicts.iter().flat_map(|stood| &stood.also).filter(|(also, _)| *also == fault);
        let causes: Vec<&str> =
            beside.map(|(_, cause)| cause.map_or("what in it is not clear", Cause::words)).collect();
        if let (Some(last), false) = (causes.last(), has_its_own) {
            said.push(format!("Meanwhile the {} was at fault as well: {last}.", fault.word()));
        }
    }
    if said.is_empty() {
        let lost = Lost::of(&evening.seconds).all();
        said.push(if lost == 0 {
            "No stage was at fault.".into()
        } else {
            "No stage was held at fault: too little was lost at a time.".to_owned()
        });
    }
    said
}

/// What was changed, and what that did.
#[must_use]
pub fn changes(evening: &Evening) -> Vec<String> {
    if evening.changes.is_empty() && evening.trials.is_empty() {
        return vec!["Nothing was changed.".into()];
    }
    let mut said: Vec<(f64, String)> = Vec::new();
    for trial in &evening.trials {
        let at = trial.since.seconds();
        said.push((at, format!("At {}: {} ({}). {}", when(evening, at), trial.title, trial.words(), trial.sentence)));
    }
    for change in &evening.changes {
        if evening.trial_of(change).is_none() {
            said.push((
                change.at_s,
                format!("At {}: {}.", when(evening, change.at_s), change.what.trim_end_matches('.')),
            ));
        }
    }
    said.sort_by(|a, b| a.0.total_cmp(&b.0));
    said.into_iter().map(|(_, said)| said).collect()
}

/// A round trip in milliseconds: within one machine it is less than one.
fn trip(ms: f64) -> String {
    if ms < 0.5 { "under 1 ms".into() } else { format!("{} ms", number(ms.round())) }
}

/// So many frames, as the beginning of a sentence about them.
fn were_lost(frames: u64) -> String {
    match frames {
        1 => "1 frame was lost".into(),
        more => format!("{} frames were lost", number(more as f64)),
    }
}

/// A time of day if it is known, else the time since the beginning.
pub(crate) fn when(evening: &Evening, at_s: f64) -> String {
    match evening.time(at_s) {
        Some(at) => at.strftime("%H:%M:%S").to_string(),
        None => format!("{} after the beginning", clock(at_s)),
    }
}

/// Stretches in which frames were dropped or no server took the broadcast, in seconds since the beginning.
fn bad_stretches(seconds: &[Second]) -> Vec<(usize, usize)> {
    let is_bad = |second: &Second| second.dropped.is_some_and(|n| n > 0) || second.state == Some(State::Dark);
    let mut stretches: Vec<(usize, usize)> = Vec::new();
    for (n, _) in seconds.iter().enumerate().filter(|(_, second)| is_bad(second)) {
        match stretches.last_mut() {
            Some((_, until)) if n <= *until + APART => *until = n + 1,
            _ => stretches.push((n, n + 1)),
        }
    }
    stretches
}

/// Three sentences for whoever runs the line or the server, with figures that they can check.
pub(crate) fn for_the_provider(evening: &Evening) -> [String; 3] {
    let lost = Lost::of(&evening.seconds);
    let bad = bad_stretches(&evening.seconds);
    let span = match (evening.time(0.0), evening.time(evening.whole().until_s)) {
        (Some(from), Some(until)) => {
            format!(
                "On {} from {} to {}",
                from.strftime("%Y-%m-%d"),
                from.strftime("%H:%M:%S"),
                until.strftime("%H:%M:%S %:z")
            )
        }
        _ => format!("In {}", clock(evening.whole().until_s)),
    };
    let to = if evening.server.is_empty() { "an ingest server" } else { evening.server.as_str() };
    let (is_bad, rest): (Vec<_>, Vec<_>) = evening
        .seconds
        .iter()
        .enumerate()
        .filter(|(_, second)| second.state.is_some())
        .partition(|(n, _)| bad.iter().any(|(from, until)| (from..until).contains(&n)));
    let rates = |seconds: &[(usize, &Second)], of: fn(&Second) -> Option<f32>| sorted(seconds, of);
    let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len().max(1) as f64;
    let whole = |value: f64| number(value.round());
    if bad.is_empty() {
        let (sent, trips) = (rates(&rest, |s| s.sent_kbps), rates(&rest, |s| s.rtt_ms));
        let second = match (sent.is_empty(), trips.is_empty()) {
            (true, _) => "How much was carried is not known.".to_owned(),
            (false, true) => format!("{} kb/s were acknowledged on the mean.", whole(mean(&sent))),
            (false, false) => format!(
                "{} kb/s were acknowledged on the mean; the round trip was {} at the median and {} at most.",
                whole(mean(&sent)),
                trip(quantile(&trips, 0.5)),
                trip(quantile(&trips, 1.0))
            ),
        };
        let third = match (lost.skipped, lost.lagged) {
            (0, 0) => "Nothing was lost before the line either, as far as was known.".to_owned(),
            (skipped, lagged) => format!(
                "On the broadcaster's own side, {} by the encoder and {} by the rendering: line and server had no part in that.",
                were_lost(skipped),
                number(lagged as f64)
            ),
        };
        // Frames that were skipped were due and never encoded.
        let encoded = number(lost.due.saturating_sub(lost.skipped) as f64);
        let first = format!("{span} a live broadcast went to {to}; of its {encoded} video frames none was dropped.");
        return [first, second, third];
    }
    let (from, until) = bad[0];
    let stretches = match bad.len() {
        1 => format!("from {} to {}", when(evening, from as f64), when(evening, until as f64)),
        more => format!(
            "in {more} stretches, the first from {} to {}",
            when(evening, from as f64),
            when(evening, until as f64)
        ),
    };
    let first = if lost.dropped == 0 {
        format!(
            "{span} a live broadcast went to {to}; {stretches}, no server took it. No video frame was dropped for that."
        )
    } else {
        format!(
            "{span} a live broadcast went to {to}; {stretches}, {} of {} video frames ({:.1} %) could not be delivered in time and \
             were dropped.",
            number(lost.dropped as f64),
            number(lost.due as f64),
            lost.percent(lost.dropped)
        )
    };
    let (inside, outside) = (rates(&is_bad, |s| s.sent_kbps), rates(&rest, |s| s.sent_kbps));
    let asked = rates(&is_bad, |s| s.asked_kbps);
    let mut second = match inside.first() {
        None => "How much was carried there is not known".to_owned(),
        Some(least) => format!(
            "There {} kb/s were acknowledged on the mean and {} kb/s in the lowest second{}",
            whole(mean(&inside)),
            whole(*least),
            if asked.is_empty() {
                String::new()
            } else {
                format!(", of {} kb/s that were offered", whole(mean(&asked)))
            }
        ),
    };
    let asked_outside = rates(&rest, |s| s.asked_kbps);
    if !outside.is_empty() {
        second.push_str(&format!("; in the rest of the broadcast it was {} kb/s", whole(mean(&outside))));
        // Behind an outage more is carried than is asked meanwhile, which says nothing.
        if !asked_outside.is_empty() && mean(&outside) < mean(&asked_outside) * 0.97 {
            second.push_str(&format!(" of {} kb/s", whole(mean(&asked_outside))));
        }
    }
    let (trips, calm) = (rates(&is_bad, |s| s.rtt_ms), rates(&rest, |s| s.rtt_ms));
    if !trips.is_empty() && !calm.is_empty() {
        second.push_str(&format!(
            "; the round trip was {} at the median and {} at most, against {} at the median of the rest",
            trip(quantile(&trips, 0.5)),
            trip(quantile(&trips, 1.0)),
            trip(quantile(&calm, 0.5))
        ));
    }
    second.push('.');
    let whole_evening = Stretch { from_s: 0.0, until_s: f64::INFINITY };
    let network = evening.verdicts_in(whole_evening).filter(|stood| stood.fault == Fault::Network);
    let longest = network.max_by(|a, b| (a.until_s - a.from_s).total_cmp(&(b.until_s - b.from_s)));
    let third = match longest {
        None => "What in the network is at fault could not be told.".to_owned(),
        Some(stood) => {
            let signs: Vec<&Evidence> =
                stood.evidence.iter().filter(|sign| sign.bans > 0.0 && sign.origin.is_some()).take(3).collect();
            let seen: Vec<&str> = signs.iter().map(|sign| sign.text.as_str()).collect();
            let cause = stood.cause_words();
            let at = when(evening, stood.surest_s);
            if seen.is_empty() {
                format!("At {at} the likeliest cause was: {cause} ({:.0} % sure).", stood.confidence * 100.0)
            } else {
                format!(
                    "At {at} the likeliest cause was: {cause} ({:.0} % sure), as this was seen: {}.",
                    stood.confidence * 100.0,
                    seen.join("; ")
                )
            }
        }
    };
    [first, second, third]
}

fn sorted(seconds: &[(usize, &Second)], of: fn(&Second) -> Option<f32>) -> Vec<f64> {
    let mut values: Vec<f64> =
        seconds.iter().filter_map(|(_, second)| of(second)).filter(|v| v.is_finite()).map(f64::from).collect();
    values.sort_unstable_by(f64::total_cmp);
    values
}
