//! Messages in, chunks out.

use std::collections::BTreeMap;

use bytes::{BufMut, BytesMut};

use super::{EXTENDED, INITIAL_CHUNK_BYTES};
use crate::message::{Message, MessageKind};

/// What was last said on a chunk stream, so that the next header can leave it out.
#[derive(Debug, Clone, Copy)]
struct Said {
    time: u32,
    length: usize,
    kind: MessageKind,
    stream_id: u32,
}

/// Cuts messages into chunks. Messages are written whole, one after another.
#[derive(Debug)]
pub struct ChunkWriter {
    chunk_bytes: usize,
    said: BTreeMap<u8, Said>,
}

impl Default for ChunkWriter {
    fn default() -> Self {
        Self { chunk_bytes: INITIAL_CHUNK_BYTES, said: BTreeMap::new() }
    }
}

impl ChunkWriter {
    /// Tells the peer of a new chunk size, in bytes from 1 to 2³¹−1, and uses it from then on.
    pub fn set_chunk_bytes(&mut self, chunk_bytes: u32, out: &mut BytesMut) {
        let chunk_bytes = chunk_bytes.clamp(1, i32::MAX.unsigned_abs());
        let payload = chunk_bytes.to_be_bytes().to_vec();
        self.write(2, &Message::control(MessageKind::SetChunkSize, payload), out);
        self.chunk_bytes = chunk_bytes as usize;
    }

    /// Appends a message's chunks to `out`. `chunk_stream` is from 2 to 63 (one-byte headers).
    ///
    /// A message always begins with a header of type 0, 1 or 2: what type 3 means there after a type 0
    /// is read in two ways by servers in use, so it serves only to go on within a message.
    pub fn write(&mut self, chunk_stream: u8, message: &Message, out: &mut BytesMut) {
        let chunk_stream = chunk_stream.clamp(2, 63);
        let length = message.payload.len();
        let said = self.said.get(&chunk_stream);
        let delta = said.map(|s| message.time.0.wrapping_sub(s.time)).filter(|d| *d <= i32::MAX.unsigned_abs());
        let (format, field) = match (said, delta) {
            (Some(s), Some(delta)) if s.stream_id == message.stream_id => {
                (if s.length == length && s.kind == message.kind { 2 } else { 1 }, delta)
            }
            _ => (0, message.time.0),
        };
        let extended = field >= EXTENDED;
        out.reserve(length + length / self.chunk_bytes * 5 + 24);
        out.put_u8(format << 6 | chunk_stream);
        out.put_uint(u64::from(field.min(EXTENDED)), 3);
        if format < 2 {
            out.put_uint(length as u64, 3);
            out.put_u8(message.kind.number());
        }
        if format == 0 {
            out.put_u32_le(message.stream_id);
        }
        if extended {
            out.put_u32(field);
        }
        for (i, piece) in message.payload.chunks(self.chunk_bytes).enumerate() {
            if i > 0 {
                out.put_u8(3 << 6 | chunk_stream);
                if extended {
                    out.put_u32(field);
                }
            }
            out.put_slice(piece);
        }
        let said = Said { time: message.time.0, length, kind: message.kind, stream_id: message.stream_id };
        self.said.insert(chunk_stream, said);
    }
}
