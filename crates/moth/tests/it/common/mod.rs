//! Real programs for the tests: the moth itself, encoders, servers, terminals and networks.

mod broadcaster;
mod moth_process;
mod network;
mod programs;
mod recording;
mod servers;
pub mod terminal;

use std::net::TcpListener;
use std::process::{Child, Command};
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::{Duration, Instant};

pub use broadcaster::*;
pub use moth_process::*;
pub use network::*;
pub use programs::{current_ffmpeg, have, python_with_gstreamer};
pub use recording::*;
pub use servers::*;

/// The key used with real servers. It is looked for in everything a run writes and prints.
pub const KEY: &str = "orbit-7741-zenith-secret";

/// The first port that tests use. The kernel hands out ports from 32768 on for outgoing connections, so these are free of them.
const FIRST_PORT: u16 = 20_000;
/// Ports for each test that runs at the same time.
const PORTS_PER_SLOT: u16 = 200;

/// A port that no other running test uses. nextest numbers the tests that run at the same time (`NEXTEST_TEST_GLOBAL_SLOT`), and
/// each number has its own range; within a process, no port is given twice.
pub fn free_port() -> u16 {
    static GIVEN: AtomicU16 = AtomicU16::new(0);
    let slot: u16 = std::env::var("NEXTEST_TEST_GLOBAL_SLOT").ok().and_then(|slot| slot.parse().ok()).unwrap_or(0);
    let first = FIRST_PORT + slot % 60 * PORTS_PER_SLOT;
    loop {
        let port = first + GIVEN.fetch_add(1, Ordering::Relaxed) % PORTS_PER_SLOT;
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// Waits for something, failing with its name when it does not come.
pub fn wait_for<T>(what: &str, within: Duration, mut check: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(value) = check() {
            return value;
        }
        assert!(began.elapsed() < within, "within {within:?} it did not come: {what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// A process that is ended when it is dropped.
pub struct Running(pub Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Running {
    pub fn signal(&self, name: &str) {
        let status = Command::new("kill").arg(format!("-{name}")).arg(self.0.id().to_string()).status().unwrap();
        assert!(status.success());
    }
}
