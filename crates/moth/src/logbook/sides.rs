//! What is compared with what: two broadcasts, or two parts of one.

use moth_core::history::Second;
use moth_drawing::ticks::clock;
use moth_evening::comparison::Called;

use crate::logbook::opened::Opened;

/// A part of a broadcast, in seconds of its clock: from this until before that.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part {
    /// The first second.
    pub from: usize,
    /// The one behind the last.
    pub until: usize,
}

/// A part with nothing in it, of a broadcast so long.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NoPart {
    /// In seconds.
    pub length: usize,
}

impl Part {
    /// All of it, or what lies between two times.
    ///
    /// # Errors
    /// [`NoPart`] if there is nothing between them.
    pub fn of(seconds: &[Second], span: Option<(f64, f64)>) -> Result<Self, NoPart> {
        let length = seconds.len();
        let Some((from_s, until_s)) = span else { return Ok(Self { from: 0, until: length }) };
        let at = |time_s: f64| (time_s.max(0.0) as usize).min(length);
        let part = Self { from: at(from_s), until: at(until_s) };
        if part.from < part.until { Ok(part) } else { Err(NoPart { length }) }
    }

    /// Its seconds.
    #[must_use]
    pub fn cut<'a>(&self, seconds: &'a [Second]) -> &'a [Second] {
        let until = self.until.min(seconds.len());
        &seconds[self.from.min(until)..until]
    }
}

/// Two sides, and what they are called.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sides {
    /// Of the first broadcast, and of the second.
    pub parts: [Part; 2],
    /// Where each is from, in words.
    pub words: [String; 2],
    called: [String; 2],
    /// How it is known what was skipped and lagged, where it is on both sides.
    pub origins: Vec<String>,
}

impl Sides {
    /// Before and after a moment of a broadcast, as long as both are.
    ///
    /// # Errors
    /// [`NoPart`] if that is not within it.
    pub fn around(opened: &Opened, at_s: f64) -> Result<Self, NoPart> {
        let parts = around(&opened.seconds, at_s)?;
        let at = clock(at_s);
        let words = |when: &str, part: Part| format!("{}, {when} {at}: {}", name(opened), span(part));
        Ok(Self {
            parts,
            words: [words("before", parts[0]), words("after", parts[1])],
            called: [format!("the time before {at}"), format!("the time after {at}")],
            origins: origins(opened, opened),
        })
    }

    /// Two parts, of two broadcasts or of one.
    #[must_use]
    pub fn of(first: &Opened, part: Part, second: &Opened, other: Part) -> Self {
        let is_one = first.listed.nr == second.listed.nr;
        let words = |opened: &Opened, part: Part| format!("{}: {}", name(opened), span(part));
        let called = |opened: &Opened, part: Part| if is_one { span(part) } else { short(opened) };
        Self {
            parts: [part, other],
            words: [words(first, part), words(second, other)],
            called: [called(first, part), called(second, other)],
            origins: origins(first, second),
        }
    }

    /// What they are called in sentences.
    #[must_use]
    pub fn called(&self) -> Called<'_> {
        Called { first: &self.called[0], second: &self.called[1] }
    }
}

/// Counts that are known in two ways are not quite on equal terms.
fn origins(first: &Opened, second: &Opened) -> Vec<String> {
    let both = first.origins().into_iter().zip(second.origins());
    let told = both.filter_map(|((kind, here), (_, there))| {
        let (here, there) = (here?.word(), there?.word());
        Some(if here == there {
            format!("{kind} frames are {here}")
        } else {
            format!("{kind} frames are {here} in A and {there} in B")
        })
    });
    told.collect()
}

/// The parts before and after a moment: from the first second on air, to the last, and no longer than the shorter.
fn around(seconds: &[Second], at_s: f64) -> Result<[Part; 2], NoPart> {
    let is_on_air = |second: &Second| second.state.is_some();
    let first = seconds.iter().position(is_on_air).unwrap_or(0);
    let end = seconds.iter().rposition(is_on_air).map_or(0, |last| last + 1);
    let at = at_s.max(0.0) as usize;
    if at <= first || at >= end {
        return Err(NoPart { length: seconds.len() });
    }
    let long = (at - first).min(end - at);
    Ok([Part { from: at - long, until: at }, Part { from: at, until: at + long }])
}

fn span(part: Part) -> String {
    format!("{} to {}", clock(part.from as f64), clock(part.until as f64))
}

fn short(opened: &Opened) -> String {
    let title = &opened.listed.title;
    let kind = opened.listed.about.kind.word();
    if title.is_empty() { format!("{kind} {}", opened.listed.nr) } else { format!("\u{201c}{title}\u{201d}") }
}

fn name(opened: &Opened) -> String {
    let title = &opened.listed.title;
    let title = if title.is_empty() { String::new() } else { format!(" \u{201c}{title}\u{201d}") };
    let when = opened.listed.began_words();
    format!("{} {}{title}, {when}", opened.listed.about.kind.word(), opened.listed.nr)
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::State;

    #[test]
    fn before_and_after_are_as_long_and_on_air() {
        let mut seconds = vec![Second::default(); 100];
        seconds.extend([Second { state: Some(State::Steady), ..Second::default() }; 1000]);
        seconds.extend([Second::default(); 50]);
        let parts = |at_s| around(&seconds, at_s).map(|parts| parts.map(|part| (part.from, part.until)));
        assert_eq!(parts(400.0), Ok([(100, 400), (400, 700)]));
        assert_eq!(parts(900.5), Ok([(700, 900), (900, 1100)]));
        assert_eq!(parts(100.0), Err(NoPart { length: 1150 }));
        assert_eq!(parts(1100.0), Err(NoPart { length: 1150 }));
        assert_eq!(Part::of(&seconds, Some((10.0, 2000.0))), Ok(Part { from: 10, until: 1150 }));
        assert_eq!(Part::of(&seconds, Some((1150.0, 2000.0))), Err(NoPart { length: 1150 }));
    }
}
