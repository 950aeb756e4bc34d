//! Readings files: everything the core was given, one JSON object a line, so that it can be given again.

mod mend;

use std::fs::{File, OpenOptions};
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use flate2::Compression;
use flate2::read::MultiGzDecoder;
use flate2::write::GzEncoder;
use moth_core::moment::Moment;
use moth_core::reading::Reading;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// The version this program writes, and the newest it reads.
const VERSION: u32 = 1;
/// A longer line is no reading, in bytes. Ours.
const LONGEST: u64 = 1 << 20;

/// The first line of a readings file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Header {
    /// The version of the format; its name makes the file known.
    pub moth_readings: u32,
    /// The servers of the broadcast, the one it began with first.
    pub servers: Vec<String>,
    /// When the readings' clock began, with the offset from UTC that held there (RFC 3339); older files do not tell.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub began: Option<String>,
    /// Everything in it is a stand-in's.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub made_up: bool,
}

impl Header {
    /// For a broadcast to these servers.
    #[must_use]
    pub fn new(servers: Vec<String>) -> Self {
        Self { moth_readings: VERSION, servers, began: None, made_up: false }
    }

    /// The same, begun at this time, as RFC 3339 writes it.
    #[must_use]
    pub fn begun(self, began: String) -> Self {
        Self { began: Some(began), ..self }
    }
}

/// Why a readings file cannot be written or read.
#[derive(Debug, thiserror::Error)]
pub enum ReadingsError {
    /// What the system says.
    #[error("the readings file {} cannot be {what}: {error}", path.display())]
    Io {
        /// Which file.
        path: PathBuf,
        /// `written`, `read` or `gone on with`.
        what: &'static str,
        /// What the system says.
        error: io::Error,
    },
    /// It is not one.
    #[error("{}, line 1: this is no readings file: {why}", path.display())]
    Foreign {
        /// Which file.
        path: PathBuf,
        /// Why.
        why: String,
    },
}

/// Whether a file of this name is compressed.
fn is_compressed(path: &Path) -> bool {
    path.extension().is_some_and(|extension| extension == "gz")
}

/// Writes a readings file.
pub struct Writer {
    path: PathBuf,
    /// Taken when it is finished.
    out: Option<Out>,
}

enum Out {
    Plain(BufWriter<File>),
    Compressed(Box<GzEncoder<BufWriter<File>>>),
}

impl Out {
    fn new(path: &Path, file: File) -> Self {
        let plain = BufWriter::new(file);
        if is_compressed(path) {
            Self::Compressed(Box::new(GzEncoder::new(plain, Compression::default())))
        } else {
            Self::Plain(plain)
        }
    }
}

impl Write for Out {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::Plain(out) => out.write(bytes),
            Self::Compressed(out) => out.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Self::Plain(out) => out.flush(),
            Self::Compressed(out) => out.flush(),
        }
    }
}

impl Writer {
    /// Begins a file, compressed if its name ends in `.gz`. One that is there already is left alone.
    ///
    /// # Errors
    /// [`ReadingsError::Io`].
    pub fn create(path: &Path, header: &Header) -> Result<Self, ReadingsError> {
        let fail = |error| ReadingsError::Io { path: path.to_owned(), what: "written", error };
        let mut options = OpenOptions::new();
        // It names servers and programs, which is nobody else's business.
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let file = options.write(true).create_new(true).open(path).map_err(fail)?;
        let mut writer = Self { path: path.to_owned(), out: Some(Out::new(path, file)) };
        writer.line(header)?;
        writer.flush()?;
        Ok(writer)
    }

    /// Goes on with a file whose moth was killed: what of it is not whole is cut off, and what is written comes behind it. Gives the time of the last
    /// reading in it.
    ///
    /// # Errors
    /// [`ReadingsError::Io`]; what there is of it is as it was.
    pub fn go_on(path: &Path) -> Result<(Self, Moment), ReadingsError> {
        let fail = |error| ReadingsError::Io { path: path.to_owned(), what: "gone on with", error };
        let line = mend::mend(path, is_compressed(path)).map_err(fail)?;
        // Behind its first line there may be nothing.
        let last = serde_json::from_slice::<Reading>(&line).map_or(Moment::START, |reading| reading.at);
        let file = OpenOptions::new().append(true).open(path).map_err(fail)?;
        Ok((Self { path: path.to_owned(), out: Some(Out::new(path, file)) }, last))
    }

