//! An adversary on every side of a real moth at once: servers, publishers, feed and HTTP clients, the local socket, screens,
//! and the programs it runs. What they do, and in what order, is drawn from a seed. Meanwhile ffmpeg broadcasts through it, and the
//! broadcast must bear it all.
//!
//! ```
//! use moth_adversary::words::Words;
//!
//! // What a publisher says first, piece by piece.
//! assert!(!Words::to("moth").introduction.is_empty());
//! ```

#[cfg(unix)]
mod clients;
mod gang;
#[cfg(unix)]
mod publishers;
#[cfg(unix)]
mod screens;
#[cfg(unix)]
mod servers;
#[cfg(unix)]
mod siege;
#[cfg(unix)]
mod stage;
#[cfg(unix)]
mod watch;
pub mod words;

#[cfg(unix)]
pub use siege::{Report, SiegePlan, run};
