//! The suspects of a stage: each with the figure that says most of it on the time axis of the loss it would explain, and the
//! evidence for and against it.

use moth_core::history::Second;
use moth_core::sentence::capitalised;
use moth_core::signal::{Figured, Scale, Signal};
use moth_core::suspects::{Cause, Evidence, Fault, Weighed};

use crate::evening::{Evening, Standing, Stood, Stretch};
use crate::lane::{self, GAP, Lane};
use crate::page::{self, Words, page};
use crate::sheet::{Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::clock;
use crate::time::Time;

/// Beside what lanes leave for their names: suspects' are longer.
const MORE: f64 = 165.0;
/// Signs told of the likeliest suspect, and of each other.
const SIGNS: (usize, usize) = (6, 2);
/// A sign that weighs less is not told: it makes a suspect 1.1 times likelier.
const LEAST_BANS: f64 = 0.05;
/// Before and behind a verdict, in seconds. Ours.
const AROUND_S: f64 = 20.0;

/// What is asked about.
pub(crate) struct Question<'a> {
    pub fault: Fault,
    /// Whether the stage was at fault: then the suspects have shares.
    pub is_at_fault: bool,
    pub sentence: String,
    pub weighed: &'a [Weighed],
    pub would_change: &'a str,
}

impl<'a> Question<'a> {
    /// About a verdict, when it was surest.
    pub(crate) fn of(stood: &'a Stood) -> Self {
        Self {
            fault: stood.fault,
            is_at_fault: true,
            sentence: stood.sentence.clone(),
            weighed: &stood.weighed,
            would_change: &stood.would_change,
        }
    }

    /// About a stage that loses nothing at a moment.
    pub(crate) fn about(standing: &'a Standing, fault: Fault) -> Self {
        let found = standing.weighed.iter().find(|(stage, _)| *stage == fault);
        Self {
            fault,
            is_at_fault: false,
            sentence: "Nothing is lost here now. Below is what would be weighed if it were, and what speaks for and against each."
                .into(),
            weighed: found.map_or(&[], |(_, weighed)| weighed.as_slice()),
            would_change: "",
        }
    }
}

/// A verdict's stretch, with a little before and behind it.
#[must_use]
pub fn around(evening: &Evening, stood: &Stood) -> Stretch {
    let whole = evening.whole();
    Stretch {
        from_s: (stood.from_s - AROUND_S).max(0.0).floor(),
        until_s: (stood.until_s + AROUND_S).min(whole.until_s).ceil(),
    }
}

/// Draws the suspects of a verdict over a stretch.
#[must_use]
pub fn draw(evening: &Evening, stood: &Stood, stretch: Stretch, theme: Theme) -> Drawing {
    let (fault, cause) = (capitalised(stood.fault.word()), stood.cause_words());
    let title = format!("{fault}: {cause}, {:.0} % sure", stood.confidence * 100.0);
    let length = stood.until_s - stood.from_s;
    let stood_for = if length >= 1.0 { format!("; the verdict stood for {}", clock(length)) } else { String::new() };
    let source = format!("{}{stood_for}", page::moment(evening, stood.surest_s));
    finish(evening, &Question::of(stood), stretch, (title, source), theme)
}

/// Draws what would be weighed of a stage that loses nothing at a moment.
#[must_use]
pub fn draw_calm(evening: &Evening, standing: &Standing, fault: Fault, stretch: Stretch, theme: Theme) -> Drawing {
    let title = format!("{}: nothing is lost", capitalised(fault.word()));
    let source = page::moment(evening, standing.at_s);
    finish(evening, &Question::about(standing, fault), stretch, (title, source), theme)
}

fn finish(
    evening: &Evening,
    question: &Question<'_>,
    stretch: Stretch,
    (title, source): (String, String),
    theme: Theme,
) -> Drawing {
    let mut notes = page::how_known(evening);
    notes.insert(
        1,
        "A suspect's share is how likely it is among those of its stage. ▪ to ▪▪▪ is how much a sign weighs, for or against it: \
         three make it about thirty times likelier, or less likely."
            .into(),
    );
    let words = Words { title, source, notes };
    page(theme, &words, |sheet, y| body(sheet, y, evening, question, stretch, usize::MAX))
}

