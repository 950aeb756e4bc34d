//! Takes one broadcast in, queues it, and delivers it to an ingest server.
//!
//! A frame's way: [`listener`] → [`intake`] → [`exchange`] → [`delivery`] → [`connection`]. Only the exchange decides
//! what is dropped, and it has no I/O; everything that waits or reads a clock is around it. Whatever is
//! seen on the way leaves as readings through the [`recorder`].

mod backoff;
pub mod connection;
mod delivery;
pub mod exchange;
mod gaps;
mod intake;
mod line;
mod link;
mod link_error;
pub mod listener;
pub mod lobby;
pub mod measure;
mod metadata;
mod onlooker;
mod phase;
mod race;
pub mod recorder;
mod relay;
pub mod scout;
pub mod sighting;
pub mod sparing;
pub mod tcp;
mod tcp_info;
mod tls;
pub mod token_bucket;

pub use backoff::Reconnect;
pub use connection::{BoxConnection, Connection, Dialer, Server};
pub use exchange::Limits;
pub use link_error::LinkError;
pub use onlooker::Onlooker;
pub use recorder::Recorder;
pub use relay::{Incoming, Relay, RelayHandle, RelaySettings};
