//! Signals: figures of each second that say something of a cause, for whoever draws them along time.

use crate::history::Second;

/// A full bar of the disk's signal, in milliseconds: a healthy disk's few would fill a bar that knew no scale. Ours.
const SLOW_WRITE_MS: f32 = 200.0;

/// Up to where a signal's bars go.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Scale {
    /// The highest that is shown.
    Highest,
    /// This much, in the signal's unit.
    UpTo(f32),
    /// The longest round trip that is shown, whichever it is of: it is each against the others that tells where a queue stands.
    RoundTrips,
}

/// A figure of each second.
#[derive(Debug, Clone, Copy)]
pub struct Figured {
    /// What it is, where there is little room.
    pub short: &'static str,
    /// What it is.
    pub name: &'static str,
    /// Its unit.
    pub unit: &'static str,
    /// Its value in a second; `None` if it is not known.
    pub value: fn(&Second) -> Option<f32>,
    /// Up to where its bars go.
    pub scale: Scale,
}

/// What says most of a cause.
#[derive(Debug, Clone, Copy)]
pub enum Signal {
    /// A figure.
    Figure(Figured),
    /// What is carried, beside what is asked.
    Carried,
    /// How the connection stands.
    Connection,
}

/// Shares of seconds are from 0 to 1; drawn in percent.
const fn percent(short: &'static str, name: &'static str, value: fn(&Second) -> Option<f32>) -> Signal {
    Signal::Figure(Figured { short, name, unit: "%", value, scale: Scale::UpTo(100.0) })
}

const fn milliseconds(
    short: &'static str,
    name: &'static str,
    value: fn(&Second) -> Option<f32>,
    scale: Scale,
) -> Signal {
    Signal::Figure(Figured { short, name, unit: "ms", value, scale })
}

/// Round trip on the connection.
pub const ROUND_TRIP: Signal = milliseconds("round trip", "round trip", |s| s.rtt_ms, Scale::RoundTrips);
/// Round trip to the first router.
pub const FIRST_ROUTER: Signal =
    milliseconds("first router", "round trip to the first router", |s| s.gateway_ms, Scale::RoundTrips);
/// Round trip to another server.
pub const OTHER_SERVER: Signal =
    milliseconds("other server", "round trip to another server", |s| s.other_ms, Scale::RoundTrips);
/// What other programs here send.
pub const UPLOADS: Signal = Signal::Figure(Figured {
    short: "uploads here",
    name: "uploads here",
    unit: "kb/s",
    value: |s| s.uploads_kbps,
    scale: Scale::Highest,
});
/// Share of the busy time that the receiver's window held up.
pub const WINDOW_FULL: Signal =
    percent("window full", "its window full, of the time", |s| s.receiver_limited.map(|v| v * 100.0));
/// Time to encode a frame.
pub const ENCODE_TIME: Signal =
    milliseconds("a frame takes", "a frame takes to encode", |s| s.encode_ms, Scale::Highest);
/// The busiest other program's share of all cores.
pub const OTHER_PROGRAM: Signal =
    percent("busiest other", "busiest other, of all cores", |s| s.other_cpu.map(|v| v * 100.0));
/// How busy the GPU's encoder block is.
pub const ENCODER_BLOCK: Signal = percent("encoder block", "encoder block", |s| s.gpu_encode.map(|v| v * 100.0));
/// The CPU's frequency, of the most it may have.
pub const CLOCK: Signal = percent("clock", "clock, of the most it may have", |s| s.frequency.map(|v| v * 100.0));
/// Time a write to the disk takes.
pub const DISK_WRITE: Signal =
    milliseconds("a write takes", "a write takes", |s| s.disk_write_ms, Scale::UpTo(SLOW_WRITE_MS));
/// How busy the GPU's rendering engine is.
pub const GPU: Signal = percent("GPU", "GPU, drawing", |s| s.gpu.map(|v| v * 100.0));
/// Time to render a frame.
pub const RENDER_TIME: Signal = milliseconds("a scene takes", "a scene takes to draw", |s| s.render_ms, Scale::Highest);
