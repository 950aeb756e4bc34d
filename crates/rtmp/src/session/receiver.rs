//! The side that is published to: a broadcaster's local server, or an ingest server's stand-in.

use bytes::BytesMut;

use super::wire::Wire;
use super::{Command, SessionError, Stage};
use crate::aggregate::Unpacked;
use crate::amf0::{Value, object};
use crate::message::{Message, MessageKind};
use moth_destination::StreamKey;

/// The message stream handed out; one connection publishes one stream.
const STREAM_ID: u32 = 1;
/// Window told to the peer, in bytes; it bounds nothing here, as every byte is read at once. Ours.
const WINDOW_BYTES: u32 = 2_500_000;

/// What a broadcaster did.
#[derive(Debug)]
pub enum ReceiverEvent {
    /// It wants to publish. Answer with [`Receiver::accept`] or [`Receiver::refuse`].
    PublishRequested {
        /// The application it connected to.
        app: String,
        /// The stream key it named, if it named a usable one.
        key: Option<StreamKey>,
    },
    /// Audio, video or metadata of the accepted stream.
    Media(Message),
    /// It said that the stream is over. It may ask for another on the same connection.
    Ended,
}

/// The status code of a refusal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RefuseCode {
    /// The name (key) is wrong, or taken.
    BadName,
    /// The application is not served here, or not now.
    Rejected,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Connecting,
    Connected,
    Asking,
    Publishing,
    Over,
}

/// One connection's receiving side.
#[derive(Debug)]
pub struct Receiver {
    wire: Wire,
    state: State,
    app: String,
    /// What is left of an aggregate message, and how many came in such.
    unpacked: Unpacked,
    unpacked_messages: u64,
}

impl Default for Receiver {
    fn default() -> Self {
        Self {
            wire: Wire::server(),
            state: State::Connecting,
            app: String::new(),
            unpacked: Unpacked::default(),
            unpacked_messages: 0,
        }
    }
}

impl Receiver {
    /// Takes bytes from the peer.
    pub fn feed(&mut self, bytes: &[u8]) {
        self.wire.feed(bytes);
    }

    /// Room to read into, at its end, in place of [`Receiver::feed`]; say with [`Receiver::received`] how
    /// many bytes came.
    #[must_use]
    pub fn room(&mut self) -> &mut BytesMut {
        self.wire.room()
    }

    /// So many bytes were read into [`Receiver::room`].
    pub fn received(&mut self, count: usize) {
        self.wire.received(count);
    }

    /// Messages that came so far, of any kind, also in aggregate messages.
    #[must_use]
    pub fn received_messages(&self) -> u64 {
        self.wire.received_messages() + self.unpacked_messages
    }

    /// How far the peer has come.
    #[must_use]
    pub fn stage(&self) -> Stage {
        match self.state {
            State::Connecting if !self.wire.opened() => Stage::Handshake,
            State::Connecting => Stage::Application,
            State::Connected | State::Asking => Stage::Broadcast,
            State::Publishing | State::Over => Stage::Taken,
        }
    }

    /// What must be sent to the peer.
    #[must_use]
    pub fn take_output(&mut self) -> BytesMut {
        self.wire.take_output()
    }

    /// What happened next; `None` when more bytes, or an answer to a request, are needed.
    ///
    /// # Errors
    /// [`SessionError`]; the connection cannot go on.
    pub fn poll(&mut self) -> Result<Option<ReceiverEvent>, SessionError> {
        while self.state != State::Asking && self.state != State::Over {
            if let Some(message) = self.unpacked.next() {
                self.unpacked_messages += 1;
                return Ok(Some(ReceiverEvent::Media(message)));
            }
            let Some(message) = self.wire.next()? else { return Ok(None) };
            match message.kind {
                MessageKind::Aggregate if self.state == State::Publishing => self.unpacked = Unpacked::of(message),
                MessageKind::Audio | MessageKind::Video | MessageKind::Data if self.state == State::Publishing => {
                    return Ok(Some(ReceiverEvent::Media(message)));
                }
                MessageKind::Command => {
                    let command = Command::parse(&message.payload)?;
                    if let Some(event) = self.command(command)? {
                        return Ok(Some(event));
                    }
                }
                _ => {}
            }
        }
        Ok(None)
    }