    fn fail(&self, error: io::Error) -> ReadingsError {
        ReadingsError::Io { path: self.path.clone(), what: "written", error }
    }

    fn line(&mut self, value: &impl Serialize) -> Result<(), ReadingsError> {
        let mut line = serde_json::to_vec(value).map_err(|error| self.fail(error.into()))?;
        line.push(b'\n');
        match &mut self.out {
            Some(out) => out.write_all(&line).map_err(|error| ReadingsError::Io {
                path: self.path.clone(),
                what: "written",
                error,
            }),
            None => Ok(()),
        }
    }

    /// Adds a reading.
    ///
    /// # Errors
    /// [`ReadingsError::Io`].
    pub fn write(&mut self, reading: &Reading) -> Result<(), ReadingsError> {
        self.line(reading)
    }

    /// Gives the system what was written so far.
    ///
    /// # Errors
    /// [`ReadingsError::Io`].
    pub fn flush(&mut self) -> Result<(), ReadingsError> {
        let flushed = self.out.as_mut().map_or(Ok(()), Write::flush);
        flushed.map_err(|error| self.fail(error))
    }

    /// Ends the file.
    ///
    /// # Errors
    /// [`ReadingsError::Io`].
    pub fn finish(mut self) -> Result<(), ReadingsError> {
        let finished = match self.out.take() {
            Some(Out::Plain(mut out)) => out.flush(),
            Some(Out::Compressed(out)) => out.finish().and_then(|mut out| out.flush()),
            None => Ok(()),
        };
        finished.map_err(|error| self.fail(error))
    }
}

/// What is wrong with the rest of a file whose beginning is good.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Damage {
    /// The first line that is not used, counted from 1.
    pub line: u64,
    /// Why.
    pub why: String,
}

/// A broadcast has no gap as long as this between two readings: they come ten times a second. Ours.
const MOST_APART: Duration = Duration::from_secs(3600);

/// Reads a readings file, reading by reading.
pub struct Reader {
    /// Its first line.
    pub header: Header,
    lines: Box<dyn BufRead + Send>,
    line: u64,
    last: Moment,
    /// Why it ended before the file did; looked at once there are no more readings.
    pub damage: Option<Damage>,
}

impl Reader {
    /// Passes over readings without looking at them; fewer if the file ends.
    ///
    /// # Errors
    /// What the system says, or the decompression.
    pub fn pass_over(&mut self, readings: u64) -> io::Result<()> {
        let mut line = Vec::new();
        for _ in 0..readings {
            line.clear();
            if (&mut self.lines).take(LONGEST).read_until(b'\n', &mut line)? == 0 {
                break;
            }
            self.line += 1;
        }
        Ok(())
    }

    /// Opens a file.
    ///
    /// # Errors
    /// [`ReadingsError`] if it cannot be read, or is no readings file.
    pub fn open(path: &Path) -> Result<Self, ReadingsError> {
        let fail = |error| ReadingsError::Io { path: path.to_owned(), what: "read", error };
        let file = BufReader::new(File::open(path).map_err(fail)?);
        let mut lines: Box<dyn BufRead + Send> =
            if is_compressed(path) { Box::new(BufReader::new(MultiGzDecoder::new(file))) } else { Box::new(file) };
        let foreign = |why: String| ReadingsError::Foreign { path: path.to_owned(), why };
        let first = match next_line(&mut lines) {
            Ok(Some(first)) => first,
            Ok(None) => return Err(foreign("it is empty".into())),
            // What is no gzip, or one cut off at once.
            Err(error)
                if matches!(
                    error.kind(),
                    io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::UnexpectedEof
                ) =>
            {
                return Err(foreign(error.to_string()));
            }
            Err(error) => return Err(fail(error)),
        };
        let mut header: Header = serde_json::from_slice(&first)
            .map_err(|_| foreign("it does not begin with {\"moth_readings\":1,\"servers\":[…]}".into()))?;
        if header.moth_readings > VERSION {
            let why = format!("its version {} is newer than this program's {VERSION}", header.moth_readings);
            return Err(foreign(why));
        }
        // No time is longer; it is shown, and may be anything.
        header.began = header.began.filter(|began| began.len() <= 40);
        Ok(Self { header, lines, line: 1, last: Moment::START, damage: None })
    }

