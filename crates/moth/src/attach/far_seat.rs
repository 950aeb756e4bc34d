//! A screen drawn for a terminal that is far: each line it says is an event, each picture a line to it.
//!
//! Nothing waits for it. What it has not taken yet is one picture; until it has, no other is drawn, and then the newest.

use std::cell::RefCell;
use std::collections::VecDeque;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::unix::net::UnixStream;
use std::rc::Rc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::{Duration, Instant};

use crossterm::event::Event;
use ratatui::backend::CrosstermBackend;
use ratatui::layout::Rect;
use ratatui::{Frame, Terminal, TerminalOptions, Viewport};
use rustix::net::{SendFlags, send};

use super::words::{FromMoth, FromScreen, line};
use crate::terminal::seat::Seat;

/// A screen says no longer line than this, in bytes. Ours: a page of servers' addresses, pasted.
const LONGEST: u64 = 64 * 1024;
/// Lines that may wait for the screen's thread: then it is not read on. Ours.
const WAITING: usize = 64;
/// A terminal that takes nothing for so long is dropped. Ours: who stopped it for a moment finds it again.
const PATIENCE: Duration = Duration::from_secs(120);
/// The last word waits so long to be taken. Ours.
const FAREWELL: Duration = Duration::from_secs(1);

/// No far screen is larger, in columns and rows: each takes some megabytes where the broadcast is. Ours: more than a large monitor has.
const MOST: (u16, u16) = (500, 160);
/// Who has so much to take, in bytes, takes nothing any more. Ours: several of the largest pictures.
const MOST_UNSENT: usize = 16 << 20;

/// What a far screen is drawn on, whatever size it says.
fn within_reason(size: (u16, u16)) -> Rect {
    Rect::new(0, 0, size.0.clamp(1, MOST.0), size.1.clamp(1, MOST.1))
}

/// What is drawn, until it is a line.
#[derive(Debug, Clone, Default)]
struct Drawn(Rc<RefCell<Vec<u8>>>);

impl Write for Drawn {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.borrow_mut().extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A terminal that is far.
pub(crate) struct FarSeat {
    stream: UnixStream,
    terminal: Terminal<CrosstermBackend<Drawn>>,
    drawn: Drawn,
    heard: Receiver<FromScreen>,
    waiting: VecDeque<Event>,
    /// What it has not taken yet, and since when.
    unsent: Vec<u8>,
    stuck_since: Option<Instant>,
    is_gone: bool,
}

impl FarSeat {
    /// Takes a connection whose first line was read; `rest` is what came with it.
    ///
    /// # Errors
    /// What the system says.
    pub(crate) fn new(stream: UnixStream, size: (u16, u16), rest: Vec<u8>) -> io::Result<Self> {
        stream.set_nonblocking(false)?;
        let (hear, heard) = sync_channel(WAITING);
        let reading = stream.try_clone()?;
        std::thread::Builder::new().name("far screen".into()).spawn(move || {
            let mut lines = BufReader::new(io::Cursor::new(rest).chain(reading));
            // Whoever talks nonsense, or too much of it, is gone.
            while let Some(said) = next_line(&mut lines) {
                if hear.send(said).is_err() {
                    return;
                }
            }
        })?;
        let drawn = Drawn::default();
        let options = TerminalOptions { viewport: Viewport::Fixed(within_reason(size)) };
        let terminal = Terminal::with_options(CrosstermBackend::new(drawn.clone()), options)?;
        Ok(Self {
            stream,
            terminal,
            drawn,
            heard,
            waiting: VecDeque::new(),
            unsent: Vec::new(),
            stuck_since: None,
            is_gone: false,
        })
    }

    /// Says something as soon as all before it is taken.
    pub(crate) fn say(&mut self, said: &FromMoth) {
        self.unsent.extend(line(said));
        self.send_on();
        self.is_gone |= self.unsent.len() > MOST_UNSENT;
    }

