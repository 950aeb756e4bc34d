//! A platform whose load cannot be read yet: everything is not available.

use std::net::SocketAddr;
use std::path::PathBuf;

use moth_core::reading::MachineLoad;

/// Reads a machine's load; here it cannot.
#[derive(Debug)]
pub struct Machine;

impl Machine {
    /// A reader below `root`, which is not looked at.
    #[must_use]
    pub fn new(_root: PathBuf) -> Self {
        Self
    }

    /// Nothing is known.
    pub fn read(&mut self, _broadcaster: Option<SocketAddr>) -> MachineLoad {
        MachineLoad::default()
    }
}
