//! Where a screen is looked at: this process's own terminal, or one that is far.

use std::io;
use std::sync::atomic::Ordering;
use std::time::Duration;

use crossterm::event::{self, Event};
use ratatui::Frame;

use super::device::{self, Device};

/// Where a screen is looked at.
pub(crate) trait Seat {
    /// Draws, if what was drawn before has arrived; `false` if it has not yet.
    ///
    /// # Errors
    /// What the system says.
    fn draw(&mut self, draw: &mut dyn FnMut(&mut Frame<'_>)) -> io::Result<bool>;

    /// Waits for input, at most so long; `false` when nobody is there any more.
    fn wait(&mut self, within: Duration) -> bool;

    /// The next that came in, if something has.
    ///
    /// # Errors
    /// What the system says.
    fn next(&mut self) -> io::Result<Option<Event>>;

    /// It may have been used by others meanwhile: it is taken once more.
    ///
    /// # Errors
    /// What the system says.
    fn take_back(&mut self) -> io::Result<()>;

    /// Whether it went on after it was stopped, since that was asked last.
    fn went_on(&mut self) -> bool;

    /// Asks it to put a text on the clipboard.
    fn copy(&mut self, text: &str);

    /// Rings its bell.
    fn ring(&mut self);
}

impl Seat for Device {
    fn draw(&mut self, draw: &mut dyn FnMut(&mut Frame<'_>)) -> io::Result<bool> {
        Self::draw(self, draw).map(|()| true)
    }

    fn wait(&mut self, within: Duration) -> bool {
        device::wait_for_input(within)
    }

    fn next(&mut self) -> io::Result<Option<Event>> {
        // It may have been hung up since the last that came: that is told when it is waited for.
        if device::wait_for_input(Duration::ZERO) && event::poll(Duration::ZERO)? {
            event::read().map(Some)
        } else {
            Ok(None)
        }
    }

    fn take_back(&mut self) -> io::Result<()> {
        Self::take_back(self)
    }

    fn went_on(&mut self) -> bool {
        self.went_on.swap(false, Ordering::AcqRel)
    }

    fn copy(&mut self, text: &str) {
        device::copy(text);
    }

    fn ring(&mut self) {
        device::ring();
    }
}
