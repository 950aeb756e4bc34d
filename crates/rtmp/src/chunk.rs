//! Messages cut into chunks and put together again (section 5.3).

mod reader;
mod writer;

pub use reader::{ChunkError, ChunkReader, MAX_CHUNK_STREAMS, MAX_HELD_BYTES, MAX_MESSAGE_BYTES};
pub use writer::ChunkWriter;

/// The chunk size both sides start with, in bytes (section 5.4.1).
pub const INITIAL_CHUNK_BYTES: usize = 128;

/// A timestamp field of this value says that four more bytes hold the real one (section 5.3.1.3).
const EXTENDED: u32 = 0x00ff_ffff;
