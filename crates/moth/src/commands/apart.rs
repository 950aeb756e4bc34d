//! `moth watch` as two processes: one that keeps the broadcast on air, and the screen that began it.

use std::ffi::OsString;
use std::io::IsTerminal;

use super::attach::{self, After};
use super::watch;
use crate::attach::words::Hands;
use crate::cli::{SetupInUseOptions, WatchOptions};
use crate::failure::{Failure, Outcome};
use crate::live::apart;
use crate::system::{logging, out};
use crate::{setup_in_use, showing, terminal};

/// Whether the broadcast is to have a process of its own: where there is a terminal for a screen.
pub(crate) fn is_apart(options: &WatchOptions) -> bool {
    let has_screen = !options.foreground && !options.show.headless && !options.show.line;
    has_screen && std::io::stdout().is_terminal() && std::io::stdin().is_terminal()
}

/// The arguments of `moth watch` with what is in use.
pub(crate) fn as_watch(in_use: &SetupInUseOptions) -> Vec<OsString> {
    let mut arguments = vec![OsString::from("watch")];
    if let Some(config) = &in_use.config {
        arguments.extend(["--config".into(), config.into()]);
    }
    if let Some(setup) = &in_use.setup {
        arguments.extend(["--setup".into(), setup.into()]);
    }
    arguments
}

/// Begins a broadcast in a process of its own, and opens a screen on it. If it is killed it is begun again: as often as it may be
/// without asking, and else if whoever is there wants that.
pub(crate) fn begin_and_show(
    arguments: &[OsString],
    in_use: &SetupInUseOptions,
    hands: Hands,
    mut restarts: u32,
) -> Result<After, Failure> {
    let log = setup_in_use::places(in_use).ok().map(|places| places.data.join("watch.log"));
    for time in 0.. {
        let (socket, mut child) = apart::begin(arguments, time, log.as_deref())?;
        let after = attach::show(&socket, hands)?;
        if after != After::Lost {
            return Ok(after);
        }
        let lost = format!("{}{}", attach::LOST, apart::how_it_ended(&mut child, log.as_deref()));
        if restarts > 0 {
            restarts -= 1;
            out::Progress::new().line(&format!("{lost}; it is begun again, and the broadcaster finds it"));
        } else if !apart::wants_again(&lost) {
            return Err(Failure::Told(format!("{lost}; `moth watch` begins it again")));
        }
    }
    Err(Failure::Fault)
}

/// Keeps a broadcast on air without a screen of its own.
pub(crate) fn carry(options: &WatchOptions, in_use: &SetupInUseOptions) -> Outcome {
    let is_carried = options.carried.is_some();
    if is_carried {
        apart::leave_the_terminal();
    }
    let mut is_begun = false;
    let outcome = (|| {
        let log = logging::to(options.show.log.as_deref(), false)?;
        let (showing, _) =
            showing(&options.show, in_use, watch::plan(options, in_use)?, (false, options.carried_time()))?;
        let socket = showing.socket.clone();
        terminal::put_on::carry(showing, &log.warnings, || {
            let reached = apart::reached_at(socket.as_deref())?;
            is_begun = true;
            if is_carried {
                apart::tell_begun(&reached);
            } else {
                out::Progress::new()
                    .line(&format!("on air without a screen; `moth attach --socket {}` opens one", reached.display()));
            }
            Ok(())
        })
    })();
    let outcome = outcome.map_err(apart::with_who_is_there);
    if is_carried && !is_begun { apart::quietly(outcome) } else { outcome }
}
