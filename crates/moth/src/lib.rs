//! Vigilant Moth's command line and terminal.
//!
//! - [`cli`]: the words of the command line; [`commands`]: a file a verb; [`failure`]: why one could not do what was asked.
//! - [`live`]: a broadcast that is being watched, real or demo; [`outlets`]: who is told of it beside the screen.
//! - [`terminal`]: the full screen; [`headless`]: one JSON object a second in its place.
//! - [`recordings`]: what was seen, written into a file, judged and gone through again; [`drawings`]: what leaves as a picture.
//! - [`logbook`]: broadcasts that are kept.
//! - [`setup_in_use`]: the setup in use, with its service, key and results; [`measuring`]: servers, line and machine tested with it.
//! - [`rehearsal`]: how much this rig bears, found off air; [`tell`]: what a running moth is told.
//! - [`system`]: the standard streams, logs, signals and processes.
//!
//! ```
//! use clap::Parser;
//! use moth::cli::{Cli, Command};
//!
//! let cli = Cli::try_parse_from(["moth", "demo", "--evening", "calm"])?;
//! assert!(matches!(cli.command, Some(Command::Demo(_))));
//! # Ok::<(), clap::Error>(())
//! ```

mod attach;
pub mod cli;
pub mod commands;
pub mod drawings;
pub mod failure;
mod headless;
pub mod live;
pub mod logbook;
mod measuring;
pub mod outlets;
pub mod recordings;
pub mod rehearsal;
pub mod setup_in_use;
mod system;
pub mod tell;
pub mod terminal;

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

use clap::Parser;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use jiff::Timestamp;

#[cfg(unix)]
use attach::words::Hands;
use cli::{Cli, Command, SetupInUseOptions, ShowOptions};
#[cfg(unix)]
use commands::attach::After;
use failure::Failure;
use failure::Outcome;
use live::plan::Plan;
use live::showing::Showing;
use logbook::going_on;
use logbook::plan::LogPlan;
use outlets::OutletPlan;
use recordings::writer::Recording;
use system::out::complain;
use system::{descriptors, logging};
use terminal::Left;
use terminal::first_minute::FirstMinute;
use terminal::style::palette::Palette;

/// Runs the command and gives its exit status.
pub fn run(arguments: impl IntoIterator<Item = OsString>) -> ExitCode {
    let arguments: Vec<OsString> = arguments.into_iter().collect();
    let cli = match Cli::try_parse_from(&arguments) {
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
    let has_its_own = |command: &Command| {
        matches!(command, Command::Watch(_) | Command::Demo(_) | Command::Replay(_) | Command::Rehearse(_))
    };
    if !cli.command.as_ref().is_none_or(has_its_own) {
        logging::warnings();
    }
    descriptors::raise();
    let Some(command) = cli.command else { return status(begin(cli.in_use)) };
    let outcome = match command {
        Command::Demo(options) if options.list => commands::demo::list_evenings(),
        Command::Demo(options) => show(&options.show, &cli.in_use, options.speed, || commands::demo::plan(&options)),
        #[cfg(unix)]
        Command::Watch(options) if options.carried.is_some() || options.no_screen => {
            commands::apart::carry(&options, &cli.in_use)
        }
        #[cfg(unix)]
        Command::Watch(options) if commands::apart::is_apart(&options) => commands::apart::begin_and_show(
            &arguments[1..],
            &cli.in_use,
            Hands { mouse: !options.show.no_mouse, began: true, setups: false },
            options.restart,
        )
        .map(|_| ()),
        Command::Watch(options) => show(&options.show, &cli.in_use, 1, || commands::watch::plan(&options, &cli.in_use)),
        #[cfg(unix)]
        Command::Attach(options) => commands::attach::run(&options),
        #[cfg(unix)]
        Command::Ls(options) => return status(commands::ls::run(&options)),
        #[cfg(unix)]
        Command::Stop(options) => return status(commands::stop::run(&options)),
        #[cfg(not(unix))]
        Command::Attach(_) | Command::Ls(_) | Command::Stop(_) => {
            Err(Failure::Told("on this platform a screen and its broadcast are one process yet".into()))
        }
        Command::Service => commands::service::run(),
        Command::Setup(options) => commands::setup::run(&options, &cli.in_use),
        Command::Key(options) => commands::key::run(&options, &cli.in_use),
        Command::Ingest(options) => commands::ingest::run(&options),
        Command::Host(options) => commands::host::run(&options),
        Command::Replay(options) => commands::replay::run(&options),
        Command::Plan(options) => commands::plan::run(&options, &cli.in_use),
        // These have something to say by their status as well.
        Command::Judge(options) => return status(commands::judge::run(&options, &cli.in_use)),
        Command::Log(options) => return status(commands::log::run(&options, &cli.in_use)),
        Command::Tell(options) => return status(commands::tell::run(&options.sorted())),
        Command::State(options) => return status(commands::tell::run(&options.as_telling())),
        Command::Routes(options) => return status(commands::routes::run(&options, &cli.in_use)),
        Command::Rehearse(options) => return status(commands::rehearse::run(&options, &cli.in_use)),
        Command::Uplink(options) => commands::uplink::run(&options, &cli.in_use),
        Command::Check(options) => return status(commands::check::run(&options, &cli.in_use)),
        // Nobody reads what it says but the moth that began it.
        Command::Look => return if live::onlooker::look().is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE },
    };
    status(outcome.map(|()| true))
}

