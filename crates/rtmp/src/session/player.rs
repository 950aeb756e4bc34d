//! The side that plays: what a server gives out of a broadcast (section 7.2.2.1).

use bytes::BytesMut;

use super::asking::State;
use super::wire::Wire;
use super::{Command, SessionError, Stage, asking};
use crate::aggregate::Unpacked;
use crate::amf0::Value;
use crate::message::{Message, MessageKind};
use moth_destination::{Address, StreamKey};

/// What the server answered, or sends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PlayerEvent {
    /// It says that it plays the stream.
    Begins,
    /// A message of the broadcast.
    Media(Message),
    /// It says that the broadcast is over.
    Ended,
}

// Transaction numbers: fixed, as each command is sent once. `play` has none (section 7.2.2.1).
const CONNECT: f64 = 1.0;
const CREATE_STREAM: f64 = 2.0;
/// Only what is live now, and nothing recorded (section 7.2.2.1).
const LIVE_ONLY: f64 = -1.0;
/// The user control event that tells how much a player keeps (section 6.2), and how much, in milliseconds. Ours: nothing is kept here,
/// what comes is only looked at; a short buffer asks the server not to run ahead.
const SET_BUFFER_LENGTH: u16 = 3;
const BUFFER_MS: u32 = 100;

/// One connection's playing side.
#[derive(Debug)]
pub struct Player {
    wire: Wire,
    state: State,
    address: Address,
    key: StreamKey,
    unpacked: Unpacked,
}

impl Player {
    /// Opens a session in which what is published under this key is asked for: the first bytes to send are in
    /// [`Player::take_output`] at once.
    #[must_use]
    pub fn new(address: Address, key: StreamKey) -> Self {
        Self { wire: Wire::client(), state: State::Opening, address, key, unpacked: Unpacked::default() }
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

    /// How far the connection has come: what a server that hangs up says by it depends on what it was asked last.
    #[must_use]
    pub fn stage(&self) -> Stage {
        self.state.stage()
    }

    /// What happened next; `None` when more bytes are needed.
    ///
    /// # Errors
    /// [`SessionError`]; the connection cannot go on. The key is in none of them.
    pub fn poll(&mut self) -> Result<Option<PlayerEvent>, SessionError> {
        while self.state != State::Over {
            if let Some(message) = self.unpacked.next() {
                return Ok(Some(PlayerEvent::Media(message)));
            }
            let message = self.wire.next()?;
            if self.state == State::Opening && self.wire.opened() {
                self.wire.command(0, &["connect".into(), CONNECT.into(), asking::properties(&self.address)]);
                self.state = State::Connecting;
            }
            let Some(message) = message else { break };
            // Some servers begin to send before they have said that they do.
            let is_asked_for = matches!(self.state, State::Asking(_) | State::Going(_));
            match message.kind {
                MessageKind::Aggregate if is_asked_for => self.unpacked = Unpacked::of(message),
                MessageKind::Audio | MessageKind::Video | MessageKind::Data if is_asked_for => {
                    return Ok(Some(PlayerEvent::Media(message)));
                }
                MessageKind::Command => {
                    let command = Command::parse(&message.payload)?;
                    if let Some(event) = self.command(&command)? {
                        return Ok(Some(event));
                    }
                }
                _ => {}
            }
        }
        Ok(None)
    }

    fn command(&mut self, command: &Command) -> Result<Option<PlayerEvent>, SessionError> {
        let information = command.values.get(1);
        match (command.name.as_str(), self.state) {
            ("_result", State::Connecting) if command.transaction == CONNECT => {
                self.wire.command(0, &["createStream".into(), CREATE_STREAM.into(), Value::Null]);
                self.state = State::CreatingStream;
            }
            ("_result", State::CreatingStream) if command.transaction == CREATE_STREAM => {
                let id = asking::stream_number(command)?;
                let key: Value = self.key.expose().into();
                self.wire.command(id, &["play".into(), 0.0.into(), Value::Null, key, LIVE_ONLY.into()]);
                let mut buffer = SET_BUFFER_LENGTH.to_be_bytes().to_vec();
                buffer.extend_from_slice(&id.to_be_bytes());
                buffer.extend_from_slice(&BUFFER_MS.to_be_bytes());
                self.wire.control(MessageKind::UserControl, buffer);
                self.state = State::Asking(id);
            }
            ("_error", _) => return Err(asking::refused(&self.key, information)),
            ("onStatus", state) => {
                let text = |name| information.and_then(|i| i.get(name)).and_then(Value::as_text).unwrap_or_default();
                match (text("level"), text("code"), state) {
                    ("error", ..) => return Err(asking::refused(&self.key, information)),
                    (_, "NetStream.Play.Start", State::Asking(id)) => {
                        self.state = State::Going(id);
                        return Ok(Some(PlayerEvent::Begins));
                    }
                    (_, "NetStream.Play.Stop" | "NetStream.Play.UnpublishNotify", _) => {
                        self.state = State::Over;
                        return Ok(Some(PlayerEvent::Ended));
                    }
                    _ => {}
                }
            }
            ("close", _) => return Err(SessionError::Protocol("the server closed the stream".into())),
            _ => {}
        }
        Ok(None)
    }

    /// Says that no more is wanted.
    pub fn finish(&mut self) {
        if let State::Asking(id) | State::Going(id) = self.state {
            self.wire.command(0, &["deleteStream".into(), 0.0.into(), Value::Null, f64::from(id).into()]);
        }
        self.state = State::Over;
    }
}
