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
