//! What is said on a connection to a server: what a protocol needs to have at a server.

use bytes::BytesMut;
use moth_destination::{FailureKind, LinkError};

use crate::packet::Packet;

/// What is said on a connection to a server, in its protocol and without I/O: the adapter that a protocol needs at a server.
pub(crate) trait Session: Send {
    /// Takes what is to be sent next.
    fn take_output(&mut self) -> BytesMut;

    /// Whether the server takes the broadcast.
    fn is_taken(&self) -> bool;

    /// Takes what the server says.
    ///
    /// # Errors
    /// [`LinkError`] if it refuses, or makes no sense.
    fn hear(&mut self, bytes: &[u8]) -> Result<(), LinkError>;

    /// Messages that it said so far.
    fn heard_messages(&self) -> u64;

    /// Makes a packet ready to be sent, once the broadcast is taken.
    fn send(&mut self, packet: &Packet);

    /// Says that the broadcast is over.
    fn finish(&mut self);

    /// What it means if the server hangs up now, in words that follow on "it did so"; `None` if nothing.
    fn hung_up(&self) -> Option<(FailureKind, &'static str)>;
}
