//! Lagged frames: the scene was not ready in time, so the last picture is shown again.

use super::encoder::by_hand;
use super::{Case, Cause, Fault, Held, Suspect, frames_lost, likeliest, percent};
use crate::facts::Facts;
use crate::figure::Origin;

/// Fewer lagged frames than this in the window are ordinary: a scene change alone may cost one or two.
const ALARM_FRAMES: f64 = 3.0;
/// A GPU this busy has nothing left, as a share of its rendering engine.
const GPU_FULL: f64 = 0.95;

pub(super) fn suspect(facts: &Facts, held: &Held) -> Option<Suspect> {
    let lagged = facts.lagged?;
    let lingering = held.has(Fault::Rendering) && facts.lagged_clear > 0.0;
    if lagged < ALARM_FRAMES && !lingering || !facts.lagged_load_known {
        return None;
    }
    let mut gpu = Case::new(Cause::GpuSaturated);
    let mut scene = Case::new(Cause::SceneHeavy);
    if let Some(busy) = facts.gpu_render {
        let full = busy > GPU_FULL;
        let text = format!("GPU rendering engine {} busy", percent(busy));
        gpu.sign(Origin::Measured, if full { 1.2 } else { -1.2 }, text.clone());
        scene.sign(Origin::Measured, if full { -0.5 } else { 0.6 }, text);
    }
    if let (Some(took), Some(budget)) = (facts.render_ms, facts.interval_ms) {
        let over = took > budget;
        let text = format!("a frame takes {took:.1} ms to render and lasts {budget:.1} ms");
        gpu.sign(Origin::Reported, if over { 0.5 } else { 0.0 }, text.clone());
        scene.sign(Origin::Reported, if over { 0.6 } else { -0.3 }, text);
    }

    let loss = format!("{} lagged", frames_lost(lagged));
    let (cause, confidence, sentence, evidence) = match likeliest(vec![gpu, scene], held) {
        Some((case, share)) => {
            let sentence = match case.cause {
                Cause::GpuSaturated => format!(
                    "The GPU has nothing left to render with ({} busy): {loss}.",
                    percent(facts.gpu_render.unwrap_or_default())
                ),
                _ => format!("The scene takes longer to render than a frame lasts: {loss}."),
            };
            (Some(case.cause), 0.98 * share, sentence, case.evidence)
        }
        None => (None, 0.6, format!("Scenes are not ready in time: {loss}. Nothing tells why."), Vec::new()),
    };
    Some(Suspect {
        fault: Fault::Rendering,
        cause,
        confidence,
        harm_frames: lagged,
        sentence,
        evidence,
        proposals: vec![
            by_hand(
                "free the GPU: cap the frame rate of whatever else draws, or choose a lighter scene".into(),
                "frames stop lagging at once",
            ),
            by_hand("lower the frame rate or the picture size in the broadcaster".into(), "each frame has more time"),
        ],
    })
}