/// The first minute, and then the broadcast it leads to.
fn begin(mut in_use: SetupInUseOptions) -> Result<bool, Failure> {
    // As `moth watch` alone would be.
    let Ok(Cli { command: Some(Command::Watch(watch)), .. }) = Cli::try_parse_from(["moth", "watch"]) else {
        return Err(Failure::Fault);
    };
    let (opened, palette) = (in_use.clone(), Palette::from_environment());
    let mut first = FirstMinute::open(&opened, &watch.listen, palette)?;
    // From here on: what is warned of while the broadcast is prepared is shown with it.
    #[cfg(not(unix))]
    let log = logging::to(None, false)?;
    loop {
        let Some(setup) = terminal::begin(&mut first)? else { return Ok(true) };
        in_use.setup = Some(setup);
        #[cfg(unix)]
        match commands::apart::begin_and_show(
            &commands::apart::as_watch(&in_use),
            &in_use,
            Hands { mouse: false, began: true, setups: true },
            0,
        ) {
            Ok(After::Setups) => first = FirstMinute::open(&opened, &watch.listen, palette)?,
            Ok(_) => return Ok(true),
            // What stands in the way can be entered there.
            Err(failure) => first.tell(failure.to_string()),
        }
        #[cfg(not(unix))]
        match commands::watch::plan(&watch, &in_use) {
            Ok(plan) => match present(&watch.show, &in_use, plan, 1, (&log, true))? {
                Left::ForGood | Left::TheScreen => return Ok(true),
                Left::ForTheSetups => first = FirstMinute::open(&opened, &watch.listen, palette)?,
            },
            // What stands in the way can be entered there.
            Err(failure) => first.tell(failure.to_string()),
        }
    }
}

/// Begins a broadcast and shows it, on the whole screen or as lines. Its clock runs `speed` times as fast as the machine's.
fn show(
    options: &ShowOptions,
    in_use: &SetupInUseOptions,
    speed: u32,
    plan: impl FnOnce() -> Result<Plan, Failure>,
) -> Outcome {
    let log = logging::to(options.log.as_deref(), options.headless)?;
    present(options, in_use, plan()?, speed, (&log, false)).map(|_| ())
}

/// A file's name with a number before its extensions; the first has none.
fn numbered(path: &Path, time: u32) -> PathBuf {
    let name = path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
    let (stem, extensions) = name.split_at(name.find('.').unwrap_or(name.len()));
    if time == 0 { path.to_owned() } else { path.with_file_name(format!("{stem}-{}{extensions}", time + 1)) }
}

/// Where readings are written: in the file of a broadcast that goes on, else in one of their own.
fn recording(path: &Path, plan: &Plan, time: u32) -> Result<Recording, Failure> {
    let servers = plan.servers();
    if let Some(going_on) = plan.going_on() {
        let mut written = (0..=time).rev().map(|time| numbered(path, time));
        if let Some(path) = written.find(|path| going_on.is_recorded_in(path, &servers)) {
            return Recording::go_on(path, going_on.end_of_what_was(&servers));
        }
    }
    // Of a broadcast that is begun again the readings are in a file of their own: those before are not written over.
    Recording::begin(&numbered(path, time), servers, matches!(plan, Plan::Demo(..)))
}

/// What is shown, and with what.
pub(crate) fn showing(
    options: &ShowOptions,
    in_use: &SetupInUseOptions,
    mut plan: Plan,
    (leads_back, time): (bool, u32),
) -> Result<(Showing, headless::Form), Failure> {
    let kept = if options.no_log { None } else { LogPlan::of(&plan, in_use)? };
    let servers = plan.servers();
    if let (Plan::Live(live), Some(kept)) = (&mut plan, &kept) {
        live.going_on = going_on::find(kept, &servers, Timestamp::now()).map(Arc::new);
    }
    let recording = options.record.as_deref().map(|path| recording(path, &plan, time)).transpose()?;
    let showing = Showing {
        plan,
        speed: 1,
        run_for: options.run_for.map(Duration::from_secs),
        recording,
        log: kept,
        mouse: !options.no_mouse,
        leads_back,
        time,
        outlets: OutletPlan::from(options),
        socket: options.automatic.socket.clone(),
    };
    Ok((showing, if options.line { headless::Form::Line } else { headless::Form::Json }))
}

/// Puts a broadcast on; it may lead back to the list of setups.
fn present(
    options: &ShowOptions,
    in_use: &SetupInUseOptions,
    plan: Plan,
    speed: u32,
    (log, leads_back): (&logging::Log, bool),
) -> Result<Left, Failure> {
    let (mut showing, form) = showing(options, in_use, plan, (leads_back, 0))?;
    showing.speed = speed;
    if options.headless || options.line {
        return headless::run(showing, form).map(|()| Left::ForGood);
    }
    terminal::put_on::run(showing, &log.warnings)
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
            ContextValue::Strings(words) => words.last().cloned(),
            _ => None,
        });
    format!("{told}{}", cli::meant::asked_back(near.as_deref()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_recorded_once_more_does_not_write_over_what_was_recorded_before() {
        let of = |time| numbered(Path::new("/evenings/comet.jsonl.gz"), time).display().to_string();
        assert_eq!(
            [of(0), of(1), of(9)].map(|path| path.replace("/evenings/", "")),
            ["comet.jsonl.gz", "comet-2.jsonl.gz", "comet-10.jsonl.gz"]
        );
    }
}
