//! Without a terminal: one JSON object a second on standard output, and only that.

use std::io::{self, Write};
use std::ops::ControlFlow;
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, TrySendError, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use moth_core::Snapshot;
use moth_stage::shipped;
use serde::Serialize;
use tokio::sync::{mpsc, watch};

use crate::conductor::{Desk, conduct};
use crate::failure::Failure;
use crate::herald::Bell;
use crate::json_line::JsonLine;
use crate::{Outcome, Task, out, tell};

/// How often the core is asked: what it wants done does not wait for the next line.
const LOOK_EACH: Duration = Duration::from_millis(200);
/// One line a second: at every fifth look.
const EACH: u32 = 5;
/// So many lines may wait for a reader.
const WAITING: usize = 16;
/// And so long for the last ones, at the end.
const LAST_LINES: Duration = Duration::from_secs(2);

/// Runs until it is asked to stop, the time is over, or nobody reads any more.
pub(crate) fn run(task: Task) -> Outcome {
    let Task { plan, run_for, recording, outlets, socket } = task;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(Failure::system("the program's scheduler could not be started"))?;
    runtime.block_on(async {
        let core = plan.core();
        let outlets = outlets.open(Bell::Here).await?;
        let production = plan.begin().await?;
        let (_hold_actions, actions) = mpsc::unbounded_channel();
        let (_hold_stop, stop) = watch::channel(false);
        let mut lines = Lines::begin()?;
        let mut looks = 0_u32;
        // The last look is when all accounts are settled; it is printed whatever its number.
        let mut unprinted = None;
        let look = |snapshot: Arc<Snapshot>| {
            let is_over = run_for.is_some_and(|limit| snapshot.at.seconds() >= limit.as_secs_f64());
            looks += 1;
            if !is_over && !(looks - 1).is_multiple_of(EACH) {
                unprinted = Some(snapshot);
                return ControlFlow::Continue(());
            }
            unprinted = None;
            if lines.print(&JsonLine::from(&*snapshot)) && !is_over {
                ControlFlow::Continue(())
            } else {
                ControlFlow::Break(())
            }
        };
        let told = tell::listen(socket.as_deref())?;
        let mut desk = Desk { actions, stop, recording, outlets, told, asked_to_stop: None };
        let conducted = conduct(production, core, &mut desk, LOOK_EACH, look).await;
        desk.close()?;
        conducted?;
        if let Some(last) = unprinted {
            lines.print(&JsonLine::from(&*last));
        }
        lines.finish()
    })
}

/// Lines on their way to standard output, on a thread of their own: a reader that stops costs lines, never a frame.
pub(crate) struct Lines {
    to: SyncSender<Vec<u8>>,
    thread: JoinHandle<io::Result<()>>,
    lost: u64,
}

impl Lines {
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

/// `moth demo --list`
pub(crate) fn list_evenings() -> Outcome {
    let mut out = io::stdout().lock();
    for evening in shipped() {
        let line = writeln!(out, "{:<18}{}", evening.slug, evening.story);
        match line {
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(()),
            other => other.map_err(Failure::system("standard output could not be written"))?,
        }
    }
    Ok(())
}
