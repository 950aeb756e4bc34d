//! Where a broadcast goes, whatever protocol carries it there. No I/O.
//!
//! - [`address`]: where a server is.
//! - [`key`]: a stream key that cannot be printed by accident.
//! - [`link_error`]: why a connection to a server ended or did not come about.
//!
//! ```
//! use moth_destination::{Address, StreamKey};
//!
//! let address: Address = "rtmps://ingest.example/live".parse()?;
//! assert_eq!((address.host(), address.port(), address.app()), ("ingest.example", 443, "live"));
//!
//! let key = StreamKey::new("orbit-7741")?;
//! assert_eq!(key.redact("refused: orbit-7741"), "refused: [stream key]");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod address;
pub mod key;
pub mod link_error;

pub use address::{Address, AddressError};
pub use key::StreamKey;
pub use link_error::{FailureKind, LinkError};
