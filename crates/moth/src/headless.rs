//! Without the full screen: a line a second on standard output, and only that, a JSON object or one for people.

use std::io::IsTerminal;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::Duration;

use moth_core::Snapshot;
use moth_logbook::Kind;
use tokio::sync::{mpsc, watch};

use crate::failure::Failure;
use crate::failure::Outcome;
use crate::live::conductor::{Attached, conduct};
use crate::live::demo_clock;
use crate::live::showing::Showing;
use crate::logbook::scribe::Scribe;
use crate::outlets::herald::Bell;
use crate::outlets::json_line::JsonLine;
use crate::outlets::line_printer::LinePrinter;
use crate::outlets::one_line::one_line;
use crate::tell;
use crate::terminal::style::format::fit;

/// How often the core is asked: what it wants done does not wait for the next line. Ours.
const LOOK_EACH: Duration = Duration::from_millis(200);
/// One line a second: at every fifth look. Ours.
const EACH: u32 = 5;

/// What is printed each second.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    /// A JSON object.
    Json,
    /// A line for people; on a terminal, each in the place of the one before.
    Line,
}

/// Clears what a terminal shows in this line (ECMA-48: carriage return, erase in line).
const ANEW: &str = "\r\x1b[K";

fn print(lines: &mut LinePrinter, form: Form, is_terminal: bool, snapshot: &Snapshot) -> bool {
    match (form, is_terminal) {
        (Form::Json, _) => lines.print(&JsonLine::from(snapshot)),
        (Form::Line, false) => lines.print_text(format!("{}\n", one_line(snapshot))),
        (Form::Line, true) => {
            // One that is longer than the terminal is wide would stay there.
            let width = crossterm::terminal::size().map_or(80, |(width, _)| usize::from(width));
            lines.print_text(format!("{ANEW}{}", fit(&one_line(snapshot), width.saturating_sub(1))))
        }
    }
}

/// Runs until it is asked to stop, the time is over, or nobody reads any more.
pub(crate) fn run(showing: Showing, form: Form) -> Outcome {
    let is_terminal = std::io::stdout().is_terminal();
    let Showing { plan, speed, run_for, recording, log, outlets, socket, .. } = showing;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(Failure::system("the program's scheduler could not be started"))?;
    runtime.block_on(async {
        demo_clock::speed_up(speed);
        let core = plan.core();
        let going_on = plan.going_on().cloned();
        let outlets = outlets.open(Bell::Here).await?;
        let production = plan.begin().await?;
        let (_hold_actions, actions) = mpsc::unbounded_channel();
        let (_hold_stop, stop) = watch::channel(false);
        let mut lines = LinePrinter::begin()?;
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
            if print(&mut lines, form, is_terminal, &snapshot) && !is_over {
                ControlFlow::Continue(())
            } else {
                ControlFlow::Break(())
            }
        };
        let told = tell::listen(socket.as_deref(), None)?;
        // As late as that: one that could not begin has not ended what it would have gone on with.
        let mut scribe = log.map(Scribe::begin).transpose()?;
        if let Some(scribe) = &mut scribe {
            scribe.follow(going_on.as_deref(), Kind::Broadcast);
        }
        drop(going_on);
        let mut attached = Attached { actions, stop, recording, scribe, outlets, told, asked_to_stop: None };
        let conducted = conduct(production, core, &mut attached, LOOK_EACH, look).await;
        attached.close()?;
        conducted?;
        if let Some(last) = unprinted {
            print(&mut lines, form, is_terminal, &last);
        }
        if form == Form::Line && is_terminal {
            lines.print_text("\n".into());
        }
        lines.finish()
    })
}
