//! A connection on the broadcaster's side.

use std::net::SocketAddr;

use tokio::io::{AsyncRead, AsyncWrite};

/// A byte stream from a broadcaster, real or stand-in.
pub trait ByteStream: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> ByteStream for T {}

/// A connection on the broadcaster's side.
pub struct Incoming {
    /// Its bytes.
    pub stream: Box<dyn ByteStream>,
    /// Its other end, if it came over the network.
    pub peer: Option<SocketAddr>,
}

impl Incoming {
    /// Its other end, in words.
    pub(crate) fn from(&self) -> String {
        self.peer.map_or_else(|| "in this process".to_owned(), |peer| peer.to_string())
    }
}
