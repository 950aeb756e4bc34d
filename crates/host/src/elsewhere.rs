//! A platform whose load cannot be read yet: everything is not available.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::time::Duration;

use moth_core::machine_load::MachineLoad;
use moth_plan::check::{Fact, Lookup, MachineFacts};
use moth_plan::surroundings::Surroundings;

use crate::look::MachineLook;

/// Where things would be read.
#[derive(Debug, Clone)]
pub struct Places {
    /// The folder recordings go to, if there is one.
    pub recordings: Option<PathBuf>,
}

impl Places {
    /// The places at which a real machine tells of itself.
    #[must_use]
    pub fn real(recordings: Option<PathBuf>) -> Self {
        Self { recordings }
    }
}

/// Reads a machine's load; here it cannot.
#[derive(Debug)]
pub struct Machine;

impl Machine {
    /// A reader of these places, which are not looked at.
    #[must_use]
    pub fn new(_places: Places) -> Self {
        Self
    }

    /// Nothing is known.
    pub fn read(&mut self, _look: MachineLook) -> MachineLoad {
        MachineLoad::default()
    }
}

/// What is looked for beyond the machine itself.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Quest {
    /// Where the broadcast will go.
    pub server: Option<IpAddr>,
    /// Where a running broadcaster would be connected to.
    pub broadcaster_at: Vec<SocketAddr>,
    /// The folder recordings go to.
    pub recordings: PathBuf,
}

/// A survey of a machine; here it finds nothing.
#[derive(Debug)]
pub struct Survey;

impl Survey {
    /// Looks for the first time, at nothing.
    #[must_use]
    pub fn begin(_proc: PathBuf, _sys: PathBuf, _quest: Quest) -> Self {
        Self
    }

    /// Nothing is known.
    #[must_use]
    pub fn surroundings(&self, _elapsed: Duration) -> Surroundings {
        Surroundings::default()
    }

    /// Nothing is known, and that is said.
    #[must_use]
    pub fn facts(self, _elapsed: Duration, dns: Fact<Vec<Lookup>>) -> MachineFacts {
        fn unknown<T>() -> Fact<T> {
            Err("not readable on this platform yet".into())
        }
        MachineFacts {
            interface: unknown(),
            uploads: unknown(),
            cpu: unknown(),
            gpu: unknown(),
            disk: unknown(),
            governor: unknown(),
            heat: unknown(),
            memory: unknown(),
            cpu_pressure: unknown(),
            broadcaster: unknown(),
            dns,
        }
    }
}

/// The first router on the way to an address: not known here.
#[must_use]
pub fn gateway_to(_address: std::net::IpAddr) -> Option<std::net::IpAddr> {
    None
}

/// The scheduling priority of a program cannot be set here yet.
///
/// # Errors
/// Always, and it says so.
pub fn set_priority(_peer: SocketAddr, _nice: i32) -> std::io::Result<i32> {
    Err(std::io::Error::other("priorities cannot be set on this platform yet"))
}

/// Gives everybody else the processor before this process: not possible here.
///
/// # Errors
/// Always.
pub fn stand_back() -> std::io::Result<()> {
    Err(std::io::Error::other("not possible on this platform yet"))
}

/// Lets the other threads go before this one: not possible here.
///
/// # Errors
/// Always.
pub fn give_way() -> std::io::Result<()> {
    Err(std::io::Error::other("not possible on this platform yet"))
}

/// Whether a process runs: not known here, and taken to be so.
#[must_use]
pub fn runs(_process: u32) -> bool {
    true
}

/// The time this process has worked so far: not known here.
#[must_use]
pub fn worked() -> Duration {
    Duration::ZERO
}
