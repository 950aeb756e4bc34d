//! `moth rehearse --headless`: JSON lines, an object as each step begins and ends, and last the outcome. `docs/rehearse.md` describes
//! them.

use moth_core::Snapshot;
use moth_core::suspects::{Cause, Fault};
use moth_rehearsal::climb::{Purpose, Tried};
use moth_rehearsal::figures::Figures;
use moth_rehearsal::finding::ClimbFinding;
use moth_rehearsal::ladder::Value;
use moth_rehearsal::runner::Stand;
use moth_rehearsal::soak::{Broke, Soaked};
use moth_store::rehearsals::{Rehearsed, What};
use serde::Serialize;
use serde_json::{Value as Json, json};

use super::run::{Run, Task, is_clean};
use super::told;

/// A soak tells how far it is so often, in seconds. Ours.
const SOAK_EACH: usize = 10;

/// What was told of a rehearsal so far.
#[derive(Debug, Default)]
pub struct RehearsalLines {
    begun: Option<(usize, usize)>,
    tries: usize,
    asked: bool,
    told_s: Option<usize>,
    broke: usize,
}

#[derive(Serialize)]
struct Step<'a> {
    step: usize,
    of: usize,
    value: String,
    #[serde(rename = "try")]
    nth: usize,
    why: Purpose,
    #[serde(flatten)]
    what: StepWhat<'a>,
}

#[derive(Serialize)]
#[serde(untagged)]
enum StepWhat<'a> {
    Begins {
        begins: bool,
        seconds_at_least: usize,
        seconds_at_most: usize,
        left_s: usize,
    },
    Ended {
        clean: bool,
        seconds: usize,
        lost_percent: f64,
        gave_way: Option<Fault>,
        cause: Option<Cause>,
        because: Option<&'a str>,
        figures: &'a Figures,
    },
}

impl RehearsalLines {
    /// What it begins with.
    #[must_use]
    pub fn first(run: &Run) -> Json {
        let rungs = match &run.task {
            Task::Climb(runner) => runner.ladder().rungs().iter().map(Value::word).collect::<Vec<_>>(),
            Task::Soak(_) => Vec::new(),
        };
        let to_do: Vec<&str> = match &run.task {
            Task::Climb(_) => Vec::new(),
            Task::Soak(soak) => soak.to_do().iter().map(|to_do| to_do.text.as_str()).collect(),
        };
        let about = &run.about;
        json!({"rehearsal": word(run), "setup": about.setup, "server": about.server, "simulated": about.simulated,
            "publish_to": about.publish_to, "rungs": rungs, "to_do": to_do})
    }

    /// What is new since it was asked last.
    pub fn take(&mut self, run: &Run, snapshot: &Snapshot) -> Vec<Json> {
        match &run.task {
            Task::Climb(runner) => {
                let rungs = runner.ladder().rungs();
                let mut new: Vec<Json> = Vec::new();
                let tries = runner.climb().tries();
                for (nth, tried) in tries.iter().enumerate().skip(self.tries) {
                    new.extend(ended(rungs, nth, tried));
                }
                self.tries = tries.len();
                let asks = runner.stand() == Stand::Asking;
                if asks && !std::mem::replace(&mut self.asked, asks) {
                    let advice = snapshot.awaited.as_ref().map(|awaited| awaited.action.words());
                    new.push(json!({"asks": advice, "then": "it is seen on the wire, and counts from then on"}));
                }
                self.asked = asks;
                // A step begins when what is seen is its own.
                if let (Stand::Trying, Some((value, rung, length, why))) = (runner.stand(), runner.now())
                    && self.begun != Some((rung, tries.len()))
                {
                    self.begun = Some((rung, tries.len()));
                    let what = StepWhat::Begins {
                        begins: true,
                        seconds_at_least: length.least_s,
                        seconds_at_most: length.most_s,
                        left_s: runner.left_s(),
                    };
                    let (step, of, nth) = (rung + 1, rungs.len(), tries.len() + 1);
                    new.extend(serde_json::to_value(Step { step, of, value: value.word(), nth, why, what }));
                }
                new
            }
            Task::Soak(soak) => {
                let soaked = soak.soaked();
                let mut new: Vec<Json> = Vec::new();
                // A loss is told when it is over, with all that is known of it.
                let over = |broke: &Broke| broke.at + broke.seconds + SOAK_EACH < soaked.from + soaked.seconds;
                while let Some(broke) = soaked.broke.get(self.broke).filter(|broke| over(broke) || soak.end().is_some())
                {
                    self.broke += 1;
                    new.push(json!({"broke": broke_json(broke, &soaked)}));
                }
                let tens = soaked.seconds / SOAK_EACH;
                if soak.is_running() && self.told_s != Some(tens) {
                    self.told_s = Some(tens);
                    new.push(json!({"seconds": soaked.seconds, "of": soaked.of, "lost_percent": percent(soaked.lost),
                        "fault": snapshot.verdict.fault}));
                }
                new
            }
        }
    }

