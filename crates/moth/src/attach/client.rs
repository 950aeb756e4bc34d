//! A terminal on which a moth elsewhere in this machine is shown.

use std::io::{BufRead, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, TryRecvError, channel};
use std::time::Duration;

use super::words::{Ask, FromMoth, FromScreen, Hands, Knock, PROTOCOL, line};
use crate::failure::Failure;
use crate::system::signals;
use crate::terminal::device::{self, Device};
use crate::terminal::seat::Seat;
use crate::terminal::style::palette::Palette;

/// A moth answers within this. Ours.
const ANSWERS: Duration = Duration::from_secs(10);
/// How often it is looked whether it is over. Ours.
const LOOK_EACH: Duration = Duration::from_millis(50);
/// Asked to stop, a screen takes its leave within this. Ours.
const LEAVES: Duration = Duration::from_secs(2);

/// How a screen ended.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Ended {
    /// It was left; the broadcast goes on.
    Left,
    /// The moth ended, as another setup is to be chosen.
    Setups,
    /// The moth ended, and told what became of the broadcast.
    Over(Vec<String>),
    /// The moth ended without a word.
    Lost,
}

/// Shows the moth behind a socket until the screen is left or the moth ends.
///
/// # Errors
/// [`Failure`] if it cannot be reached, does not take the screen, or there is no terminal.
pub(crate) fn attach(socket: &Path, hands: Hands) -> Result<Ended, Failure> {
    use std::io::IsTerminal;
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(Failure::NoTerminal);
    }
    let unreachable =
        |error: std::io::Error| Failure::Told(format!("the moth at {} does not answer: {error}", socket.display()));
    let failed = || Failure::system("the terminal could not be used");
    let mut stream = UnixStream::connect(socket).map_err(unreachable)?;
    stream.set_read_timeout(Some(ANSWERS)).map_err(unreachable)?;
    let size = crossterm::terminal::size().map_err(failed())?;
    let colours = Palette::from_environment().into();
    let ask = Ask {
        protocol: PROTOCOL,
        version: env!("CARGO_PKG_VERSION").into(),
        size,
        colours,
        mouse: hands.mouse,
        began: hands.began,
        setups: hands.setups,
    };
    stream.write_all(&line(&Knock { attach: ask })).map_err(unreachable)?;
    let mut lines = BufReader::new(stream.try_clone().map_err(unreachable)?);
    match next(&mut lines) {
        Some(FromMoth::Hello { .. }) => {}
        Some(FromMoth::Refused(why)) => return Err(Failure::Told(why)),
        _ => {
            return Err(Failure::Told(
                "what answers there cannot be attached to: it is older than this, or began with --headless; `moth state` asks it how it stands".into(),
            ));
        }
    }
    stream.set_read_timeout(None).map_err(unreachable)?;
    let (went_on, stopping) =
        (signals::notice_going_on().map_err(failed())?, signals::notice_stopping().map_err(failed())?);
    leave_without_the_terminal(stopping.clone())?;
    let mut device = Device::enter(hands.mouse).map_err(failed())?;
    device.went_on = went_on;
    let (tell, told) = channel();
    // Drawn as it comes, whatever is typed meanwhile.
    let drawing = std::thread::Builder::new().name("draw".into()).spawn(move || {
        let ended = draw(&mut lines);
        let _ = tell.send(ended);
    });
    drawing.map_err(Failure::system("a thread could not be started"))?;
    let ended = speak(&mut stream, &mut device, &told, || stopping.load(Ordering::Acquire)).map_err(failed())?;
    let _ = stream.shutdown(std::net::Shutdown::Both);
    Ok(ended)
}

/// Asked to stop, the program ends, also where its terminal went away in the middle of a read, from which the event reader does not
/// return, or takes nothing any more.
fn leave_without_the_terminal(stopping: Arc<AtomicBool>) -> Result<(), Failure> {
    let leave = move || {
        while !stopping.load(Ordering::Acquire) {
            std::thread::sleep(LOOK_EACH * 4);
        }
        std::thread::sleep(LEAVES);
        device::give_back_without_waiting();
        std::process::exit(0);
    };
    let thread = std::thread::Builder::new().name("leave".into()).spawn(leave);
    thread.map(drop).map_err(Failure::system("a thread could not be started"))
}

/// The next thing that is understood; what another version says beside is passed over. `None` at the end.
fn next(lines: &mut impl BufRead) -> Option<FromMoth> {
    loop {
        let mut text = String::new();
        match lines.read_line(&mut text) {
            Ok(1..) => {
                if let Ok(said) = serde_json::from_str(&text) {
                    return Some(said);
                }
            }
            _ => return None,
        }
    }
}

/// Writes what comes to the terminal; gives how it ended.
fn draw(lines: &mut impl BufRead) -> Ended {
    loop {
        match next(lines) {
            Some(FromMoth::Draw(text)) => {
                let mut out = std::io::stdout();
                // A terminal that is gone is noticed where it is read.
                let _ = out.write_all(text.as_bytes()).and_then(|()| out.flush());
            }
            Some(FromMoth::Copy(text)) => device::copy(&text),
            Some(FromMoth::Ring) => device::ring(),
            Some(FromMoth::Left) => return Ended::Left,
            Some(FromMoth::Setups) => return Ended::Setups,
            Some(FromMoth::Over(lines)) => return Ended::Over(lines),
            Some(FromMoth::Refused(why)) => return Ended::Over(vec![why]),
            Some(FromMoth::Hello { .. }) => {}
            None => return Ended::Lost,
        }
    }
}

/// Says what is typed, until it ended.
fn speak(
    stream: &mut UnixStream,
    device: &mut Device,
    told: &Receiver<Ended>,
    is_stopping: impl Fn() -> bool,
) -> std::io::Result<Ended> {
    loop {
        match told.try_recv() {
            Ok(ended) => return Ok(ended),
            Err(TryRecvError::Disconnected) => return Ok(Ended::Lost),
            Err(TryRecvError::Empty) => {}
        }
        if device.went_on() {
            // Others may have drawn here meanwhile: all of it anew.
            device.take_back()?;
            let (columns, rows) = crossterm::terminal::size()?;
            let _ = stream.write_all(&line(&FromScreen::Size(columns, rows)));
        }
        if is_stopping() || !device.wait(LOOK_EACH) {
            let _ = stream.write_all(&line(&FromScreen::Leave));
            return Ok(Ended::Left);
        }
        while let Some(event) = device.next()? {
            if let Some(said) = FromScreen::of(&event) {
                // If it is gone, that is told above.
                let _ = stream.write_all(&line(&said));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_another_version_says_beside_is_no_end_and_an_end_without_a_word_is_one() {
        let said = |text: &str| draw(&mut BufReader::new(text.as_bytes()));
        assert_eq!(said("{\"weather\":7}\n\"left\"\n"), Ended::Left);
        assert_eq!(said("{\"over\":[\"done\"]}\n"), Ended::Over(vec!["done".into()]));
        assert_eq!(said("{\"weather\":7}\n"), Ended::Lost);
    }
}
