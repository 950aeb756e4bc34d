//! What is kept on disk: the configuration, stream keys apart from it, and results of tests.
//!
//! - [`place`]: where the platform keeps such things.
//! - [`config`]: setups and services, in a file that people edit.
//! - [`keys`]: stream keys, readable only by their user.
//! - [`results`]: what tests gave, with date and line; [`rehearsals`]: what rehearsals gave. Both are files of JSON [`lines`].
//!
//! ```
//! let folder = tempfile::tempdir()?;
//! let path = folder.path().join("notes");
//! std::fs::write(&path, "clear sky")?;
//! assert_eq!(moth_store::bounded::read(&path, 1_000)?, "clear sky");
//! assert!(moth_store::bounded::read(&path, 3).is_err(), "a file that is too long is refused");
//! # Ok::<(), std::io::Error>(())
//! ```

pub mod bounded;
pub mod config;
pub mod keys;
pub mod lines;
mod overwrite;
pub mod place;
pub mod rehearsals;
pub mod results;
