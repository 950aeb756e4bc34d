//! What the kernel tells about this machine's load and who causes it.
//!
//! Everything is read below a root that is a parameter (`/proc` on a real machine), so that a test can
//! hand over a recorded tree. Linux only; elsewhere every figure is not available.
//!
//! ```
//! # #[cfg(target_os = "linux")]
//! assert!(moth_host::runs(std::process::id()));
//! ```

mod look;

pub use look::MachineLook;

#[cfg(target_os = "linux")]
mod busiest;
#[cfg(target_os = "linux")]
mod condition;
#[cfg(target_os = "linux")]
mod cpu;
#[cfg(target_os = "linux")]
mod disk;
#[cfg(target_os = "linux")]
mod gpu;
#[cfg(target_os = "linux")]
mod interface;
#[cfg(target_os = "linux")]
mod machine;
#[cfg(target_os = "linux")]
mod netlink;
#[cfg(target_os = "linux")]
mod nvidia;
#[cfg(target_os = "linux")]
mod priority;
#[cfg(target_os = "linux")]
mod programs;
#[cfg(target_os = "linux")]
mod runs;
#[cfg(target_os = "linux")]
mod socket_owner;
#[cfg(target_os = "linux")]
mod stand_back;
#[cfg(target_os = "linux")]
mod survey;
#[cfg(target_os = "linux")]
mod uploads;
#[cfg(target_os = "linux")]
mod wireless;

#[cfg(target_os = "linux")]
pub use interface::gateway_to;
#[cfg(target_os = "linux")]
pub use machine::{Machine, Places};
#[cfg(target_os = "linux")]
pub use priority::set_priority;
#[cfg(target_os = "linux")]
pub use runs::runs;
#[cfg(target_os = "linux")]
pub use stand_back::{give_way, stand_back, worked};
#[cfg(target_os = "linux")]
pub use survey::{Quest, Survey};

#[cfg(not(target_os = "linux"))]
mod elsewhere;
#[cfg(not(target_os = "linux"))]
pub use elsewhere::{Machine, Places, Quest, Survey, gateway_to, give_way, runs, set_priority, stand_back, worked};
