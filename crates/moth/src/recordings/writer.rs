//! `--record`: readings on their way into a file, on a thread of their own. A disk that is slow or full costs the
//! recording, never a frame.

use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jiff::Zoned;
use moth_core::figure::Origin;
use moth_core::reading::{Observation, Reading};
use moth_logbook::readings::{Header, ReadingsError, Writer};

use crate::failure::Failure;

/// Readings that may wait for the disk: about ten minutes of a broadcast at 60 frames/s. Ours.
const WAITING: usize = 100_000;
/// At the latest after this long, what was written is given to the system. Ours.
const FLUSH: Duration = Duration::from_millis(500);

/// A recording that goes on.
pub struct Recording {
    to: SyncSender<Reading>,
    thread: JoinHandle<Result<(), ReadingsError>>,
    lost: u64,
    ended: bool,
}

impl Recording {
    /// Begins one; `made_up` if everything in it is a stand-in's.
    ///
    /// # Errors
    /// [`Failure`] if the file cannot be written, or is there already.
    pub fn begin(path: &Path, servers: Vec<String>, made_up: bool) -> Result<Self, Failure> {
        let began = Zoned::now().strftime("%Y-%m-%dT%H:%M:%S%.3f%:z").to_string();
        let header = Header { made_up, ..Header::new(servers).begun(began) };
        let writer = Writer::create(path, &header)?;
        Self::with(move || Ok(writer))
    }

    /// Goes on with one that was cut off: first comes what is to be written at the time of its last reading.
    ///
    /// # Errors
    /// [`Failure`] if its thread cannot be started. A file that cannot be gone on with ends the recording, and is as it was.
    pub fn go_on(path: PathBuf, first: Vec<Observation>) -> Result<Self, Failure> {
        // A long one is gone through for a while: what comes meanwhile waits.
        Self::with(move || {
            let (mut writer, at) = Writer::go_on(&path)?;
            for what in first {
                writer.write(&Reading { at, origin: Origin::Inferred, what })?;
            }
            Ok(writer)
        })
    }

    fn with(open: impl FnOnce() -> Result<Writer, ReadingsError> + Send + 'static) -> Result<Self, Failure> {
        let (to, from) = sync_channel(WAITING);
        let thread = std::thread::Builder::new()
            .name("recording".into())
            .spawn(move || write(open()?, &from))
            .map_err(Failure::system("the recording's thread could not be started"))?;
        Ok(Self { to, thread, lost: 0, ended: false })
    }

    /// Takes a reading, without waiting for anything.
    pub fn take(&mut self, reading: &Reading) {
        match self.to.try_send(reading.clone()) {
            Ok(()) => {}
            Err(TrySendError::Full(_)) => self.lost += 1,
            Err(TrySendError::Disconnected(_)) => {
                if !std::mem::replace(&mut self.ended, true) {
                    tracing::warn!("the recording of readings ended early; the broadcast goes on");
                }
            }
        }
    }

    /// Ends it, once everything is written.
    ///
    /// # Errors
    /// [`Failure`] if not everything was.
    pub fn finish(self) -> Result<(), Failure> {
        drop(self.to);
        self.thread.join().unwrap_or(Ok(()))?;
        if self.lost > 0 {
            return Err(Failure::RecordingLost(self.lost));
        }
        Ok(())
    }
}

fn write(mut writer: Writer, from: &Receiver<Reading>) -> Result<(), ReadingsError> {
    use std::sync::mpsc::RecvTimeoutError;
    let mut flushed = Instant::now();
    loop {
        match from.recv_timeout(FLUSH) {
            Ok(reading) => writer.write(&reading)?,
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => return writer.finish(),
        }
        // Also while readings come without a pause: a moth that is killed loses no more than this.
        if flushed.elapsed() >= FLUSH {
            writer.flush()?;
            flushed = Instant::now();
        }
    }
}
