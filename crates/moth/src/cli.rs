//! The words of the command line.

pub mod log;
pub mod meant;

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::builder::TypedValueParser;
use clap::{Args, Parser, Subcommand};
use moth_core::keeper::Mode;
use moth_core::rate::{Bitrate, RateError};
use moth_plan::text::{Size, SizeError};

use log::LogOptions;

/// Watches a live broadcast, says where frames are lost and why, and mends it.
#[derive(Debug, Parser)]
#[command(name = "moth", version, max_term_width = 100)]
pub struct Cli {
    /// What to do; without a word, the screen leads from nothing to a watched broadcast.
    #[command(subcommand)]
    pub command: Option<Command>,

    /// Setups and services.
    #[command(flatten)]
    pub in_use: SetupInUseOptions,
}

/// Which setup, from which configuration.
#[derive(Debug, Clone, Default, Args)]
pub struct SetupInUseOptions {
    /// The configuration (without it: the platform's usual place); keys and results are kept beside this one
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,

    /// The setup to use (without it: the one the configuration names)
    #[arg(long, global = true, value_name = "NAME")]
    pub setup: Option<String>,
}

/// Where a broadcaster publishes to, as much of it as was given.
#[allow(clippy::unnecessary_wraps, reason = "the parser of arguments wants it so")]
fn door(text: &str) -> Result<String, std::convert::Infallible> {
    Ok(meant::door(text))
}

fn rate(text: &str) -> Result<Bitrate, RateError> {
    text.parse()
}

fn size(text: &str) -> Result<Size, SizeError> {
    text.parse()
}

/// What to do.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Stand between a broadcaster and its server: relay, watch, judge and mend a real broadcast
    Watch(WatchOptions),
    /// Compare the ingest servers of your service by really publishing to each in turn
    Routes(RoutesOptions),
    /// Measure what the upload sustains, and how far the round trip climbs while it is full
    Uplink(UplinkOptions),
    /// Have a running moth do something: bitrate, server, preset, size, rate, priority, keeper, failover, play, undo, state, line
    Tell(TellOptions),
    /// Open a screen on a moth that runs, from another terminal or over ssh; several may be open
    Attach(AttachOptions),
    /// Which moths run: where to publish to, server, state, time on air. Status 1 if none does
    Ls(LsOptions),
    /// End a moth that runs; if somebody is on air it asks first
    Stop(StopOptions),
    /// Print a systemd user service that keeps a moth ready from login on
    Service,
    /// How a running moth's broadcast stands, in one line: for a status bar
    State(StateOptions),
    /// The bitrate to use, what binds it, and the picture size and rate that suit it
    Plan(PlanOptions),
    /// Find, with nobody watching, how much this rig bears: raise one thing until frames are lost, or leave all as it is for long
    Rehearse(RehearseOptions),
    /// Is this machine fit for a broadcast? Status 1 if something would hurt
    Check(CheckOptions),
    /// Name the setups, write the configuration if there is none, or choose the setup in use
    Setup(SetupOptions),
    /// Keep, replace, forget or look after a service's stream key
    Key(KeyOptions),
    /// Every verdict on a recorded broadcast (--record), with its times
    Judge(JudgeOptions),
    /// Show a recorded broadcast (--record) again, at any speed, back and forth
    Replay(ReplayOptions),
    /// Past broadcasts: list, show, compare, note, remove, limits, export, import (without a word: list)
    Log(LogOptions),
    /// Tell this machine's load to a moth on another: for a second machine that runs the scene
    Host(HostOptions),
    /// Take broadcasts and throw them away: the other end of `moth uplink`, on a host of your own
    Ingest(IngestOptions),
    /// The whole application on a made-up evening, with stand-ins for broadcaster, line, servers and machine
    Demo(DemoOptions),
    /// Look at pictures that come in on standard input: what `moth watch` begins beside itself
    #[command(hide = true)]
    Look,
}

impl WatchOptions {
    /// How often the broadcast was begun before by the same screen.
    #[must_use]
    pub fn carried_time(&self) -> u32 {
        self.carried.unwrap_or(0)
    }
}

/// `moth watch`
#[derive(Debug, Args)]
pub struct WatchOptions {
    /// The ingest server, rtmp://HOST[:PORT]/APP or rtmps://…; given again, further servers to move to
    ///
    /// Without it, the servers of the setup's service. The stream key is never part of it.
    #[arg(long, value_name = "ADDRESS")]
    pub to: Vec<String>,

