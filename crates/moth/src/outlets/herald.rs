//! Tells somebody who is not looking: the terminal's bell, a notification on the desktop, a command of the user's.

use std::io::{self, Write};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use moth_core::Snapshot;
use moth_core::suspects::{Fault, Suspect};
use moth_core::viewers::Viewers;
use serde::Serialize;
use tokio::sync::broadcast;

use crate::cli::AlarmOptions;
use crate::outlets::alarm::{Alarm, News, Tell};
use crate::system::child;

/// A command that takes longer than this is ended. Ours.
const LONGEST: Duration = Duration::from_secs(20);
/// The desktop's own way to be told, as freedesktop.org's notifications are sent from a shell.
const NOTIFY: &str = "notify-send";

/// Who is told, and how.
pub struct Herald {
    alarm: Alarm,
    bell: Option<Bell>,
    notify: bool,
    command: Option<String>,
    busy: Arc<AtomicBool>,
}

/// Where the bell rings.
pub enum Bell {
    /// On standard error.
    Here,
    /// On the screens, which somebody else draws.
    Screens(broadcast::Sender<()>),
}

/// What a command is given on its standard input, as one line of JSON.
#[derive(Debug, Serialize)]
struct CommandInput<'a> {
    news: News,
    t: f64,
    fault: &'static str,
    cause: Option<&'static str>,
    confidence: f64,
    since: f64,
    sentence: &'a str,
    evidence: Vec<&'a str>,
    viewers: Viewers,
    actions: Vec<&'a str>,
    server: &'a str,
}

impl Herald {
    /// One that does what the options say; `None` if that is nothing.
    #[must_use]
    pub fn new(options: &AlarmOptions, bell: Bell) -> Option<Self> {
        if !options.bell && !options.notify && options.tell_command.is_none() {
            return None;
        }
        Some(Self {
            alarm: Alarm::new(Duration::from_secs(options.quiet)),
            bell: options.bell.then_some(bell),
            notify: options.notify,
            command: options.tell_command.clone(),
            busy: Arc::default(),
        })
    }

    /// Looks at a snapshot, and tells what there is to tell. Nothing is waited for.
    pub fn look(&mut self, snapshot: &Snapshot) {
        let Some(tell) = self.alarm.look(snapshot) else { return };
        match &self.bell {
            Some(Bell::Here) => {
                let _ = io::stderr().write_all(b"\x07");
            }
            // If there is no screen, nobody is there to hear it.
            Some(Bell::Screens(ring)) => drop(ring.send(())),
            None => {}
        }
        if self.notify {
            let (title, text) = in_words(tell, snapshot);
            let mut command = child::command(NOTIFY);
            command.args(["--app-name=Vigilant Moth", "--urgency"]);
            command.arg(if tell.news == News::AllClear { "normal" } else { "critical" }).arg(title).arg(text);
            run(command, String::new(), NOTIFY, None);
        }
        if let Some(line) = &self.command {
            if self.busy.swap(true, Ordering::AcqRel) {
                tracing::warn!("--tell-command is still busy with the last verdict; this one is not told to it");
                return;
            }
            let mut command = child::command(if cfg!(windows) { "cmd" } else { "sh" });
            command.arg(if cfg!(windows) { "/C" } else { "-c" }).arg(line);
            run(command, told(tell, snapshot), "--tell-command", Some(self.busy.clone()));
        }
    }
}

fn told(tell: Tell, snapshot: &Snapshot) -> String {
    let verdict = &snapshot.verdict;
    let mut told = CommandInput {
        news: tell.news,
        t: snapshot.at.seconds(),
        fault: verdict.fault.word(),
        cause: verdict.cause.map(|cause| cause.slug()),
        confidence: verdict.confidence,
        since: tell.since.seconds(),
        sentence: &verdict.sentence,
        evidence: verdict.evidence.iter().map(|evidence| evidence.text.as_str()).collect(),
        viewers: snapshot.viewers,
        actions: verdict.proposals.iter().map(|proposal| proposal.title.as_str()).collect(),
        server: &snapshot.server,
    };
    if let Some(suspect) = second(tell, snapshot) {
        told.fault = suspect.fault.word();
        told.cause = suspect.cause.map(|cause| cause.slug());
        told.confidence = suspect.confidence;
        told.sentence = &suspect.sentence;
        told.evidence = suspect.evidence.iter().map(|evidence| evidence.text.as_str()).collect();
        told.actions = suspect.proposals.iter().map(|proposal| proposal.title.as_str()).collect();
    }
    let mut line = serde_json::to_string(&told).unwrap_or_default();
    line.push('\n');
    line
}

/// What is told of, if it is not the verdict itself but loses frames beside it.
fn second(tell: Tell, snapshot: &Snapshot) -> Option<&Suspect> {
    snapshot.verdict.suspects.get(tell.suspect).filter(|_| tell.suspect > 0)
}

fn in_words(tell: Tell, snapshot: &Snapshot) -> (String, String) {
    let verdict = &snapshot.verdict;
    if let Some(suspect) = second(tell, snapshot) {
        let worse = if tell.news == News::Worse { "Worse: " } else { "" };
        return (format!("{worse}{} at fault as well", suspect.fault.word()), suspect.sentence.clone());
    }
    let title = match (tell.news, verdict.fault) {
        (News::AllClear, _) | (_, Fault::None) => "All clear".to_owned(),
        (News::Worse, fault) => format!("Worse: {} at fault", fault.word()),
        (News::New, fault) => format!("{} at fault", fault.word()),
    };
    (title, verdict.sentence.clone())
}

/// Runs a command on a thread of its own, gives it a text, and ends it if it does not end.
fn run(mut command: Command, text: String, name: &'static str, busy: Option<Arc<AtomicBool>>) {
    let work = move || {
        command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
        child::in_a_group(&mut command);
        match command.spawn() {
            Ok(mut child) => {
                if let Some(mut input) = child.stdin.take() {
                    // One that does not read what it is told need not.
                    let _ = input.write_all(text.as_bytes());
                }
                see_off(&mut child, name);
            }
            Err(error) => tracing::warn!(%error, "{name} could not be run"),
        }
        if let Some(busy) = busy {
            busy.store(false, Ordering::Release);
        }
    };
    if let Err(error) = std::thread::Builder::new().name("herald".into()).spawn(work) {
        tracing::warn!(%error, "a thread could not be started");
    }
}

fn see_off(child: &mut Child, name: &'static str) {
    let began = Instant::now();
    loop {
        match child.try_wait() {
            Ok(Some(status)) => {
                if !status.success() {
                    tracing::warn!(%status, "{name} failed");
                }
                return;
            }
            Ok(None) if began.elapsed() < LONGEST => std::thread::sleep(Duration::from_millis(50)),
            Ok(None) | Err(_) => {
                tracing::warn!("{name} did not end within {} s and was ended", LONGEST.as_secs());
                child::kill_group(child);
                let _ = child.wait();
                return;
            }
        }
    }
}