    /// What it came to.
    #[must_use]
    pub fn last(run: &Run) -> Option<Json> {
        let over = run.over.as_ref()?;
        let mut outcome = match &over.what {
            What::Climb(finding) => climbed(finding),
            What::Soak(soaked) => soak(soaked),
        };
        let more = json!({"clean": is_clean(over), "sentences": told::sentences(run), "setup": over.setup, "server": over.server,
            "simulated": over.simulated, "made_up": run.about.is_made_up, "short": run.about.is_short,
            "before": run.before.as_ref().map(before)});
        if let (Some(outcome), Json::Object(more)) = (outcome.as_object_mut(), more) {
            outcome.extend(more);
        }
        Some(json!({ "outcome": outcome }))
    }
}

fn word(run: &Run) -> &'static str {
    match &run.task {
        Task::Climb(runner) => runner.ladder().kind().word(),
        Task::Soak(_) => "soak",
    }
}

fn percent(share: f64) -> f64 {
    (share * 100_000.0).round() / 1000.0
}

fn ended(rungs: &[Value], nth: usize, tried: &Tried) -> Option<Json> {
    let at_fault = tried.at_fault.filter(|_| !tried.held);
    let what = StepWhat::Ended {
        clean: tried.held,
        seconds: tried.seconds,
        lost_percent: percent(tried.lost),
        gave_way: at_fault.map(|(fault, _)| fault),
        cause: at_fault.and_then(|(_, cause)| cause),
        because: tried.because.as_deref(),
        figures: &tried.figures,
    };
    let value = rungs.get(tried.rung)?.word();
    serde_json::to_value(Step { step: tried.rung + 1, of: rungs.len(), value, nth: nth + 1, why: tried.purpose, what })
        .ok()
}

/// Bitrates are bits per second; presets and pictures are their words.
fn value(value: &Value) -> Json {
    match value {
        Value::Bitrate(rate) => json!(rate.bps()),
        other => json!(other.word()),
    }
}

fn climbed(finding: &ClimbFinding) -> Json {
    let choices: Vec<Json> = finding
        .choices()
        .iter()
        .map(|choice| {
            json!({"value": value(choice.value), "clean": choice.held, "tries": choice.tries, "lost_percent": percent(choice.lost),
                "figures": choice.figures})
        })
        .collect();
    json!({
        "climb": finding.climb,
        "highest_clean": finding.clean().map(value),
        "recommended": finding.recommended().map(value),
        "margin_percent": finding.margin().map(percent),
        "lowest_failed": finding.lowest_failed.and_then(|rung| finding.rungs.get(rung)).map(value),
        "gave_way": finding.at_fault.map(|(fault, _)| fault),
        "cause": finding.at_fault.and_then(|(_, cause)| cause),
        "sure": finding.rules_out_every_s().map(|every_s| json!({
            "seconds": finding.clean_s, "losses": finding.losses, "rules_out_loss_every_s": every_s.round(), "confidence": 0.95})),
        "known": finding.known,
        "end": finding.end,
        "why": finding.why,
        "ceiling": finding.ceiling.as_ref().map(|ceiling| &ceiling.why),
        "left_at": finding.left_at.as_ref().map(value),
        "choices": choices,
    })
}

fn broke_json(broke: &Broke, soaked: &Soaked) -> Json {
    json!({"how": broke.how, "at_s": broke.at.saturating_sub(soaked.from), "seconds": broke.seconds, "lost": broke.lost,
        "gave_way": broke.at_fault.map(|(fault, _)| fault), "cause": broke.at_fault.and_then(|(_, cause)| cause),
        "because": broke.because, "after": broke.after.as_ref().map(|(text, _)| text),
        "after_s": broke.after.as_ref().map(|(_, ago)| ago)})
}

fn soak(soaked: &Soaked) -> Json {
    let to_do: Vec<Json> = soaked
        .to_do
        .iter()
        .map(|to_do| json!({"text": to_do.text, "done_at_s": to_do.done_at.map(|at| at.saturating_sub(soaked.from))}))
        .collect();
    json!({
        "climb": "soak",
        "seconds": soaked.seconds,
        "of": soaked.of,
        "lost_percent": percent(soaked.lost),
        "broke": soaked.broke.iter().map(|broke| broke_json(broke, soaked)).collect::<Vec<_>>(),
        "to_do": to_do,
        "sure": soaked.rules_out_every_s().map(|every_s| json!({
            "seconds": soaked.seconds, "losses": soaked.broke.len(), "rules_out_loss_every_s": every_s.round(), "confidence": 0.95})),
        "known": soaked.known,
        "end": soaked.end,
        "why": soaked.why,
    })
}

fn before(before: &Rehearsed) -> Json {
    let mut told = json!({"date": before.date.to_string(), "clean": is_clean(before)});
    if let (What::Climb(finding), Some(told)) = (&before.what, told.as_object_mut()) {
        told.insert("highest_clean".into(), finding.clean().map_or(Json::Null, value));
        told.insert("recommended".into(), finding.recommended().map_or(Json::Null, value));
    }
    told
}