    /// Keep broadcast and screen in one process: the one ends with the other
    #[arg(long, conflicts_with_all = ["no_screen", "headless", "line"])]
    pub foreground: bool,

    /// No screen of its own, for a supervisor: `moth attach` opens one
    #[arg(long, conflicts_with_all = ["headless", "line"])]
    pub no_screen: bool,

    /// Begin the broadcast again up to so many times, without asking, if its process is killed
    #[arg(long, value_name = "TIMES", default_value_t = 0, conflicts_with = "foreground")]
    pub restart: u32,

    /// Begun by another `moth watch`, which waits to be told that it is on air: for how manieth time, from 0
    #[arg(long, hide = true, value_name = "TIME")]
    pub carried: Option<u32>,

    /// A file that holds the stream key and nothing else (else MOTH_STREAM_KEY, else the service's own)
    #[arg(long, value_name = "FILE")]
    pub key_file: Option<PathBuf>,

    /// Where the broadcaster publishes to, with any local key
    #[arg(long, value_name = "ADDRESS", default_value = "rtmp://127.0.0.1:19350/moth", value_parser = door)]
    pub listen: String,

    /// Do not look at the pictures: without a feed, lagged frames are then not known
    #[arg(long)]
    pub no_look: bool,

    /// Let the broadcaster, or a script, say what it counts here, and be asked for changes (docs/feed.md)
    #[arg(long, value_name = "127.0.0.1:PORT", value_parser = meant::place)]
    pub feed: Option<SocketAddr>,

    /// Read the load of another machine too, where `moth host` runs; may be given again
    #[arg(long, value_name = "http://HOST:PORT")]
    pub also: Vec<String>,

    /// Drop frames once they have waited this long, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = 2000, value_parser = clap::value_parser!(u64).range(200..=30_000))]
    pub queue_ms: u64,

    /// Never let more than this wait, in MiB
    #[arg(long, value_name = "MIB", default_value_t = 16, value_parser = clap::value_parser!(u32).range(1..=512))]
    pub queue_mib: u32,

    /// How it is shown.
    #[command(flatten)]
    pub show: ShowOptions,
}

/// Being told of a new verdict, a worse one, and all-clear.
#[derive(Debug, Clone, Default, Args)]
pub struct AlarmOptions {
    /// Ring the terminal's bell
    #[arg(long)]
    pub bell: bool,

    /// Show a notification on the desktop (with notify-send)
    #[arg(long)]
    pub notify: bool,

    /// Run this command in the shell, with the verdict as a line of JSON on its standard input
    #[arg(long, value_name = "COMMAND")]
    pub tell_command: Option<String>,

    /// After telling, tell nothing more of the same stage for this long
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u64).range(0..=86_400))]
    pub quiet: u64,
}

/// `moth host`
#[derive(Debug, Args)]
pub struct HostOptions {
    /// Where the load is served, as OpenMetrics text: 0.0.0.0:9377 to be reached from the other machine
    #[arg(long, value_name = "ADDRESS:PORT", default_value = "127.0.0.1:9377", value_parser = meant::place)]
    pub serve: SocketAddr,

    /// This machine's name (without it: the host name)
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,

    /// The folder recordings go to, to read how long writes take there
    #[arg(long, value_name = "FOLDER")]
    pub recordings: Option<PathBuf>,
}

/// `moth replay`
#[derive(Debug, Args)]
pub struct ReplayOptions {
    /// The readings file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,

    /// How many seconds of the broadcast pass in a second
    #[arg(long, value_name = "TIMES", default_value_t = 1.0, value_parser = speed)]
    pub speed: f64,

    /// Begin so many seconds into it
    #[arg(long, value_name = "SECONDS", default_value_t = 0)]
    pub from: u64,
}

/// How fast a replay may be.
fn speed(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(speed) if (0.1..=1000.0).contains(&speed) => Ok(speed),
        _ => Err("expected from 0.1 to 1000".into()),
    }
}

/// `moth demo`
#[derive(Debug, Args)]
pub struct DemoOptions {
    /// Which evening to put on
    #[arg(long, value_name = "SLUG", default_value = "archive-sync")]
    pub evening: String,

