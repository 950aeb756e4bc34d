//! The protocol as a state machine without I/O.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod chunks;
mod playing;
mod sessions;
