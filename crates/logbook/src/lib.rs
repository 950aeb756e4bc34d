//! What is kept of a broadcast.
//!
//! - [`moments`]: how everything stood, second by second.
//! - [`readings`]: readings files, one JSON object a line (`docs/readings.md`).

pub mod moments;
pub mod readings;
