//! What the relay needs of a connection to a server, real or stand-in.

use std::time::Duration;

use futures::future::BoxFuture;
use moth_core::reading::ConnectionFigures;
use moth_destination::Address;
use tokio::io::{AsyncRead, AsyncWrite};

use moth_destination::LinkError;

/// A server the broadcast could go to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Server {
    /// As shown to people.
    pub name: String,
    /// Where it is.
    pub address: Address,
}

/// A connection to a server. It takes bytes only as fast as it passes them on, so that what waits, waits
/// in the moth.
pub trait Connection: AsyncRead + AsyncWrite + Send + Unpin {
    /// Bytes written and not yet acknowledged by the server's host; `None` where the platform cannot
    /// tell. It must go on telling after the connection was lost.
    fn unacknowledged_bytes(&self) -> Option<u64>;

    /// What the platform tells of the connection.
    fn figures(&self) -> ConnectionFigures;
}

/// Any connection.
pub type BoxConnection = Box<dyn Connection>;

/// Makes connections to servers.
pub trait Dialer: Send + Sync {
    /// Connects to a server; the relay gives up on it after a time of its own.
    fn dial<'a>(&'a self, server: &'a Server) -> BoxFuture<'a, Result<BoxConnection, LinkError>>;

    /// Takes one round trip to a server, by a TCP handshake that is given up at once. The name lookup is not in it.
    fn round_trip<'a>(&'a self, server: &'a Server) -> BoxFuture<'a, Result<Duration, LinkError>>;

    /// Takes one round trip to the first router on the way to a server; `None` if there is none, or it is not known.
    fn first_hop<'a>(&'a self, _server: &'a Server) -> Option<BoxFuture<'a, Result<Duration, LinkError>>> {
        None
    }
}
