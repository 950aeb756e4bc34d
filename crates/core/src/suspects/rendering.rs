//! Lagged frames: the scene was not ready in time, so the last picture is shown again.

use super::cause::{Cause, Fault};
use super::encoder::{CPU_FULL, HOG, IDLE, is_slowed_by_heat};
use super::suspect::{Suspect, Weighed};
use super::weighing::{Cases, Held, frames_lost, percent, weigh};
use crate::by_hand::Hand;
use crate::facts::Facts;
use crate::figure::Origin;
use crate::proposal::{Proposal, RAISED, half_rate, smaller_size, to_priority};

/// Fewer lagged frames than this in the window are ordinary: a scene change alone may cost one or two. Ours.
const ALARM_FRAMES: f64 = 3.0;
/// Repeats seen in the pictures must come in this many separate runs: one may be a pause, and a few may be the film's own. Ours.
const ALARM_RUNS: f64 = 5.0;
/// Fewer runs, if they are as many as this, and this share of the frames due. Ours.
const ALARM_FEW_RUNS: f64 = 2.0;
const ALARM_SHARE: f64 = 0.2;
/// A GPU this busy has nothing left, as a share of its rendering engine. Ours.
const GPU_FULL: f64 = 0.95;
/// Another program that takes this share of the rendering engine is worth naming. Ours.
const GPU_HOG: f64 = 0.2;

use Cause::{CpuStarved, GpuSaturated, Heat, SceneHeavy};

pub(super) fn suspect(facts: &Facts, held: &Held) -> Option<Suspect> {
    let lagged = facts.lagged?;
    let lingering = held.has(Fault::Rendering) && facts.lagged_clear > 0.0;
    let many =
        facts.lagged_runs >= ALARM_RUNS || facts.lagged_runs >= ALARM_FEW_RUNS && lagged >= ALARM_SHARE * facts.due;
    let enough = lagged >= ALARM_FRAMES && (facts.lagged_inferred.is_none() || many);
    if !enough && !lingering || !facts.lagged_load_known {
        return None;
    }
    let finding = weigh(Fault::Rendering, cases(facts), held, facts.lagged_just > 0.0);
    let cause = finding.cause();
    let known = if facts.lagged_inferred.is_some() { " (inferred from the pictures)" } else { "" };
    let loss = format!("{} lagged{known}", frames_lost(lagged));
    let trust = facts.lagged_inferred.map_or(0.98, crate::figure::Trust::weight);
    Some(Suspect {
        fault: Fault::Rendering,
        cause,
        confidence: match finding.told {
            Some((_, share)) => trust * share,
            None => 0.6 * trust,
        },
        harm_frames: facts.lagged_mean,
        sentence: sentence(facts, cause, &loss),
        evidence: finding.evidence(),
        would_change: match cause {
            Some(_) => finding.would_change(),
            None => "How busy the GPU is, or what rendering takes, reported over the feed, would tell.".into(),
        },
        proposals: proposals(facts, cause),
        weighed: finding.weighed,
    })
}

/// Every cause weighed, whether or not anything is lost.
pub(super) fn weighed(facts: &Facts, held: &Held) -> Vec<Weighed> {
    weigh(Fault::Rendering, cases(facts), held, true).weighed
}

