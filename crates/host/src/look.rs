//! What of a machine is looked at, and how closely.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

/// What is looked at, and how closely.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct MachineLook {
    /// Time since any beginning, always the same one.
    pub at: Duration,
    /// The broadcaster's end of its connection.
    pub broadcaster: Option<SocketAddr>,
    /// Where the broadcast goes.
    pub server: Option<IpAddr>,
    /// Frames are being lost, or may be soon: what is dear to read is read as well.
    pub closely: bool,
}
