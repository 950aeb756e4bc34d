//! The sides of a connection (section 7).
//!
//! [`Receiver`] is the side that is published to, [`Publisher`] the side that publishes, [`Player`] the one that asks a server for
//! what is published there. All take bytes with `feed`, tell what happened with `poll`, and leave what must be sent in `take_output`.

mod asking;
mod player;
mod publisher;
mod receiver;
mod wire;

pub use player::{Player, PlayerEvent};
pub use publisher::{Publisher, PublisherEvent, Stage};
pub use receiver::{Receiver, ReceiverEvent, RefuseCode};

use crate::amf0::Amf0Error;
use crate::chunk::ChunkError;
use crate::handshake::HandshakeError;

/// Why a connection cannot go on. No variant ever holds a stream key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SessionError {
    /// The opening bytes are not RTMP's.
    #[error(transparent)]
    Handshake(#[from] HandshakeError),
    /// The chunks cannot be read.
    #[error(transparent)]
    Chunk(#[from] ChunkError),
    /// A command cannot be read.
    #[error(transparent)]
    Command(#[from] Amf0Error),
    /// The server said no.
    #[error("refused by the server: {description} ({code})")]
    Refused {
        /// The server's code, such as `NetStream.Publish.BadName`.
        code: String,
        /// The server's words, the key taken out.
        description: String,
    },
    /// A command out of turn, or one this side does not serve.
    #[error("{0}")]
    Protocol(String),
}

/// One AMF0 command: name, transaction number, then its values.
pub(crate) struct Command {
    pub name: String,
    pub transaction: f64,
    pub values: Vec<crate::amf0::Value>,
}

impl Command {
    pub(crate) fn parse(payload: &[u8]) -> Result<Self, SessionError> {
        let mut values = crate::amf0::decode_all(payload)?.into_iter();
        let name = match values.next() {
            Some(crate::amf0::Value::Text(name)) => name,
            _ => return Err(SessionError::Protocol("a command without a name".into())),
        };
        let transaction = values.next().and_then(|v| v.as_number()).unwrap_or(0.0);
        Ok(Self { name, transaction, values: values.collect() })
    }
}
