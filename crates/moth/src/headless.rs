//! Without a terminal: one JSON object a second on standard output, and only that.

use std::io::{self, Write};
use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::Duration;

use moth_core::Snapshot;
use moth_stage::shipped;
use tokio::sync::{mpsc, watch};

use crate::conductor::{Desk, conduct};
use crate::failure::Failure;
use crate::herald::Bell;
use crate::json_line::JsonLine;
use crate::{Outcome, Task, tell};

/// How often the core is asked: what it wants done does not wait for the next line.
const LOOK_EACH: Duration = Duration::from_millis(200);
/// One line a second: at every fifth look.
const EACH: u32 = 5;

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
        let mut out = io::stdout().lock();
        let mut failed = None;
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
            match print(&mut out, &snapshot) {
                Ok(()) if !is_over => ControlFlow::Continue(()),
                Ok(()) => ControlFlow::Break(()),
                Err(error) => {
                    failed = Some(error);
                    ControlFlow::Break(())
                }
            }
        };
        let told = tell::listen(socket.as_deref())?;
        conduct(production, core, Desk { actions, stop, recording, outlets, told }, LOOK_EACH, look).await?;
        if let (Some(last), None) = (unprinted, &failed) {
            failed = print(&mut out, &last).err();
        }
        match failed {
            // Whoever read has read enough.
            Some(error) if error.kind() != io::ErrorKind::BrokenPipe => {
                Err(Failure::System { what: "standard output could not be written", error })
            }
            _ => Ok(()),
        }
    })
}

fn print(out: &mut impl Write, snapshot: &Snapshot) -> io::Result<()> {
    serde_json::to_writer(&mut *out, &JsonLine::from(snapshot))?;
    out.write_all(b"\n")?;
    out.flush()
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