    fn damaged(&mut self, why: String) -> Option<Reading> {
        self.damage = Some(Damage { line: self.line, why });
        None
    }
}

impl Iterator for Reader {
    type Item = Reading;

    fn next(&mut self) -> Option<Reading> {
        if self.damage.is_some() {
            return None;
        }
        self.line += 1;
        let line = match next_line(&mut self.lines) {
            Ok(Some(line)) => line,
            Ok(None) => return None,
            Err(error) => return self.damaged(error.to_string()),
        };
        let value = match serde_json::from_slice::<Value>(&line) {
            Ok(value) => value,
            Err(error) => return self.damaged(format!("it is no reading: {error}")),
        };
        if let Some(what) = implausible(&value, "") {
            return self.damaged(what);
        }
        match Reading::deserialize(value) {
            Ok(reading) if reading.at < self.last => self.damaged("it lies before the line above it in time".into()),
            Ok(reading) if reading.at.since(self.last) > MOST_APART => {
                self.damaged(format!("it lies more than {} h after the line above it", MOST_APART.as_secs() / 3600))
            }
            Ok(reading) => {
                self.last = reading.at;
                Some(reading)
            }
            Err(error) => self.damaged(format!("it is no reading: {error}")),
        }
    }
}

/// Numbers that may be below zero: decibels, degrees, and how much later a picture is shown than sent.
const SIGNED: [&str; 4] = ["signal_dbm", "celsius", "limit_celsius", "composition_ms"];
/// Nothing that is measured here comes near it: bytes of a year at 10 Gb/s are a few thousand times less.
const MOST: f64 = 1e18;

/// No name, reason or remark is longer, in bytes. Ours.
const LONGEST_TEXT: usize = 16 << 10;

/// The first number in a reading that cannot have been measured, or text that nobody wrote, in words.
fn implausible(value: &Value, name: &str) -> Option<String> {
    match value {
        Value::Number(number) => {
            let number = number.as_f64().unwrap_or(f64::INFINITY);
            let is_plausible = number.abs() <= MOST && (number >= 0.0 || SIGNED.contains(&name));
            (!is_plausible).then(|| format!("{name} is {number}, which is no measurement"))
        }
        Value::String(text) if text.len() > LONGEST_TEXT => Some(format!("{name} is a text of {} bytes", text.len())),
        Value::Array(values) => values.iter().find_map(|value| implausible(value, name)),
        Value::Object(values) => values.iter().find_map(|(name, value)| implausible(value, name)),
        _ => None,
    }
}

