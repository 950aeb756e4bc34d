//! Chunks in, messages out; any interleaving, any split of the bytes, bounded memory.

use std::collections::BTreeMap;

use bytes::{Buf, BytesMut};

use super::{EXTENDED, INITIAL_CHUNK_BYTES};
use crate::message::{Message, MessageKind, StreamTime};

/// The largest message taken, in bytes. A keyframe at 50 Mb/s is about 1 MB. Ours.
pub const MAX_MESSAGE_BYTES: usize = 8 << 20;
/// The most bytes held in messages still incomplete, over all chunk streams. Ours.
pub const MAX_HELD_BYTES: usize = 12 << 20;
/// The most chunk streams one peer may use; real peers use fewer than ten. Ours.
pub const MAX_CHUNK_STREAMS: usize = 64;

/// Why a chunk cannot be read. The connection cannot go on after one: chunks have no marks to find
/// the next one by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ChunkError {
    /// A chunk that relies on a header its stream never had.
    #[error("chunk stream {0} goes on from a message that never began")]
    NoHeader(u32),
    /// A new header in the middle of a message.
    #[error("chunk stream {0} begins a message before the last one ended")]
    Unfinished(u32),
    /// Over [`MAX_MESSAGE_BYTES`].
    #[error("a message of {0} bytes is declared; at most {MAX_MESSAGE_BYTES} are taken")]
    TooLong(usize),
    /// Over [`MAX_HELD_BYTES`].
    #[error("more than {MAX_HELD_BYTES} bytes are held in unfinished messages")]
    TooMuchHeld,
    /// Over [`MAX_CHUNK_STREAMS`].
    #[error("more than {MAX_CHUNK_STREAMS} chunk streams are in use")]
    TooManyStreams,
    /// A chunk size of zero or with the reserved bit set (section 5.4.1).
    #[error("a chunk size of {0} is not allowed")]
    ChunkSize(u32),
    /// A protocol control message shorter than its number.
    #[error("a protocol control message of type {0} is too short")]
    ShortControl(u8),
}

/// What one chunk stream remembers from chunk to chunk.
#[derive(Debug, Default)]
struct Stream {
    time: u32,
    /// The last timestamp field: added again by a header of type 3 that begins a message.
    field: u32,
    extended: bool,
    length: usize,
    kind: u8,
    stream_id: u32,
    partial: BytesMut,
    in_message: bool,
}

/// A chunk's header, whole and understood, but not yet applied.
struct Header {
    id: u32,
    format: u8,
    bytes: usize,
    field: Option<u32>,
    length_and_kind: Option<(usize, u8)>,
    stream_id: Option<u32>,
    extended: bool,
}

/// Puts messages together from chunks. Chunk size and abort are obeyed here, as they concern nothing else.
#[derive(Debug)]
pub struct ChunkReader {
    chunk_bytes: usize,
    streams: BTreeMap<u32, Stream>,
    held_bytes: usize,
    /// The chunk whose payload is being taken, and how much of it is still to come.
    current: Option<(u32, usize)>,
}

impl Default for ChunkReader {
    fn default() -> Self {
        Self { chunk_bytes: INITIAL_CHUNK_BYTES, streams: BTreeMap::new(), held_bytes: 0, current: None }
    }
}

impl ChunkReader {
    /// Takes bytes from `input` until a message is whole. `None`: more bytes are needed; at most a
    /// chunk header (18 bytes) is then left in `input`.
    ///
    /// # Errors
    /// [`ChunkError`]; the reader must not be used afterwards.
    pub fn read(&mut self, input: &mut BytesMut) -> Result<Option<Message>, ChunkError> {
        loop {
            if self.current.is_none() && !self.begin_chunk(input)? {
                return Ok(None);
            }
            let Some((id, left)) = self.current else { return Ok(None) };
            let Some(stream) = self.streams.get_mut(&id) else { return Err(ChunkError::NoHeader(id)) };
            let take = left.min(input.len());
            if self.held_bytes + take > MAX_HELD_BYTES {
                return Err(ChunkError::TooMuchHeld);
            }
            stream.partial.extend_from_slice(&input[..take]);
            input.advance(take);
            self.held_bytes += take;
            if take < left {
                self.current = Some((id, left - take));
                return Ok(None);
            }
            self.current = None;
            if stream.partial.len() < stream.length {
                continue;
            }
            stream.in_message = false;
            let message = Message {
                kind: MessageKind::from_number(stream.kind),
                time: StreamTime(stream.time),
                stream_id: stream.stream_id,
                payload: std::mem::take(&mut stream.partial).freeze(),
            };
            self.held_bytes -= message.payload.len();
            self.obey(&message)?;
            return Ok(Some(message));
        }
    }

