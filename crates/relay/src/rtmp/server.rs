//! A session that speaks RTMP with a server: it asks it to take the broadcast, and publishes packets to it.

use bytes::BytesMut;
use moth_destination::{Address, FailureKind, LinkError, StreamKey};
use moth_rtmp::session::{Publisher, PublisherEvent, SessionError, Stage};

use super::message;
use crate::packet::Packet;
use crate::session::Session;

/// The session.
pub(crate) struct RtmpSession(Publisher);

impl RtmpSession {
    pub(crate) fn new(address: Address, key: StreamKey) -> Self {
        Self(Publisher::new(address, key))
    }
}

impl Session for RtmpSession {
    fn take_output(&mut self) -> BytesMut {
        self.0.take_output()
    }

    fn is_taken(&self) -> bool {
        self.0.is_ready()
    }

    fn hear(&mut self, bytes: &[u8]) -> Result<(), LinkError> {
        self.0.feed(bytes);
        while let Some(PublisherEvent::Ready) = self.0.poll().map_err(failed)? {}
        Ok(())
    }

    fn heard_messages(&self) -> u64 {
        self.0.received_messages()
    }

    fn send(&mut self, packet: &Packet) {
        self.0.send(&message(packet));
    }

    fn finish(&mut self) {
        self.0.finish();
    }

    fn hung_up(&self) -> Option<(FailureKind, &'static str)> {
        match self.0.stage() {
            Stage::Handshake => Some((FailureKind::NotRtmp, "before it said anything: it may not be an RTMP server")),
            Stage::Application => {
                Some((FailureKind::Refused, "when asked for the application: the address may end in a wrong one"))
            }
            Stage::Broadcast => Some((
                FailureKind::Refused,
                "instead of taking the broadcast: the key is wrong or in use, or it takes none now",
            )),
            Stage::Taken => None,
        }
    }
}

/// What a session that cannot go on means to who carries a broadcast.
pub(super) fn failed(error: SessionError) -> LinkError {
    let kind = match error {
        SessionError::Refused { .. } => FailureKind::Refused,
        SessionError::Handshake(_) | SessionError::Chunk(_) | SessionError::Command(_) => FailureKind::NotRtmp,
        SessionError::Protocol(_) => FailureKind::Broken,
    };
    LinkError::new(kind, error.to_string())
}
