//! What is kept of a broadcast.
//!
//! - [`readings`]: readings files, one JSON object a line (`docs/readings.md`).

pub mod readings;
