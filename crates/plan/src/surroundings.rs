//! What is around a measurement on this machine: the interface in use, and who else uploads.

pub use moth_core::machine_load::Upload;
use moth_core::rate::Bitrate;
use serde::{Deserialize, Serialize};

/// How the machine is joined to the network.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Medium {
    /// By cable.
    Wired,
    /// By radio.
    Wireless,
    /// By no network: this machine talks to itself.
    Loopback,
    /// A tunnel, a bridge, a virtual cable: what is beneath cannot be seen.
    Virtual,
}

impl Medium {
    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Wired => "wired",
            Self::Wireless => "wireless",
            Self::Loopback => "loopback",
            Self::Virtual => "virtual",
        }
    }
}

/// The network interface in use. What cannot be read is `None`.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Interface {
    /// Its name.
    pub name: String,
    /// How it is joined.
    pub medium: Option<Medium>,
    /// Its rate.
    #[serde(rename = "rate_bps")]
    pub rate: Option<Bitrate>,
    /// Wireless signal, in dBm.
    pub signal_dbm: Option<f64>,
    /// Errors since it came up, sending and receiving.
    pub errors: Option<u64>,
    /// Packets it threw away since it came up, sending and receiving.
    pub drops: Option<u64>,
    /// The queue discipline that sends on it.
    pub qdisc: Option<String>,
}

impl Interface {
    /// Under which name a result is kept, so that later ones can be compared: the interface and how it is joined.
    #[must_use]
    pub fn line(&self) -> String {
        match self.medium {
            Some(medium) => format!("{} ({})", self.name, medium.word()),
            None => self.name.clone(),
        }
    }
}

/// Everything around a measurement.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Surroundings {
    /// The interface that leads to the server.
    pub interface: Option<Interface>,
    /// Who uploads already, the busiest first; `None` if it cannot be read.
    pub uploads: Option<Vec<Upload>>,
    /// What the interface sent in all meanwhile; it holds what TCP's accounting does not see.
    #[serde(rename = "sending_bps")]
    pub sending: Option<Bitrate>,
}
