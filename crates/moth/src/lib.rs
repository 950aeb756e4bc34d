//! Vigilant Moth's command line and terminal.
//!
//! - [`cli`]: the words of the command line.
//! - [`production`]: where readings come from, live or demo, and who carries out actions.
//! - [`conductor`]: gives readings to the core and its snapshots to whoever shows them.
//! - [`headless`]: one JSON object a second.
//! - [`terminal`]: the full screen.
//! - [`recording`]: what was seen, on its way into a file; [`judge`]: verdicts on such a file.
//! - [`kit`]: the setup in use, with its service, keys and results.
//! - [`rehearse`]: finds, off air, how much this rig bears.
//! - [`routes`], [`uplink`], [`plan`], [`check`]: what is done before going live; [`ingest`]: its other end.
//! - [`setup`], [`key`]: looking after the kit.
//! - [`encoder_command`]: a broadcaster that the moth runs itself; [`tell`]: has a running moth do something.

pub mod alarm;
mod also;
pub mod chart;
pub mod check;
pub mod child;
pub mod chronicle;
pub mod cli;
pub mod conductor;
mod consent;
mod descriptors;
mod drawn;
pub mod encoder_command;
pub mod endpoint;
pub mod failure;
mod few;
pub mod headless;
pub mod herald;
mod host;
pub mod ingest;
pub mod json_line;
pub mod judge;
pub mod key;
pub mod key_source;
pub mod kit;
mod logging;
pub mod meant;
pub mod metrics;
mod onlooker;
mod out;
pub mod outlets;
pub mod plan;
pub mod production;
pub mod recording;
pub mod rehearse;
pub mod replay;
pub mod routes;
pub mod routes_run;
pub mod setup;
mod side_drawing;
mod signals;
mod surroundings;
mod take_away;
pub mod tell;
pub mod terminal;
mod tested;
pub mod tester;
pub mod uplink;

use std::ffi::OsString;
use std::io::Write;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::Parser;
use clap::error::{ContextKind, ContextValue, ErrorKind};

use cli::{Cli, Command, ShowOptions};
use failure::Failure;
use outlets::OutletPlan;
use production::Plan;
use recording::Recording;

/// Exit status for bad usage, and for an address, file or key that cannot be used.
const UNUSABLE: u8 = 2;

/// Runs the command and gives its exit status.
pub fn run(arguments: impl IntoIterator<Item = OsString>) -> ExitCode {
    let cli = match Cli::try_parse_from(arguments) {
        Ok(cli) => cli,
        Err(error) if matches!(error.kind(), ErrorKind::DisplayHelp | ErrorKind::DisplayVersion) => {
            // A closed pipe behind `--help` is nobody's error.
            let _ = error.print();
            return ExitCode::SUCCESS;
        }
        Err(error) => {
            let what = in_one_line(&error);
            return complain(&format!("{what} (moth --help tells how it is used)"));
        }
    };
    // These have logs of their own, or a screen that a warning would spoil.
    if !matches!(cli.command, Command::Watch(_) | Command::Demo(_) | Command::Replay(_) | Command::Rehearse(_)) {
        logging::warnings();
    }
    descriptors::raise();
    let outcome = match cli.command {
        Command::Demo(options) if options.list => headless::list_evenings(),
        Command::Demo(options) => show(&options.show, || production::demo(&options)),
        Command::Watch(options) => show(&options.show, || production::watch(&options, &cli.kit)),
        Command::Setup(options) => setup::run(&options, &cli.kit),
        Command::Key(options) => key::run(&options, &cli.kit),
        Command::Ingest(options) => ingest::run(&options),
        Command::Host(options) => host::run(&options),
        Command::Replay(options) => replay::run(&options),
        Command::Plan(options) => plan::run(&options, &cli.kit),
        // These have something to say by their status as well.
        Command::Judge(options) => return status(judge::run(&options, &cli.kit)),
        Command::Tell(options) => return status(tell::run(&options.sorted())),
        Command::Routes(options) => return status(routes::run(&options, &cli.kit)),
        Command::Rehearse(options) => return status(rehearse::run(&options, &cli.kit)),
        Command::Uplink(options) => uplink::run(&options, &cli.kit),
        Command::Check(options) => return status(check::run(&options, &cli.kit)),
        // Nobody reads what it says but the moth that began it.
        Command::Look => return if onlooker::look().is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE },
    };
    status(outcome.map(|()| true))
}

