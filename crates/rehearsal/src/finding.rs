//! What a climb came to: in numbers, to be kept and compared, and in sentences.

use moth_core::suspects::{Cause, Fault};
use serde::{Deserialize, Serialize};

use crate::climb::{Tried, with_margin};
use crate::figures::{Figures, Known};
use crate::ladder::{Kind, Value};
use crate::runner::{Ceiling, End, Runner};
use crate::tried::ruled_out_every_s;

/// Below what held, this share stays free where the line was not what gave way. Our own setting.
const FREE: f64 = 0.1;
/// A CPU that is busier than this at a clean rung has no room for a heavier scene; in percent. Our own setting.
const BUSY_PERCENT: f64 = 80.0;

/// What a climb found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ClimbFinding {
    /// What was raised.
    pub climb: Kind,
    /// The rungs, the lightest first.
    pub rungs: Vec<Value>,
    /// Every try, in their order.
    pub tries: Vec<Tried>,
    /// The highest rung that held for the whole of the longer run, by its place.
    pub highest_clean: Option<usize>,
    /// The one to use, by its place; `None` if none was clean.
    pub recommended: Option<usize>,
    /// For how many seconds the highest clean one held, in all its tries.
    pub clean_s: usize,
    /// How often frames were lost in them.
    pub losses: usize,
    /// The lowest rung that failed, by its place.
    pub lowest_failed: Option<usize>,
    /// What gave way there.
    pub at_fault: Option<(Fault, Option<Cause>)>,
    /// Why no heavier rung could be had, if that is so.
    pub ceiling: Option<Ceiling>,
    /// How the losses are known.
    #[serde(default)]
    pub known: Known,
    /// How it ended.
    pub end: End,
    /// Why, where that is not plain.
    pub why: Option<String>,
    /// What was in force before.
    pub start: Value,
    /// What the broadcaster was left at, if what was before could not be put back.
    pub left_at: Option<Value>,
}

/// A rung beside the others.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice<'a> {
    /// What it is.
    pub value: &'a Value,
    /// How often it was tried.
    pub tries: usize,
    /// Whether it held in its newest try.
    pub held: bool,
    /// Share of the frames lost in its newest try, from 0 to 1.
    pub lost: f64,
    /// What was measured in its newest try.
    pub figures: &'a Figures,
}

impl ClimbFinding {
    /// What a climb has found so far. `free` is the share of the line that is to stay free, from 0 to 1.
    #[must_use]
    pub fn of(runner: &Runner, free: f64) -> Self {
        let (outcome, ladder) = (runner.climb().outcome(), runner.ladder());
        let mut finding = Self {
            climb: ladder.kind(),
            rungs: ladder.rungs().to_vec(),
            tries: runner.climb().tries().to_vec(),
            highest_clean: outcome.highest_clean,
            recommended: None,
            clean_s: outcome.clean_s,
            losses: outcome.losses,
            lowest_failed: outcome.lowest_failed,
            at_fault: outcome.at_fault,
            ceiling: runner.ceiling().cloned(),
            known: runner.known(),
            end: runner.end().unwrap_or(End::CutOff),
            why: runner.why().map(str::to_owned),
            start: runner.start().clone(),
            left_at: runner.left_at(),
        };
        finding.recommended = finding.recommend(free);
        finding
    }

    fn recommend(&self, free: f64) -> Option<usize> {
        let clean = self.highest_clean?;
        Some(match self.climb {
            // Nothing gave way: how much more there would have been is not known, and what is there was borne.
            _ if self.lowest_failed.is_none() => clean,
            Kind::Bitrate => {
                let is_network = self.at_fault.is_none_or(|(fault, _)| fault == Fault::Network);
                let loads: Vec<f64> = self.rungs.iter().map(Value::load).collect();
                with_margin(&loads, clean, if is_network { free } else { FREE })
            }
            // A rung lighter where the machine has little left, or nobody knows what it has left.
            Kind::Preset | Kind::Picture if self.has_room(clean) != Some(true) => clean.saturating_sub(1),
            Kind::Preset | Kind::Picture => clean,
        })
    }

    /// Whether the CPU had something left at a rung; `None` if that is not known.
    fn has_room(&self, rung: usize) -> Option<bool> {
        Some(self.figures(rung).cpu_percent? <= BUSY_PERCENT)
    }

    /// What was measured in the newest try of a rung.
    fn figures(&self, rung: usize) -> Figures {
        self.tries.iter().rfind(|tried| tried.rung == rung).map(|tried| tried.figures).unwrap_or_default()
    }

    /// The highest clean rung.
    #[must_use]
    pub fn clean(&self) -> Option<&Value> {
        self.rungs.get(self.highest_clean?)
    }

