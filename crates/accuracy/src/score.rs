//! What a judgement is worth against the truth.

use moth::recordings::judged::{Judged, Judgement};
use moth_stage::{Truth, Wrong};

/// After trouble ends, its verdict may stand so long: losses must stay away for five seconds, and a queue must empty. Ours.
const CLEARS_S: f64 = 12.0;

/// A trouble beside another must cost so many frames to be missed. Ours.
const COSTLY: u64 = 12;

/// One case's score.
#[derive(Debug, Clone, PartialEq)]
pub struct Score {
    /// What is truly wrong, or `none`.
    pub truth: Vec<Wrong>,
    /// The verdict that stood longest while it was.
    pub told: Option<Wrong>,
    /// Every fault that is truly there was found, the standing one among them.
    pub fault_right: bool,
    /// Every cause was right, too.
    pub cause_right: bool,
    /// Seconds from the first lost frame to the first verdict with a right fault; zero if it was there before.
    pub wait_s: Option<f64>,
    /// Verdicts of a fault that is not truly there.
    pub false_alarms: usize,
    /// Times the verdict of a standing trouble changed into another.
    pub changes: usize,
    /// The verdict was still there long after the trouble.
    pub lingered: bool,
    /// What was said that its own numbers contradict.
    pub contradictions: Vec<String>,
    /// Hours judged.
    pub hours: f64,
    /// Seconds of them in which nothing was wrong.
    pub calm_s: f64,
}

fn overlap(judged: &Judged, from: f64, to: f64) -> f64 {
    (judged.to_s.min(to) - judged.from_s.max(from)).max(0.0)
}

