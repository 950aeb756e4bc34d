//! The terminal itself: taken over on entering, given back however the program ends.

use std::io::{self, Stdout, Write};
use std::mem::ManuallyDrop;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Once};
use std::time::Duration;

use crossterm::clipboard::CopyToClipboard;
use crossterm::cursor::Show;
use crossterm::event::{DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture};
use crossterm::execute;
use crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode};
use ratatui::backend::CrosstermBackend;
use ratatui::layout::Rect;
use ratatui::{Frame, Terminal, TerminalOptions, Viewport};

/// No screen is larger, in columns and rows. A terminal may say 65 535 of both, for which there is not memory enough. Ours.
const MOST: (u16, u16) = (1000, 400);

/// The terminal, in use.
pub(crate) struct Device {
    /// Never dropped: on dropping it shows the cursor, and if the terminal is gone, tells of that on standard error, which is gone
    /// as well, and panics. [`give_back`] shows the cursor.
    terminal: ManuallyDrop<Terminal<CrosstermBackend<Stdout>>>,
    area: Rect,
    has_mouse: bool,
    /// The program went on after it was stopped.
    pub(crate) went_on: Arc<AtomicBool>,
}

/// What is drawn on: the terminal, as far as it is of this world.
fn area() -> io::Result<Rect> {
    let (width, height) = crossterm::terminal::size()?;
    Ok(Rect::new(0, 0, width.min(MOST.0), height.min(MOST.1)))
}

impl Device {
    /// Takes the terminal over; with the mouse, which then selects no text unless Shift is held.
    pub(crate) fn enter(has_mouse: bool) -> io::Result<Self> {
        give_back_on_panic();
        enable_raw_mode()?;
        // From here on, leaving by an error gives back what was taken.
        let taken = Guard;
        // What is pasted comes as a whole: none of it is a key.
        execute!(io::stdout(), EnterAlternateScreen, EnableBracketedPaste)?;
        take_mouse(has_mouse)?;
        let area = area()?;
        let options = TerminalOptions { viewport: Viewport::Fixed(area) };
        let mut terminal = Terminal::with_options(CrosstermBackend::new(io::stdout()), options)?;
        terminal.clear()?;
        std::mem::forget(taken);
        Ok(Self { terminal: ManuallyDrop::new(terminal), area, has_mouse, went_on: Arc::default() })
    }

    /// What is drawn on.
    pub(super) fn area(&self) -> io::Result<Rect> {
        area()
    }

    /// Takes the terminal once more, whatever was done to it since.
    pub(super) fn take_back(&mut self) -> io::Result<()> {
        // Asked for raw mode while it believes to have it, the library does nothing.
        disable_raw_mode()?;
        enable_raw_mode()?;
        execute!(io::stdout(), EnterAlternateScreen, EnableBracketedPaste)?;
        take_mouse(self.has_mouse)?;
        self.terminal.clear()
    }

    pub(super) fn draw(&mut self, draw: impl FnOnce(&mut Frame<'_>)) -> io::Result<()> {
        let area = area()?;
        if area != self.area {
            self.terminal.resize(area)?;
            self.area = area;
        }
        self.terminal.draw(draw).map(|_| ())
    }
}

fn take_mouse(has_mouse: bool) -> io::Result<()> {
    if has_mouse { execute!(io::stdout(), EnableMouseCapture) } else { Ok(()) }
}

/// Rings the terminal's bell.
pub(crate) fn ring() {
    let mut out = io::stdout();
    let _ = out.write_all(b"\x07").and_then(|()| out.flush());
}

/// Asks the terminal to put a text on the clipboard (OSC 52). Not every terminal does, and none says whether it did.
pub(crate) fn copy(text: &str) {
    let _ = execute!(io::stdout(), CopyToClipboard::to_clipboard_from(text));
}

/// Waits for input, at most so long; `false` when the terminal is gone. The event reader never returns from
/// a terminal that was hung up, so it is only asked after this.
#[cfg(unix)]
pub(super) fn wait_for_input(within: Duration) -> bool {
    use rustix::event::{PollFd, PollFlags, Timespec, poll};
    let input = rustix::stdio::stdin();
    let mut watched = [PollFd::new(&input, PollFlags::IN)];
    let mut within = Timespec::try_from(within).ok();
    loop {
        match poll(&mut watched, within.as_ref()) {
            Ok(_) => return !watched[0].revents().intersects(PollFlags::HUP | PollFlags::ERR | PollFlags::NVAL),
            // A signal came: the size may have changed, or the terminal was hung up, which is a signal as well.
            Err(rustix::io::Errno::INTR) => within = Timespec::try_from(Duration::ZERO).ok(),
            Err(_) => return false,
        }
    }
}

/// Waits for input, at most so long.
#[cfg(not(unix))]
pub(super) fn wait_for_input(within: Duration) -> bool {
    // The event reader itself waits, and keeps what it found for the next look.
    crossterm::event::poll(within).is_ok()
}

impl Drop for Device {
    fn drop(&mut self) {
        give_back();
    }
}

struct Guard;

impl Drop for Guard {
    fn drop(&mut self) {
        give_back();
    }
}

/// Leaves the terminal as it was found.
pub(super) fn give_back() {
    // Each step is tried whatever became of the others; there is nobody to tell of a failure.
    let _ = execute!(io::stdout(), DisableMouseCapture, DisableBracketedPaste, LeaveAlternateScreen, Show);
    let _ = disable_raw_mode();
}

/// The same, and what does not take even that is not waited for: a terminal that was stopped, or is gone.
pub(crate) fn give_back_without_waiting() {
    std::thread::spawn(give_back);
    std::thread::sleep(Duration::from_millis(300));
}

/// A panic's message must be readable, so the terminal is given back before it is printed.
fn give_back_on_panic() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        let print = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            give_back();
            print(info);
        }));
    });
}
