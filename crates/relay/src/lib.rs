//! Takes one broadcast in, queues it, and delivers it to an ingest server.
//!
//! A frame's way: [`listener`] → a door that speaks its protocol ([`rtmp`]) → [`on_air`] → [`exchange`] → [`delivery`] →
//! [`connection`]. In between it is a [`packet`], of no protocol. Only the exchange decides
//! what is dropped, and it has no I/O; everything that waits or reads a clock is around it. Whatever is
//! seen on the way leaves as readings through the [`recorder`].
//!
//! ```
//! use moth_core::figure::Origin;
//! use moth_core::reading::Observation;
//! use moth_relay::Recorder;
//!
//! // Whatever the relay sees leaves it as readings, in the order of their times.
//! let (recorder, mut readings) = Recorder::new();
//! recorder.note(Origin::Measured, Observation::Remark { text: "the line was changed".into() });
//! assert!(readings.try_recv().is_ok());
//! ```

mod backoff;
pub mod connection;
mod delivery;
pub mod exchange;
mod frame_carrier;
mod gaps;
mod handover;
mod incoming;
mod link;
pub mod listener;
pub mod lobby;
pub mod measure;
mod on_air;
mod onlooker;
pub mod packet;
mod phase;
mod playback;
mod race;
pub mod recorder;
mod relay;
pub mod rtmp;
pub mod scout;
mod session;
mod shared;
pub mod sparing;
pub mod tcp;
mod tcp_connection;
mod tcp_info;
mod tls;
pub mod token_bucket;

pub use backoff::Reconnect;
pub use connection::{BoxConnection, Connection, Dialer, Server};
pub use exchange::Limits;
pub use incoming::Incoming;
pub use moth_destination::LinkError;
pub use onlooker::Onlooker;
pub use recorder::Recorder;
pub use relay::{Relay, RelayHandle, RelaySettings};
pub use rtmp::door::TURNED_AWAY;
