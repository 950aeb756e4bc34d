//! A rehearsal: finds, off air, how much this rig bears.
//!
//! - [`rungs`]: the ladder of a climb, from the setup and what was asked for.
//! - [`shape`]: the line of a stand-in server, from the newest measurement.
//! - [`run`]: a rehearsal under way, and what is kept of it.
//! - [`lines`]: it as JSON lines; [`told`]: what it came to, in sentences; [`drawn`]: as a drawing.

pub(crate) mod drawn;
pub mod lines;
pub mod run;
pub mod rungs;
mod shape;
pub mod told;

use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_plan::setup::ServerChoice;
use moth_plan::text::Size;
use moth_rehearsal::climb::Times;
use moth_rehearsal::ladder::{Kind, Ladder, Value};
use moth_rehearsal::runner::Runner;
use moth_rehearsal::soak::{Soak, TO_DO};
use moth_rehearsal::tried::Length;
use moth_stage::STAND_IN;
use moth_store::config::Change;
use moth_store::rehearsals::{Rehearsed, What};
use moth_store::results::History;

use crate::cli::{RehearseOptions, RehearseWhat};
use crate::failure::Failure;
use crate::live::plan::{self, Doors, Plan, Unseen};
use crate::setup_in_use::SetupInUse;
use crate::setup_in_use::consent::{self};
use crate::setup_in_use::cut_off;
use run::{About, Run, Task};
use rungs::Bounds;

/// A step of a climb, if nobody says, in seconds. Ours.
pub const STEP_S: usize = 20;
/// A soak, if nobody says, in seconds. Ours.
pub const SOAK_S: u64 = 600;
/// A run that confirms is so many times as long as a step, and at most twice that. Ours.
pub const CONFIRMS: usize = 15;

/// What is to be rehearsed, and where.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// What is raised; `None` for a soak.
    pub climb: Option<Kind>,
    /// What bounds the ladder.
    pub bounds: Bounds,
    /// Seconds of a step.
    pub step_s: Option<usize>,
    /// How long it may take; of a soak, how long it takes.
    pub within: Option<Duration>,
    /// Another server of the service.
    pub server: Option<String>,
    /// A stand-in server behind a line like the one that was measured.
    pub no_server: bool,
    /// A host that runs `moth ingest`.
    pub ingest: Option<String>,
    /// A file with the key.
    pub key_file: Option<std::path::PathBuf>,
}

impl Wanted {
    pub(crate) fn of(options: &RehearseOptions) -> Self {
        let climb = match options.what {
            RehearseWhat::Bitrate => Some(Kind::Bitrate),
            RehearseWhat::Preset => Some(Kind::Preset),
            RehearseWhat::Picture => Some(Kind::Picture),
            RehearseWhat::Soak => None,
        };
        Self {
            climb,
            bounds: Bounds { from: options.from.clone(), to: options.to.clone(), step: options.step },
            step_s: options.step_seconds,
            within: options.run_for.map(Duration::from_secs),
            server: options.server.clone(),
            no_server: options.no_server,
            ingest: options.ingest.clone(),
            key_file: options.key_file.clone(),
        }
    }

    fn times(&self) -> Times {
        let step = self.step_s.unwrap_or(STEP_S);
        Times {
            search: Length { least_s: step, most_s: 3 * step },
            confirm: Length { least_s: CONFIRMS * step, most_s: 2 * CONFIRMS * step },
        }
    }

    /// Whether tries are shorter than they should be.
    fn is_short(&self) -> bool {
        self.climb.is_some() && self.step_s.is_some_and(|step| step < STEP_S)
    }
}

/// A rehearsal that is ready to begin.
#[derive(Clone)]
pub struct Prepared {
    /// What is put on.
    pub plan: Plan,
    /// What is run on it.
    pub run: Run,
    /// What it would publish to a service, in a sentence; `None` if it goes to nobody.
    pub publishes: Option<String>,
    /// One that was cut off before, in sentences.
    pub cut_off: Option<String>,
}

