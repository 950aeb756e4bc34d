//! What is kept on disk: the configuration, stream keys apart from it, and results of tests.
//!
//! - [`place`]: where the platform keeps such things.
//! - [`config`]: setups and services, in a file that people edit.
//! - [`keys`]: stream keys, readable only by their user.
//! - [`results`]: what tests gave, with date and line.

pub mod bounded;
pub mod config;
pub mod keys;
mod overwrite;
pub mod place;
pub mod results;