/// Scores a judgement.
#[must_use]
pub fn score(truth: &Truth, judgement: &Judgement) -> Score {
    let verdicts = &judgement.verdicts;
    // Trouble too mild to cost a frame is none; to name it rightly all the same is no mistake.
    let harmless = truth.first_loss_s.is_none_or(|loss| loss > truth.to_s - 1.0);
    let costly: Vec<&Wrong> =
        truth.wrong.iter().filter(|w| truth.lost.get(&w.fault).is_some_and(|lost| *lost >= COSTLY)).collect();
    let named = |fault: &str, cause: Option<&str>| {
        truth.wrong.iter().any(|w| w.fault == fault && cause.is_none_or(|cause| w.cause == cause))
    };
    let from = truth.first_loss_s.filter(|_| !harmless).unwrap_or(truth.from_s);
    let (from, to) = (from.min(truth.to_s), truth.to_s);
    let mut by_verdict: Vec<(&Judged, f64)> = Vec::new();
    for judged in verdicts {
        let stood = overlap(judged, from, to);
        match by_verdict.iter_mut().find(|(j, _)| (j.fault, j.cause) == (judged.fault, judged.cause)) {
            Some((_, sum)) => *sum += stood,
            None => by_verdict.push((judged, stood)),
        }
    }
    let longest = by_verdict.iter().filter(|(_, s)| *s > 0.0).max_by(|a, b| a.1.total_cmp(&b.1)).map(|(j, _)| *j);
    let told = longest.map(|j| Wrong { fault: j.fault.into(), cause: j.cause.unwrap_or("unknown").into() });
    let heard = |fault: &str, cause: Option<&str>| {
        verdicts.iter().filter(|j| overlap(j, from, to) > 0.0).any(|j| {
            let all = std::iter::once((j.fault, j.cause)).chain(j.also.iter().map(|a| (a.fault, a.cause)));
            all.into_iter().any(|(f, c)| f == fault && cause.is_none_or(|cause| c == Some(cause)))
        })
    };
    let (fault_right, cause_right) = match &told {
        None => (harmless, harmless),
        Some(told) => {
            let all = harmless || costly.iter().all(|w| heard(&w.fault, None));
            let every = harmless || costly.iter().all(|w| heard(&w.fault, Some(&w.cause)));
            let fault = named(&told.fault, None) && all;
            (fault, fault && named(&told.fault, Some(&told.cause)) && every)
        }
    };
    let wait_s = truth.first_loss_s.filter(|_| !harmless).and_then(|loss| {
        let first = verdicts.iter().find(|j| named(j.fault, None) && j.to_s >= loss)?;
        Some((first.from_s - loss).max(0.0))
    });
    let clears = to + CLEARS_S;
    let inside = |j: &Judged| j.from_s < clears && j.to_s > truth.from_s - 1.0;
    let false_alarms = verdicts.iter().filter(|j| !(inside(j) && named(j.fault, None))).count();
    let standing: Vec<_> = verdicts.iter().filter(|j| overlap(j, from, to) > 0.0).map(|j| (j.fault, j.cause)).collect();
    let changes = standing.windows(2).filter(|pair| pair[0] != pair[1]).count();
    Score {
        truth: if harmless { Vec::new() } else { costly.iter().map(|w| (*w).clone()).collect() },
        told,
        fault_right,
        cause_right,
        wait_s,
        false_alarms,
        changes,
        lingered: !truth.wrong.is_empty() && verdicts.iter().any(|j| j.to_s > clears + 1.0),
        contradictions: judgement.contradictions.clone(),
        hours: judgement.seconds / 3600.0,
        calm_s: if harmless { judgement.seconds } else { truth.from_s.max(0.0) },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judged(from_s: f64, to_s: f64, fault: &'static str, cause: &'static str) -> Judged {
        Judged { from_s, to_s, fault, cause: Some(cause), confidence: 0.9, sentence: String::new(), also: Vec::new() }
    }

    fn judgement(verdicts: Vec<Judged>) -> Judgement {
        Judgement { verdicts, seconds: 60.0, readings: 1, began: None, damage: None, contradictions: Vec::new() }
    }

    fn heat() -> Truth {
        let wrong = vec![Wrong { fault: "encoder".into(), cause: "heat".into() }];
        Truth {
            wrong,
            from_s: 20.0,
            to_s: 40.0,
            end_s: 60.0,
            lost: [("encoder".to_owned(), 99)].into(),
            first_loss_s: Some(20.5),
        }
    }

    #[test]
    fn a_right_verdict_counts_from_the_first_lost_frame() {
        let found = score(&heat(), &judgement(vec![judged(21.0, 44.0, "encoder", "heat")]));
        assert!(found.fault_right && found.cause_right && found.false_alarms == 0 && !found.lingered);
        assert_eq!(found.wait_s, Some(0.5));
    }

    #[test]
    fn a_wrong_cause_a_wrong_fault_and_silence_are_told_apart() {
        let cause = score(&heat(), &judgement(vec![judged(21.0, 44.0, "encoder", "disk")]));
        assert!(cause.fault_right && !cause.cause_right);
        let fault = score(&heat(), &judgement(vec![judged(21.0, 44.0, "network", "route")]));
        assert!(!fault.fault_right && fault.false_alarms == 1 && fault.wait_s.is_none());
        assert!(!score(&heat(), &judgement(vec![])).fault_right);
    }

    #[test]
    fn an_alarm_in_calm_is_false() {
        let calm = Truth { from_s: 20.0, to_s: 40.0, end_s: 60.0, ..Truth::default() };
        assert_eq!(score(&calm, &judgement(vec![judged(3.0, 9.0, "network", "route")])).false_alarms, 1);
        let silent = score(&calm, &judgement(vec![]));
        assert!(silent.fault_right && silent.cause_right && silent.calm_s == 60.0);
    }

    #[test]
    fn both_of_two_troubles_must_be_heard() {
        let mut truth = heat();
        truth.wrong.push(Wrong { fault: "network".into(), cause: "route".into() });
        truth.lost.insert("network".into(), 50);
        let one = judged(21.0, 44.0, "encoder", "heat");
        assert!(!score(&truth, &judgement(vec![one.clone()])).fault_right);
        let both =
            Judged { also: vec![moth::recordings::judged::Also { fault: "network", cause: Some("route") }], ..one };
        assert!(score(&truth, &judgement(vec![both])).cause_right);
    }

    #[test]
    fn a_verdict_may_stand_until_its_losses_have_cleared_and_no_longer() {
        let until = |to_s| score(&heat(), &judgement(vec![judged(21.0, to_s, "encoder", "heat")])).lingered;
        assert!(!until(40.0 + CLEARS_S) && until(40.0 + CLEARS_S + 1.5));
    }

    #[test]
    fn the_verdict_that_stood_longest_is_what_was_told_and_each_change_of_it_counts() {
        let (heat_first, disk, heat_again) = (
            judged(21.0, 24.0, "encoder", "heat"),
            judged(24.0, 29.0, "encoder", "disk"),
            judged(29.0, 33.0, "encoder", "heat"),
        );
        let found = score(&heat(), &judgement(vec![heat_first, disk, heat_again]));
        assert_eq!(found.told.map(|told| told.cause), Some("heat".into()), "seven seconds of heat, five of the disk");
        assert_eq!(found.changes, 2);
    }

    #[test]
    fn a_trouble_that_cost_next_to_nothing_need_not_be_named_beside_another() {
        let mut truth = heat();
        truth.wrong.push(Wrong { fault: "network".into(), cause: "route".into() });
        let one = judgement(vec![judged(21.0, 44.0, "encoder", "heat")]);
        truth.lost.insert("network".into(), COSTLY - 1);
        assert!(score(&truth, &one).fault_right);
        truth.lost.insert("network".into(), COSTLY);
        assert!(!score(&truth, &one).fault_right);
    }

    #[test]
    fn a_trouble_that_never_cost_a_frame_is_none() {
        let mild = Truth { first_loss_s: None, ..heat() };
        let silent = score(&mild, &judgement(vec![]));
        assert!(silent.fault_right && silent.truth.is_empty() && silent.wait_s.is_none());
        let named = score(&mild, &judgement(vec![judged(21.0, 30.0, "encoder", "heat")]));
        assert!(named.fault_right && named.false_alarms == 0, "to name it rightly all the same is no mistake");
    }
}
