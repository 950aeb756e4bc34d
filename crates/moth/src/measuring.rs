//! Servers, the line and the machine, tested before going live.
//!
//! - [`tester`]: carries out tests for the screen; [`servers_in_turn`]: servers, one after another; [`surroundings`]: what is around
//!   a measurement; [`tested`]: tests that were kept, as plain data to be drawn.

pub mod servers_in_turn;
pub mod surroundings;
pub mod tested;
pub mod tester;
