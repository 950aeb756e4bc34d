//! The load on a machine, and who causes it.

use serde::{Deserialize, Serialize};

use crate::rate::Bitrate;

/// A program and its share of something, from 0 to 1.
pub type ProgramShare = (String, f64);

/// A program's upload.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Upload {
    /// Its name; `None` if it is another user's, or not known.
    pub program: Option<String>,
    /// What it sends to other machines over TCP.
    #[serde(rename = "rate_bps")]
    pub rate: Bitrate,
}

impl Upload {
    /// Its name, or what stands for it.
    #[must_use]
    pub fn name(&self) -> &str {
        self.program.as_deref().unwrap_or("another user's program")
    }
}

/// The load on a machine. Shares are from 0 to 1; what cannot be read is `None`.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct MachineLoad {
    /// Its name, if it is another machine of the same streamer; `None` is this one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// Share of all cores in use.
    pub cpu: Option<f64>,
    /// Share of each core in use.
    pub cores: Vec<f64>,
    /// Share of all cores that the broadcaster uses.
    pub broadcaster_cpu: Option<f64>,
    /// The broadcaster's process name.
    pub broadcaster_name: Option<String>,
    /// The busiest other program and its share of all cores.
    pub busiest_other: Option<ProgramShare>,
    /// Share of the GPU's rendering engine in use.
    pub gpu_render: Option<f64>,
    /// Share of the GPU's encoder block in use.
    pub gpu_encode: Option<f64>,
    /// The program that uses the GPU's rendering engine most, but for the broadcaster, and its share.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gpu_busiest_other: Option<ProgramShare>,
    /// The program that uses the GPU's encoder block most, but for the broadcaster, and its share.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gpu_encode_other: Option<ProgramShare>,
    /// What other programs here send beyond this machine, the most first; `None` if it cannot be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub uploads: Option<Vec<Upload>>,
    /// What the interface to the server sends beyond what all TCP connections of this machine put on the wire: UDP, a
    /// container, a virtual machine.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sent_otherwise: Option<Bitrate>,
    /// Whether the way to the server begins with a radio.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wireless: Option<bool>,
    /// The radio's signal, in dBm.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub signal_dbm: Option<f64>,
    /// Memory that could be used, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory_available_bytes: Option<u64>,
    /// Swap in use, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub swap_used_bytes: Option<u64>,
    /// Share of the last ten seconds in which something waited for memory.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory_pressure: Option<f64>,
    /// Share of the last ten seconds in which something waited for a CPU.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cpu_pressure: Option<f64>,
    /// Share of the last ten seconds in which something waited for a disk.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk_pressure: Option<f64>,
    /// The fastest core's frequency, as a share of the most it may have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub frequency: Option<f64>,
    /// How often the CPU slowed itself down for its heat, since the machine started.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub throttled: Option<u64>,
    /// The hottest sensor of those that slow the machine down, in degrees Celsius.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub celsius: Option<f64>,
    /// The temperature from which on it is slowed down, in degrees Celsius.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit_celsius: Option<f64>,
    /// Free where recordings go, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk_free_bytes: Option<u64>,
    /// Mean time a write to that disk took, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk_write_ms: Option<f64>,
    /// The program that writes most to disks, and how much.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk_busiest: Option<(String, Bitrate)>,
}

impl MachineLoad {
    /// How near its limit the machine's heat is, in degrees below it.
    #[must_use]
    pub fn below_limit_celsius(&self) -> Option<f64> {
        Some(self.limit_celsius? - self.celsius?)
    }

    /// Uploads of other programs in all; `None` if they cannot be read.
    #[must_use]
    pub fn uploads_in_all(&self) -> Option<Bitrate> {
        Some(Bitrate::from_bps(self.uploads.as_ref()?.iter().map(|u| u.rate.bps()).sum()))
    }
}
