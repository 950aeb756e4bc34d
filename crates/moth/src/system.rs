//! The standard streams, logs, signals and processes.

pub mod child;
pub mod descriptors;
pub mod logging;
pub mod out;
pub mod signals;
