//! What the kernel tells about this machine's load and who causes it.
//!
//! Everything is read below a root that is a parameter (`/proc` on a real machine), so that a test can
//! hand over a recorded tree. Linux only; elsewhere every figure is not available.

#[cfg(target_os = "linux")]
mod cpu;
#[cfg(target_os = "linux")]
mod machine;
#[cfg(target_os = "linux")]
mod programs;
#[cfg(target_os = "linux")]
mod socket_owner;

#[cfg(target_os = "linux")]
pub use machine::Machine;

#[cfg(not(target_os = "linux"))]
mod elsewhere;
#[cfg(not(target_os = "linux"))]
pub use elsewhere::Machine;
