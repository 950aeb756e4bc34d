//! `moth replay`: a recorded broadcast, shown again at any speed, back and forth. The core is given what it was given
//! then, and asked as often; so what it says is what it said.

use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use crossterm::event::KeyCode;
use moth_core::moment::Moment;
use moth_core::reading::Reading;
use moth_core::{Core, Settings, Snapshot};
use moth_logbook::readings::Reader;
use tokio::sync::{mpsc, watch};

use crate::Outcome;
use crate::chronicle::{Chronicle, lock};
use crate::cli::ReplayOptions;
use crate::drawn::begun;
use crate::failure::Failure;
use crate::judge::LOOK;
use crate::production::Banner;
use crate::terminal::app::App;
use crate::terminal::palette::Palette;
use crate::terminal::{Wires, operate};

/// The screen is given something new this often.
const SHOW_EACH: Duration = Duration::from_millis(67);
/// The core is kept this often on the way, so that going back need not begin at the beginning.
const KEEP_EACH: Duration = Duration::from_secs(300);
/// How fast it can go, in steps of a key.
const SPEEDS: [f64; 10] = [0.25, 0.5, 1.0, 2.0, 4.0, 8.0, 16.0, 60.0, 240.0, 1000.0];

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
    reader: Reader,
    /// Readings taken so far.
    taken: u64,
    next: Option<Reading>,
    core: Core,
    look: Moment,
    newest: Option<Arc<Snapshot>>,
    kept: Vec<Kept>,
    /// What was written down until now; the screen draws of it.
    chronicle: Arc<Mutex<Chronicle>>,
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
            chronicle: Arc::default(),
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

/// Shows a file on the whole screen.
///
/// # Errors
/// [`Failure`] if it cannot be read, is no readings file, or there is no terminal.
pub fn run(options: &ReplayOptions) -> Outcome {
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(Failure::NoTerminalToReplay);
    }
    let mut player = Player::open(&options.file)?;
    let (chronicle, began) = (player.chronicle.clone(), player.reader.header.began.as_deref().and_then(begun));
    let is_made_up = player.reader.header.made_up;
    let (show, snapshots) = watch::channel(None);
    let state = ReplayState { speed: options.speed, is_paused: false, length: None, is_over: false };
    let (tell, told) = watch::channel(state);
    let (order, mut orders) = mpsc::unbounded_channel();
    let name = options.file.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
    let (path, from) = (options.file.clone(), Duration::from_secs(options.from));
    player.go_to(Moment::after(from))?;
    let measure = tell.clone();
    spawn("length", move || {
        let Ok(mut reader) = Reader::open(&path) else { return };
        let end = reader.by_ref().last().map(|reading| reading.at.since(Moment::START));
        measure.send_modify(|state| state.length = end);
    })?;
    spawn("replay", move || play(player, from, &mut orders, &tell, &show))?;
    let banner = Banner { demo: None, publish_to: None, replay: Some(name) };
    let mut app = App::new(banner, true, Palette::from_environment()).writing(chronicle);
    app.replay = Some(state);
    app.began = began;
    app.is_made_up = is_made_up;
    let nobody = || mpsc::unbounded_channel().1;
    let wires = Wires {
        snapshots,
        test_news: nobody(),
        rings: mpsc::unbounded_channel().1,
        order: mpsc::unbounded_channel().0,
        order_test: mpsc::unbounded_channel().0,
        rehearsal: None,
        warnings: None,
        replay: Some((order, told)),
    };
    operate(app, wires)
}

fn spawn(name: &str, work: impl FnOnce() + Send + 'static) -> Outcome {
    let started = std::thread::Builder::new().name(name.into()).spawn(work);
    started.map(drop).map_err(Failure::system("a thread could not be started"))
}

/// Plays until the screen is gone.
fn play(
    mut player: Player,
    from: Duration,
    orders: &mut mpsc::UnboundedReceiver<ReplayOrder>,
    tell: &watch::Sender<ReplayState>,
    show: &watch::Sender<Option<Arc<Snapshot>>>,
) {
    let mut at = from;
    let mut last = Instant::now();
    loop {
        let elapsed = std::mem::replace(&mut last, Instant::now()).elapsed();
        let state = *tell.borrow();
        if !state.is_paused && !state.is_over {
            at += elapsed.mul_f64(state.speed);
        }
        while let Ok(order) = orders.try_recv() {
            match order {
                ReplayOrder::Jump(seconds) => {
                    let by = Duration::from_secs(seconds.unsigned_abs());
                    at = if seconds < 0 { at.saturating_sub(by) } else { at + by };
                    tell.send_modify(|state| state.is_over = false);
                }
                ReplayOrder::Pause => tell.send_modify(|state| state.is_paused = !state.is_paused),
                ReplayOrder::Faster | ReplayOrder::Slower => tell.send_modify(|state| {
                    let faster = SPEEDS.iter().find(|speed| **speed > state.speed);
                    let slower = SPEEDS.iter().rev().find(|speed| **speed < state.speed);
                    let wanted = if order == ReplayOrder::Faster { faster } else { slower };
                    state.speed = wanted.copied().unwrap_or(state.speed);
                }),
            }
        }
        if let Err(error) = player.go_to(Moment::after(at)) {
            tracing::error!(%error, "the replay ended");
            return;
        }
        if let Some(snapshot) = player.snapshot() {
            if player.is_over() {
                // Beyond the end there is nothing; a jump back begins from there.
                at = at.min(snapshot.at.since(Moment::START));
                tell.send_if_modified(|state| !std::mem::replace(&mut state.is_over, true));
            }
            if show.send(Some(snapshot)).is_err() {
                return;
            }
        }
        std::thread::sleep(SHOW_EACH);
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