    /// Says the last thing, and waits a little for it to be taken.
    pub(crate) fn say_last(mut self, said: &FromMoth) {
        self.say(said);
        let until = Instant::now() + FAREWELL;
        while !self.unsent.is_empty() && !self.is_gone && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(20));
            self.send_on();
        }
    }

    /// Sends as much as it takes; `true` once that is all.
    fn send_on(&mut self) -> bool {
        while !self.unsent.is_empty() && !self.is_gone {
            match send(&self.stream, &self.unsent, SendFlags::DONTWAIT | SendFlags::NOSIGNAL) {
                Ok(0) => self.is_gone = true,
                Ok(sent) => {
                    self.unsent.drain(..sent);
                    self.stuck_since = None;
                }
                Err(rustix::io::Errno::AGAIN) => {
                    let since = *self.stuck_since.get_or_insert_with(Instant::now);
                    self.is_gone |= since.elapsed() > PATIENCE;
                    return false;
                }
                Err(rustix::io::Errno::INTR) => {}
                Err(_) => self.is_gone = true,
            }
        }
        if self.unsent.is_empty() {
            // A picture's room is not kept for the next, which as a rule is small.
            self.unsent = Vec::new();
        }
        self.unsent.is_empty()
    }

    fn take(&mut self, said: &FromScreen) {
        match said {
            FromScreen::Leave => self.is_gone = true,
            said => self.waiting.extend(said.event()),
        }
    }
}

impl Drop for FarSeat {
    fn drop(&mut self) {
        // The thread that reads ends with it.
        let _ = self.stream.shutdown(std::net::Shutdown::Both);
    }
}

/// The next line of a screen; `None` if it is none, or there is none.
fn next_line(lines: &mut impl BufRead) -> Option<FromScreen> {
    let mut text = Vec::new();
    lines.take(LONGEST).read_until(b'\n', &mut text).ok()?;
    serde_json::from_slice(&text).ok()
}

