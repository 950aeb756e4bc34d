//! What every drawing has: a title that says what is to be seen, source and time below it, and at its foot how figures are
//! known.

use jiff::Zoned;

use crate::evening::{Evening, Stretch};
use crate::sheet::{Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::clock;

/// How wide a drawing is that stands by itself, in pixels. Ours.
const WIDTH: f64 = 1120.0;

/// The words around a drawing.
pub(crate) struct Words {
    /// What is to be seen.
    pub title: String,
    /// Of what, and when.
    pub source: String,
    /// How figures are known, what could not be seen, a sentence each.
    pub notes: Vec<String>,
}

/// A drawing that stands by itself; `body` draws from a height on and gives the height it came to.
pub(crate) fn page(theme: Theme, words: &Words, body: impl FnOnce(&mut Sheet, f64) -> f64) -> Drawing {
    let mut sheet = Sheet::new(theme, WIDTH);
    let (left, room) = (sheet.left(), sheet.room());
    let mut y = sheet.wrapped(left, 44.0, room, Writing::new(20.0, theme.ink()).bold(), &words.title);
    y = sheet.wrapped(left, y + 20.0, room, Writing::new(12.0, theme.faint()), &words.source);
    y = body(&mut sheet, y + 20.0);
    let notes = Writing::new(11.0, theme.faint());
    y += 14.0;
    for note in &words.notes {
        y = sheet.wrapped(left, y + notes.leading(), room, notes, note);
    }
    let margin = left;
    sheet.finish(y + margin, &words.title, &words.source)
}

/// A time of day with its date and offset.
pub(crate) fn date(at: &Zoned) -> String {
    at.strftime("%Y-%m-%d %H:%M:%S %:z").to_string()
}

/// A stretch of a broadcast in words: from when to when of what.
pub(crate) fn stretch(evening: &Evening, stretch: Stretch) -> String {
    let begun = evening.time(stretch.from_s).map(|at| format!(", begun {}", date(&at)));
    let (from, until) = (clock(stretch.from_s), clock(stretch.until_s));
    format!("{from} to {until} of {}{}", evening.source, begun.unwrap_or_default())
}

/// A moment of a broadcast in words.
pub(crate) fn moment(evening: &Evening, at_s: f64) -> String {
    let at = evening.time(at_s).map(|at| format!(", {}", date(&at)));
    format!("at {} of {}{}", clock(at_s), evening.source, at.unwrap_or_default())
}

/// How the figures of a broadcast are known, and what could not be seen.
pub(crate) fn how_known(evening: &Evening) -> Vec<String> {
    let measured = "measured: what was carried, queued and dropped, the round trip, the machine's load";
    let known: Vec<&str> = std::iter::once(measured).chain(evening.known.iter().map(String::as_str)).collect();
    let mut notes = vec![format!("How it is known: {}.", known.join("; "))];
    notes.extend(evening.unseen.iter().map(|what| format!("Not seen: {what}.")));
    notes
}

/// How the columns of lanes are to be read.
pub(crate) const COLUMNS: &str = "A column that holds several seconds shows the worst of them; of a quantity the highest and the \
                                  lowest. A lane that was never known is left out.";
