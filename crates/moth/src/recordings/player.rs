//! A recorded broadcast, gone through at any speed, back and forth. The core is given what it was given then, and asked as often;
//! so what it says is what it said.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use crossterm::event::KeyCode;
use moth_core::moment::Moment;
use moth_core::reading::Reading;
use moth_core::{Core, Settings, Snapshot};
use moth_logbook::readings::Reader;

use crate::failure::Failure;
use crate::recordings::judged::LOOK;
use moth_evening::chronicle::{Chronicle, lock};

/// The core is kept this often on the way, so that going back need not begin at the beginning. Ours.
const KEEP_EACH: Duration = Duration::from_secs(300);

/// What a key does to a replay.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReplayOrder {
    /// Stop, or go on.
    Pause,
    /// The next higher speed.
    Faster,
    /// The next lower speed.
    Slower,
    /// So many seconds on, or back.
    Jump(i64),
}

impl ReplayOrder {
    /// What a key means.
    pub(crate) fn of(code: KeyCode) -> Option<Self> {
        Some(match code {
            KeyCode::Char(' ') => Self::Pause,
            KeyCode::Char('>' | '.') => Self::Faster,
            KeyCode::Char('<' | ',') => Self::Slower,
            KeyCode::Char('[') => Self::Jump(-30),
            KeyCode::Char(']') => Self::Jump(30),
            KeyCode::Char('{') => Self::Jump(-300),
            KeyCode::Char('}') => Self::Jump(300),
            _ => return None,
        })
    }
}

/// Where a replay is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ReplayState {
    /// Seconds of the broadcast in a second.
    pub speed: f64,
    /// It stands still.
    pub is_paused: bool,
    /// How long the broadcast is, once that is known.
    pub length: Option<Duration>,
    /// The file is at its end.
    pub is_over: bool,
}

/// Plays a file.
pub struct Player {
    path: PathBuf,
    pub(crate) reader: Reader,
    /// Readings taken so far.
    taken: u64,
    next: Option<Reading>,
    core: Core,
    look: Moment,
    newest: Option<Arc<Snapshot>>,
    kept: Vec<Kept>,
    /// What was written down until now; the screen draws of it.
    pub(crate) chronicle: Arc<Mutex<Chronicle>>,
}

/// The core at a moment on the way.
struct Kept {
    taken: u64,
    look: Moment,
    core: Core,
    chronicle: Chronicle,
}

impl Player {
    /// Opens a file.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read, or is no readings file.
    pub fn open(path: &Path) -> Result<Self, Failure> {
        let mut reader = Reader::open(path)?;
        let core = Core::new(Settings { servers: reader.header.servers.clone() });
        let next = reader.next();
        let first = Kept { taken: 0, look: Moment::START, core: core.clone(), chronicle: Chronicle::default() };
        Ok(Self {
            path: path.to_owned(),
            reader,
            taken: 0,
            next,
            core,
            look: Moment::START,
            newest: None,
            kept: vec![first],
            chronicle: Arc::new(Mutex::new(Chronicle::with_moments())),
        })
    }

    /// Goes to a moment, which may lie behind.
    ///
    /// # Errors
    /// [`Failure`] if the file cannot be read again.
    pub fn go_to(&mut self, to: Moment) -> Result<(), Failure> {
        if to < self.look {
            let found = self.kept.iter().rposition(|kept| kept.look <= to).unwrap_or(0);
            if let Some(kept) = self.kept.get(found) {
                self.reader = Reader::open(&self.path)?;
                self.reader
                    .pass_over(kept.taken)
                    .map_err(Failure::system("the readings file could not be read again"))?;
                (self.taken, self.look, self.core) = (kept.taken, kept.look, kept.core.clone());
                self.next = self.reader.next();
                self.newest = None;
                let seconds = kept.look.seconds() as usize;
                lock(&self.chronicle).go_back(&kept.chronicle, seconds);
            }
        }
        while self.look <= to {
            while let Some(reading) = self.next.take_if(|next| next.at <= self.look) {
                self.core.take(&reading);
                self.taken += 1;
                self.next = self.reader.next();
            }
            if self.is_over() && self.newest.is_some() {
                return Ok(());
            }
            let snapshot = self.core.snapshot(self.look);
            lock(&self.chronicle).take(&snapshot);
            self.newest = Some(Arc::new(snapshot));
            self.look = Moment::after(self.look.since(Moment::START) + LOOK);
            let last = self.kept.last().map_or(Moment::START, |kept| kept.look);
            if self.look > last && self.look.since(last) >= KEEP_EACH {
                let chronicle = lock(&self.chronicle).waypoint();
                self.kept.push(Kept { taken: self.taken, look: self.look, core: self.core.clone(), chronicle });
            }
        }
        Ok(())
    }

    /// The file is at its end, or at the end of what is good in it.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.next.is_none()
    }

    /// The newest snapshot.
    #[must_use]
    pub fn snapshot(&self) -> Option<Arc<Snapshot>> {
        self.newest.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_logbook::readings::{Header, Writer};
    use moth_stage::{Theatre, shipped};

    #[tokio::test(start_paused = true)]
    async fn back_and_forth_it_is_the_same_broadcast() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("tired.jsonl.gz");
        let evening = shipped().into_iter().find(|e| e.slug == "tired-server").unwrap();
        let mut theatre = Theatre::open(&evening, 41).unwrap();
        let mut writer = Writer::create(&path, &Header::new(evening.servers())).unwrap();
        while let Some(reading) = theatre.readings.recv().await {
            if reading.at > Moment::from_ms(40_000) {
                break;
            }
            writer.write(&reading).unwrap();
        }
        writer.finish().unwrap();

        let mut player = Player::open(&path).unwrap();
        let mut at = |second: u64| {
            player.go_to(Moment::from_ms(second * 1000)).unwrap();
            let snapshot = player.snapshot().unwrap();
            (snapshot.at, snapshot.verdict.sentence.clone(), snapshot.accounts, snapshot.history.len())
        };
        let (early, late) = (at(10), at(35));
        assert!(late.1.contains("Aldmoor reads too slowly"), "{late:?}");
        assert_eq!(at(10), early, "back");
        assert_eq!(at(35), late, "and forth");
        let end = at(4000);
        assert!((39.0..41.0).contains(&end.0.seconds()), "beyond the end is the end: {end:?}");
        assert!(player.is_over());
    }
}
