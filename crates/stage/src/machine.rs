//! The stand-in machine: a scripted load, wavering a little.

use std::time::Duration;

use moth_core::figure::Origin;
use moth_core::reading::{MachineLoad, Observation};
use moth_relay::Recorder;
use tokio::sync::watch;
use tokio::time::interval;

use crate::conditions::{Conditions, MachineConditions};
use crate::noise::Noise;

/// Cores of the stand-in machine.
const CORES: usize = 8;

/// Tells its load once a second, as a real machine's reader would.
pub(crate) async fn run(conditions: watch::Receiver<Conditions>, recorder: Recorder, seed: u64) {
    let mut noise = Noise::new(seed, "machine");
    let mut tick = interval(Duration::from_secs(1));
    loop {
        tick.tick().await;
        let now = conditions.borrow().machine.clone();
        recorder.note(Origin::Measured, Observation::Machine(load(&now, &mut noise)));
    }
}

fn load(now: &MachineConditions, noise: &mut Noise) -> MachineLoad {
    // What is nearly full or nearly idle wavers little.
    let mut share = |mean: f64| Some((mean + (noise.about(1.0, 0.15) - 1.0) * mean.min(1.0 - mean)).clamp(0.0, 1.0));
    let cpu = share(now.cpu);
    let cores = (0..CORES).map(|_| share(now.cpu).unwrap_or_default()).collect();
    MachineLoad {
        cpu,
        cores,
        broadcaster_cpu: share(now.broadcaster_cpu),
        broadcaster_name: Some("stand-in".into()),
        busiest_other: now.other.as_ref().map(|o| (o.name.clone(), o.share)),
        gpu_render: share(now.gpu_render),
        gpu_encode: share(now.gpu_encode),
    }
}
