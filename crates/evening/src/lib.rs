//! A broadcast written down: what is kept, drawn and compared of it. No I/O and no clock.
//!
//! - [`evening`]: a broadcast as plain data; [`load`], [`measured`], [`names`]: what belongs to it.
//! - [`chronicle`]: how that is written down as the broadcast goes.
//! - [`comparison`]: two of them on equal terms; [`curve`]: each as a curve.
//! - [`digest`]: a broadcast in a row of a list.
//! - [`moments`]: how everything stood, second by second.
//!
//! ```
//! use moth_evening::comparison::compare;
//!
//! // Two broadcasts of which no second is known do not differ in anything that can be shown.
//! assert_eq!(compare(&[], &[]).told().count(), 0);
//! ```

mod anonymous;
mod brief;
pub mod chronicle;
pub mod comparison;
pub mod curve;
pub mod digest;
pub mod evening;
pub mod load;
pub mod measured;
pub mod moments;
pub mod names;
