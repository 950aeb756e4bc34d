//! A readings file whose moth was killed in the middle of a line, made ready for what comes after it. Nothing that was whole is lost, and
//! nothing is written anew: what cannot be read is cut off the end.
//!
//! A compressed one is a gzip member without its end (RFC 1952). It was given to the system up to an empty stored block (RFC 1951,
//! 3.2.4, the "flush" of its writers), which ends at a whole line: from there on it is cut off, and the member's end is put in its place.

use std::fs::{File, OpenOptions};
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::path::Path;

use flate2::read::DeflateDecoder;
use flate2::{Crc, CrcReader};

use super::LONGEST;

/// Looked through for the end of what is whole, from the end of the file, in bytes. Ours: many seconds of readings.
const TAIL: u64 = 4 << 20;
/// How a flushed block ends: stored, and of no length.
const FLUSHED: [u8; 4] = [0x00, 0x00, 0xff, 0xff];
/// The header of a member as it is written here: nothing optional.
const HEADER: u64 = 10;

/// Keeps the last whole line of what is written to it.
#[derive(Default)]
struct LastLine {
    line: Vec<u8>,
    open: Vec<u8>,
}

impl Write for LastLine {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        for part in bytes.split_inclusive(|byte| *byte == b'\n') {
            if self.open.len() < LONGEST as usize {
                self.open.extend_from_slice(part);
            }
            if part.ends_with(b"\n") {
                self.line = std::mem::take(&mut self.open);
            }
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Makes the file end with a whole line, and if it is compressed with a whole member; gives its last line.
///
/// # Errors
/// What the system says, or [`io::ErrorKind::InvalidData`] if the file is none that was written here; it is as it was then.
pub(super) fn mend(path: &Path, is_compressed: bool) -> io::Result<Vec<u8>> {
    let mut file = OpenOptions::new().read(true).write(true).open(path)?;
    if is_compressed { end_the_member(&mut file) } else { end_the_line(&mut file) }
}

fn foreign(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_owned())
}

/// The last of `wanted` within the tail; gives where it ends.
fn last(file: &mut File, wanted: &[u8]) -> io::Result<Option<u64>> {
    let length = file.metadata()?.len();
    let from = file.seek(SeekFrom::Start(length.saturating_sub(TAIL)))?;
    let mut tail = Vec::new();
    file.read_to_end(&mut tail)?;
    let found = tail.windows(wanted.len()).rposition(|bytes| bytes == wanted);
    Ok(found.map(|at| from + (at + wanted.len()) as u64))
}

fn end_the_line(file: &mut File) -> io::Result<Vec<u8>> {
    let end = last(file, b"\n")?.ok_or_else(|| foreign("no line of it is whole"))?;
    file.set_len(end)?;
    file.sync_all()?;
    file.seek(SeekFrom::Start(end.saturating_sub(LONGEST)))?;
    let mut line = LastLine::default();
    io::copy(file, &mut line)?;
    Ok(line.line)
}

/// Where the last member begins, `None` if that one is whole; and the last line of those before it.
fn open_member(file: &mut File) -> io::Result<(Option<u64>, Vec<u8>)> {
    let length = file.metadata()?.len();
    let (mut begins, mut before) = (0, Vec::new());
    loop {
        let mut line = LastLine::default();
        file.seek(SeekFrom::Start(begins))?;
        // One at a time: where it ends is known by what of the file is left.
        let mut member = flate2::bufread::GzDecoder::new(BufReader::new(&mut *file));
        match io::copy(&mut member, &mut line) {
            Ok(_) => {
                let mut rest = member.into_inner();
                begins = rest.stream_position()?;
                before = line.line;
                if begins >= length {
                    return Ok((None, before));
                }
            }
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok((Some(begins), before)),
            Err(error) => return Err(error),
        }
    }
}

fn end_the_member(file: &mut File) -> io::Result<Vec<u8>> {
    let (begins, before) = open_member(file)?;
    let Some(begins) = begins else { return Ok(before) };
    let from = begins + HEADER;
    let end = last(file, &FLUSHED)?.filter(|end| *end > from);
    // Of a member that was just begun there is nothing yet: it is as if it never was.
    let Some(end) = end else {
        file.set_len(begins)?;
        return Ok(before);
    };
    file.seek(SeekFrom::Start(from))?;
    let whole = DeflateDecoder::new(BufReader::new((&mut *file).take(end - from)));
    let mut counted = CrcReader::new(whole);
    let mut line = LastLine::default();
    match io::copy(&mut counted, &mut line) {
        // It ends without an end, as it should.
        Err(error) if error.kind() != io::ErrorKind::UnexpectedEof => return Err(error),
        _ => {}
    }
    let crc: &Crc = counted.crc();
    let mut tail = vec![0x03, 0x00];
    tail.extend(crc.sum().to_le_bytes());
    tail.extend(crc.amount().to_le_bytes());
    file.set_len(end)?;
    file.seek(SeekFrom::Start(end))?;
    file.write_all(&tail)?;
    file.sync_all()?;
    Ok(if line.line.is_empty() { before } else { line.line })
}
