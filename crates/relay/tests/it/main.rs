//! The place on air, on a paused clock.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod place;
