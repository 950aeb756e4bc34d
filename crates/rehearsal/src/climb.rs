//! A climb: which rung of a ladder is tried next, and when enough is known.
//!
//! Rungs lie in the order of their load: a heavier one loses no less than a lighter one. From the lightest the climb leaps, each
//! time about twice as far, until a rung gives way, and then halves what lies between the highest that held and the lowest that
//! failed: of `n` rungs about 2·log₂(n) are tried and not all. Tries are noisy, so each kind of error is met by another rule:
//!
//! - *A rung that would hold gives way by chance.* It is tried again at once, and is given up only if it gives way twice; of tries
//!   that contradict each other a third decides. A blip of chance *p* in a try thus costs a rung with about *p*², not *p*.
//! - *A rung that would not hold is passed by chance*, for a try is short. Whatever the search ends at is confirmed by a run several
//!   times as long, and in that a single failure counts: then the rung below it is confirmed in its place, one by one. What is
//!   called clean has always held for the whole of that run.
//!
//! Errors of the first kind make the result too low by a rung or a few, never too high; those of the second cost time. What is
//! recommended lies a margin below what was clean.

use moth_core::suspects::{Cause, Fault};
use serde::{Deserialize, Serialize};

use crate::figures::Figures;
use crate::tried::{Came, Length, Seen};

/// How long tries take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Times {
    /// One while searching.
    pub search: Length,
    /// The one that confirms.
    pub confirm: Length,
}

impl Default for Times {
    /// Twenty seconds a rung, a minute near the edge, and five minutes, or ten, to confirm.
    fn default() -> Self {
        Self { search: Length { least_s: 20, most_s: 60 }, confirm: Length { least_s: 300, most_s: 600 } }
    }
}

/// Why a rung is tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Purpose {
    /// To find the edge.
    Search,
    /// It gave way once, or what was seen of it contradicts itself.
    Again,
    /// It is what the search ended at: it must hold for longer.
    Confirm,
}

/// What is to be done next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Next {
    /// Try a rung.
    Try {
        /// Its place, the lightest being 0.
        rung: usize,
        /// For how long.
        length: Length,
        /// Why.
        purpose: Purpose,
    },
    /// Nothing: enough is known.
    Over,
}

/// A try that is over.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Tried {
    /// Which rung.
    pub rung: usize,
    /// Why it was tried.
    pub purpose: Purpose,
    /// Whether it held; a try that is not decided is none.
    pub held: bool,
    /// Seconds that counted.
    pub seconds: usize,
    /// Share of the frames lost, from 0 to 1.
    pub lost: f64,
    /// How often some were lost: seconds with losses, those next to each other as one.
    pub losses: usize,
    /// What gave way, if a verdict stood.
    pub at_fault: Option<(Fault, Option<Cause>)>,
    /// Why, in the verdict's own sentence as it stood last.
    pub because: Option<String>,
    /// What was measured meanwhile.
    pub figures: Figures,
}

/// How far a climb is.
#[derive(Debug, Clone, PartialEq)]
pub struct Climb {
    rungs: usize,
    times: Times,
    tries: Vec<Tried>,
}

/// What a climb came to, or what was found so far.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Outcome {
    /// The highest rung that held for the whole of the longer run; `None` if none has.
    pub highest_clean: Option<usize>,
    /// For how many seconds it held, in all its tries.
    pub clean_s: usize,
    /// How often frames were lost in them: no more than can be borne.
    pub losses: usize,
    /// The lowest rung that failed.
    pub lowest_failed: Option<usize>,
    /// What gave way there.
    pub at_fault: Option<(Fault, Option<Cause>)>,
    /// Whether nothing is left to be tried.
    pub is_over: bool,
}

/// What is known of a rung.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Known {
    Untried,
    Held,
    /// It gave way once, or as often as it held.
    InDoubt,
    Failed,
    Confirmed,
}

impl Climb {
    /// A climb over so many rungs.
    #[must_use]
    pub fn new(rungs: usize, times: Times) -> Self {
        Self { rungs, times, tries: Vec::new() }
    }

    /// How long a try takes while searching.
    #[must_use]
    pub fn search(&self) -> Length {
        self.times.search
    }

    /// Every try so far, in their order.
    #[must_use]
    pub fn tries(&self) -> &[Tried] {
        &self.tries
    }

    /// A try is over.
    pub fn take(&mut self, tried: Tried) {
        self.tries.push(tried);
    }

    /// For [`Climb::take`]: what was seen of a rung; `None` while nothing can be told of it.
    #[must_use]
    pub fn tried(next: Next, seen: &Seen) -> Option<Tried> {
        let Next::Try { rung, length, purpose } = next else { return None };
        let held = match seen.came(length) {
            Came::NotYet => return None,
            Came::Held => true,
            Came::GaveWay => false,
        };
        Some(Tried {
            rung,
            purpose,
            held,
            seconds: seen.seconds(),
            lost: seen.lost(),
            losses: seen.losses(),
            at_fault: seen.at_fault(),
            because: seen.because().filter(|_| !held).map(str::to_owned),
            figures: Figures::default(),
        })
    }

