//! What both sides share: handshake, chunks, acknowledgements and pings.

use bytes::{Bytes, BytesMut};

use super::SessionError;
use crate::amf0::Value;
use crate::chunk::{ChunkReader, ChunkWriter};
use crate::handshake::Handshake;
use crate::message::{Message, MessageKind, StreamTime};

/// Chunk size used for sending, in bytes: large enough that headers cost 0.02 %, and within what every
/// server takes. Ours.
const SEND_CHUNK_BYTES: u32 = 4096;
/// Room made for what is read at once, in bytes. Ours.
const READ_BYTES: usize = 16 << 10;
/// User control events (section 6.2).
const PING_REQUEST: u16 = 6;
const PING_RESPONSE: u16 = 7;

#[derive(Debug)]
pub(super) struct Wire {
    handshake: Handshake,
    opened: bool,
    reader: ChunkReader,
    writer: ChunkWriter,
    input: BytesMut,
    out: BytesMut,
    received_bytes: u64,
    received_messages: u64,
    acknowledged_bytes: u64,
    /// After this many received bytes the peer wants an acknowledgement; unset until it says so.
    window_bytes: Option<u32>,
}

impl Wire {
    pub(super) fn server() -> Self {
        Self::new(Handshake::server(), BytesMut::new())
    }

    pub(super) fn client() -> Self {
        let mut out = BytesMut::new();
        let handshake = Handshake::client(&mut out);
        Self::new(handshake, out)
    }

    fn new(handshake: Handshake, out: BytesMut) -> Self {
        Self {
            handshake,
            opened: false,
            reader: ChunkReader::default(),
            writer: ChunkWriter::default(),
            input: BytesMut::new(),
            out,
            received_bytes: 0,
            received_messages: 0,
            acknowledged_bytes: 0,
            window_bytes: None,
        }
    }

    pub(super) fn feed(&mut self, bytes: &[u8]) {
        self.received_bytes += bytes.len() as u64;
        self.input.extend_from_slice(bytes);
    }

    pub(super) fn room(&mut self) -> &mut BytesMut {
        self.input.reserve(READ_BYTES);
        &mut self.input
    }

    pub(super) fn received(&mut self, count: usize) {
        self.received_bytes += count as u64;
    }

    /// Messages that came so far, of any kind.
    pub(super) fn received_messages(&self) -> u64 {
        self.received_messages
    }

    pub(super) fn take_output(&mut self) -> BytesMut {
        self.out.split()
    }

    pub(super) fn opened(&self) -> bool {
        self.opened
    }

    /// The next message that is not the wire's own business; `None` when more bytes are needed.
    pub(super) fn next(&mut self) -> Result<Option<Message>, SessionError> {
        if !self.opened {
            self.opened = self.handshake.advance(&mut self.input, &mut self.out)?;
            if !self.opened {
                return Ok(None);
            }
        }
        while let Some(message) = self.reader.read(&mut self.input)? {
            self.received_messages += 1;
            match message.kind {
                MessageKind::WindowAckSize => self.window_bytes = message.leading_u32().filter(|w| *w > 0),
                MessageKind::UserControl => self.answer_ping(&message.payload),
                MessageKind::SetChunkSize
                | MessageKind::Abort
                | MessageKind::Acknowledgement
                | MessageKind::SetPeerBandwidth => {}
                _ => {
                    self.acknowledge();
                    return Ok(Some(message));
                }
            }
        }
        self.acknowledge();
        Ok(None)
    }

    fn answer_ping(&mut self, payload: &[u8]) {
        if let [a, b, stamp @ ..] = payload
            && u16::from_be_bytes([*a, *b]) == PING_REQUEST
            && stamp.len() == 4
        {
            let mut answer = PING_RESPONSE.to_be_bytes().to_vec();
            answer.extend_from_slice(stamp);
            self.control(MessageKind::UserControl, answer);
        }
    }

    fn acknowledge(&mut self) {
        let Some(window) = self.window_bytes else { return };
        if self.received_bytes - self.acknowledged_bytes >= u64::from(window) {
            self.acknowledged_bytes = self.received_bytes;
            // The count is modulo 2³² by section 5.4.3.
            let count = (self.received_bytes & u64::from(u32::MAX)) as u32;
            self.control(MessageKind::Acknowledgement, count.to_be_bytes().to_vec());
        }
    }

    pub(super) fn control(&mut self, kind: MessageKind, payload: impl Into<Bytes>) {
        self.send(2, &Message::control(kind, payload));
    }

    pub(super) fn send(&mut self, chunk_stream: u8, message: &Message) {
        self.writer.write(chunk_stream, message, &mut self.out);
    }

    pub(super) fn raise_chunk_size(&mut self) {
        self.writer.set_chunk_bytes(SEND_CHUNK_BYTES, &mut self.out);
    }

    pub(super) fn command(&mut self, stream_id: u32, values: &[Value]) {
        let mut payload = BytesMut::new();
        for value in values {
            value.encode(&mut payload);
        }
        let message = Message { kind: MessageKind::Command, time: StreamTime(0), stream_id, payload: payload.freeze() };
        self.send(3, &message);
    }
}