    /// Bytes held in messages that are not yet whole.
    #[must_use]
    pub fn held_bytes(&self) -> usize {
        self.held_bytes
    }

    fn obey(&mut self, message: &Message) -> Result<(), ChunkError> {
        let number = || message.leading_u32().ok_or(ChunkError::ShortControl(message.kind.number()));
        match message.kind {
            MessageKind::SetChunkSize => {
                let size = number()?;
                if size == 0 || size > i32::MAX.unsigned_abs() {
                    return Err(ChunkError::ChunkSize(size));
                }
                self.chunk_bytes = size as usize;
            }
            MessageKind::Abort => {
                if let Some(stream) = self.streams.get_mut(&number()?) {
                    self.held_bytes -= stream.partial.len();
                    stream.partial = BytesMut::new();
                    stream.in_message = false;
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// Reads a chunk header if it is whole, and applies it; `false` if more bytes are needed.
    fn begin_chunk(&mut self, input: &mut BytesMut) -> Result<bool, ChunkError> {
        let Some(header) = self.parse_header(input)? else { return Ok(false) };
        if !self.streams.contains_key(&header.id) && self.streams.len() >= MAX_CHUNK_STREAMS {
            return Err(ChunkError::TooManyStreams);
        }
        let stream = self.streams.entry(header.id).or_default();
        if stream.in_message {
            if header.format != 3 {
                return Err(ChunkError::Unfinished(header.id));
            }
        } else {
            if let Some((length, kind)) = header.length_and_kind {
                if length > MAX_MESSAGE_BYTES {
                    return Err(ChunkError::TooLong(length));
                }
                (stream.length, stream.kind) = (length, kind);
            }
            stream.stream_id = header.stream_id.unwrap_or(stream.stream_id);
            stream.field = header.field.unwrap_or(stream.field);
            stream.extended = header.extended;
            // A type 3 header after a type 0 adds its timestamp again as a delta: section 5.3.1.2.4.
            stream.time = if header.format == 0 { stream.field } else { stream.time.wrapping_add(stream.field) };
            stream.in_message = true;
            // The declared length is the peer's word: only a modest part of it is set aside in advance.
            stream.partial.reserve(stream.length.min(64 << 10));
        }
        input.advance(header.bytes);
        let left = stream.length - stream.partial.len();
        self.current = Some((header.id, left.min(self.chunk_bytes)));
        Ok(true)
    }

    fn parse_header(&self, input: &[u8]) -> Result<Option<Header>, ChunkError> {
        let Some(&first) = input.first() else { return Ok(None) };
        let (id, mut at) = match (first & 0x3f, input) {
            (0, [_, b, ..]) => (64 + u32::from(*b), 2),
            (1, [_, b, c, ..]) => (64 + u32::from(*b) + 256 * u32::from(*c), 3),
            (0 | 1, _) => return Ok(None),
            (id, _) => (u32::from(id), 1),
        };
        let format = first >> 6;
        let size = [11, 7, 3, 0][usize::from(format)];
        let Some(body) = input.get(at..at + size) else { return Ok(None) };
        at += size;
        let three = |b: &[u8]| u32::from_be_bytes([0, b[0], b[1], b[2]]);
        let mut field = (format < 3).then(|| three(body));
        let known = self.streams.get(&id);
        if format > 0 && known.is_none() {
            return Err(ChunkError::NoHeader(id));
        }
        let extended = field.map_or(known.is_some_and(|s| s.extended), |field| field == EXTENDED);
        if extended {
            let Some(bytes) = input.get(at..at + 4) else { return Ok(None) };
            at += 4;
            field = Some(u32::from_be_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]));
        }
        Ok(Some(Header {
            id,
            format,
            bytes: at,
            field,
            length_and_kind: (format < 2).then(|| (three(&body[3..]) as usize, body[6])),
            // The message stream is the one little-endian number in the protocol (section 5.3.1.2.1).
            stream_id: (format == 0).then(|| u32::from_le_bytes([body[7], body[8], body[9], body[10]])),
            extended,
        }))
    }
}