    /// Name the evenings there are
    #[arg(long)]
    pub list: bool,

    /// The seed of everything random in it
    #[arg(long, value_name = "NUMBER")]
    pub seed: Option<u64>,

    /// Run the demo N times as fast, 1 to 16
    #[arg(long, value_name = "N", default_value = "1", value_parser = clap::value_parser!(u32).range(1..=16))]
    pub speed: u32,

    /// How it is shown.
    #[command(flatten)]
    pub show: ShowOptions,
}

/// Seconds to measure for.
fn measured_seconds(text: &str) -> Result<u64, String> {
    match text.parse() {
        Ok(seconds @ (10 | 30 | 60)) => Ok(seconds),
        _ => Err("expected 10, 30 or 60".into()),
    }
}

/// What is published for a measurement, and with whose consent.
#[derive(Debug, Args)]
pub struct MeasureOptions {
    /// How long each measurement takes: 10, 30 or 60
    #[arg(long, value_name = "SECONDS", default_value = "10", value_parser = measured_seconds)]
    pub seconds: u64,

    /// The most that is offered (without it: twice what is planned for servers, 100M for the line)
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub up_to: Option<Bitrate>,

    /// You agree to publishing filler under your key; without it you are asked
    #[arg(long)]
    pub yes: bool,

    /// You agree that viewers may see it, where the service cannot hide a run
    #[arg(long)]
    pub on_air: bool,

    /// A file that holds the stream key (else MOTH_STREAM_KEY, else the service's own)
    #[arg(long, value_name = "FILE")]
    pub key_file: Option<PathBuf>,

    /// Your name for this line, to compare results by (without it: the interface's)
    #[arg(long, value_name = "NAME")]
    pub line: Option<String>,

    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,
}

/// `moth routes`
#[derive(Debug, Args)]
pub struct RoutesOptions {
    /// Test this server; given again, further ones (without it: all)
    #[arg(long, value_name = "NAME")]
    pub server: Vec<String>,

    /// Test the servers of this region
    #[arg(long, value_name = "REGION", conflicts_with = "server")]
    pub region: Option<String>,

    /// What you plan to send, video and audio together (without it: the setup's)
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub planned: Option<Bitrate>,

    /// What is measured, and how.
    #[command(flatten)]
    pub measure: MeasureOptions,

    /// A table on standard output, comma-separated
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,

    /// Write the best server into the setup
    #[arg(long)]
    pub pick: bool,

    /// Tell of earlier tests; test nothing
    #[arg(long, conflicts_with_all = ["pick", "csv"])]
    pub history: bool,

    /// Where it is drawn; with --history, the newest test.
    #[command(flatten)]
    pub draw: ChartOptions,
}

/// `moth uplink`
#[derive(Debug, Args)]
pub struct UplinkOptions {
    /// A host that runs `moth ingest`, or any RTMP server of your own
    #[arg(long, value_name = "ADDRESS")]
    pub to: Option<String>,

    /// A server of your service (without either: the setup's)
    #[arg(long, value_name = "NAME", conflicts_with = "to")]
    pub server: Option<String>,

    /// How many runs, to see how far they lie apart
    #[arg(long, value_name = "NUMBER", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=20))]
    pub runs: u32,

    /// What is measured, and how.
    #[command(flatten)]
    pub measure: MeasureOptions,

    /// Where it is drawn.
    #[command(flatten)]
    pub draw: ChartOptions,
}

/// `moth plan`
#[derive(Debug, Args)]
pub struct PlanOptions {
    /// What the upload sustains (without it: what the newest measurement gave)
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub sustained: Option<Bitrate>,

    /// Share of the upload to leave free, in percent (without it: the setup's)
    #[arg(long, value_name = "PERCENT", value_parser = |text: &str| meant::percent(text, 0..=90))]
    pub headroom: Option<u8>,

    /// What to leave the household of the upload
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub household: Option<Bitrate>,

    /// Audio bitrate
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub audio: Option<Bitrate>,

    /// How much moves: still, talking, moving or fast
    #[arg(long, value_name = "WORD", value_parser = motion)]
    pub motion: Option<moth_plan::picture::Motion>,

    /// The scene's own size, like 1920x1080
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub source: Option<Size>,

    /// The scene's own frames per second
    #[arg(long, value_name = "FPS", value_parser = frames_per_second)]
    pub rate: Option<f64>,