    /// The rung to use.
    #[must_use]
    pub fn recommended(&self) -> Option<&Value> {
        self.rungs.get(self.recommended?)
    }

    /// By how much less than the highest clean one the recommended one loads, from 0 to 1; `None` if nothing heavier failed.
    #[must_use]
    pub fn margin(&self) -> Option<f64> {
        self.lowest_failed?;
        let (clean, recommended) = (self.clean()?.load(), self.recommended()?.load());
        (self.climb != Kind::Preset && clean > 0.0).then(|| 1.0 - recommended / clean)
    }

    /// Frames lost more often than once in so many seconds can be ruled out, with 95 % confidence.
    #[must_use]
    pub fn rules_out_every_s(&self) -> Option<f64> {
        self.highest_clean.map(|_| ruled_out_every_s(self.clean_s as f64, self.losses))
    }

    /// Every rung that was tried, the lightest first.
    #[must_use]
    pub fn choices(&self) -> Vec<Choice<'_>> {
        let of = |(rung, value)| {
            let tries = || self.tries.iter().filter(move |tried| tried.rung == rung);
            let newest = tries().next_back()?;
            let (held, lost, figures) = (newest.held, newest.lost, &newest.figures);
            Some(Choice { value, tries: tries().count(), held, lost, figures })
        };
        self.rungs.iter().enumerate().filter_map(of).collect()
    }

    /// What it came to, in a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let gave_way = || {
            let failed = self.rungs.get(self.lowest_failed?)?;
            let what = match self.at_fault {
                Some((fault, cause)) => {
                    format!("{}{}", stage(fault), cause.map_or(String::new(), |c| format!(" ({})", c.words())))
                }
                None => "something that is not clear".into(),
            };
            Some(format!("at {} {what} gave way", failed.words()))
        };
        match (self.clean(), gave_way()) {
            (Some(clean), Some(failed)) => format!("{} held for {}; {failed}.", clean.words(), lasted(self.clean_s)),
            (Some(clean), None) => match &self.ceiling {
                Some(_) => format!("{} held for {}; more could not be tried.", clean.words(), lasted(self.clean_s)),
                None => format!(
                    "{} held for {}: nothing gave way, and more was not tried.",
                    clean.words(),
                    lasted(self.clean_s)
                ),
            },
            (None, Some(failed)) if self.lowest_failed == Some(0) => {
                format!("Not even the lightest rung held: {failed}.")
            }
            (None, Some(failed)) => format!("{}; {failed}.", self.held_shortly().trim_end_matches('.')),
            (None, None) => self.held_shortly(),
        }
    }

    /// What held in a short try, where nothing has for longer.
    fn held_shortly(&self) -> String {
        let held =
            self.tries.iter().filter(|tried| tried.held && self.lowest_failed.is_none_or(|failed| tried.rung < failed));
        let highest = held.max_by_key(|tried| tried.rung);
        match highest.and_then(|tried| Some((self.rungs.get(tried.rung)?, tried.seconds))) {
            Some((value, seconds)) => {
                format!("No rung was confirmed: {} held, for {} only.", value.words(), lasted(seconds))
            }
            None => "No rung has held yet.".into(),
        }
    }

    /// What to use, and why that much less; `None` if no rung was clean.
    #[must_use]
    pub fn advice(&self) -> Option<String> {
        let (recommended, clean) = (self.recommended()?.words(), self.highest_clean?);
        if self.lowest_failed.is_none() {
            return Some(format!("Recommended: {recommended}; how much more there would be is not known."));
        }
        let less = match self.margin().filter(|share| *share > 0.0) {
            Some(share) => format!(", {:.0} % below what held", share * 100.0),
            None if self.recommended < self.highest_clean => ", a rung lighter than what held".into(),
            None => String::new(),
        };
        // What it is good for is said where it is known.
        let why = match (self.climb, self.figures(clean).cpu_percent) {
            (Kind::Bitrate, _) if less.is_empty() => {
                "; nothing below it is on this ladder, or nothing is to stay free".into()
            }
            (Kind::Bitrate, _) => ", to stay free for a worse hour".into(),
            (_, Some(percent)) => format!(": the CPU was {percent:.0} % busy at what held"),
            (_, None) => ": how busy the CPU was is not known".into(),
        };
        Some(format!("Recommended: {recommended}{less}{why}."))
    }

    /// How sure that is.
    #[must_use]
    pub fn sure(&self) -> Option<String> {
        let every_s = self.rules_out_every_s()?;
        let of_clean = || self.tries.iter().filter(|tried| Some(tried.rung) == self.highest_clean && tried.held);
        let lost: f64 = of_clean().map(|tried| tried.lost * tried.seconds as f64).sum();
        let share = 100.0 * lost / (self.clean_s as f64).max(1.0);
        let lost = match self.losses {
            0 => "Nothing was lost".to_owned(),
            1 => format!("Frames were lost once ({share:.2} % of all)"),
            n => format!("Frames were lost {n} times ({share:.2} % of all)"),
        };
        Some(format!(
            "{lost} in {} at {}: that frames are lost more often than every {} is ruled out, with 95 % confidence; what comes less often is not.",
            lasted(self.clean_s),
            self.clean()?.words(),
            lasted(every_s.floor() as usize),
        ))
    }

    /// What limits this rig, and what would lift that; `None` if nothing gave way.
    #[must_use]
    pub fn lift(&self) -> Option<&'static str> {
        let (fault, cause) = self.at_fault?;
        Some(lift(fault, cause))
    }

    /// How it ended, where that has to be said.
    #[must_use]
    pub fn ended(&self) -> Option<String> {
        let why = self.why.as_deref().map_or(String::new(), |why| format!(": {}", why.trim_end_matches('.')));
        let ended = match self.end {
            End::Done => return self.ceiling.as_ref().map(|ceiling| self.ceiling_words(ceiling)),
            End::TimeOver => "The time that was given is over: this is what was found by then.".to_owned(),
            End::Cancelled => "Ended by hand: this is what was found by then.".into(),
            End::BroadcasterGone => "The broadcaster went away: this is what was found by then.".into(),
            End::NoServer => format!("No server took the broadcast{why}."),
            End::NotSet => format!("Not even the lightest rung could be set{why}."),
            End::CutOff => "It was cut off in the middle: this is what was found by then.".into(),
        };
        Some(ended)
    }

    fn ceiling_words(&self, ceiling: &Ceiling) -> String {
        let rung = self.rungs.get(ceiling.rung).map_or(String::new(), Value::words);
        format!("{rung} and more could not be tried: {}.", ceiling.why.trim_end_matches('.'))
    }

    /// Says so if the broadcaster is not as it was before.
    #[must_use]
    pub fn left(&self) -> Option<String> {
        let left_at = self.left_at.as_ref()?;
        let at = match left_at {
            // A place without its name was passed on the way.
            Value::Preset(place, _) => {
                self.rungs.iter().find(|rung| matches!(rung, Value::Preset(p, _) if p == place)).unwrap_or(left_at)
            }
            other => other,
        };
        Some(format!(
            "The broadcaster could not be set back to {} from here: it may still be at {}.",
            self.start.words(),
            at.words()
        ))
    }
}

