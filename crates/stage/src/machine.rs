//! The stand-in machine: a scripted load, wavering a little.

use std::time::Duration;

use moth_core::figure::Origin;
use moth_core::machine_load::{MachineLoad, Upload};
use moth_core::rate::Bitrate;
use moth_core::reading::Observation;
use moth_relay::Recorder;
use tokio::sync::watch;
use tokio::time::interval;

use crate::conditions::{Conditions, MachineConditions, OtherProgram};
use crate::noise::Noise;

/// Cores of the stand-in machine. Ours.
const CORES: usize = 8;

/// Tells its load once a second, as a real machine's reader would.
pub(crate) async fn run(conditions: watch::Receiver<Conditions>, recorder: Recorder, seed: u64) {
    let mut noise = Noise::new(seed, "machine");
    let mut tick = interval(Duration::from_secs(1));
    let mut throttled = 0.0;
    loop {
        tick.tick().await;
        let now = conditions.borrow().machine.clone();
        throttled += now.throttles;
        recorder.note(Origin::Measured, Observation::Machine(Box::new(load(&now, throttled, &mut noise))));
    }
}

fn load(now: &MachineConditions, throttled: f64, noise: &mut Noise) -> MachineLoad {
    // What is nearly full or nearly idle wavers little.
    let mut share = |mean: f64| Some((mean + (noise.about(1.0, 0.15) - 1.0) * mean.min(1.0 - mean)).clamp(0.0, 1.0));
    let cpu = share(now.cpu);
    let cores = (0..CORES).map(|_| share(now.cpu).unwrap_or_default()).collect();
    let named = |other: &OtherProgram, share: Option<f64>| (other.name.clone(), share.unwrap_or(other.share));
    let busiest_other = now.other.as_ref().map(|o| named(o, share(o.share)));
    let gpu_busiest_other = now.gpu_other.as_ref().map(|o| named(o, share(o.share)));
    let gpu_encode_other = now.gpu_encode_other.as_ref().map(|o| named(o, share(o.share)));
    let (broadcaster_cpu, render, encode) = (share(now.broadcaster_cpu), share(now.gpu_render), share(now.gpu_encode));
    let has_gpu = |value: Option<f64>| value.filter(|_| !now.no_gpu);
    let mut wavers = |mean: f64| noise.about(mean, 0.1);
    let uploads = now.upload.as_ref().map(|upload| {
        let rate = Bitrate::from_kbps(wavers(upload.kbps) as u64);
        Upload { program: Some(upload.name.clone()), rate }
    });
    MachineLoad {
        host: None,
        cpu,
        cores,
        broadcaster_cpu,
        broadcaster_name: Some("stand-in".into()),
        busiest_other,
        gpu_render: has_gpu(render),
        gpu_encode: has_gpu(encode),
        gpu_busiest_other,
        gpu_encode_other,
        sent_otherwise: Some(Bitrate::ZERO),
        uploads: Some(uploads.into_iter().collect()),
        wireless: Some(now.wireless),
        signal_dbm: now.wireless.then(|| wavers(now.signal_dbm).clamp(-95.0, -30.0)),
        memory_available_bytes: Some(9_300_000_000),
        swap_used_bytes: Some(0),
        memory_pressure: Some(now.memory_pressure),
        cpu_pressure: Some((now.cpu - 0.7).max(0.0)),
        disk_pressure: Some(wavers(now.disk_pressure).clamp(0.0, 1.0)),
        frequency: Some(wavers(now.frequency).clamp(0.2, 1.0)),
        throttled: Some(throttled as u64),
        celsius: Some(now.celsius),
        limit_celsius: Some(95.0),
        disk_free_bytes: Some(61_000_000_000),
        disk_write_ms: Some(wavers(now.disk_write_ms).max(0.1)),
        disk_busiest: None,
    }
}