    /// Write bitrate, size and rate into the setup
    #[arg(long)]
    pub write: bool,

    /// Where the map of pictures is drawn.
    #[command(flatten)]
    pub draw: ChartOptions,

    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,
}

fn motion(text: &str) -> Result<moth_plan::picture::Motion, String> {
    let found = moth_plan::picture::Motion::ALL.into_iter().find(|motion| motion.word() == text);
    found.ok_or_else(|| "expected still, talking, moving or fast".into())
}

fn frames_per_second(text: &str) -> Result<f64, String> {
    let found = text.parse().ok().filter(|fps: &f64| (1.0..=240.0).contains(fps));
    found.ok_or_else(|| "expected frames per second from 1 to 240".into())
}

/// What is rehearsed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum RehearseWhat {
    /// The video bitrate, upwards
    Bitrate,
    /// The encoder's presets, from light to heavy
    Preset,
    /// Picture sizes and rates, from small to large
    Picture,
    /// Everything as it is, for long, with a list of things to do meanwhile
    Soak,
}

/// `moth rehearse`
#[derive(Debug, Args)]
pub struct RehearseOptions {
    /// What is raised, or `soak`
    #[arg(value_enum, value_name = "CLIMB")]
    pub what: RehearseWhat,

    /// The lightest step: a bitrate, a preset, or a picture like 1280x720@60
    #[arg(long, value_name = "VALUE")]
    pub from: Option<String>,

    /// The heaviest step (without it: of bitrates, what the service takes)
    #[arg(long, value_name = "VALUE")]
    pub to: Option<String>,

    /// Between two bitrates (without it: 250k up to 6M, else 500k)
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub step: Option<Bitrate>,

    /// A step lasts so long if nothing, or much, is lost, and up to three times as long if a little is; without it 20
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u16).range(5..=600).map(usize::from))]
    pub step_seconds: Option<usize>,

    /// A climb ends after so many seconds, with what was found by then; a soak lasts so long (without it: 600)
    #[arg(long = "for", value_name = "SECONDS", value_parser = |text: &str| meant::seconds(text, 10..=100_000))]
    pub run_for: Option<u64>,

    /// You agree to broadcasting under your key; without it you are asked
    #[arg(long)]
    pub yes: bool,

    /// You agree that viewers may see it, where the service cannot hide a run
    #[arg(long)]
    pub on_air: bool,

    /// Write what is recommended into the setup
    #[arg(long)]
    pub keep: bool,

    /// To this server of the service (without it: the setup's)
    #[arg(long, value_name = "NAME")]
    pub server: Option<String>,

    /// To a host that runs `moth ingest`
    #[arg(long, value_name = "ADDRESS", conflicts_with_all = ["server", "no_server"])]
    pub ingest: Option<String>,

    /// To nobody: a stand-in server behind a line shaped like the one that was measured last
    #[arg(long, conflicts_with = "server")]
    pub no_server: bool,

    /// A file that holds the stream key (else MOTH_STREAM_KEY, else the service's own)
    #[arg(long, value_name = "FILE")]
    pub key_file: Option<PathBuf>,

    /// Where the broadcaster publishes to, with any local key
    #[arg(long, value_name = "ADDRESS", default_value = "rtmp://127.0.0.1:19350/moth", value_parser = door)]
    pub listen: String,

    /// Let the broadcaster, or a script, say what it counts here, and be asked for changes (docs/feed.md)
    #[arg(long, value_name = "127.0.0.1:PORT", value_parser = meant::place)]
    pub feed: Option<SocketAddr>,

    /// No terminal: JSON lines on standard output, an object as each step begins and ends (docs/rehearse.md)
    #[arg(long)]
    pub headless: bool,

    /// Record everything that is seen to this file, compressed if it ends in .gz (docs/readings.md)
    #[arg(long, value_name = "FILE")]
    pub record: Option<PathBuf>,

    /// Do not keep the rehearsal in the logbook (docs/logbook.md)
    #[arg(long)]
    pub no_log: bool,

    /// Write a log to this file (without it: standard error if --headless, else none)
    #[arg(long, value_name = "FILE")]
    pub log: Option<PathBuf>,

    /// Where a climb is drawn.
    #[command(flatten)]
    pub draw: ChartOptions,
}

