//! What was measured during a try, so that choices can be laid side by side.

use moth_core::Snapshot;
use moth_core::figure::Origin;
use moth_core::history::{History, Second};
use serde::{Deserialize, Serialize};

/// Means over the seconds of a try; what was not known is `None`.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Figures {
    /// Video and audio that the broadcaster sent, in kb/s.
    pub sent_kbps: Option<f64>,
    /// Bits of the video for each pixel of each frame.
    pub bits_per_pixel: Option<f64>,
    /// Frames that were due, each second.
    pub fps: Option<f64>,
    /// Share of all cores in use, in percent.
    pub cpu_percent: Option<f64>,
    /// Share of the GPU's rendering engine in use, in percent.
    pub gpu_percent: Option<f64>,
    /// Share of the GPU's encoder block in use, in percent.
    pub gpu_encode_percent: Option<f64>,
    /// Mean time to encode a frame, in milliseconds.
    pub encode_ms: Option<f64>,
    /// The longest that a frame waited, in milliseconds.
    pub queue_ms: Option<f64>,
}

impl Figures {
    /// Those of a broadcast's seconds `from` to before `until`, with a picture of so many pixels, if that is known, and sound of
    /// so many kb/s.
    #[must_use]
    pub fn of(history: &History, from: usize, until: usize, pixels: Option<f64>, audio_kbps: f64) -> Self {
        let seconds: Vec<Second> = (from..until).filter_map(|second| history.get(second)).copied().collect();
        let mean = |of: fn(&Second) -> Option<f32>| {
            let known: Vec<f64> = seconds.iter().filter_map(of).map(f64::from).collect();
            (!known.is_empty()).then(|| known.iter().sum::<f64>() / known.len() as f64)
        };
        let percent = |of| mean(of).map(|share| share * 100.0);
        let due: Vec<f64> = seconds.iter().filter_map(|second| second.due.map(f64::from)).collect();
        let fps = (!due.is_empty()).then(|| due.iter().sum::<f64>() / due.len() as f64);
        let sent_kbps = mean(|second| second.asked_kbps);
        let each = |kbps: f64, fps: f64| pixels.filter(|pixels| pixels * fps > 0.0).map(|p| kbps * 1000.0 / (p * fps));
        Self {
            sent_kbps,
            bits_per_pixel: sent_kbps.zip(fps).and_then(|(kbps, fps)| each((kbps - audio_kbps).max(0.0), fps)),
            fps,
            cpu_percent: percent(|second| second.cpu),
            gpu_percent: percent(|second| second.gpu),
            gpu_encode_percent: percent(|second| second.gpu_encode),
            encode_ms: mean(|second| second.encode_ms),
            queue_ms: seconds.iter().filter_map(|second| second.queue_ms).map(f64::from).reduce(f64::max),
        }
    }
}

/// How it is known what was lost. Dropped frames are counted by the moth itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Known {
    /// Skipped frames; `None` if they are not known.
    pub skipped: Option<Origin>,
    /// Lagged frames; `None` if they are not known.
    pub lagged: Option<Origin>,
}

impl Known {
    /// As it is now.
    #[must_use]
    pub fn of(snapshot: &Snapshot) -> Self {
        Self { skipped: snapshot.skipped.origin, lagged: snapshot.lagged.origin }
    }

    /// In a sentence, of these and of the other figures of a try.
    #[must_use]
    pub fn words(self) -> String {
        let word = |origin: Option<Origin>| origin.map_or("not available", Origin::word);
        format!(
            "Dropped frames are measured, skipped ones {}, lagged ones {}; picture sizes and encode times reported, the rest measured.",
            word(self.skipped),
            word(self.lagged)
        )
    }
}