/// The next line without its break; `None` at the end.
fn next_line(lines: &mut impl BufRead) -> io::Result<Option<Vec<u8>>> {
    let mut line = Vec::new();
    let read = lines.by_ref().take(LONGEST).read_until(b'\n', &mut line)?;
    if read == 0 {
        return Ok(None);
    }
    if line.pop_if(|byte| *byte == b'\n').is_none() && line.len() as u64 >= LONGEST {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "a line is longer than 1 MiB"));
    }
    Ok(Some(line))
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::figure::Origin;
    use moth_core::reading::VideoFrame;
    use moth_core::reading::{Observation, QueueLevel};
    use moth_core::viewers::Freezes;
    use proptest::prelude::*;

    #[test]
    fn numbers_that_nobody_measured_and_leaps_in_time_are_damage() {
        let good = serde_json::to_string(&reading(2)).unwrap();
        let bad = [
            good.replace("\"limit_ms\":2000.0", "\"limit_ms\":-1.0"),
            good.replace("\"limit_ms\":2000.0", "\"limit_ms\":1e300"),
            serde_json::to_string(&Reading { at: Moment::from_ms(1 << 40), ..reading(2) }).unwrap(),
            serde_json::to_string(&Reading {
                at: Moment::from_ms(3),
                origin: Origin::Measured,
                what: Observation::Remark { text: "x".repeat(LONGEST_TEXT + 1) },
            })
            .unwrap(),
        ];
        for (bad, why) in bad.into_iter().zip(["limit_ms is -1", "limit_ms is 1", "1 h after", "a text of 16385 bytes"])
        {
            assert_ne!(bad, good, "{why}");
            let dir = tempfile::tempdir().unwrap();
            let path = dir.path().join("bad.jsonl");
            std::fs::write(&path, format!("{{\"moth_readings\":1,\"servers\":[]}}\n{good}\n{bad}\n")).unwrap();
            let mut reader = Reader::open(&path).unwrap();
            assert_eq!(reader.by_ref().count(), 1, "the good one is read");
            let damage = reader.damage.unwrap();
            assert!(damage.line == 3 && damage.why.contains(why), "{damage:?}");
        }
    }

    fn reading(ms: u64) -> Reading {
        let what = match ms % 3 {
            0 => Observation::Video(VideoFrame {
                time_ms: 7,
                bytes: 1000,
                keyframe: ms.is_multiple_of(2),
                ..VideoFrame::default()
            }),
            1 => Observation::Remark { text: format!("a mark at {ms}\n\"quoted\"") },
            _ => Observation::Relay {
                accounts: moth_core::account::Accounts::default(),
                queue: QueueLevel { ms: ms as f64 / 7.0, bytes: ms, limit_ms: 2000.0, ..QueueLevel::default() },
                sent_bytes: ms * 1000,
                freezes: Freezes::default(),
                frozen_ms: None,
            },
        };
        Reading { at: Moment::from_ms(ms), origin: Origin::Measured, what }
    }

    fn written(name: &str, readings: &[Reading]) -> (tempfile::TempDir, PathBuf) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join(name);
        let mut writer = Writer::create(&path, &Header::new(vec!["Aldmoor".into()])).unwrap();
        readings.iter().for_each(|reading| writer.write(reading).unwrap());
        writer.finish().unwrap();
        (dir, path)
    }

    fn read(path: &Path) -> (Vec<Reading>, Option<Damage>) {
        let mut reader = Reader::open(path).unwrap();
        let readings = reader.by_ref().collect();
        (readings, reader.damage)
    }

    #[test]
    fn what_is_written_is_read_back_plain_or_compressed() {
        let readings: Vec<Reading> = (0..300).map(reading).collect();
        for name in ["evening.jsonl", "evening.jsonl.gz"] {
            let (_dir, path) = written(name, &readings);
            assert_eq!(read(&path), (readings.clone(), None));
            assert_eq!(Reader::open(&path).unwrap().header.servers, ["Aldmoor"]);
        }
        let (plain, compressed) = (written("a", &readings), written("a.gz", &readings));
        let bytes = |path: &Path| std::fs::metadata(path).unwrap().len();
        assert!(bytes(&compressed.1) * 4 < bytes(&plain.1));
    }

    #[test]
    fn a_file_that_is_there_is_left_alone() {
        let (_dir, path) = written("evening.jsonl", &[]);
        assert!(Writer::create(&path, &Header::new(Vec::new())).is_err_and(|e| e.to_string().contains("exists")));
    }

    #[test]
    fn the_good_part_of_a_damaged_file_is_used_and_the_rest_named() {
        let readings: Vec<Reading> = (0..50).map(reading).collect();
        let (_dir, path) = written("evening.jsonl", &readings);
        let text = std::fs::read_to_string(&path).unwrap();
        let with = |from: &str, to: &str| {
            std::fs::write(&path, text.replacen(from, to, 1)).unwrap();
            read(&path)
        };
        let twentieth = text.lines().nth(20).unwrap();
        let (good, damage) = with(twentieth, "{\"at\":19000,\"ori");
        assert_eq!((good.len(), damage.map(|d| d.line)), (19, Some(21)));
        let (good, damage) = with(twentieth, text.lines().nth(2).unwrap());
        assert_eq!(good.len(), 19);
        assert!(damage.unwrap().why.contains("before the line above"));
        // A crash in the middle of a compressed file.
        let (_dir, path) = written("evening.jsonl.gz", &readings);
        let bytes = std::fs::read(&path).unwrap();
        std::fs::write(&path, &bytes[..bytes.len() - 12]).unwrap();
        let (good, damage) = read(&path);
        assert!(damage.is_some() && good[..] == readings[..good.len()]);
    }

    /// A file as a kill leaves it: readings in twos, each two given to the system, and of what came last only a part.
    fn killed(name: &str, readings: &[Reading], cut: usize) -> (tempfile::TempDir, PathBuf) {
        let dir = tempfile::tempdir().unwrap();
        let (path, writing) = (dir.path().join(name), dir.path().join(format!("w-{name}")));
        let mut writer = Writer::create(&writing, &Header::new(Vec::new())).unwrap();
        for two in readings.chunks(2) {
            two.iter().for_each(|reading| writer.write(reading).unwrap());
            writer.flush().unwrap();
        }
        let bytes = std::fs::read(&writing).unwrap();
        std::fs::write(&path, &bytes[..bytes.len() - cut]).unwrap();
        (dir, path)
    }

    #[test]
    fn a_file_that_was_cut_off_goes_on_and_loses_nothing_that_was_whole() {
        let readings: Vec<Reading> = (0..60).map(reading).collect();
        for name in ["evening.jsonl", "evening.jsonl.gz"] {
            for cut in [0, 1, 3, 4, 5, 20, 77] {
                let (_dir, path) = killed(name, &readings[..40], cut);
                let mut kept = Vec::new();
                // Killed twice.
                for more in [&readings[40..50], &readings[50..]] {
                    let (mut writer, last) = Writer::go_on(&path).unwrap();
                    kept = read(&path).0;
                    assert_eq!(last, kept.last().unwrap().at, "{name}, {cut}");
                    more.iter().for_each(|reading| writer.write(reading).unwrap());
                    writer.flush().unwrap();
                    std::mem::forget(writer);
                    kept.extend_from_slice(more);
                }
                let (mut last, _) = Writer::go_on(&path).unwrap();
                last.write(&reading(99)).unwrap();
                last.finish().unwrap();
                kept.push(reading(99));
                assert_eq!(read(&path), (kept.clone(), None), "{name}, {cut}");
                // What was given to the system, but for the two that were cut.
                assert!(kept.len() >= 21 + if cut == 0 { 40 } else { 36 }, "{name}, {cut}: {}", kept.len());
            }
        }
    }

    #[test]
    fn what_is_no_readings_file_is_not_gone_on_with() {
        let dir = tempfile::tempdir().unwrap();
        for (name, bytes) in
            [("a", &b"no line"[..]), ("a.gz", b"no gzip at all"), ("b.gz", b"\x1f\x8b\x08\x00gar\xffbage....")]
        {
            let path = dir.path().join(name);
            std::fs::write(&path, bytes).unwrap();
            assert!(Writer::go_on(&path).is_err(), "{name}");
            assert_eq!(std::fs::read(&path).unwrap(), bytes, "{name}");
        }
    }

    #[test]
    fn a_foreign_file_is_said_to_be_one() {
        let dir = tempfile::tempdir().unwrap();
        let said = |name: &str, bytes: &[u8]| {
            let path = dir.path().join(name);
            std::fs::write(&path, bytes).unwrap();
            Reader::open(&path).err().unwrap().to_string()
        };
        assert!(said("a", b"").contains("it is empty"));
        assert!(said("a", b"{\"at\":3}\n").contains("line 1: this is no readings file"));
        assert!(said("a", &vec![b'x'; 2 << 20]).contains("longer than 1 MiB"));
        assert!(said("a.gz", b"plain text").contains("no readings file"));
        assert!(said("a", b"{\"moth_readings\":9,\"servers\":[]}\n").contains("version 9 is newer"));
        assert!(Reader::open(&dir.path().join("none")).err().unwrap().to_string().contains("cannot be read"));
    }

    proptest! {
        #[test]
        fn any_bytes_are_readings_or_damage(bytes in proptest::collection::vec(any::<u8>(), 0..400), name in "a|a[.]gz") {
            let dir = tempfile::tempdir().unwrap();
            let path = dir.path().join(name);
            std::fs::write(&path, &bytes).unwrap();
            prop_assert!(Reader::open(&path).is_err());
            let mut whole = b"{\"moth_readings\":1,\"servers\":[]}\n".to_vec();
            whole.extend(&bytes);
            let plain = dir.path().join("plain");
            std::fs::write(&plain, &whole).unwrap();
            let _ = read(&plain);
        }
    }
}
