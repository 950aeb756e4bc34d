//! Where log lines go: a file, or standard error when the screen is not in use. Never standard output.

use std::fmt::Debug;
use std::fs::OpenOptions;
use std::path::Path;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use tracing::field::{Field, Visit};
use tracing::{Event, Subscriber};
use tracing_appender::non_blocking;
use tracing_appender::non_blocking::WorkerGuard;
use tracing_subscriber::filter::LevelFilter;
use tracing_subscriber::layer::{Context, SubscriberExt};
use tracing_subscriber::util::SubscriberInitExt;
use tracing_subscriber::{Layer, fmt};

use crate::failure::Failure;

/// What keeps a log going, and the warnings that a screen shows.
pub(crate) struct Log {
    /// What is logged last is written when it goes.
    _lines: Option<WorkerGuard>,
    /// Warnings for whoever looks at the screen; none come where standard error takes them.
    pub warnings: Receiver<String>,
}

/// So many warnings may wait for the screen. Ours.
const WAITING: usize = 16;

/// Begins to log, for as long as what it gives is kept. Only the moth's own lines are written, from information upwards, on a
/// thread of their own: a disk, or a reader, that stops costs lines and never a frame. On the full screen, where nobody sees
/// standard error, warnings are given to the screen.
pub(crate) fn to(log: Option<&Path>, is_headless: bool) -> Result<Log, Failure> {
    let (tell, warnings) = sync_channel(WAITING);
    let lines = if let Some(path) = log {
        let mut options = OpenOptions::new();
        // It names servers and programs, which is nobody else's business.
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let file = options.create(true).append(true).open(path);
        Some(non_blocking(file.map_err(|error| Failure::Log { path: path.to_owned(), error })?))
    } else {
        is_headless.then(|| non_blocking(std::io::stderr()))
    };
    let (lines, guard) = lines.unzip();
    let written = lines.map(|lines| {
        let layer = fmt::layer().with_ansi(false).with_target(false).with_writer(lines);
        layer.with_filter(LevelFilter::INFO)
    });
    let shown = (!is_headless).then(|| ToScreen(tell).with_filter(LevelFilter::WARN));
    // A second call in one process (tests) keeps the first log.
    let _ = tracing_subscriber::registry().with(written).with(shown).try_init();
    Ok(Log { _lines: guard, warnings })
}

/// Gives warnings to the screen, in a sentence each.
struct ToScreen(SyncSender<String>);

impl<S: Subscriber> Layer<S> for ToScreen {
    fn on_event(&self, event: &Event<'_>, _: Context<'_, S>) {
        // What the relay sees of the server is on the screen as it is.
        if event.metadata().target().starts_with("moth_relay::") || !event.metadata().target().starts_with("moth") {
            return;
        }
        let mut sentence = Sentence::default();
        event.record(&mut sentence);
        // Who looks at nothing for so long has enough to read.
        let _ = self.0.try_send(sentence.0);
    }
}

/// A warning: its message, and what it is about behind it.
#[derive(Default)]
struct Sentence(String);

impl Visit for Sentence {
    fn record_debug(&mut self, field: &Field, value: &dyn Debug) {
        if field.name() == "message" {
            self.0.insert_str(0, &format!("{value:?}"));
        } else {
            self.0.push_str(&format!(" ({} {value:?})", field.name()));
        }
    }
}

/// Warnings of a command that prints a report go to standard error.
pub(crate) fn warnings() {
    let builder = fmt().with_max_level(LevelFilter::WARN).with_target(false).without_time();
    // A second call in one process (tests) keeps the first log.
    let _ = builder.with_ansi(false).with_writer(std::io::stderr).try_init();
}
