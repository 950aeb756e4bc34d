//! The core of Vigilant Moth: readings and the time go in, a snapshot and proposed actions come out.
//!
//! There is no I/O, no clock, no randomness and no interface code here. The same readings and times give
//! the same snapshots, bit for bit; live, demo, replay and tests differ only in where readings come from.
//!
//! - [`reading`]: one observation: when, what, and how it is known.
//! - [`core`](mod@crate::core): takes readings, keeps windows over them, gives snapshots.
//! - [`wire`]: what can be read off the broadcast going by.
//! - [`suspects`]: what might be at fault, and the evidence for and against each.
//! - [`verdict`]: which suspect it is, held while it holds.
//! - [`contradiction`]: what no snapshot may say, for tests and the evaluation.
//! - [`notice`]: what is odd and costs no frame.
//! - [`viewers`]: how bad it is for who watches; [`delay`]: what the broadcast adds to how late they see it.
//! - [`proposal`]: what could be done about it, in order.
//! - [`student`], [`sentence`]: small things that several need.
//! - [`trial`]: a change being proved; [`keeper`]: the automatic bitrate; [`failover`]: the automatic change of servers.
//!
//! ```
//! use moth_core::suspects::Fault;
//! use moth_core::{Core, Moment, Settings};
//!
//! let mut core = Core::new(Settings { servers: vec!["Aldmoor".into()] });
//! // Give it readings with `core.take(&reading)`, then ask for a snapshot at a moment.
//! let snapshot = core.snapshot(Moment::from_ms(1_000));
//! assert_eq!(snapshot.verdict.fault, Fault::None);
//! assert_eq!(snapshot.state, None, "nobody is on air");
//! ```

pub mod account;
pub mod action;
mod by_hand;
pub mod contradiction;
pub mod core;
pub mod delay;
pub mod facts;
pub mod failover;
pub mod figure;
pub mod frame_rate;
pub mod history;
pub mod journey;
pub mod keeper;
pub mod machine_load;
pub mod moment;
pub mod notice;
pub mod played_back;
pub mod proposal;
pub mod rate;
pub mod reading;
pub mod sentence;
pub mod signal;
pub mod snapshot;
pub mod state;
pub mod student;
pub mod suspects;
pub mod trial;
pub mod verdict;
pub mod viewers;
pub mod window;
pub mod wire;

pub use account::{Account, Accounts};
pub use core::{Core, Settings};
pub use figure::{Figure, Origin, Trust};
pub use moment::Moment;
pub use rate::Bitrate;
pub use reading::{Observation, Reading};
pub use snapshot::{Snapshot, State};
