//! Rehearsals on stand-ins, on a paused clock.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod rigs;
mod stage;