/// `moth check`
#[derive(Debug, Args)]
pub struct CheckOptions {
    /// The folder recordings go to (without it: the setup's, else this one)
    #[arg(long, value_name = "FOLDER")]
    pub recordings: Option<PathBuf>,

    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,
}

/// `moth setup`
#[derive(Debug, Args)]
pub struct SetupOptions {
    /// The setup to use from now on
    #[arg(value_name = "NAME")]
    pub name: Option<String>,

    /// Print an example with all that a configuration can hold, with a comment on each
    #[arg(long, conflicts_with = "name")]
    pub example: bool,
}

/// `moth key`
#[derive(Debug, Args)]
pub struct KeyOptions {
    /// What to do with it
    #[arg(value_enum, default_value_t = KeyDeed::Show)]
    pub deed: KeyDeed,

    /// Whose key (without it: the setup's service)
    #[arg(value_name = "SERVICE")]
    pub service: Option<String>,
}

/// What to do with a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum KeyDeed {
    /// Whether one is set, and its last change; never a character of it
    Show,
    /// Keep a key, in the place of the one before; it is asked for, or read from standard input
    Set,
    /// Forget the key that is kept
    Forget,
}

/// `moth judge`
#[derive(Debug, Args)]
pub struct JudgeOptions {
    /// The readings file
    #[arg(value_name = "FILE", required_unless_present = "list_charts")]
    pub file: Option<PathBuf>,

    /// One JSON object on standard output
    #[arg(long, conflicts_with_all = ["chart", "report", "csv", "jsonl"])]
    pub json: bool,

    /// Compare with this recording (with --chart comparison)
    #[arg(long, value_name = "FILE", requires = "chart")]
    pub with: Option<PathBuf>,

    /// What is written to files.
    #[command(flatten)]
    pub take: TakeOptions,

    /// What can be drawn, a line each
    #[arg(long, exclusive = true)]
    pub list_charts: bool,
}

/// What is made of a broadcast that is over, as files.
#[derive(Debug, Args)]
pub struct TakeOptions {
    /// Draw it instead of telling it; the drawing goes to the file that --to names
    #[arg(long, value_enum, value_name = "NAME", requires = "to")]
    pub chart: Option<Chart>,

    /// Where a drawing goes; its name ends in .svg or .pdf
    #[arg(long, value_name = "FILE", requires = "chart")]
    pub to: Option<PathBuf>,

    /// Draw from then on, like 1:20:00, since the beginning
    #[arg(long, value_name = "TIME", value_parser = moment, requires = "chart")]
    pub from: Option<f64>,

    /// Draw until then; the journey as it stood then
    #[arg(long, value_name = "TIME", value_parser = moment, requires = "chart")]
    pub until: Option<f64>,

    /// Compare with this stretch, of the same or of --with: like 10:00-20:00
    #[arg(long, value_name = "FROM-UNTIL", value_parser = stretch, requires = "chart")]
    pub against: Option<Span>,

    /// Write a report of a few pages, as PDF
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,

    /// The paper of a report
    #[arg(long, value_enum, value_name = "SIZE", default_value_t = PaperSize::A4, requires = "report")]
    pub paper: PaperSize,

    /// Write every second to this file, as a table; verdicts, changes and tests go into files beside it
    #[arg(long, value_name = "FILE")]
    pub csv: Option<PathBuf>,

    /// Write every second, verdict, change and test to this file, one JSON object a line
    #[arg(long, value_name = "FILE")]
    pub jsonl: Option<PathBuf>,

    /// How it is written.
    #[command(flatten)]
    pub pen: PenOptions,
}

impl TakeOptions {
    /// Whether something is written to a file, in the place of what is told.
    #[must_use]
    pub fn writes(&self) -> bool {
        self.chart.is_some() || self.report.is_some() || self.csv.is_some() || self.jsonl.is_some()
    }
}

/// How something is written that is to be given away.
#[derive(Debug, Clone, Copy, Default, Args)]
pub struct PenOptions {
    /// Draw on black, as on the screen, instead of on white
    #[arg(long)]
    pub dark: bool,

    /// Leave out names, addresses and programs
    #[arg(long)]
    pub anonymous: bool,

    /// Write in the place of a file that is there
    #[arg(long)]
    pub force: bool,
}