    fn command(&mut self, command: Command) -> Result<Option<ReceiverEvent>, SessionError> {
        match (command.name.as_str(), self.state) {
            ("connect", State::Connecting) => {
                let app = command.values.first().and_then(|v| v.get("app")).and_then(Value::as_text);
                self.app = app.unwrap_or_default().trim_matches('/').to_owned();
                self.wire.control(MessageKind::WindowAckSize, WINDOW_BYTES.to_be_bytes().to_vec());
                let mut bandwidth = WINDOW_BYTES.to_be_bytes().to_vec();
                bandwidth.push(2); // dynamic: section 5.4.5
                self.wire.control(MessageKind::SetPeerBandwidth, bandwidth);
                self.wire.raise_chunk_size();
                self.result(
                    command.transaction,
                    object([("fmsVer", "FMS/3,0,1,123".into()), ("capabilities", 31.0.into())]),
                    status("status", "NetConnection.Connect.Success", "Connection accepted."),
                );
                self.state = State::Connected;
            }
            (_, State::Connecting) => {
                return Err(SessionError::Protocol(format!(
                    "the command `{}` came before `connect`",
                    printable(&command.name)
                )));
            }
            ("createStream", _) => self.result(command.transaction, Value::Null, f64::from(STREAM_ID).into()),
            ("publish", State::Connected) => {
                self.state = State::Asking;
                let key = command.values.get(1).and_then(Value::as_text).and_then(|text| StreamKey::new(text).ok());
                return Ok(Some(ReceiverEvent::PublishRequested { app: self.app.clone(), key }));
            }
            // FCUnpublish comes before deleteStream; a peer that is cut off between them calls it an error.
            ("deleteStream" | "closeStream", State::Publishing) => {
                // It may publish again on this connection.
                self.state = State::Connected;
                self.unpacked = Unpacked::default();
                return Ok(Some(ReceiverEvent::Ended));
            }
            ("play" | "play2", _) => {
                self.status("error", "NetStream.Play.Failed", "This server takes broadcasts and plays none.");
                return Err(SessionError::Protocol("the peer asked to play; only publishing is served".into()));
            }
            _ => {}
        }
        Ok(None)
    }

    /// Lets the broadcaster publish.
    pub fn accept(&mut self) {
        if self.state == State::Asking {
            // Stream begin, section 7.1.7.
            let mut begin = vec![0, 0];
            begin.extend_from_slice(&STREAM_ID.to_be_bytes());
            self.wire.control(MessageKind::UserControl, begin);
            self.status("status", "NetStream.Publish.Start", "Publishing.");
            self.state = State::Publishing;
        }
    }

    /// Refuses the broadcaster; `why` is shown by most programs to their user.
    pub fn refuse(&mut self, code: RefuseCode, why: &str) {
        let code = match code {
            RefuseCode::BadName => "NetStream.Publish.BadName",
            RefuseCode::Rejected => "NetStream.Publish.Rejected",
        };
        self.status("error", code, why);
        self.state = State::Over;
    }

    fn result(&mut self, transaction: f64, properties: Value, information: Value) {
        self.wire.command(0, &["_result".into(), transaction.into(), properties, information]);
    }

    fn status(&mut self, level: &str, code: &str, description: &str) {
        self.wire.command(STREAM_ID, &["onStatus".into(), 0.0.into(), Value::Null, status(level, code, description)]);
    }
}

fn status(level: &str, code: &str, description: &str) -> Value {
    object([("level", level.into()), ("code", code.into()), ("description", description.into())])
}

/// A peer's text, cut and cleaned for a log line.
fn printable(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(40).collect()
}
