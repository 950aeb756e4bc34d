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
    /// What others beyond this machine send over it, in kb/s.
    pub others_kbps: f64,
    /// What the link from the machine to the first router carries, in kb/s.
    pub link_kbps: f64,
    /// The first router's round trip, in milliseconds, with nothing waiting.
    pub gateway_ms: f64,
}

impl LineConditions {
    /// What is left of it for the broadcast, in kb/s, and whether the link to the first router is narrower.
    pub(crate) fn left_kbps(&self, uploads_kbps: f64) -> (f64, bool) {
        // Whoever shares a line gets a part of it, however greedy the others.
        let line = (self.up_kbps - self.others_kbps - uploads_kbps).max(self.up_kbps * 0.05);
        (line.min(self.link_kbps), self.link_kbps < line)
    }
}

impl Default for LineConditions {
    fn default() -> Self {
        Self {
            up_kbps: 12_000.0,
            delay_ms: 9.0,
            jitter_ms: 2.0,
            buffer_ms: 400.0,
            others_kbps: 0.0,
            link_kbps: 300_000.0,
            gateway_ms: 1.4,
        }
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
    /// The encoder stands still this long each second, in milliseconds: it waits for a disk.
    pub stall_ms: f64,
    /// It tells what it counts.
    pub reports: bool,
    /// Nothing moves in the picture.
    pub still: bool,
    /// Frames smaller than the bitrate allows are filled up.
    pub pads: bool,
    /// A late picture is waited for, not skipped: everything comes, and later and later.
    pub waits: bool,
    /// It is there, and encodes nothing: paused.
    pub paused: bool,
    /// Sound comes, and carries nothing.
    pub muted: bool,
    /// How much faster than the picture's clock the sound's runs, as a share.
    pub sound_gains: f64,
}

impl Default for BroadcasterConditions {
    fn default() -> Self {
        Self {
            width: 1280,
            height: 720,
            fps: 60,
            video_kbps: 6000,
            audio_kbps: 160,
            render_ms: 9.2,
            encode_ms: 8.1,
            stall_ms: 0.0,
            reports: true,
            still: false,
            pads: false,
            waits: false,
            paused: false,
            muted: false,
            sound_gains: 0.0,
        }
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
    /// The program that uses the GPU's rendering engine most, but for the broadcaster.
    pub gpu_other: Option<OtherProgram>,
    /// The same for its encoder block.
    pub gpu_encode_other: Option<OtherProgram>,
    /// A program that uploads, and how much.
    pub upload: Option<Uploader>,
    /// The way out begins with a radio.
    pub wireless: bool,
    /// Its signal, in dBm.
    pub signal_dbm: f64,
    /// The fastest core's frequency, as a share of the most it may have.
    pub frequency: f64,
    /// How often a second the CPU slows itself down.
    pub throttles: f64,
    /// The hottest sensor, in degrees Celsius; it slows down at 95.
    pub celsius: f64,
    /// Mean time a write to the disk takes, in milliseconds.
    pub disk_write_ms: f64,
    /// Share of the time in which something waits for a disk.
    pub disk_pressure: f64,
    /// Share of the time in which something waits for memory.
    pub memory_pressure: f64,
    /// Nothing is known of a GPU.
    pub no_gpu: bool,
}

/// A program that uploads.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Uploader {
    /// Its name.
    pub name: String,
    /// What it sends, in kb/s.
    pub kbps: f64,
}

impl MachineConditions {
    /// What other programs here upload, in kb/s.
    pub(crate) fn uploads_kbps(&self) -> f64 {
        self.upload.as_ref().map_or(0.0, |upload| upload.kbps)
    }
}

impl Default for MachineConditions {
    fn default() -> Self {
        Self {
            cpu: 0.38,
            broadcaster_cpu: 0.24,
            gpu_render: 0.57,
            gpu_encode: 0.05,
            other: None,
            gpu_other: None,
            gpu_encode_other: None,
            upload: None,
            wireless: false,
            signal_dbm: -55.0,
            frequency: 0.97,
            throttles: 0.0,
            celsius: 71.0,
            disk_write_ms: 4.0,
            disk_pressure: 0.02,
            memory_pressure: 0.0,
            no_gpu: false,
        }
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
