//! Many scores, as tables.

use std::collections::BTreeMap;
use std::fmt::Write;

use crate::score::Score;

/// Counts scores.
#[derive(Debug, Default)]
pub struct Tally {
    cases: usize,
    fault_right: usize,
    cause_right: usize,
    troubled: usize,
    waits_s: Vec<f64>,
    false_alarms: usize,
    changes: usize,
    lingered: usize,
    contradictions: Vec<String>,
    calm_s: f64,
    /// Truth, then what was told, by fault and by cause; evenings with one trouble or none.
    faults: BTreeMap<String, BTreeMap<String, usize>>,
    causes: BTreeMap<String, BTreeMap<String, usize>>,
}

impl Tally {
    /// Takes one score.
    pub fn take(&mut self, score: &Score) {
        self.cases += 1;
        self.fault_right += usize::from(score.fault_right);
        self.cause_right += usize::from(score.cause_right);
        self.troubled += usize::from(!score.truth.is_empty());
        // A trouble that was never named is the longest wait there is.
        if !score.truth.is_empty() {
            self.waits_s.push(score.wait_s.unwrap_or(f64::INFINITY));
        }
        self.false_alarms += score.false_alarms;
        self.changes += score.changes;
        self.lingered += usize::from(score.lingered);
        self.contradictions.extend(score.contradictions.iter().cloned());
        self.calm_s += score.calm_s;
        if score.truth.len() > 1 {
            return;
        }
        let none = || ("none".to_owned(), "none".to_owned());
        let of = |wrong: Option<&moth_stage::Wrong>| {
            wrong.map_or_else(none, |w| (w.fault.clone(), format!("{} / {}", w.fault, w.cause)))
        };
        let (truth, told) = (of(score.truth.first()), of(score.told.as_ref()));
        *self.faults.entry(truth.0).or_default().entry(told.0).or_default() += 1;
        *self.causes.entry(truth.1).or_default().entry(told.1).or_default() += 1;
    }

    /// The share of evenings whose fault was told rightly.
    #[must_use]
    pub fn fault_share(&self) -> f64 {
        self.fault_right as f64 / self.cases.max(1) as f64
    }

    /// The same for the cause.
    #[must_use]
    pub fn cause_share(&self) -> f64 {
        self.cause_right as f64 / self.cases.max(1) as f64
    }

    /// A quantile of the waits from the first lost frame to the verdict, in seconds.
    #[must_use]
    pub fn wait_s(&self, quantile: f64) -> f64 {
        let mut sorted = self.waits_s.clone();
        sorted.sort_by(f64::total_cmp);
        let at = ((sorted.len().max(1) - 1) as f64 * quantile).round() as usize;
        sorted.get(at).copied().unwrap_or(0.0)
    }

    /// Alarms that were false.
    #[must_use]
    pub fn false_alarms(&self) -> usize {
        self.false_alarms
    }

    /// What was said that its own numbers contradict.
    #[must_use]
    pub fn contradictions(&self) -> &[String] {
        &self.contradictions
    }

    /// As text in Markdown.
    #[must_use]
    pub fn text(&self, title: &str) -> String {
        let mut out = format!("### {title}\n\n");
        let _ = writeln!(out, "| | |\n|---|---|");
        let _ = writeln!(out, "| evenings | {} ({} with trouble that costs frames) |", self.cases, self.troubled);
        let _ = writeln!(out, "| fault right | {:.2} % |", self.fault_share() * 100.0);
        let _ = writeln!(out, "| cause right | {:.2} % |", self.cause_share() * 100.0);
        let _ = writeln!(
            out,
            "| from the first lost frame to the verdict | median {:.1} s, 95th percentile {:.1} s |",
            self.wait_s(0.5),
            self.wait_s(0.95)
        );
        let hours = self.calm_s / 3600.0;
        let _ = writeln!(out, "| false alarms | {} in {hours:.1} h without trouble |", self.false_alarms);
        let _ = writeln!(out, "| verdicts that stood long after the trouble | {} |", self.lingered);
        let _ = writeln!(
            out,
            "| moments in which a sentence contradicts its own numbers | {} |",
            self.contradictions.len()
        );
        let _ = writeln!(out, "| changes of the verdict while its trouble stood | {} |\n", self.changes);
        if !self.faults.is_empty() {
            let _ = writeln!(out, "Evenings with one trouble or none; rows are the truth, columns what was told.\n");
            matrix(&mut out, &self.faults);
            matrix(&mut out, &self.causes);
        }
        out
    }
}

