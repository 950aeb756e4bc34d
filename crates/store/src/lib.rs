//! What is kept on disk: the configuration, stream keys apart from it, and results of tests.
//!
//! - [`place`]: where the platform keeps such things.
//! - [`config`]: setups and services, in a file that people edit.
//! - [`keys`]: stream keys, readable only by their user.
//! - [`results`]: what tests gave, with date and line; [`rehearsals`]: what rehearsals gave. Both are files of JSON [`lines`].

pub mod bounded;
pub mod config;
pub mod keys;
pub mod lines;
mod overwrite;
pub mod place;
pub mod rehearsals;
pub mod results;
