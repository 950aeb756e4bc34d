//! What leaves as a drawing, and what is written down for it.
//!
//! - [`job`]: something to be drawn; [`take_away`]: draws it.
//! - [`of_a_recording`] and [`side_drawing`]: for commands. [`bars`]: in characters, for reports and the screen.

pub mod bars;
pub mod job;
pub mod of_a_recording;
pub mod side_drawing;
pub mod take_away;