fn cases(facts: &Facts) -> Cases {
    let mut cases = Cases::of(&[GpuSaturated, SceneHeavy, CpuStarved, Heat]);
    let machine = &facts.scene;
    if let Some(busy) = machine.gpu_render {
        let full = busy > GPU_FULL;
        let text = format!("GPU rendering engine {} busy", percent(busy));
        let weights = if full {
            [(GpuSaturated, 1.2), (SceneHeavy, -0.5), (CpuStarved, -0.5), (Heat, -0.2)]
        } else {
            [(GpuSaturated, -1.2), (SceneHeavy, 0.6), (CpuStarved, 0.2), (Heat, 0.0)]
        };
        cases.sign(Origin::Measured, &text, &weights);
    }
    if let Some((name, share)) = machine.gpu_busiest_other.as_ref().filter(|(_, share)| *share > GPU_HOG) {
        let text = format!("{name} takes {} of the GPU's rendering engine", percent(*share));
        cases.sign(Origin::Measured, &text, &[(GpuSaturated, 0.5), (SceneHeavy, -0.4)]);
    }
    if let (Some(took), Some(budget)) = (facts.render_ms, facts.interval_ms) {
        let over = took > budget;
        let text = format!("a frame takes {took:.1} ms to render and lasts {budget:.1} ms");
        let weights = if over {
            [(GpuSaturated, 0.5), (SceneHeavy, 0.6), (CpuStarved, 0.3), (Heat, 0.2)]
        } else {
            [(GpuSaturated, 0.0), (SceneHeavy, -0.3), (CpuStarved, 0.0), (Heat, 0.0)]
        };
        cases.sign(Origin::Reported, &text, &weights);
    }
    if let Some(cpu) = machine.cpu {
        let hog = machine.busiest_other.as_ref().filter(|(_, share)| *share > HOG && cpu > CPU_FULL);
        let (text, bans) = match hog {
            Some((name, share)) => (format!("{name} takes {} of all cores, which are full", percent(*share)), 1.5),
            None => (format!("CPU {} in use", percent(cpu)), if cpu > CPU_FULL { -0.3 } else { -1.4 }),
        };
        cases.sign(Origin::Measured, &text, &[(CpuStarved, bans)]);
        if hog.is_some() {
            cases.sign(Origin::Measured, &text, &[(SceneHeavy, -0.5), (Heat, -0.4), (GpuSaturated, -0.2)]);
        }
    } else {
        cases.unknown("who has the CPU is not known", &[(CpuStarved, -0.6)]);
    }
    match is_slowed_by_heat(facts, &facts.scene) {
        Some((true, text)) => {
            cases.sign(
                Origin::Measured,
                &text,
                &[(Heat, 1.8), (SceneHeavy, -0.7), (GpuSaturated, -0.4), (CpuStarved, -0.2)],
            );
        }
        Some((false, text)) => cases.sign(Origin::Measured, &text, &[(Heat, -1.8)]),
        None => cases.unknown("no sensor tells of heat", &[(Heat, -1.2)]),
    }
    cases
}

fn sentence(facts: &Facts, cause: Option<Cause>, loss: &str) -> String {
    let machine = &facts.scene;
    match cause {
        Some(GpuSaturated) => match machine.gpu_busiest_other.as_ref().filter(|(_, share)| *share > GPU_HOG) {
            Some((name, share)) => {
                format!("The GPU has nothing left to render with, and {name} takes {} of it: {loss}.", percent(*share))
            }
            None => format!(
                "The GPU{} has nothing left to render with ({} busy): {loss}.",
                machine.host.as_ref().map_or(String::new(), |host| format!(" of {host}")),
                percent(machine.gpu_render.unwrap_or_default())
            ),
        },
        Some(CpuStarved) => match &machine.busiest_other {
            Some((name, share)) if *share >= IDLE => {
                format!("{name} takes {} of the CPU the scene needs: {loss}.", percent(*share))
            }
            Some((_, share)) => format!(
                "Other programs took the CPU the scene needs, and none of them takes more than {} now: {loss}.",
                percent(*share)
            ),
            None => format!("Other programs take the CPU the scene needs: {loss}."),
        },
        Some(Heat) => {
            let (_, text) = is_slowed_by_heat(facts, &facts.scene).unwrap_or_default();
            format!("The machine slows itself down for its heat ({text}): {loss}.")
        }
        Some(_) => format!("The scene takes longer to render than a frame lasts: {loss}."),
        None => format!("Scenes are not ready in time: {loss}. Nothing tells why."),
    }
}

fn proposals(facts: &Facts, cause: Option<Cause>) -> Vec<Proposal> {
    let machine = &facts.scene;
    let first = match cause {
        Some(GpuSaturated) => {
            let hog = machine.gpu_busiest_other.as_ref().filter(|(_, share)| *share > GPU_HOG);
            Hand::FreeGpu(hog.map(|(name, _)| name.clone()))
        }
        Some(CpuStarved) => {
            let hog = machine.busiest_other.as_ref().filter(|(_, share)| *share >= IDLE);
            Hand::CloseProgram(hog.map(|(name, _)| name.clone()))
        }
        Some(Heat) => Hand::Cool,
        _ => Hand::LighterScene,
    };
    let priority = (cause == Some(CpuStarved)).then(|| to_priority(RAISED));
    let picture = [half_rate(&facts.stream), smaller_size(&facts.stream)].into_iter().flatten();
    std::iter::once(first.proposal()).chain(priority).chain(picture).collect()
}
