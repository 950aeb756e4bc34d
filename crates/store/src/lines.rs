//! A file of JSON lines, to which lines are added one by one.

use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::overwrite::make_dir;

/// The file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JsonLines {
    path: PathBuf,
}

impl JsonLines {
    /// The one at this path, which need not be there yet.
    #[must_use]
    pub fn at(path: PathBuf) -> Self {
        Self { path }
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Adds one.
    ///
    /// # Errors
    /// What the system says.
    pub fn add<T: Serialize>(&self, kept: &T) -> io::Result<()> {
        if let Some(dir) = self.path.parent() {
            make_dir(dir, true)?;
        }
        let mut line = serde_json::to_vec(kept)?;
        line.push(b'\n');
        let mut file = OpenOptions::new().create(true).append(true).read(true).open(&self.path)?;
        // A line cut short by a full disk or a crash must not swallow this one.
        if !ends_with_newline(&file)? {
            line.insert(0, b'\n');
        }
        // In one go, so that two moths do not write into each other's line.
        file.write_all(&line)
    }

    /// Every line that is understood, the oldest first, and how many are not; nothing, if there is no file.
    ///
    /// # Errors
    /// What the system says.
    pub fn read<T: DeserializeOwned>(&self) -> io::Result<(Vec<T>, usize)> {
        let file = match File::open(&self.path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok((Vec::new(), 0)),
            opened => opened?,
        };
        let (mut kept, mut unread) = (Vec::new(), 0);
        for line in BufReader::new(file).split(b'\n') {
            let line = line?;
            if line.is_empty() {
                continue;
            }
            match serde_json::from_slice(&line) {
                Ok(one) => kept.push(one),
                Err(_) => unread += 1,
            }
        }
        Ok((kept, unread))
    }
}

fn ends_with_newline(mut file: &File) -> io::Result<bool> {
    if fs::File::metadata(file)?.len() == 0 {
        return Ok(true);
    }
    file.seek(SeekFrom::End(-1))?;
    let mut last = [0];
    file.read_exact(&mut last)?;
    Ok(last == *b"\n")
}