    /// Rungs from this one on cannot be had: they are not tried, and what was seen of them does not count.
    pub fn limit(&mut self, rung: usize) {
        self.rungs = self.rungs.min(rung);
    }

    /// About how many seconds are left if everything holds that is tried from now on; what must settle before each try is
    /// `settles_s`.
    #[must_use]
    pub fn left_s(&self, settles_s: usize) -> usize {
        let (mut ahead, mut left) = (self.clone(), 0);
        while let Next::Try { rung, length, purpose } = ahead.next() {
            left += length.least_s + settles_s;
            let nothing = Tried {
                rung,
                purpose,
                held: true,
                seconds: 0,
                lost: 0.0,
                losses: 0,
                at_fault: None,
                because: None,
                figures: Figures::default(),
            };
            ahead.take(nothing);
        }
        left
    }

    /// What is tried next. It follows from the tries alone, so that a climb that was broken off can be gone on with.
    #[must_use]
    pub fn next(&self) -> Next {
        let search = |rung, purpose| Next::Try { rung, length: self.times.search, purpose };
        let Some(top) = self.rungs.checked_sub(1) else { return Next::Over };
        // What gave way a moment ago, before anything else.
        if let Some(last) =
            self.tries.last().filter(|last| last.rung < self.rungs && self.known(last.rung) == Known::InDoubt)
        {
            return search(last.rung, Purpose::Again);
        }
        let failed = (0..self.rungs).find(|rung| self.known(*rung) == Known::Failed);
        let below = failed.unwrap_or(self.rungs);
        let held = (0..below).rev().find(|rung| matches!(self.known(*rung), Known::Held | Known::Confirmed));
        if below == 0 || held.is_some_and(|held| self.known(held) == Known::Confirmed) {
            return Next::Over;
        }
        let confirm = |rung| Next::Try { rung, length: self.times.confirm, purpose: Purpose::Confirm };
        // One that did not bear the longer run: from there on downwards, one by one.
        if self.tries.iter().any(|tried| tried.purpose == Purpose::Confirm) {
            return confirm(below - 1);
        }
        match (held, failed) {
            (None, None) => search(0, Purpose::Search),
            (Some(held), None) if held < top => search((held * 2 + 1).min(top), Purpose::Search),
            (None, Some(failed)) => search(failed / 2, Purpose::Search),
            (Some(held), Some(failed)) if failed - held > 1 => search(held + (failed - held) / 2, Purpose::Search),
            (Some(held), _) => confirm(held),
        }
    }

    /// What is known by now.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        let clean = (0..self.rungs).rev().find(|rung| self.known(*rung) == Known::Confirmed);
        let failed = (0..self.rungs).find(|rung| self.known(*rung) == Known::Failed);
        let of_failed = self.tries.iter().rev().filter(|tried| Some(tried.rung) == failed && !tried.held);
        let of_clean = || self.tries.iter().filter(|tried| Some(tried.rung) == clean && tried.held);
        Outcome {
            highest_clean: clean,
            clean_s: of_clean().map(|tried| tried.seconds).sum(),
            losses: of_clean().map(|tried| tried.losses).sum(),
            lowest_failed: failed,
            at_fault: of_failed.filter_map(|tried| tried.at_fault).next(),
            is_over: self.next() == Next::Over,
        }
    }

    fn known(&self, rung: usize) -> Known {
        let of_rung = || self.tries.iter().filter(|tried| tried.rung == rung);
        let confirmed = of_rung().rfind(|tried| tried.purpose == Purpose::Confirm);
        if let Some(confirmed) = confirmed {
            return if confirmed.held { Known::Confirmed } else { Known::Failed };
        }
        let (held, gave_way) = (of_rung().filter(|t| t.held).count(), of_rung().filter(|t| !t.held).count());
        match (held, gave_way) {
            (0, 0) => Known::Untried,
            (held, gave_way) if held > gave_way => Known::Held,
            (held, gave_way) if gave_way >= 2 && gave_way > held => Known::Failed,
            _ => Known::InDoubt,
        }
    }
}