/// A drawing beside what is told.
#[derive(Debug, Clone, Default, Args)]
pub struct ChartOptions {
    /// Draw it to this file, too; its name ends in .svg or .pdf
    #[arg(long, value_name = "FILE")]
    pub chart: Option<PathBuf>,

    /// How it is drawn.
    #[command(flatten)]
    pub pen: PenOptions,
}

/// A sheet of paper.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum PaperSize {
    /// 210 by 297 mm
    A4,
    /// 8.5 by 11 inches
    Letter,
}

/// What can be drawn of a recorded broadcast.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Chart {
    /// What was carried and lost, second by second, with verdicts and changes
    Lanes,
    /// The four stages of a frame, what each used and what it lost, at --until
    Journey,
    /// The suspects of the verdict that stood longest, with the evidence for and against each
    Why,
    /// What the newest change did: before and since
    Trial,
    /// The load on the machine, by program
    Machine,
    /// This stretch beside another: --against FROM-UNTIL, or --with another recording
    Comparison,
}

/// From then until then, in seconds since the beginning.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Span {
    /// From then on.
    pub from_s: f64,
    /// Until then.
    pub until_s: f64,
}

fn stretch(text: &str) -> Result<Span, String> {
    let wrong = || "expected two times since the beginning, like 10:00-20:00".to_owned();
    let (from, until) = text.split_once(['-', '–']).ok_or_else(wrong)?;
    let span = Span { from_s: moment(from).map_err(|_| wrong())?, until_s: moment(until).map_err(|_| wrong())? };
    if span.from_s < span.until_s { Ok(span) } else { Err(wrong()) }
}

/// A moment of a broadcast in seconds: h:mm:ss, mm:ss, or seconds.
fn moment(text: &str) -> Result<f64, String> {
    let wrong = || "expected a time since the beginning, like 1:20:00, 12:30 or 750".to_owned();
    let parts: Vec<&str> = text.split(':').collect();
    if parts.len() > 3 {
        return Err(wrong());
    }
    let mut seconds = 0.0;
    for (n, part) in parts.iter().enumerate() {
        let is_last = n + 1 == parts.len();
        let value: f64 = part.parse().map_err(|_| wrong())?;
        let is_below_60 = n == 0 || value < 60.0;
        if !(0.0..=1e7).contains(&value) || !is_below_60 || !is_last && value.fract() != 0.0 {
            return Err(wrong());
        }
        seconds = seconds * 60.0 + value;
    }
    Ok(seconds)
}

/// `moth ingest`
#[derive(Debug, Args)]
pub struct IngestOptions {
    /// Where to listen; everybody who reaches it may send
    #[arg(long, value_name = "ADDRESS", default_value = "rtmp://0.0.0.0:19351/moth", value_parser = door)]
    pub listen: String,

    /// Take only broadcasts under the key in this file
    #[arg(long, value_name = "FILE")]
    pub key_file: Option<PathBuf>,

    /// Read no faster than this: a stand-in for a tired server
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub reads: Option<Bitrate>,

    /// Stop after so many seconds
    #[arg(long = "for", value_name = "SECONDS", value_parser = |text: &str| meant::seconds(text, 1..=1_000_000))]
    pub run_for: Option<u64>,
}

/// `moth tell`
#[derive(Debug, Args)]
pub struct TellOptions {
    /// What to do, like: bitrate 4500k · bitrate -10% · server Dunmere · preset lighter · keeper act · undo
    #[arg(value_name = "ACTION", required = true, num_args = 1.., allow_hyphen_values = true)]
    pub words: Vec<String>,

    /// Which moth, if several run
    #[arg(long, value_name = "PATH")]
    pub socket: Option<PathBuf>,

    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,
}

/// Which moth is meant.
#[derive(Debug, Args)]
pub struct Which {
    /// Its setup, or the number of its process; needed only if several run
    #[arg(value_name = "NAME")]
    pub name: Option<String>,

    /// Where it is told, if not in the usual place
    #[arg(long, value_name = "PATH")]
    pub socket: Option<PathBuf>,
}

/// `moth attach`
#[derive(Debug, Args)]
pub struct AttachOptions {
    /// Which moth.
    #[command(flatten)]
    pub which: Which,

    /// Leave the mouse to the terminal
    #[arg(long)]
    pub no_mouse: bool,
}

