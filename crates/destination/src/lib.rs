//! Where a broadcast goes, whatever protocol carries it there. No I/O.
//!
//! - [`address`]: where a server is.
//! - [`key`]: a stream key that cannot be printed by accident.
//! - [`link_error`]: why a connection to a server ended or did not come about.

pub mod address;
pub mod key;
pub mod link_error;

pub use address::{Address, AddressError};
pub use key::StreamKey;
pub use link_error::{FailureKind, LinkError};