/// What is recommended: the heaviest rung whose load is no more than a share of what was clean, the lightest if none is.
/// `loads` are in the ladder's order; `free` is the share to stay free, from 0 to 1.
#[must_use]
pub fn with_margin(loads: &[f64], clean: usize, free: f64) -> usize {
    let most = loads.get(clean).map_or(0.0, |load| load * (1.0 - free));
    (0..=clean).rev().find(|rung| loads.get(*rung).is_some_and(|load| *load <= most)).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Climbs a ladder of which rungs up to one hold, and gives the rungs that were tried.
    fn climbed(rungs: usize, holds: impl Fn(usize, Purpose, usize) -> bool) -> (Outcome, Vec<(usize, Purpose)>) {
        let mut climb = Climb::new(rungs, Times::default());
        for n in 0.. {
            let Next::Try { rung, length, purpose } = climb.next() else { break };
            let held = holds(rung, purpose, n);
            let at_fault = (!held).then_some((Fault::Network, Some(Cause::LineShort)));
            let lost = if held { 0.0 } else { 0.1 };
            let (because, figures) = (None, Figures::default());
            climb.take(Tried {
                rung,
                purpose,
                held,
                seconds: length.least_s,
                lost,
                losses: 0,
                at_fault,
                because,
                figures,
            });
            assert!(n < 60, "it ends");
        }
        (climb.outcome(), climb.tries().iter().map(|tried| (tried.rung, tried.purpose)).collect())
    }

    #[test]
    fn on_every_ladder_the_edge_is_found_with_few_tries() {
        for rungs in 1..=40_usize {
            for edge in 0..=rungs {
                let (outcome, tries) = climbed(rungs, |rung, _, _| rung < edge);
                assert_eq!(outcome.highest_clean, edge.checked_sub(1), "{rungs} rungs, {edge} hold: {tries:?}");
                assert_eq!(outcome.lowest_failed, (edge < rungs).then_some(edge));
                assert!(outcome.is_over && (edge == rungs) == outcome.at_fault.is_none());
                // Each failure is tried twice; one run confirms.
                let most = 3.0 * (rungs as f64).log2().ceil() + 5.0;
                assert!(tries.len() as f64 <= most, "{rungs} rungs, {edge} hold: {} tries", tries.len());
            }
        }
        assert_eq!(climbed(0, |_, _, _| true).0.highest_clean, None);
    }

    #[test]
    fn what_gives_way_once_is_tried_again_and_a_third_try_decides() {
        use Purpose::{Again, Confirm, Search};
        // A blip in the second try.
        let (outcome, tries) = climbed(2, |_, _, n| n != 1);
        assert_eq!(tries, [(0, Search), (1, Search), (1, Again), (1, Again), (1, Confirm)]);
        assert_eq!(outcome.highest_clean, Some(1));
        // Once more than it holds: it has failed.
        let (outcome, tries) = climbed(2, |rung, _, n| rung == 0 || n == 2);
        assert_eq!(tries, [(0, Search), (1, Search), (1, Again), (1, Again), (0, Confirm)]);
        assert_eq!((outcome.highest_clean, outcome.lowest_failed), (Some(0), Some(1)));
    }

    #[test]
    fn what_does_not_bear_the_longer_run_is_left_for_the_rung_below() {
        use Purpose::Confirm;
        let (outcome, tries) = climbed(10, |rung, purpose, _| rung < 8 && (purpose != Confirm || rung < 6));
        let confirmed: Vec<usize> =
            tries.iter().filter(|(_, purpose)| *purpose == Confirm).map(|(rung, _)| *rung).collect();
        assert_eq!(confirmed, [7, 6, 5]);
        assert_eq!((outcome.highest_clean, outcome.lowest_failed, outcome.clean_s), (Some(5), Some(6), 300));
        // Down to nothing.
        assert_eq!(climbed(4, |_, purpose, _| purpose != Confirm).0.highest_clean, None);
    }

    #[test]
    fn rungs_that_cannot_be_had_are_not_tried_and_the_end_is_in_sight() {
        let mut climb = Climb::new(9, Times::default());
        let mut left = climb.left_s(4);
        for n in 0.. {
            let Next::Try { rung, length, purpose } = climb.next() else { break };
            assert!(n < 20 && (n < 3 || rung < 5), "{rung} after it was ruled out");
            // The third rung that is tried is the 4th: from the 6th on there is none.
            if n == 2 {
                climb.limit(5);
            }
            let (because, figures) = (None, Figures::default());
            climb.take(Tried {
                rung,
                purpose,
                held: true,
                seconds: length.least_s,
                lost: 0.0,
                losses: 0,
                at_fault: None,
                because,
                figures,
            });
            assert!(climb.left_s(4) < left, "it gets less");
            left = climb.left_s(4);
        }
        assert_eq!((climb.outcome().highest_clean, climb.outcome().lowest_failed, left), (Some(4), None, 0));
    }

    #[test]
    fn what_is_recommended_leaves_a_margin() {
        let loads = [2000.0, 2500.0, 3000.0, 3500.0, 4000.0];
        assert_eq!(with_margin(&loads, 4, 0.2), 2, "3 000 of 4 000");
        assert_eq!(with_margin(&loads, 4, 0.0), 4);
        assert_eq!(with_margin(&loads, 0, 0.2), 0, "nothing is lighter");
    }
}
