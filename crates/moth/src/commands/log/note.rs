//! `moth log note`: a title, or a note.

use super::Desk;
use crate::cli::log::LogNoteOptions;
use crate::failure::{Failure, Outcome};
use crate::system::out;

/// Longer ones are not taken, in characters. Ours: a page; a title is a line of the list.
pub(crate) const LONGEST_NOTE: usize = 4000;
pub(crate) const LONGEST_TITLE: usize = 80;

pub(super) fn run(desk: &Desk<'_>, options: &LogNoteOptions) -> Outcome {
    if options.note.is_none() && options.title.is_none() {
        let logbook = desk.filled()?;
        let one = logbook.listed(desk.nr(&logbook, &options.nr)?)?;
        let title = if one.title.is_empty() { "no title" } else { one.title.as_str() };
        let note = if one.note.is_empty() { "no note" } else { one.note.as_str() };
        return out::text(&format!("{title}\n{note}\n"));
    }
    let title = options.title.as_deref().map(|title| fits("title", title, LONGEST_TITLE)).transpose()?;
    let note = options.note.as_deref().map(|note| fits("note", note, LONGEST_NOTE)).transpose()?;
    desk.filled()?;
    let logbook = desk.write()?;
    let nr = desk.nr(&logbook, &options.nr)?;
    Ok(logbook.write_down(nr, title.as_deref(), note.as_deref())?)
}

/// A text without what a terminal would obey.
fn fits(what: &'static str, text: &str, longest: usize) -> Result<String, Failure> {
    let clean: String = text.chars().filter(|c| !c.is_control() || *c == '\n' && what == "note").collect();
    let long = clean.chars().count();
    if long > longest { Err(Failure::TooLong { what, long, longest }) } else { Ok(clean.trim().to_owned()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_title_is_a_line_and_a_note_may_have_several() {
        assert_eq!(fits("title", " New \u{1b}[2Jrouter\n ", 80).unwrap(), "New [2Jrouter");
        assert_eq!(fits("note", "Rain.\nCold.", 80).unwrap(), "Rain.\nCold.");
        assert!(fits("title", &"x".repeat(81), 80).is_err());
    }
}
