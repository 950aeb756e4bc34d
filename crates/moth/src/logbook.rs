//! Broadcasts that are kept (`docs/logbook.md`).
//!
//! - [`plan`]: where, and what is known of one before it begins; [`scribe`]: writes one as it goes.
//!   [`going_on`]: one that was cut off just now goes on.
//! - [`opened`]: one that is over, to be gone through on the screen and drawn; [`told`]: one in ten lines.
//! - [`sides`]: what is compared with what. [`row`]: one in a row of the list. [`made_up`]: the demo's.

pub mod going_on;
pub mod made_up;
pub mod opened;
pub mod plan;
pub(crate) mod row;
pub mod scribe;
pub mod sides;
pub mod told;