/// `moth ls`
#[derive(Debug, Args)]
pub struct LsOptions {
    /// One JSON array on standard output
    #[arg(long)]
    pub json: bool,
}

/// `moth stop`
#[derive(Debug, Args)]
pub struct StopOptions {
    /// Which moth.
    #[command(flatten)]
    pub which: Which,

    /// Do not ask, even if somebody is on air
    #[arg(long)]
    pub yes: bool,
}

/// `moth state`
#[derive(Debug, Args)]
pub struct StateOptions {
    /// Which moth, if several run
    #[arg(long, value_name = "PATH")]
    pub socket: Option<PathBuf>,

    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,
}

impl StateOptions {
    /// As it is told to the moth that runs.
    #[must_use]
    pub fn as_telling(&self) -> TellOptions {
        TellOptions { words: vec!["line".into()], socket: self.socket.clone(), json: self.json }
    }
}

impl TellOptions {
    /// With options behind the words, which are taken for words because a word may begin with a hyphen: -10%.
    #[must_use]
    pub fn sorted(self) -> Self {
        let Self { words, mut socket, mut json } = self;
        let mut kept = Vec::new();
        let mut rest = words.into_iter();
        while let Some(word) = rest.next() {
            match word.as_str() {
                "--json" => json = true,
                "--socket" => socket = rest.next().map(PathBuf::from),
                _ => kept.push(word),
            }
        }
        Self { words: kept, socket, json }
    }
}

/// What the moth may do by itself.
#[derive(Debug, Clone, Default, Args)]
pub struct AutomaticOptions {
    /// The automatic bitrate: off, advise or act (without it: the setup's)
    #[arg(long, value_name = "MODE", value_parser = mode)]
    pub keeper: Option<Mode>,

    /// The keeper never goes below this video bitrate (without it: the setup's)
    #[arg(long, value_name = "RATE", value_parser = rate)]
    pub floor: Option<Bitrate>,

    /// You agree that the server is changed by itself when it is dark or losing
    #[arg(long)]
    pub failover: bool,

    /// You agree that the broadcast is played back from its server for ten seconds once it is there
    #[arg(long)]
    pub play_back: bool,

    /// Where `moth tell` reaches it (without it: a socket in your own runtime folder)
    #[arg(long, value_name = "PATH")]
    pub socket: Option<PathBuf>,
}

fn mode(text: &str) -> Result<Mode, String> {
    let found = [Mode::Off, Mode::Advise, Mode::Act].into_iter().find(|mode| mode.word() == text);
    found.ok_or_else(|| "expected off, advise or act".into())
}

/// How it is shown.
#[derive(Debug, Args)]
pub struct ShowOptions {
    /// What it may do by itself.
    #[command(flatten)]
    pub automatic: AutomaticOptions,

    /// No terminal: one JSON object per second on standard output (docs/snapshot.md)
    #[arg(long)]
    pub headless: bool,

    /// Leave the mouse to the terminal: it selects text without Shift, and does nothing else
    #[arg(long)]
    pub no_mouse: bool,

    /// No full screen: one line, anew each second, for a status bar or a strip of a terminal
    #[arg(long, conflicts_with = "headless")]
    pub line: bool,

    /// Stop after so many seconds
    #[arg(long = "for", value_name = "SECONDS", value_parser = |text: &str| meant::seconds(text, 1..=1_000_000))]
    pub run_for: Option<u64>,

    /// Record everything that is seen to this file, compressed if it ends in .gz (docs/readings.md)
    #[arg(long, value_name = "FILE")]
    pub record: Option<PathBuf>,

    /// Do not keep the broadcast in the logbook (docs/logbook.md)
    #[arg(long)]
    pub no_log: bool,

    /// Serve the newest snapshot over HTTP: /snapshot as JSON, /metrics as OpenMetrics text (docs/alarms.md)
    #[arg(long, value_name = "ADDRESS:PORT", value_parser = meant::place)]
    pub serve: Option<SocketAddr>,

    /// Let --serve be reached from other machines
    #[arg(long, requires = "serve")]
    pub serve_beyond: bool,

    /// Who is told of a verdict.
    #[command(flatten)]
    pub alarm: AlarmOptions,

    /// Write a log to this file (without it: standard error if --headless, else none)
    #[arg(long, value_name = "FILE")]
    pub log: Option<PathBuf>,
}
