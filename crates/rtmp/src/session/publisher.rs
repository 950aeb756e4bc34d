//! The side that publishes: the relay towards a server, or the broadcaster's stand-in.

use bytes::BytesMut;

use super::asking::State;
use super::wire::Wire;
use super::{Command, SessionError, asking};
use crate::amf0::Value;
use crate::message::{Message, MessageKind};
use moth_destination::Address;
use moth_destination::StreamKey;

/// What the server answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PublisherEvent {
    /// Media may be sent.
    Ready,
}

/// How far a connection has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stage {
    /// The server has not spoken RTMP yet.
    Handshake,
    /// It was asked for its application.
    Application,
    /// It was asked to take the broadcast.
    Broadcast,
    /// It takes it, or took it.
    Taken,
}

// Transaction numbers: fixed, as each command is sent once.
const CONNECT: f64 = 1.0;
const RELEASE: f64 = 2.0;
const FC_PUBLISH: f64 = 3.0;
const CREATE_STREAM: f64 = 4.0;
const PUBLISH: f64 = 5.0;

/// One connection's publishing side.
#[derive(Debug)]
pub struct Publisher {
    wire: Wire,
    state: State,
    address: Address,
    key: StreamKey,
}

impl Publisher {
    /// Opens a session: the first bytes to send are in [`Publisher::take_output`] at once.
    #[must_use]
    pub fn new(address: Address, key: StreamKey) -> Self {
        Self { wire: Wire::client(), state: State::Opening, address, key }
    }

    /// Takes bytes from the server.
    pub fn feed(&mut self, bytes: &[u8]) {
        self.wire.feed(bytes);
    }

    /// What must be sent to the server.
    #[must_use]
    pub fn take_output(&mut self) -> BytesMut {
        self.wire.take_output()
    }

    /// Messages that came so far, of any kind.
    #[must_use]
    pub fn received_messages(&self) -> u64 {
        self.wire.received_messages()
    }

    /// Whether media may be sent.
    #[must_use]
    pub fn is_ready(&self) -> bool {
        matches!(self.state, State::Going(_))
    }

    /// How far the connection has come: what a server that hangs up says by it depends on what it was asked last.
    #[must_use]
    pub fn stage(&self) -> Stage {
        self.state.stage()
    }

    /// What happened next; `None` when more bytes are needed.
    ///
    /// # Errors
    /// [`SessionError`]; the connection cannot go on. The key is in none of them.
    pub fn poll(&mut self) -> Result<Option<PublisherEvent>, SessionError> {
        loop {
            let message = self.wire.next()?;
            if self.state == State::Opening && self.wire.opened() {
                self.connect();
            }
            let Some(message) = message else { return Ok(None) };
            if message.kind == MessageKind::Command {
                let command = Command::parse(&message.payload)?;
                if let Some(event) = self.command(&command)? {
                    return Ok(Some(event));
                }
            }
        }
    }

    fn connect(&mut self) {
        self.wire.raise_chunk_size();
        self.wire.command(0, &["connect".into(), CONNECT.into(), asking::properties(&self.address)]);
        self.state = State::Connecting;
    }

    fn command(&mut self, command: &Command) -> Result<Option<PublisherEvent>, SessionError> {
        let information = command.values.get(1);
        match (command.name.as_str(), self.state) {
            ("_result", State::Connecting) if command.transaction == CONNECT => {
                let key: Value = self.key.expose().into();
                self.wire.command(0, &["releaseStream".into(), RELEASE.into(), Value::Null, key.clone()]);
                self.wire.command(0, &["FCPublish".into(), FC_PUBLISH.into(), Value::Null, key]);
                self.wire.command(0, &["createStream".into(), CREATE_STREAM.into(), Value::Null]);
                self.state = State::CreatingStream;
            }
            ("_result", State::CreatingStream) if command.transaction == CREATE_STREAM => {
                let id = asking::stream_number(command)?;
                let key: Value = self.key.expose().into();
                self.wire.command(id, &["publish".into(), PUBLISH.into(), Value::Null, key, "live".into()]);
                self.state = State::Asking(id);
            }
            // Many servers do not know releaseStream or FCPublish and say so: that is no refusal.
            ("_error", _) if command.transaction == RELEASE || command.transaction == FC_PUBLISH => {}
            ("_error", _) => return Err(asking::refused(&self.key, information)),
            ("onStatus", state) => {
                let text = |name| information.and_then(|i| i.get(name)).and_then(Value::as_text).unwrap_or_default();
                if text("level") == "error" || text("code") == "NetStream.Unpublish.Success" && state != State::Over {
                    return Err(asking::refused(&self.key, information));
                }
                if let (State::Asking(id), "NetStream.Publish.Start") = (state, text("code")) {
                    self.state = State::Going(id);
                    return Ok(Some(PublisherEvent::Ready));
                }
            }
            ("close", _) => return Err(SessionError::Protocol("the server closed the stream".into())),
            _ => {}
        }
        Ok(None)
    }

    /// Sends a message of the broadcast, as it is but for the stream number. Nothing before
    /// [`PublisherEvent::Ready`].
    pub fn send(&mut self, message: &Message) {
        let State::Going(stream_id) = self.state else { return };
        let chunk_stream = match message.kind {
            MessageKind::Audio => 4,
            MessageKind::Video => 6,
            _ => 5,
        };
        let message = Message { stream_id, ..message.clone() };
        self.wire.send(chunk_stream, &message);
    }

    /// Says that the stream is over.
    pub fn finish(&mut self) {
        if let State::Going(id) = self.state {
            let key: Value = self.key.expose().into();
            self.wire.command(0, &["FCUnpublish".into(), 6.0.into(), Value::Null, key]);
            self.wire.command(0, &["deleteStream".into(), 7.0.into(), Value::Null, f64::from(id).into()]);
            self.state = State::Over;
        }
    }
}