impl Seat for FarSeat {
    fn draw(&mut self, draw: &mut dyn FnMut(&mut Frame<'_>)) -> io::Result<bool> {
        if !self.send_on() {
            return Ok(false);
        }
        self.terminal.draw(draw)?;
        let bytes = std::mem::take(&mut *self.drawn.0.borrow_mut());
        if !bytes.is_empty() {
            self.say(&FromMoth::Draw(String::from_utf8_lossy(&bytes).into_owned()));
        }
        Ok(true)
    }

    fn wait(&mut self, within: Duration) -> bool {
        // What is stuck is tried again soon.
        self.send_on();
        let within = if self.waiting.is_empty() { within } else { Duration::ZERO };
        match self.heard.recv_timeout(within) {
            Ok(said) => self.take(&said),
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => self.is_gone = true,
        }
        !self.is_gone
    }

    fn next(&mut self) -> io::Result<Option<Event>> {
        if self.waiting.is_empty()
            && let Ok(said) = self.heard.try_recv()
        {
            self.take(&said);
        }
        let event = self.waiting.pop_front();
        if let Some(Event::Resize(columns, rows)) = event {
            // What was cleared before is cleared again: of a screen that has a new size without end nothing grows.
            self.drawn.0.borrow_mut().clear();
            // It is drawn on as if nothing were there yet, also in the same size: whoever says so saw something else meanwhile.
            self.terminal.resize(within_reason((columns, rows)))?;
        }
        Ok(event)
    }

    fn take_back(&mut self) -> io::Result<()> {
        self.terminal.clear()
    }

    fn went_on(&mut self) -> bool {
        // Whoever shows it says that by a size.
        false
    }

    fn copy(&mut self, text: &str) {
        self.say(&FromMoth::Copy(text.to_owned()));
    }

    fn ring(&mut self) {
        // Who takes nothing hears nothing.
        if self.unsent.is_empty() {
            self.say(&FromMoth::Ring);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::widgets::Paragraph;

    fn seated(size: (u16, u16)) -> (FarSeat, UnixStream) {
        let (ours, theirs) = UnixStream::pair().unwrap();
        (FarSeat::new(ours, size, Vec::new()).unwrap(), theirs)
    }

    fn picture(seat: &mut FarSeat, n: usize) -> bool {
        let text = format!("{n:06}").repeat(4000);
        seat.draw(&mut |frame| frame.render_widget(Paragraph::new(text.as_str()), frame.area())).unwrap()
    }

    fn events(seat: &mut FarSeat) -> Vec<Event> {
        std::iter::from_fn(|| {
            // What was written is heard at once, or a moment later.
            (0..200).find_map(|_| {
                let event = seat.next().unwrap();
                if event.is_none() {
                    seat.wait(Duration::from_millis(5));
                }
                event
            })
        })
        .take(3)
        .collect()
    }

    #[test]
    fn what_is_said_are_events_and_the_whole_screen_comes_first_and_then_what_changed() {
        let (mut seat, mut theirs) = seated((80, 24));
        theirs.write_all(b"{\"key\":\"b\"}\n{\"paste\":\"x\"}\n{\"size\":[100,30]}\n").unwrap();
        let heard = events(&mut seat);
        assert_eq!(heard.len(), 3);
        assert_eq!(heard[2], Event::Resize(100, 30));
        let mut lines = BufReader::new(theirs.try_clone().unwrap());
        let mut drawn = |seat: &mut FarSeat, text: &str| {
            seat.draw(&mut |frame| frame.render_widget(Paragraph::new(text), frame.area())).unwrap();
            let mut line = String::new();
            lines.read_line(&mut line).unwrap();
            let Ok(FromMoth::Draw(text)) = serde_json::from_str(&line) else { panic!("{line}") };
            text
        };
        let whole = drawn(&mut seat, "all well");
        assert!(whole.contains("all") && whole.contains("well"), "{whole}");
        let changed = drawn(&mut seat, "all dark");
        assert!(changed.contains("dark") && !changed.contains("all"), "{changed}");
    }

    #[test]
    fn who_takes_nothing_costs_one_picture_and_gets_the_newest_later() {
        let (mut seat, theirs) = seated((200, 60));
        let mut n = 0;
        while picture(&mut seat, n) {
            n += 1;
            assert!(n < 10_000, "at some time nothing more goes in");
        }
        let held = seat.unsent.capacity();
        for more in 0..1000 {
            assert!(!picture(&mut seat, more));
        }
        assert_eq!(seat.unsent.capacity(), held, "nothing is kept for it but what it has begun to take");
        assert!(seat.wait(Duration::ZERO), "it is not gone");
        // It reads on.
        let reading = std::thread::spawn(move || {
            let mut lines = BufReader::new(theirs).lines();
            lines.find(|line| line.as_ref().is_ok_and(|line| line.contains("424242"))).is_some()
        });
        let taken = (0..1000).any(|_| {
            std::thread::sleep(Duration::from_millis(5));
            picture(&mut seat, 424_242)
        });
        assert!(taken);
        while !seat.send_on() {}
        assert!(reading.join().unwrap());
    }

    #[test]
    fn nonsense_endless_lines_and_a_closed_connection_end_the_screen() {
        let endless = vec![b'x'; 3 * LONGEST as usize];
        for said in [&b"hello\n"[..], b"{\"key\":7}\n", b"\"leave\"\n", b"\xff\xfe\n", &endless, b""] {
            let (mut seat, mut theirs) = seated((80, 24));
            let _ = theirs.set_nonblocking(true);
            let _ = theirs.write_all(said);
            if said.is_empty() {
                drop(theirs);
            }
            let is_gone = (0..500).any(|_| !seat.wait(Duration::from_millis(5)));
            assert!(is_gone, "{:?}", &said[..said.len().min(20)]);
        }
    }

    #[test]
    fn a_terminal_of_any_size_is_drawn_within_reason() {
        let (mut seat, mut theirs) = seated((65_535, 65_535));
        let size = |seat: &mut FarSeat| {
            let mut size = (0, 0);
            assert!(seat.draw(&mut |frame| size = (frame.area().width, frame.area().height)).unwrap());
            size
        };
        assert_eq!(size(&mut seat), MOST);
        theirs.write_all(b"{\"size\":[0,0]}\n").unwrap();
        let heard = events(&mut seat);
        assert_eq!(heard.first(), Some(&Event::Resize(0, 0)));
        assert_eq!(size(&mut seat), (1, 1));
    }

    #[test]
    fn who_asks_for_more_and_more_and_takes_none_of_it_is_gone() {
        let (mut seat, _theirs) = seated((80, 24));
        let page = "x".repeat(100_000);
        let said = (0..1000).take_while(|_| {
            seat.copy(&page);
            !seat.is_gone
        });
        assert!(said.count() < 1000, "it ends at some time");
        assert!(seat.unsent.len() <= MOST_UNSENT + 200_000);
    }
}
