//! `moth rehearse`: finds, off air, how much this rig bears.

use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use moth_core::Snapshot;
use moth_logbook::Kind;
use moth_rehearsal::runner::End;
use moth_store::rehearsals::What;
use tokio::sync::{mpsc, watch};

use crate::cli::{RehearseOptions, SetupInUseOptions};
use crate::failure::Failure;
use crate::live::conductor::{Attached, conduct};
use crate::live::plan::Doors;
use crate::logbook::plan::LogPlan;
use crate::logbook::scribe::Scribe;
use crate::outlets::Outlets;
use crate::outlets::line_printer::LinePrinter;
use crate::recordings::writer::Recording;
use crate::rehearsal::run::{self, Run};
use crate::rehearsal::{Prepared, Wanted, drawn, keep, lines, prepare, told};
use crate::setup_in_use::SetupInUse;
use crate::setup_in_use::consent::{self, Agreed};
use crate::system::{logging, out};
use crate::terminal;

/// How often the broadcast is looked at. Ours.
const LOOK_EACH: Duration = Duration::from_millis(200);

/// Runs the command; gives whether a clean rung was found.
///
/// # Errors
/// [`Failure`] if it could not be tried.
pub fn run(options: &RehearseOptions, setup_options: &SetupInUseOptions) -> Result<bool, Failure> {
    let log = logging::to(options.log.as_deref(), options.headless)?;
    let mut in_use = SetupInUse::open(setup_options)?;
    options.draw.check()?;
    let doors = Doors::new(&options.listen, options.feed)?;
    let prepared = prepare(&Wanted::of(options), &in_use, &doors)?;
    if let Some(cut_off) = &prepared.cut_off {
        // It is said wherever it can be seen: on the screen, by its own line there.
        tracing::warn!("{cut_off}");
    }
    if let Some(words) = &prepared.publishes {
        consent::ask(Agreed { yes: options.yes, on_air: options.on_air }, &in_use.service, words.clone())?;
    }
    let begin = |path| Recording::begin(path, prepared.plan.servers(), false);
    let recording = options.record.as_deref().map(begin).transpose()?;
    let kept = if options.no_log { None } else { LogPlan::of_a_setup(&in_use) };
    if !options.headless {
        let run = terminal::put_on::rehearse(prepared, in_use.clone(), doors, recording, kept, &log.warnings)?;
        let Some(run) = run else { return Err(Failure::NotRehearsed("it was left before anything was found".into())) };
        out::text(&format!("{}\n", told::sentences(&run).join("\n")))?;
        if options.keep {
            out::text(&format!("{}\n", keep(&run, &mut in_use)?))?;
        }
        draw(options, &run, &in_use)?;
        return verdict(&run);
    }
    let run = headless(prepared, recording, kept)?;
    draw(options, &run, &in_use)?;
    if options.keep {
        let kept = keep(&run, &mut in_use)?;
        tracing::info!("{kept}");
    }
    verdict(&run)
}

/// Draws a climb in which something was tried, if that was asked for.
fn draw(options: &RehearseOptions, run: &Run, in_use: &SetupInUse) -> Result<(), Failure> {
    match run.over.as_ref().filter(|over| run::says_something(over)) {
        Some(over) => options.draw.write(drawn::climb(over, told::caveat(&run.about)), in_use),
        None => Ok(()),
    }
}

/// Whether a clean rung was found; an error if it could not be tried at all.
fn verdict(run: &Run) -> Result<bool, Failure> {
    let Some(over) = &run.over else { return Err(Failure::NotRehearsed("it ended before it began".into())) };
    if run::says_something(over) {
        return Ok(run::is_clean(over));
    }
    let why = match &over.what {
        What::Climb(finding) => match finding.end {
            End::TimeOver => Some("no broadcaster came, or none stayed for long enough, within --for".to_owned()),
            _ => finding.ended(),
        },
        What::Soak(soaked) => Some(soaked.sentence()),
    };
    Err(Failure::NotRehearsed(why.unwrap_or_else(|| "nothing was found".into())))
}

/// Runs it without a screen, with JSON lines on standard output.
fn headless(prepared: Prepared, recording: Option<Recording>, log: Option<LogPlan>) -> Result<Run, Failure> {
    let Prepared { plan, mut run, .. } = prepared;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(Failure::system("the program's scheduler could not be started"))?;
    runtime.block_on(async {
        let core = plan.core();
        let production = plan.begin().await?;
        let relay = production.relay.clone();
        let mut out = LinePrinter::begin()?;
        let mut lines = lines::RehearsalLines::default();
        out.print(&lines::RehearsalLines::first(&run));
        let (order, actions) = mpsc::unbounded_channel();
        let (_hold_stop, stop) = watch::channel(false);
        let (_hold_told, told) = mpsc::unbounded_channel();
        let (asked_to_stop, asked) = watch::channel(false);
        let look = |snapshot: Arc<Snapshot>| {
            if run.over.is_some() {
                return ControlFlow::Break(());
            }
            if *asked.borrow() {
                run.cancel();
            }
            let does = run.look(&snapshot, Timestamp::now());
            for line in lines.take(&run, &snapshot) {
                out.print(&line);
            }
            run::carry_out(does, &order, &relay)
        };
        let outlets = Outlets::default();
        let scribe = Scribe::of(log, Kind::Rehearsal)?;
        let asked_to_stop = Some(asked_to_stop);
        let mut attached = Attached { actions, stop, recording, scribe, outlets, told, asked_to_stop };
        let conducted = conduct(production, core, &mut attached, LOOK_EACH, look).await;
        if let Some(last) = lines::RehearsalLines::last(&run) {
            out.print(&last);
        }
        out.finish()?;
        attached.close()?;
        conducted.map(|()| run)
    })
}
