//! Lines on their way to standard output.

use std::io::{self, Write};
use std::sync::mpsc::{SyncSender, TrySendError, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use serde::Serialize;

use crate::failure::{Failure, Outcome};
use crate::system::out;

/// So many lines may wait for a reader. Ours.
const WAITING: usize = 16;
/// At the end, the last lines are waited for so long. Ours.
const LAST_LINES: Duration = Duration::from_secs(2);

/// Lines on their way to standard output, on a thread of their own: a reader that stops costs lines, never a frame.
pub(crate) struct LinePrinter {
    to: SyncSender<Vec<u8>>,
    thread: JoinHandle<io::Result<()>>,
    lost: u64,
}

impl LinePrinter {
    pub(crate) fn begin() -> Result<Self, Failure> {
        let (to, from) = sync_channel::<Vec<u8>>(WAITING);
        let write = move || {
            let mut out = io::stdout().lock();
            from.into_iter().try_for_each(|line| {
                out.write_all(&line)?;
                out.flush()
            })
        };
        let thread = std::thread::Builder::new().name("lines".into()).spawn(write);
        let thread = thread.map_err(Failure::system("the thread of standard output could not be started"))?;
        Ok(Self { to, thread, lost: 0 })
    }

    /// Hands a line over, without waiting for anything. `false` if nobody will read it.
    pub(crate) fn print(&mut self, object: &impl Serialize) -> bool {
        let Ok(mut line) = serde_json::to_vec(object) else { return true };
        line.push(b'\n');
        self.hand_over(line)
    }

    /// The same for a text, with what stands before and behind it.
    pub(crate) fn print_text(&mut self, text: String) -> bool {
        self.hand_over(text.into_bytes())
    }

    fn hand_over(&mut self, line: Vec<u8>) -> bool {
        match self.to.try_send(line) {
            Ok(()) => {
                if std::mem::take(&mut self.lost) > 0 {
                    tracing::info!("standard output is read again");
                }
                true
            }
            Err(TrySendError::Full(_)) => {
                self.lost += 1;
                if self.lost == 1 {
                    tracing::warn!("standard output is not read: lines are left out, the broadcast goes on");
                }
                true
            }
            Err(TrySendError::Disconnected(_)) => false,
        }
    }

    /// Lets the last lines out, as long as somebody reads.
    pub(crate) fn finish(self) -> Outcome {
        drop(self.to);
        let by = Instant::now() + LAST_LINES;
        while !self.thread.is_finished() {
            if Instant::now() >= by {
                // Nobody reads any more.
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        out::finish(self.thread.join().unwrap_or(Ok(())))
    }
}
