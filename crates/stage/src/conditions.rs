//! How things stand in an evening at one moment.

use serde::Deserialize;

/// The line between the moth and everything beyond it, shared by all connections.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct LineConditions {
    /// What it carries upstream, in kb/s.
    pub up_kbps: f64,
    /// One-way delay, in milliseconds; a server's own comes on top.
    pub delay_ms: f64,
    /// The most that delay wavers, in milliseconds.
    pub jitter_ms: f64,
    /// How much the router's buffer holds, in milliseconds at the full rate.
    pub buffer_ms: f64,
}

impl Default for LineConditions {
    fn default() -> Self {
        Self { up_kbps: 12_000.0, delay_ms: 9.0, jitter_ms: 2.0, buffer_ms: 400.0 }
    }
}

/// One ingest server.
#[derive(Debug, Clone, PartialEq)]
pub struct ServerConditions {
    /// Its name.
    pub name: String,
    /// One-way delay beyond the line, in milliseconds.
    pub delay_ms: f64,
    /// The most that delay wavers on the way to it, in milliseconds.
    pub jitter_ms: f64,
    /// What the route to it carries, in kb/s; infinite unless something is wrong.
    pub route_kbps: f64,
    /// It reads at most so much, in kb/s; infinite unless something is wrong.
    pub reads_kbps: f64,
    /// It is not there.
    pub away: bool,
}

/// What the broadcaster is busy with.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct BroadcasterConditions {
    /// Picture width in pixels.
    pub width: u32,
    /// Picture height in lines.
    pub height: u32,
    /// Frames per second.
    pub fps: u32,
    /// Video bitrate in kb/s.
    pub video_kbps: u64,
    /// Audio bitrate in kb/s.
    pub audio_kbps: u64,
    /// Mean time to render a frame, in milliseconds.
    pub render_ms: f64,
    /// Mean time to encode a frame, in milliseconds.
    pub encode_ms: f64,
}

impl Default for BroadcasterConditions {
    fn default() -> Self {
        Self { width: 1280, height: 720, fps: 60, video_kbps: 6000, audio_kbps: 160, render_ms: 9.2, encode_ms: 8.1 }
    }
}

/// Another program on the machine.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OtherProgram {
    /// Its name.
    pub name: String,
    /// Share of all cores.
    pub share: f64,
}

/// The machine's load; shares from 0 to 1.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct MachineConditions {
    /// Of all cores.
    pub cpu: f64,
    /// The broadcaster's, of all cores.
    pub broadcaster_cpu: f64,
    /// The GPU's rendering engine.
    pub gpu_render: f64,
    /// The GPU's encoder block.
    pub gpu_encode: f64,
    /// The busiest other program.
    pub other: Option<OtherProgram>,
}

impl Default for MachineConditions {
    fn default() -> Self {
        Self { cpu: 0.38, broadcaster_cpu: 0.24, gpu_render: 0.57, gpu_encode: 0.05, other: None }
    }
}

/// Everything at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Conditions {
    pub line: LineConditions,
    pub servers: Vec<ServerConditions>,
    pub broadcaster: BroadcasterConditions,
    pub machine: MachineConditions,
}