/// The sentence, the lanes of so many suspects, and the evidence on them; gives where it ends.
pub(crate) fn body(
    sheet: &mut Sheet,
    mut y: f64,
    evening: &Evening,
    question: &Question<'_>,
    stretch: Stretch,
    most: usize,
) -> f64 {
    let theme = sheet.theme;
    let (left, room) = (sheet.left(), sheet.room());
    let plain = Writing::new(13.0, theme.ink());
    y = sheet.wrapped(left, y + 8.0, room, plain, &question.sentence) + 20.0;
    let time = Time::of(evening, stretch, sheet, MORE);
    let top = y;
    let loss = Lane::losses(question.fault);
    if loss.is_known(time.seconds) {
        y = lane::draw_named(sheet, y, &time, &loss) + GAP;
    }
    // Round trips share a scale: it is each against the others that tells where the queue stands.
    let ways: [fn(&Second) -> Option<f32>; 3] = [|s| s.rtt_ms, |s| s.gateway_ms, |s| s.other_ms];
    let longest = ways.into_iter().flat_map(|way| time.seconds.iter().filter_map(way)).fold(20.0, f32::max);
    let way_top = crate::ticks::top(f64::from(longest));
    for (n, weighed) in question.weighed.iter().take(most).enumerate() {
        let lane = lane_of(weighed.cause, way_top);
        name(sheet, y + lane.height, &time, weighed, (n == 0 && question.is_at_fault, question.is_at_fault), &lane);
        if lane.is_known(time.seconds) {
            y = lane::draw(sheet, y, &time, &lane) + GAP;
        } else {
            let faint = Writing::new(10.5, theme.faint());
            sheet.text(time.left + 6.0, y + lane.height - 4.0, faint, "never known here");
            y += lane.height + GAP;
        }
    }
    y = time.axis(sheet, y - GAP / 2.0, top) + 10.0;
    let heading = Writing::new(12.0, theme.ink()).bold();
    for (n, weighed) in question.weighed.iter().take(most).enumerate() {
        let signs: Vec<&Evidence> = weighed.evidence.iter().filter(|sign| sign.bans.abs() >= LEAST_BANS).collect();
        if signs.is_empty() {
            continue;
        }
        sheet.text(left, y + 18.0, heading, &capitalised(weighed.cause.words()));
        y += 18.0;
        for sign in signs.into_iter().take(if n == 0 { SIGNS.0 } else { SIGNS.1 }) {
            y = draw_sign(sheet, y + 16.0, sign);
        }
        y += 4.0;
    }
    if !question.would_change.is_empty() {
        y = sheet.wrapped(left, y + 20.0, room, Writing::new(12.0, theme.faint()), question.would_change);
    }
    y
}

/// A sign: for or against, how much it weighs, in words, and how it is known. Gives its last baseline.
fn draw_sign(sheet: &mut Sheet, y: f64, sign: &Evidence) -> f64 {
    let theme = sheet.theme;
    let (left, faint) = (sheet.left(), Writing::new(11.0, theme.faint()));
    // Three marks are a sign that makes it about thirty times likelier, or less likely.
    let marks = "▪".repeat((sign.bans.abs() / 0.5).ceil().clamp(1.0, 3.0) as usize);
    let word = if sign.bans >= 0.0 { "for" } else { "against" };
    sheet.text(left + 12.0, y, faint, word);
    sheet.text(left + 62.0, y, Writing::new(11.0, theme.ink()), &marks);
    let origin = sign.origin.map_or(String::new(), |origin| format!(" ({})", origin.word()));
    sheet.wrapped(
        left + 96.0,
        y,
        sheet.room() - 96.0,
        Writing::new(12.0, theme.ink()),
        &format!("{}{origin}", sign.text),
    )
}

/// A suspect's name and share before its lane, and below it what the lane shows.
fn name(
    sheet: &mut Sheet,
    foot: f64,
    time: &Time<'_>,
    weighed: &Weighed,
    (is_first, has_share): (bool, bool),
    lane: &Lane,
) {
    let theme = sheet.theme;
    let room = time.left - sheet.left() - 46.0;
    let name = Writing { is_bold: is_first, ..Writing::new(12.0, theme.ink()) };
    let share = if has_share { format!("{:.0} %  ", (weighed.share * 100.0).min(99.0)) } else { String::new() };
    sheet.text(sheet.left(), foot - 16.0, name, &name.fit(&format!("{share}{}", weighed.cause.words()), room));
    let below = Writing::new(10.5, theme.faint());
    let unit = if lane.unit.is_empty() { String::new() } else { format!(", {}", lane.unit) };
    sheet.text(sheet.left(), foot - 2.0, below, &below.fit(&format!("{}{unit}", lane.name), room));
}

/// What says most of a cause, along time. Round trips share a scale, up to `way_top` milliseconds.
fn lane_of(cause: Cause, way_top: f64) -> Lane {
    const HEIGHT: f64 = 34.0;
    match cause.signal() {
        Signal::Figure(Figured { name, unit, value, scale, .. }) => {
            let top = match scale {
                Scale::Highest => None,
                Scale::UpTo(top) => Some(f64::from(top)),
                Scale::RoundTrips => Some(way_top),
            };
            Lane::quantity(name, unit, value, top, HEIGHT)
        }
        Signal::Carried => Lane::carried(50.0),
        Signal::Connection => Lane { height: HEIGHT, ..Lane::state() },
    }
}