/// Begins a broadcast and shows it, on the whole screen or as lines.
fn show(options: &ShowOptions, plan: impl FnOnce() -> Result<Plan, Failure>) -> Outcome {
    let log = logging::to(options.log.as_deref(), options.headless)?;
    let (plan, run_for) = (plan()?, options.run_for.map(Duration::from_secs));
    let is_made_up = matches!(plan, Plan::Demo(..));
    let begin = |path| Recording::begin(path, plan.servers(), is_made_up);
    let recording = options.record.as_deref().map(begin).transpose()?;
    let socket = options.automatic.socket.clone();
    let task = Task { plan, run_for, recording, outlets: OutletPlan::from(options), socket };
    if options.headless { headless::run(task) } else { terminal::run(task, &log.warnings) }
}

/// A broadcast to show, and all that goes with it.
pub struct Task {
    /// What is put on.
    pub plan: Plan,
    /// It ends after this long.
    pub run_for: Option<Duration>,
    /// Where everything that is seen is written, if anywhere.
    pub recording: Option<Recording>,
    /// Who else is told.
    pub outlets: OutletPlan,
    /// Where `moth tell` reaches it; the usual place, if not given.
    pub socket: Option<PathBuf>,
}

/// Exit status 0 if all is well, 1 if it is not, 2 if it could not be found out.
fn status(outcome: Result<bool, Failure>) -> ExitCode {
    match outcome {
        Ok(true) => ExitCode::SUCCESS,
        Ok(false) => ExitCode::from(1),
        Err(failure) => complain(&failure.to_string()),
    }
}

/// What is wrong with the arguments, without the lines on usage.
fn in_one_line(error: &clap::Error) -> String {
    if error.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand {
        return "say what to do".into();
    }
    let unknown = match error.get(ContextKind::InvalidArg) {
        Some(ContextValue::String(word)) if error.kind() == ErrorKind::UnknownArgument => Some(word),
        _ => None,
    };
    if unknown.is_some_and(|word| !word.starts_with('-')) {
        // It is not repeated: it may be a stream key.
        return "there is an argument too many".into();
    }
    let argument = error.get(ContextKind::InvalidArg).map(ToString::to_string);
    if argument.is_some_and(|argument| argument == "[DEED]") {
        // Nor is this, for the same reason.
        return "a key can be shown, set or forgotten: key show, key set, key forget; the stream key itself is asked for, \
                and never an argument"
            .into();
    }
    let text = error.to_string();
    let lines: Vec<&str> = text.lines().take_while(|line| !line.is_empty()).map(str::trim).collect();
    let told = lines.join(" ").trim_start_matches("error: ").to_owned();
    let near = [ContextKind::SuggestedSubcommand, ContextKind::SuggestedArg, ContextKind::SuggestedValue]
        .into_iter()
        .find_map(|kind| match error.get(kind)? {
            ContextValue::String(word) => Some(word.clone()),
            ContextValue::Strings(words) => words.first().cloned(),
            _ => None,
        });
    format!("{told}{}", meant::asked_back(near.as_deref()))
}

fn complain(what: &str) -> ExitCode {
    // With standard error closed there is nobody left to tell.
    let _ = writeln!(std::io::stderr(), "moth: {what}");
    ExitCode::from(UNUSABLE)
}

/// What running comes to.
pub type Outcome = Result<(), Failure>;
