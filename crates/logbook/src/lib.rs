//! What is kept of a broadcast.
//!
//! - [`readings`]: readings files, one JSON object a line (`docs/readings.md`).
//! - [`logbook`]: the database of all broadcasts (`docs/logbook.md`): opened, listed, changed; [`error`]: why that cannot be.
//! - [`pen`]: writes a broadcast into it as it goes; [`kept`]: reads one. [`about`]: what a broadcast is known by.
//!   [`broken_off`]: one whose moth was killed, and how it goes on.
//! - [`columns`]: how seconds are packed; [`thinning`]: how old broadcasts become smaller.
//!
//! ```
//! use moth_logbook::Logbook;
//!
//! let folder = tempfile::tempdir()?;
//! let logbook = Logbook::open(&folder.path().join("logbook.sqlite"))?;
//! assert!(logbook.list(&Default::default())?.is_empty());
//! logbook.close()?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod about;
pub mod broken_off;
pub mod columns;
pub mod error;
pub mod kept;
pub mod logbook;
pub mod pen;
pub mod readings;
mod schema;
pub mod thinning;

pub use about::{About, Kind, Listed};
pub use error::LogbookError;
pub use kept::Kept;
pub use logbook::Logbook;
pub use pen::Pen;
