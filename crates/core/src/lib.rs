//! The core of Vigilant Moth: readings and the time go in, a snapshot and proposed actions come out.
//!
//! There is no I/O, no clock, no randomness and no interface code here. The same readings and times give
//! the same snapshots, bit for bit; live, demo, replay and tests differ only in where readings come from.
//!
//! - [`reading`]: one observation: when, what, and how it is known.
//! - [`core`](mod@crate::core): takes readings, keeps windows over them, gives snapshots.
//! - [`suspects`]: what might be at fault, and the evidence for and against each.
//! - [`verdict`]: which suspect it is, held while it holds.
//! - [`proposal`]: what could be done about it, in order.

pub mod account;
pub mod cadence;
pub mod core;
pub mod facts;
pub mod figure;
pub mod history;
pub mod journey;
pub mod moment;
pub mod proposal;
pub mod rate;
pub mod reading;
pub mod snapshot;
pub mod suspects;
pub mod verdict;
pub mod window;

pub use account::{Account, Accounts};
pub use core::{Core, Settings};
pub use figure::{Figure, Origin};
pub use moment::Moment;
pub use rate::Bitrate;
pub use reading::{Observation, Reading};
pub use snapshot::{Snapshot, State};
