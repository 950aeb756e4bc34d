//! `moth replay`: a recorded broadcast, shown again at any speed, back and forth. The core is given what it was given
//! then, and asked as often; so what it says is what it said.

use std::io::IsTerminal;
use std::sync::Arc;
use std::time::{Duration, Instant};

use moth_core::Snapshot;
use moth_core::moment::Moment;
use moth_logbook::readings::Reader;
use tokio::sync::{broadcast, mpsc, watch};

use crate::cli::ReplayOptions;
use crate::drawings::of_a_recording::begun;
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::live::plan::Banner;
use crate::recordings::player::{Player, ReplayOrder, ReplayState};
use crate::terminal::app::App;
use crate::terminal::style::palette::Palette;
use crate::terminal::{Wires, on_own_terminal};

/// The screen is given something new this often. Ours.
const SHOW_EACH: Duration = Duration::from_millis(67);
/// How fast it can go, in steps of a key. Ours.
const SPEEDS: [f64; 10] = [0.25, 0.5, 1.0, 2.0, 4.0, 8.0, 16.0, 60.0, 240.0, 1000.0];

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
    let app =
        App::new(banner, true, Palette::from_environment()).writing(chronicle).replaying(state, began, is_made_up);
    let wires = Wires {
        snapshots,
        test_news: broadcast::Sender::new(1).subscribe(),
        rings: broadcast::Sender::new(1).subscribe(),
        said: None,
        order: mpsc::unbounded_channel().0,
        order_test: mpsc::unbounded_channel().0,
        rehearsal: None,
        warnings: None,
        keeping: None,
        replay: Some((order, told)),
    };
    on_own_terminal(app, wires).map(|_| ())
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