/// Prepares a rehearsal with a setup.
///
/// # Errors
/// [`Failure`] if what is asked for cannot be: no such rung, nothing measured for a stand-in, no key.
pub(crate) fn prepare(wanted: &Wanted, in_use: &SetupInUse, doors: &Doors) -> Result<Prepared, Failure> {
    let history = in_use.history()?;
    let climb = wanted.climb.map(|kind| rungs::ladder(kind, &wanted.bounds, in_use, &history)).transpose()?;
    let mut servers = in_use.servers()?;
    if let Some(name) = &wanted.server {
        let target = in_use.targets(std::slice::from_ref(name), None)?;
        servers.retain(|server| target.iter().all(|target| target.server.name != server.name));
        servers.splice(0..0, target.into_iter().map(|target| target.server));
    }
    let (unseen, server, simulated) = if wanted.no_server {
        let (shape, words) = shape::newest(&history, in_use).ok_or(Failure::NothingMeasured)?;
        (Unseen::StandIn(shape), STAND_IN.to_owned(), Some(words))
    } else if let Some(text) = &wanted.ingest {
        let (server, key) = in_use.host_of_ones_own("--ingest", text, wanted.key_file.as_deref())?;
        let name = server.name.clone();
        (Unseen::Ingest(server, key), name, None)
    } else {
        let key = in_use.unseen(in_use.key(wanted.key_file.as_deref())?)?;
        (Unseen::Service(key), servers.first().map(|server| server.name.clone()).unwrap_or_default(), None)
    };
    let to_service = matches!(unseen, Unseen::Service(_));
    let plan = plan::rehearsal(in_use, servers, unseen, doors)?;
    let about = About {
        setup: in_use.setup_name.clone(),
        service: in_use.service_name.clone(),
        server: server.clone(),
        publish_to: in_use.setup.broadcaster.command.is_empty().then(|| doors.listen.to_string()),
        simulated,
        is_made_up: false,
        is_short: wanted.is_short(),
    };
    // Only what can begin takes it up: it is told once.
    let cut_off = in_use.rehearsals.take_up().unwrap_or_default().filter(|cut_off| cut_off.setup == in_use.setup_name);
    let up_to = most(climb.as_ref(), in_use);
    let (task, long) = task(wanted, climb, in_use);
    let publishes = to_service.then(|| consent::rehearsal_words(&in_use.service, &server, long, up_to));
    let run = Run::new(about, task, in_use.rehearsals.clone(), in_use.setup.headroom.share());
    Ok(Prepared { plan, run, publishes, cut_off: cut_off.as_ref().map(cut_off::words) })
}

/// A rehearsal on the observatory's afternoon, with stand-ins.
pub(crate) fn prepare_demo(wanted: &Wanted, in_use: &SetupInUse, seed: u64) -> Result<Prepared, Failure> {
    /// A server of the afternoon with nothing in its way.
    const BEARS: &str = "Brackwater";
    /// Short steps: a demo is looked at for minutes. Ours.
    const SHORT_S: usize = 5;
    let mut in_use = in_use.clone();
    // The stand-in broadcaster takes presets of these names.
    in_use.setup.broadcaster.presets =
        ["ultrafast", "superfast", "veryfast", "faster", "fast"].map(str::to_owned).to_vec();
    let mut wanted = Wanted { step_s: Some(SHORT_S), ..wanted.clone() };
    if wanted.climb == Some(Kind::Bitrate) {
        // A few rungs about what the afternoon's servers bear.
        wanted.bounds = Bounds { from: Some("3M".into()), to: Some("6M".into()), step: Some(Bitrate::from_kbps(500)) };
    }
    let history = in_use.history()?;
    let mut climb = wanted.climb.map(|kind| rungs::ladder(kind, &wanted.bounds, &in_use, &history)).transpose()?;
    if let Some((ladder, start)) = climb.as_mut().filter(|(ladder, _)| ladder.kind() == Kind::Picture) {
        // It keeps its frame rate.
        let Value::Picture { fps: kept, .. } = start else { return Err(Failure::Fault) };
        let rungs = ladder.rungs().iter().filter(|rung| matches!(rung, Value::Picture { fps, .. } if fps == kept));
        *ladder = Ladder::new(Kind::Picture, rungs.cloned().collect());
    }
    let server = match wanted.climb {
        // What limits the machine is seen on a server that bears the setup; the first that afternoon does not.
        Some(Kind::Preset | Kind::Picture) => BEARS.to_owned(),
        _ => in_use.server_in_use(&history).unwrap_or_default(),
    };
    let about = About {
        setup: in_use.setup_name.clone(),
        service: in_use.service_name.clone(),
        server: server.clone(),
        publish_to: None,
        simulated: Some("the observatory's afternoon".into()),
        is_made_up: true,
        is_short: true,
    };
    let (task, _) = task(&wanted, climb, &in_use);
    let run = Run::new(about, task, in_use.rehearsals.clone(), in_use.setup.headroom.share());
    Ok(Prepared { plan: Plan::afternoon(&server, seed)?, run, publishes: None, cut_off: None })
}

