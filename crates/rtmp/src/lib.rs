//! The Real-Time Messaging Protocol as state machines without I/O.
//!
//! Bytes go in, messages and events come out; nothing here reads a socket or a clock. Section numbers
//! in the comments are those of *Adobe's Real Time Messaging Protocol*, version 1.0 (21 December 2012);
//! "Enhanced RTMP" is the Veovera Software Organization's extension, version 2.
//!
//! - [`handshake`]: the three opening packets (section 5.2).
//! - [`chunk`]: messages cut into chunks and put together again (section 5.3).
//! - [`message`]: message types and protocol control (sections 5.4 and 6).
//! - [`amf0`]: the values that commands carry.
//! - [`media`]: what a video or audio message's first bytes say of it.
//! - [`session`]: a server's, a publisher's and a player's side of a connection (section 7).
//!
//! ```
//! use bytes::BytesMut;
//! use moth_rtmp::amf0::{Value, decode_all};
//!
//! let mut bytes = BytesMut::new();
//! Value::Number(4.0).encode(&mut bytes);
//! assert_eq!(decode_all(&bytes)?, [Value::Number(4.0)]);
//! # Ok::<(), moth_rtmp::amf0::Amf0Error>(())
//! ```

mod aggregate;
pub mod amf0;
pub mod chunk;
pub mod handshake;
pub mod media;
pub mod message;
pub mod session;

pub use message::{Message, MessageKind, StreamTime};