/// A stage, as what gives way.
#[must_use]
pub fn stage(fault: Fault) -> &'static str {
    match fault {
        Fault::None => "nothing",
        Fault::Network => "the network",
        Fault::Encoder => "the encoder",
        Fault::Rendering => "the rendering",
    }
}

/// A length of time in words: `45 s`, `5 min`, `1 min 40 s`.
#[must_use]
pub fn lasted(seconds: usize) -> String {
    match (seconds / 60, seconds % 60) {
        (0, s) => format!("{s} s"),
        (m, 0) => format!("{m} min"),
        (m, s) if m < 10 => format!("{m} min {s} s"),
        (m, _) => format!("{m} min"),
    }
}

/// What would let a rig bear more.
fn lift(fault: Fault, cause: Option<Cause>) -> &'static str {
    match (cause, fault) {
        (Some(cause), _) => cause.lift(),
        (None, Fault::Encoder) => "The encoder limits it, and why is not clear: Machine shows what else ran.",
        (None, Fault::Rendering) => "The rendering limits it, and why is not clear: Machine shows what else ran.",
        (None, _) => "The network limits it, and where is not clear: Routes measures servers and line.",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::climb::Purpose;
    use moth_core::Bitrate;

    fn tried(rung: usize, purpose: Purpose, held: bool, seconds: usize) -> Tried {
        let at_fault = (!held).then_some((Fault::Network, Some(Cause::LineShort)));
        let (lost, losses) = if held { (0.0, 0) } else { (0.2, 3) };
        Tried { rung, purpose, held, seconds, lost, losses, at_fault, because: None, figures: Figures::default() }
    }

    fn finding(clean: Option<usize>, failed: Option<usize>) -> ClimbFinding {
        let rungs = (2..=8).map(|n| Value::Bitrate(Bitrate::from_kbps(n * 1000))).collect();
        let mut finding = ClimbFinding {
            climb: Kind::Bitrate,
            rungs,
            tries: vec![
                tried(0, Purpose::Search, true, 20),
                tried(4, Purpose::Search, false, 8),
                tried(3, Purpose::Confirm, true, 300),
            ],
            highest_clean: clean,
            recommended: None,
            clean_s: 300,
            losses: 0,
            lowest_failed: failed,
            at_fault: failed.map(|_| (Fault::Network, Some(Cause::LineShort))),
            ceiling: None,
            known: Known::default(),
            end: End::Done,
            why: None,
            start: Value::Bitrate(Bitrate::from_kbps(6000)),
            left_at: None,
        };
        finding.recommended = finding.recommend(0.25);
        finding
    }

    #[test]
    fn what_was_found_is_said_with_its_margin_and_how_sure_it_is() {
        let found = finding(Some(3), Some(4));
        assert_eq!(
            found.sentence(),
            "5 000 kb/s held for 5 min; at 6 000 kb/s the network (the bitrate is over the line) gave way."
        );
        assert_eq!(found.recommended().unwrap().words(), "3 000 kb/s", "a quarter of 5 000 stays free, down to a rung");
        assert!(found.advice().unwrap().contains("40 % below what held"));
        assert!(found.sure().unwrap().contains("more often than every 1 min 41 s"), "{:?}", found.sure());
        assert!(found.lift().unwrap().contains("line limits"));
        let mut blips = found.clone();
        (blips.losses, blips.tries[2].lost) = (2, 0.0004);
        assert!(
            blips.sure().unwrap().starts_with("Frames were lost 2 times (0.04 % of all) in 5 min"),
            "{:?}",
            blips.sure()
        );
        assert_eq!((found.ended(), found.left()), (None, None));
        let choices: Vec<(String, bool)> = found.choices().iter().map(|c| (c.value.word(), c.held)).collect();
        assert_eq!(choices, [("2000k".to_owned(), true), ("5000k".to_owned(), true), ("6000k".to_owned(), false)]);
    }

    #[test]
    fn where_nothing_gave_way_or_nothing_held_that_is_said() {
        let found = finding(Some(6), None);
        assert!(found.sentence().contains("nothing gave way, and more was not tried"), "{}", found.sentence());
        assert_eq!((found.recommended(), found.margin(), found.lift()), (found.clean(), None, None));
        assert!(found.advice().unwrap().contains("not known"));
        let found = finding(None, Some(0));
        assert!(found.sentence().starts_with("Not even the lightest rung held"), "{}", found.sentence());
        assert_eq!((found.recommended(), found.advice(), found.sure()), (None, None, None));
        let ceiling = Some(Ceiling { rung: 5, why: "this picture needs no more.".into() });
        let found = ClimbFinding { ceiling, ..finding(Some(4), None) };
        assert_eq!(found.ended().unwrap(), "7 000 kb/s and more could not be tried: this picture needs no more.");
        let left_at = Some(Value::Bitrate(Bitrate::from_kbps(4000)));
        let found = ClimbFinding { end: End::BroadcasterGone, left_at, ..finding(None, None) };
        assert!(found.left().unwrap().contains("back to 6 000 kb/s from here: it may still be at 4 000 kb/s"));
        assert!(found.ended().unwrap().contains("went away"));
    }

    #[test]
    fn a_machine_with_little_left_is_given_a_lighter_preset() {
        let preset = |place: usize| Value::Preset(place, ["light", "middle", "heavy", "heaviest"][place].into());
        let with = |cpu_percent: Option<f64>| {
            let mut found =
                ClimbFinding { climb: Kind::Preset, rungs: (0..4).map(preset).collect(), ..finding(Some(2), Some(3)) };
            found.tries = vec![tried(0, Purpose::Search, true, 20), tried(2, Purpose::Confirm, true, 300)];
            found.tries[1].figures.cpu_percent = cpu_percent;
            found.recommended = found.recommend(0.25);
            found
        };
        let word = |cpu: Option<f64>| with(cpu).recommended().unwrap().word();
        assert_eq!(
            (word(Some(60.0)), word(Some(92.0)), word(None)),
            ("heavy".into(), "middle".into(), "middle".into())
        );
        // What is said of the machine is what was measured of it.
        let said = |cpu: Option<f64>| with(cpu).advice().unwrap();
        assert_eq!(said(Some(60.0)), "Recommended: heavy: the CPU was 60 % busy at what held.");
        assert_eq!(
            said(Some(92.0)),
            "Recommended: middle, a rung lighter than what held: the CPU was 92 % busy at what held."
        );
        assert!(said(None).contains("is not known"), "{}", said(None));
        // Where no verdict stood, that is said in a sentence of its own kind.
        let unclear = ClimbFinding { at_fault: None, ..with(None) };
        assert!(
            unclear.sentence().ends_with("at heaviest something that is not clear gave way."),
            "{}",
            unclear.sentence()
        );
    }

    #[test]
    fn it_is_read_back_as_it_was_kept() {
        let found = finding(Some(3), Some(4));
        let text = serde_json::to_string(&found).unwrap();
        assert_eq!(serde_json::from_str::<ClimbFinding>(&text).unwrap(), found, "{text}");
    }
}