/// What is run, and about for how long.
fn task(wanted: &Wanted, climb: Option<(Ladder, Value)>, in_use: &SetupInUse) -> (Task, Duration) {
    let Some((ladder, start)) = climb else {
        let long = wanted.within.unwrap_or(Duration::from_secs(SOAK_S));
        let to_do = in_use.setup.soak.clone().unwrap_or_else(|| TO_DO.map(str::to_owned).to_vec());
        return (Task::Soak(Box::new(Soak::new(long.as_secs() as usize, to_do))), long);
    };
    let kind = ladder.kind();
    let mut runner = Runner::new(ladder, wanted.times(), start).within(wanted.within);
    if let Some((left_at, start)) = left_before(in_use, kind) {
        runner = runner.after_one_that_left(left_at, start);
    }
    if !in_use.setup.broadcaster.command.is_empty() {
        runner = runner.running_the_broadcaster();
    }
    // A few tries fail, and take longer.
    let about = Duration::from_secs(runner.left_s() as u64 * 3 / 2);
    let long = wanted.within.map_or(about, |within| within.min(about));
    (Task::Climb(Box::new(runner)), long)
}

/// What the newest climb of a kind left the broadcaster at, and what had been there, if it could not put it back.
fn left_before(in_use: &SetupInUse, kind: Kind) -> Option<(Value, Value)> {
    let all = in_use.rehearsals.read().ok()?;
    let is_like = |past: &&Rehearsed| past.climb() == Some(kind) && past.setup == in_use.setup_name;
    match &all.iter().rev().find(is_like)?.what {
        What::Climb(finding) => Some((finding.left_at.clone()?, finding.start.clone())),
        What::Soak(_) => None,
    }
}

/// The most that would be sent.
fn most(climb: Option<&(Ladder, Value)>, in_use: &SetupInUse) -> Bitrate {
    let heaviest = climb.and_then(|(ladder, _)| match ladder.rungs().last() {
        Some(Value::Bitrate(rate)) => Some(*rate),
        _ => None,
    });
    let video = heaviest.unwrap_or(in_use.setup.bitrate);
    Bitrate::from_bps(video.bps().saturating_add(in_use.setup.audio.bps()))
}

/// Writes what is recommended into the setup; says what was written, or why nothing was.
///
/// # Errors
/// [`Failure`] if the configuration cannot be written; it is then as it was.
pub(crate) fn keep(run: &Run, in_use: &mut SetupInUse) -> Result<String, Failure> {
    let recommended = match run.over.as_ref().map(|over| &over.what) {
        Some(What::Climb(finding)) => finding.recommended().cloned(),
        _ => None,
    };
    let Some(recommended) = recommended else {
        return Ok("there is nothing to keep: no rung was clean".into());
    };
    match &recommended {
        Value::Bitrate(rate) => in_use.change(&Change::Bitrate(*rate))?,
        Value::Preset(_, name) => in_use.change(&Change::Preset(name.clone()))?,
        Value::Picture { width, height, fps } => {
            in_use.change(&Change::Size(Size::new(*width, *height)))?;
            in_use.change(&Change::Rate(fps.fps()))?;
        }
    }
    Ok(format!("{} is now in the setup {} in {}", recommended.words(), in_use.setup_name, in_use.file.path().display()))
}

/// Which server a setup would rehearse with, for a screen that has not prepared anything yet.
pub(crate) fn server_words(in_use: &SetupInUse, history: &History) -> String {
    match (&in_use.setup.server, in_use.server_in_use(history)) {
        (ServerChoice::Automatic, Some(name)) => format!("{name} (the best that was tested, or the first)"),
        (_, name) => name.unwrap_or_else(|| "none".into()),
    }
}
