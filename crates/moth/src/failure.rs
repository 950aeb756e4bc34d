//! Why the program could not do what it was asked: what happened, to what, and what to do.

use std::path::PathBuf;

use moth_destination::{AddressError, key::KeyError};
use moth_logbook::readings::ReadingsError;
use moth_stage::EveningError;
use moth_store::config::ConfigError;
use moth_store::keys::KeysError;

/// Something the user can mend.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// An address argument. The text itself is left out: people paste keys into addresses.
    #[error("the address given with {option} cannot be used: {error}")]
    Address {
        /// Which option.
        option: &'static str,
        /// What is wrong.
        error: AddressError,
    },
    /// The server is the moth itself.
    #[error(
        "--to and --listen name the same address: the broadcast would go round in a circle; give the real server with --to"
    )]
    Circle,
    /// TLS on the local side.
    #[error("--listen takes rtmp:// only: between the broadcaster and the moth there is no network to be secured from")]
    SecureListen,
    /// A running moth could not be told, in words that say why.
    #[error("{0}")]
    Told(String),
    /// Nothing gave a stream key.
    #[error(
        "no stream key: `moth key set` keeps one, or put it into a file and name that with --key-file, or set the environment variable MOTH_STREAM_KEY"
    )]
    NoKey,
    /// The configuration.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// A key that is kept.
    #[error(transparent)]
    Keys(#[from] KeysError),
    /// There is no usual place.
    #[error("this user has no home folder to keep a configuration in; name a file with --config")]
    NoHome,
    /// There is no setup at all.
    #[error("there is no setup yet: `moth` by itself leads to one, on the screen ({} is where it is kept)", path.display())]
    NoSetupYet {
        /// Which file.
        path: PathBuf,
    },
    /// There is no setup to use.
    #[error("no setup is chosen in {}: name one with --setup, or with `setup = \"NAME\"` in the file", path.display())]
    NoSetup {
        /// Which file.
        path: PathBuf,
    },
    /// A drawing cannot be written.
    #[error(transparent)]
    Export(#[from] moth_drawing::ExportError),
    /// A table cannot be made.
    #[error(transparent)]
    Table(#[from] moth_drawing::table::TableError),
    /// A stretch in which there is nothing.
    #[error("--from must lie before --until, and before the end at {length_s:.0} s")]
    Stretch {
        /// How long the broadcast is, in seconds.
        length_s: f64,
    },
    /// What is to be drawn is not there.
    #[error("there is nothing to draw: the recording holds no sign of {what} in these seconds")]
    NothingToDraw {
        /// Of what.
        what: &'static str,
    },
    /// A comparison without a second side, or a second side without a comparison.
    #[error(
        "--chart comparison wants a second side, --against FROM-UNTIL or --with FILE, and no other chart takes one"
    )]
    OneSide,
    /// A service that is not there, whose name is not repeated: it may be a stream key.
    #[error(
        "there is no service of that name; there is: {known}. The stream key itself is asked for, and never an argument"
    )]
    NotAService {
        /// The names that are known.
        known: String,
    },
    /// A service, server or region that is not there.
    #[error("there is no {what} `{name}`; there is: {known}")]
    Unknown {
        /// `service`, `server` or `region`.
        what: &'static str,
        /// The name.
        name: String,
        /// The names that are known.
        known: String,
    },
    /// A service without servers.
    #[error("the service {service} has no servers in {}", path.display())]
    NoServers {
        /// Its name.
        service: String,
        /// Which file.
        path: PathBuf,
    },
    /// Nobody agreed to publish.
    #[error("{0}; agree with --yes")]
    NoConsent(String),
    /// A ladder that cannot be climbed.
    #[error("there is nothing to climb: {0}")]
    Rungs(String),
    /// A rehearsal that could not be tried.
    #[error("{0}")]
    NotRehearsed(String),
    /// The logbook.
    #[error(transparent)]
    Logbook(#[from] moth_logbook::LogbookError),
    /// The end of a broadcast is not in the logbook.
    #[error("the broadcast is not in the logbook to its end: {0}")]
    NotKept(String),
    /// There is nothing in the logbook.
    #[error("there is no broadcast in the logbook {}; every one that is watched is kept there", path.display())]
    NothingKept {
        /// Which file.
        path: PathBuf,
    },
    /// Broadcasts are named otherwise.
    #[error("`{given}` is no broadcast: give its number, or `last`; `moth log list` names those there are")]
    NoNumber {
        /// What was given.
        given: String,
    },
    /// There is no such verdict.
    #[error(
        "`{given}` is no verdict: network, encoder, rendering, none, or a cause as `moth judge` names it, like upload-beyond"
    )]
    NoVerdict {
        /// What was given.
        given: String,
    },
    /// How everything stood was not kept.
    #[error("how everything stood at {at_s:.0} s was not kept: that is outside the broadcast, or it was thinned")]
    NoMoment {
        /// When, in seconds.
        at_s: f64,
    },
    /// A text is too long.
    #[error("the {what} has {long} characters; {longest} at most are kept")]
    TooLong {
        /// What is.
        what: &'static str,
        /// How long it is.
        long: usize,
        /// How long it may be.
        longest: usize,
    },
    /// Something would be lost for good, and nobody agreed.
    #[error("{what}\nagree to that with --yes")]
    NotAgreed {
        /// What would be lost.
        what: String,
    },
    /// An export without anything to write.
    #[error(
        "say what to make of it: --chart NAME --to FILE, --report FILE, --csv FILE, --jsonl FILE or --readings FILE"
    )]
    NothingAsked,
    /// The readings of a broadcast were not kept.
    #[error(
        "the readings of broadcast {nr} were not kept: only a readings file that was imported is (they take ten times as much as all the rest); --record FILE records them"
    )]
    NoReadings {
        /// Which broadcast.
        nr: i64,
    },
    /// A readings file in which there is no broadcast.
    #[error("{}: nobody broadcasts in it, so there is nothing to keep", path.display())]
    NobodyBroadcast {
        /// Which file.
        path: PathBuf,
    },
    /// The service cannot hide a run.
    #[error(
        "{service} has no way to hide a run (`unseen` in the configuration), so viewers would see it; agree to that with --on-air"
    )]
    Seen {
        /// Its name.
        service: String,
    },
    /// The user's command gave no key. What it printed is left out.
    #[error("the command `{program}`, which should print the stream key of {service}, {why}")]
    KeyCommand {
        /// The program.
        program: String,
        /// Whose key.
        service: String,
        /// What went wrong.
        why: String,
    },
    /// Results cannot be read or kept.
    #[error("the results in {} cannot be {what}: {error}", path.display())]
    Results {
        /// Which file.
        path: PathBuf,
        /// `read` or `kept`.
        what: &'static str,
        /// What the system says.
        error: std::io::Error,
    },
    /// The server could not be used for a measurement.
    #[error("{server}: {why}")]
    Server {
        /// Its name.
        server: String,
        /// In plain words; the key is not in it.
        why: String,
    },
    /// A readings file.
    #[error(transparent)]
    Readings(#[from] ReadingsError),
    /// A recording has gaps.
    #[error("{0} readings were left out of the recording: the disk did not keep up")]
    RecordingLost(u64),
    /// There is nothing to plan from.
    #[error(
        "nothing was measured yet: run `moth uplink` or `moth routes` first, or say with --sustained what the upload sustains"
    )]
    NothingMeasured,
    /// The key file cannot be read.
    #[error("the key file {} cannot be read: {error}", path.display())]
    KeyFile {
        /// Which file.
        path: PathBuf,
        /// What the system says.
        error: std::io::Error,
    },
    /// What was read is not a key.
    #[error("{origin}: {error}")]
    Key {
        /// Where it came from.
        origin: String,
        /// What is wrong.
        error: KeyError,
    },
    /// The local port cannot be opened.
    #[error("cannot listen on {address}: {error}; choose another with --listen rtmp://127.0.0.1:PORT/moth")]
    Listen {
        /// The address.
        address: String,
        /// What the system says.
        error: std::io::Error,
    },
    /// A port that other machines could reach.
    #[error("{0} can be reached from other machines; if that is meant, say --serve-beyond as well")]
    Beyond(std::net::SocketAddr),
    /// A feed that other machines could reach.
    #[error("the feed is for programs on this machine: give --feed an address such as 127.0.0.1:19351, not {0}")]
    FeedBeyond(std::net::SocketAddr),
    /// Another machine's address.
    #[error("--also `{given}`: {why}; give the address that `moth host` prints, such as http://192.0.2.7:9377")]
    Also {
        /// What was given.
        given: String,
        /// What is wrong with it.
        why: String,
    },
    /// A port cannot be opened.
    #[error("{address} cannot be listened on: {error}")]
    Port {
        /// The address.
        address: std::net::SocketAddr,
        /// What the system says.
        error: std::io::Error,
    },
    /// No evening of that name.
    #[error("there is no evening `{given}`{}; `moth demo --list` names them", crate::cli::meant::asked_back(meant.as_deref()))]
    NoEvening {
        /// What was given.
        given: String,
        /// What may be meant.
        meant: Option<String>,
    },
    /// An evening's file is wrong.
    #[error("the evening cannot be put on: {0}")]
    Evening(#[from] EveningError),
    /// The log file cannot be opened.
    #[error("the log file {} cannot be opened: {error}", path.display())]
    Log {
        /// Which file.
        path: PathBuf,
        /// What the system says.
        error: std::io::Error,
    },
    /// A full screen was asked for, and there is no terminal.
    #[error("this is not a terminal, so there is no full screen to show; --headless prints JSON lines instead")]
    NoTerminal,
    /// The same where nothing was asked for.
    #[error("this is not a terminal, so there is no screen to begin on; `moth --help` tells what else there is")]
    NoTerminalToBegin,
    /// The same for a replay, which has no lines.
    #[error("this is not a terminal, so there is no screen to replay on; `moth judge FILE` tells the verdicts instead")]
    NoTerminalToReplay,
    /// A part of the program ended that never should.
    #[error(
        "a part of the program ended unexpectedly: this is a fault in the program; please report it with the lines above"
    )]
    Fault,
    /// Something the system would not do.
    #[error("{what}: {error}")]
    System {
        /// What was tried.
        what: &'static str,
        /// What the system says.
        error: std::io::Error,
    },
}

impl Failure {
    /// For `map_err`: what was tried when the system said no.
    pub(crate) fn system(what: &'static str) -> impl FnOnce(std::io::Error) -> Self {
        move |error| Self::System { what, error }
    }
}
/// What running comes to.
pub type Outcome = Result<(), Failure>;
