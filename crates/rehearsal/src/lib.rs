//! A rehearsal off air: one thing is raised rung by rung until frames are lost, and the highest rung that bears it for longer is
//! found; or everything is left as it is for a long run in which things are done. What does the raising, and how, is others'
//! business; nothing here knows a broadcaster, a clock or a network.
//!
//! - [`ladder`]: what is raised, and what has to be done to get from one rung to another.
//! - [`tried`]: whether one try held, by its seconds; [`figures`]: what was measured meanwhile.
//! - `presence`: whether there is a broadcast to look at.
//! - [`climb`]: which rung is tried next, and when it is over.
//! - [`runner`]: climbs on a broadcast, look by look, and puts everything back.
//! - [`soak`]: the long run.
//! - [`finding`]: what it came to, in numbers and sentences.
//!
//! ```
//! use moth_core::Bitrate;
//! use moth_rehearsal::ladder::Ladder;
//!
//! let kbps = Bitrate::from_kbps;
//! let ladder = Ladder::of_bitrates(kbps(1_000), kbps(2_500), kbps(500));
//! assert_eq!(ladder.rungs().len(), 4);
//! ```

pub mod climb;
pub mod figures;
pub mod finding;
pub mod ladder;
mod presence;
pub mod runner;
pub mod soak;
pub mod tried;
