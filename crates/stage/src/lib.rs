//! The stand-ins: a broadcaster, ingest servers, the line to them, and a machine, all made up.
//!
//! They speak real RTMP through the real relay, so that the demo and the tests run the code that real
//! broadcasts run; only the wires are made of memory. What happens when is written in an *evening*, a
//! small file. Everything runs on tokio's clock, real or paused, and on seeds.
//!
//! ```
//! use moth_stage::Evening;
//!
//! let evening: Evening = r#"
//!     name = "an empty hour"
//!     story = "Nothing happens."
//! "#.parse()?;
//! assert!(!evening.servers().is_empty());
//! # Ok::<(), moth_stage::EveningError>(())
//! ```

mod afternoon;
mod broadcaster;
mod conditions;
mod evening;
mod ingest;
mod machine;
mod made_up;
mod made_up_evening;
mod noise;
mod onlooker;
mod shaped;
mod small_picture;
mod theatre;
mod uplink;

pub use afternoon::Afternoon;
pub use broadcaster::{BroadcasterControl, StandInBroadcaster};
pub use evening::{Evening, EveningError, Expectation, shipped};
pub use ingest::Received;
pub use made_up::{made_up_machine, made_up_surroundings};
pub use made_up_evening::{Shapes, Truth, Wrong};
pub use shaped::{LineShape, STAND_IN, ShapedServer};
pub use theatre::Theatre;
