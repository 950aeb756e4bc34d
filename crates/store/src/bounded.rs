//! Reading a small text file that somebody named, whatever it turns out to be: a device without an end, or a pipe into which nobody
//! writes, must not keep the program.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

/// What a pipe is given to bring something, or to end. Ours.
#[cfg(unix)]
const PATIENCE_S: i64 = 5;

/// The text of a file of at most so many bytes.
///
/// # Errors
/// What the system says; that it is longer, no text, or that nobody writes into it.
pub fn read(path: &Path, most: u64) -> io::Result<String> {
    let mut bytes = Vec::new();
    fill(&mut open(path)?, most + 1, &mut bytes)?;
    if bytes.len() as u64 > most {
        return Err(io::Error::other(format!("it is longer than {most} bytes")));
    }
    String::from_utf8(bytes).map_err(|_| io::Error::other("it is not a text file"))
}

/// Opens it without waiting for whoever writes into a pipe.
#[cfg(unix)]
fn open(path: &Path) -> io::Result<File> {
    use std::os::unix::fs::OpenOptionsExt;
    let flags = rustix::fs::OFlags::NONBLOCK.bits().cast_signed();
    File::options().read(true).custom_flags(flags).open(path)
}

#[cfg(not(unix))]
fn open(path: &Path) -> io::Result<File> {
    File::open(path)
}

#[cfg(unix)]
fn fill(file: &mut File, most: u64, bytes: &mut Vec<u8>) -> io::Result<()> {
    use rustix::event::{PollFd, PollFlags, Timespec, poll};
    let is_pipe = std::os::unix::fs::FileTypeExt::is_fifo(&file.metadata()?.file_type());
    loop {
        if is_pipe {
            let patience = Timespec { tv_sec: PATIENCE_S, tv_nsec: 0 };
            if poll(&mut [PollFd::new(file, PollFlags::IN)], Some(&patience))? == 0 {
                return Err(io::Error::new(io::ErrorKind::TimedOut, "it is a pipe, and nobody writes into it"));
            }
        }
        let mut left = Read::by_ref(file).take(most - bytes.len() as u64);
        match left.read_to_end(bytes) {
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            read => return read.map(|_| ()),
        }
    }
}

#[cfg(not(unix))]
fn fill(file: &mut File, most: u64, bytes: &mut Vec<u8>) -> io::Result<()> {
    Read::by_ref(file).take(most).read_to_end(bytes).map(|_| ())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_read_up_to_its_most() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("file");
        std::fs::write(&path, "twelve bytes").unwrap();
        assert_eq!(read(&path, 12).unwrap(), "twelve bytes");
        assert!(read(&path, 11).unwrap_err().to_string().contains("longer than 11 bytes"));
        std::fs::write(&path, [0xff]).unwrap();
        assert!(read(&path, 12).unwrap_err().to_string().contains("not a text file"));
        assert_eq!(read(&dir.path().join("none"), 12).unwrap_err().kind(), io::ErrorKind::NotFound);
        assert!(read(dir.path(), 12).is_err(), "a folder");
    }

    #[cfg(unix)]
    #[test]
    fn neither_a_device_without_an_end_nor_a_pipe_without_a_writer_keeps_it() {
        assert!(read(Path::new("/dev/zero"), 1 << 20).unwrap_err().to_string().contains("longer"));
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("pipe");
        assert!(std::process::Command::new("mkfifo").arg(&path).status().unwrap().success());
        let writer = path.clone();
        let writes = std::thread::spawn(move || {
            // Opened here first, the reader may find it before anything was written.
            let mut pipe = File::options().write(true).open(writer).unwrap();
            std::io::Write::write_all(&mut pipe, b"said").unwrap();
        });
        // As `--key-file <(command)` is read.
        assert_eq!(read(&path, 12).unwrap(), "said");
        writes.join().unwrap();
        let error = read(&path, 12).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::TimedOut, "{error}");
    }
}