/// A table of truths and tellings; long names of columns become numbers with a key in the first column.
fn matrix(out: &mut String, counts: &BTreeMap<String, BTreeMap<String, usize>>) {
    let mut names: Vec<&String> = counts.keys().chain(counts.values().flat_map(BTreeMap::keys)).collect();
    names.sort();
    names.dedup();
    let short = names.len() > 5;
    let heads: Vec<String> =
        names.iter().enumerate().map(|(i, name)| if short { (i + 1).to_string() } else { (*name).clone() }).collect();
    let _ = writeln!(out, "| truth | {} |", heads.join(" | "));
    let _ = writeln!(out, "|---|{}", "--:|".repeat(names.len()));
    for (i, truth) in names.iter().enumerate() {
        let cells: Vec<String> = names
            .iter()
            .map(|told| counts.get(*truth).and_then(|row| row.get(*told)).map_or("·".into(), ToString::to_string))
            .collect();
        let key = if short { format!("{} ", i + 1) } else { String::new() };
        let _ = writeln!(out, "| {key}{truth} | {} |", cells.join(" | "));
    }
    out.push('\n');
}

#[cfg(test)]
mod tests {
    use moth_stage::Wrong;

    use super::*;

    fn wrong(fault: &str, cause: &str) -> Wrong {
        Wrong { fault: fault.into(), cause: cause.into() }
    }

    fn scored(truth: Vec<Wrong>, told: Option<Wrong>, wait_s: Option<f64>) -> Score {
        let fault_right = truth.first().map(|w| &w.fault) == told.as_ref().map(|w| &w.fault);
        Score {
            cause_right: truth.first() == told.as_ref(),
            truth,
            told,
            fault_right,
            wait_s,
            false_alarms: 0,
            changes: 1,
            lingered: false,
            contradictions: Vec::new(),
            hours: 0.5,
            calm_s: 1800.0,
        }
    }

    fn counted(scores: &[Score]) -> Tally {
        let mut tally = Tally::default();
        scores.iter().for_each(|score| tally.take(score));
        tally
    }

    #[test]
    fn shares_are_of_all_evenings_and_nothing_is_nothing() {
        let heat = || wrong("encoder", "heat");
        let tally = counted(&[
            scored(vec![heat()], Some(heat()), Some(1.0)),
            scored(vec![heat()], Some(wrong("encoder", "disk")), Some(2.0)),
            scored(vec![heat()], Some(wrong("network", "route")), None),
            scored(vec![], None, None),
        ]);
        assert_eq!((tally.fault_share(), tally.cause_share()), (0.75, 0.5));
        assert_eq!((Tally::default().fault_share(), Tally::default().wait_s(0.5)), (0.0, 0.0));
        let text = tally.text("Known");
        assert!(text.contains("| evenings | 4 (3 with trouble that costs frames) |"), "{text}");
        assert!(text.contains("| false alarms | 0 in 2.0 h without trouble |"), "{text}");
        assert!(text.contains("| encoder | 2 | 1 | · |"), "rows are the truth, columns what was told: {text}");
    }

    #[test]
    fn a_trouble_that_was_never_named_is_the_longest_wait() {
        let heat = || vec![wrong("encoder", "heat")];
        let tally =
            counted(&[scored(heat(), None, None), scored(heat(), None, Some(3.0)), scored(heat(), None, Some(1.0))]);
        assert_eq!((tally.wait_s(0.0), tally.wait_s(0.5)), (1.0, 3.0));
        assert!(tally.wait_s(1.0).is_infinite());
    }

    #[test]
    fn evenings_of_two_troubles_are_in_no_table_and_are_counted_all_the_same() {
        let two = vec![wrong("encoder", "heat"), wrong("network", "route")];
        let tally = counted(&[scored(two, Some(wrong("encoder", "heat")), Some(1.0))]);
        assert_eq!(tally.fault_share(), 1.0);
        assert!(!tally.text("Two").contains("rows are the truth"));
    }

    #[test]
    fn what_contradicts_itself_and_what_lingers_adds_up() {
        let odd = Score {
            contradictions: vec!["at 3.0 s: no number".into()],
            lingered: true,
            false_alarms: 2,
            ..scored(vec![], None, None)
        };
        let tally = counted(&[odd.clone(), odd]);
        assert_eq!((tally.false_alarms(), tally.contradictions().len()), (4, 2));
        assert!(tally.text("Odd").contains("| verdicts that stood long after the trouble | 2 |"));
    }
}
