//! The diary: every second so far, and what happened in it.

use crate::history::{History, Mark, Second};
use crate::moment::Moment;
use crate::notice::{Notice, NoticeKind};
use crate::suspects::{Cause, Fault};
use crate::verdict::Verdict;

/// A mark's text is cut after so many characters: it may be what a stranger said. Ours.
const LONGEST_MARK: usize = 400;
/// The most marks kept; the oldest go first. A whole evening of changes is a few dozen. Ours.
const MARKS: usize = 500;

/// What is written down.
#[derive(Debug, Clone, Default)]
pub(super) struct Diary {
    history: History,
    marks: Vec<Mark>,
    /// What is odd now, and has its mark.
    noticed: Vec<NoticeKind>,
    /// What was said last to be at fault; `None` before anything was said in this broadcast.
    said: Option<(Fault, Option<Cause>)>,
    /// How long the picture stood still up to the last second, in milliseconds.
    frozen_before_ms: u64,
}

impl Diary {
    /// One that goes on then, behind these seconds; those between are not known.
    pub(super) fn going_on(before: &History, at: Moment) -> Self {
        let mut history = before.clone();
        while history.len() < at.since(Moment::START).as_secs() as usize {
            history.push(Second::default());
        }
        Self { history, ..Self::default() }
    }

    pub(super) fn history(&self) -> &History {
        &self.history
    }

    pub(super) fn marks(&self) -> &[Mark] {
        &self.marks
    }

    /// The fault that stands, as it was said last.
    pub(super) fn fault(&self) -> Fault {
        self.said.map_or(Fault::None, |(fault, _)| fault)
    }

    /// Notes what happened at `at`.
    pub(super) fn mark(&mut self, at: Moment, mut text: String, is_change: bool) {
        if let Some((end, _)) = text.char_indices().nth(LONGEST_MARK) {
            text.truncate(end);
            text.push('…');
        }
        self.marks.push(Mark { at, text, is_change });
        if self.marks.len() > MARKS {
            self.marks.remove(0);
        }
    }

    /// A second has passed.
    pub(super) fn second(&mut self, second: Second) {
        self.history.push(second);
    }

    /// How much longer the picture stood still in the second that passed, in milliseconds, where it is `total_ms` by now.
    pub(super) fn newly_frozen_ms(&mut self, total_ms: u64) -> u32 {
        let before_ms = std::mem::replace(&mut self.frozen_before_ms, total_ms);
        u32::try_from(total_ms.saturating_sub(before_ms)).unwrap_or(u32::MAX)
    }

    /// A verdict that says something else than the one before gets a mark.
    pub(super) fn judged(&mut self, at: Moment, verdict: &Verdict) {
        let (fault, cause) = (verdict.fault, verdict.cause);
        if self.said == Some((fault, cause)) {
            return;
        }
        let text = match (fault, self.said) {
            (Fault::None, None) => None,
            (Fault::None, Some((before, _))) => Some(format!("{} trouble over", before.word())),
            (fault, _) => Some(format!("{}: {}", fault.word(), cause.map_or("cause unknown", |c| c.words()))),
        };
        if let Some(text) = text {
            self.mark(at, text, false);
        }
        self.said = Some((fault, cause));
    }

    /// What newly became odd gets a mark.
    pub(super) fn noticed(&mut self, at: Moment, found: &[Notice]) {
        let before = std::mem::replace(&mut self.noticed, found.iter().map(|n| n.kind).collect());
        for notice in found.iter().filter(|n| !before.contains(&n.kind)) {
            self.mark(at, notice.text.clone(), false);
        }
    }

    /// A broadcaster came.
    pub(super) fn broadcaster_came(&mut self, at: Moment) {
        self.noticed.clear();
        self.mark(at, "the broadcaster came".into(), false);
    }

    /// It left: what was said of it is not said of the next.
    pub(super) fn broadcaster_left(&mut self, at: Moment) {
        self.noticed.clear();
        self.said = None;
        self.mark(at, "the broadcaster left".into(), false);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figure::Origin;

    fn texts(diary: &Diary) -> Vec<&str> {
        diary.marks().iter().map(|mark| mark.text.as_str()).collect()
    }

    #[test]
    fn a_strangers_text_is_cut_and_the_oldest_marks_go_first() {
        let mut diary = Diary::default();
        for n in 0..=MARKS {
            diary.mark(Moment::START, format!("{n} {}", "ö".repeat(1000)), false);
        }
        assert_eq!(diary.marks().len(), MARKS);
        assert!(diary.marks()[0].text.starts_with("1 "));
        assert!(diary.marks().iter().all(|mark| mark.text.chars().count() == LONGEST_MARK + 1));
    }

    #[test]
    fn what_is_odd_is_marked_when_it_begins_and_again_when_it_comes_back() {
        let mut diary = Diary::default();
        let odd = |kind, text: &str| Notice { kind, text: text.into(), origin: Origin::Inferred };
        let (still, slow) = (odd(NoticeKind::StillPicture, "still"), odd(NoticeKind::SlowSource, "slow"));
        let looks = [vec![still.clone()], vec![still.clone(), slow.clone()], vec![slow.clone()], vec![still, slow]];
        for found in looks {
            diary.noticed(Moment::START, &found);
        }
        assert_eq!(texts(&diary), ["still", "slow", "still"]);
    }

    #[test]
    fn each_second_has_the_time_that_the_picture_newly_stood_still() {
        let mut diary = Diary::default();
        let newly: Vec<u32> = [0, 700, 700, 1200, 100].into_iter().map(|ms| diary.newly_frozen_ms(ms)).collect();
        assert_eq!(newly, [0, 700, 0, 500, 0]);
    }
}
