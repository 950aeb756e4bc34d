//! Readings on their way to the core.

use std::sync::{Arc, Mutex, PoisonError};

use moth_core::figure::Origin;
use moth_core::moment::Moment;
use moth_core::reading::{Observation, Reading};
use tokio::sync::mpsc;
use tokio::time::Instant;

/// Stamps observations with the time since the beginning and sends them to the core.
#[derive(Debug, Clone)]
pub struct Recorder {
    start: Instant,
    /// What it was when the clock was looked at first.
    first: Moment,
    readings: mpsc::UnboundedSender<Reading>,
    /// Held from the look at the clock until the reading is sent: they are sent in the order of their times.
    sending: Arc<Mutex<()>>,
}

impl Recorder {
    /// A recorder whose time begins now, and where its readings come out.
    #[must_use]
    pub fn new() -> (Self, mpsc::UnboundedReceiver<Reading>) {
        Self::going_on(Moment::START)
    }

    /// One whose time goes on from there, where another broke off.
    #[must_use]
    pub fn going_on(first: Moment) -> (Self, mpsc::UnboundedReceiver<Reading>) {
        let (readings, out) = mpsc::unbounded_channel();
        (Self { start: Instant::now(), first, readings, sending: Arc::default() }, out)
    }

    /// The moment it is.
    #[must_use]
    pub fn now(&self) -> Moment {
        Moment::after(self.first.since(Moment::START) + self.start.elapsed())
    }

    /// The moment it is, when every observation made before it has been sent.
    #[must_use]
    pub fn cut(&self) -> Moment {
        let _sending = self.sending.lock().unwrap_or_else(PoisonError::into_inner);
        self.now()
    }

    /// Sends an observation made now. Once nobody listens any more it is let go.
    pub fn note(&self, origin: Origin, what: Observation) {
        let _sending = self.sending.lock().unwrap_or_else(PoisonError::into_inner);
        let _ = self.readings.send(Reading { at: self.now(), origin, what });
    }
}
