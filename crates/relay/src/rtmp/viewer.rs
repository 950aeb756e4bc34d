//! A session that speaks RTMP with a server as a viewer does: it asks for what is published, and takes the packets.

use bytes::BytesMut;
use moth_destination::{Address, FailureKind, LinkError, StreamKey};
use moth_rtmp::session::{Player, PlayerEvent, Stage};

use super::server::failed;
use crate::packet::Packet;

/// What a server gives a viewer.
pub(crate) enum Given {
    /// A packet of the broadcast.
    Packet(Packet),
    /// It says that the broadcast is over.
    Ended,
}

/// The session.
pub(crate) struct Viewer(Player);

impl Viewer {
    pub(crate) fn new(address: Address, key: StreamKey) -> Self {
        Self(Player::new(address, key))
    }

    /// Takes what is to be sent next.
    pub(crate) fn take_output(&mut self) -> BytesMut {
        self.0.take_output()
    }

    /// Takes what the server says.
    pub(crate) fn hear(&mut self, bytes: &[u8]) {
        self.0.feed(bytes);
    }

    /// The next thing it gives.
    ///
    /// # Errors
    /// [`LinkError`] if it refuses, or makes no sense.
    pub(crate) fn next(&mut self) -> Result<Option<Given>, LinkError> {
        loop {
            return Ok(match self.0.poll().map_err(failed)? {
                Some(PlayerEvent::Begins) => continue,
                Some(PlayerEvent::Media(message)) => Some(Given::Packet(super::packet(message))),
                Some(PlayerEvent::Ended) => Some(Given::Ended),
                None => None,
            });
        }
    }

    /// Says that no more is wanted.
    pub(crate) fn finish(&mut self) {
        self.0.finish();
    }

    /// Why the server hung up, by what it was asked last.
    pub(crate) fn hung_up(&self) -> LinkError {
        let why = match self.0.stage() {
            Stage::Handshake => "it hung up before it said anything",
            Stage::Application => "it hung up when asked for the application",
            Stage::Broadcast => "it hung up instead of playing: it may let nobody play here",
            Stage::Taken => "it hung up",
        };
        LinkError::new(FailureKind::Broken, why)
    }
}
