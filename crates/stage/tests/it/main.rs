//! Demo scenarios on a paused clock, through the real relay and the real core.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod chaos;
mod evenings;
mod measurements;
mod moves;
