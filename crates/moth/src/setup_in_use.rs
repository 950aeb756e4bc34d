//! The setup in use: the setup in use with its service, where keys and results are kept, and what is taken from them.

pub mod advice;
pub(crate) mod afternoon;
pub mod basis;
pub mod consent;
pub mod cut_off;
pub mod key_source;
mod named;

use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, SystemTime};

use moth_core::keeper::Bounds;
use moth_core::rate::Bitrate;
use moth_core::reading::{Automatics, Codecs, Intended, Tested};
use moth_destination::key::MAX_KEY_BYTES;
use moth_destination::{Address, StreamKey};
use moth_plan::ranking::{Wanted, rank};
use moth_plan::service::Service;
use moth_plan::setup::{ServerChoice, Setup};
use moth_relay::measure::{MeasurePlan, Target};
use moth_relay::{Reconnect, Server};
use moth_store::config::{Change, Config, ConfigFile};
use moth_store::keys::Keys;
use moth_store::place::Places;
use moth_store::rehearsals::Rehearsals;
use moth_store::results::{History, Kept, Results};

use crate::cli::{AutomaticOptions, SetupInUseOptions};
use crate::failure::Failure;
use crate::setup_in_use::basis::Basis;
use crate::system::child;

/// What a host of one's own is told for a key, if none is given: it takes any.
const ANY_KEY: &str = "measurement";

/// Everything that is chosen before going live.
#[derive(Debug, Clone)]
pub struct SetupInUse {
    /// The configuration's file.
    pub file: ConfigFile,
    /// What it holds.
    pub config: Config,
    /// Where keys are kept.
    pub keys: Keys,
    /// Where results are kept.
    pub results: Results,
    /// Where rehearsals are kept.
    pub rehearsals: Rehearsals,
    /// The setup's name.
    pub setup_name: String,
    /// The setup.
    pub setup: Setup,
    /// The service's name in the file.
    pub service_name: String,
    /// The service.
    pub service: Service,
    /// The key that was named with the servers on the command line, where nothing else is kept of them either.
    named: Option<StreamKey>,
}

/// Where a service's key would come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyStatus {
    /// From the environment.
    Environment,
    /// From the user's command.
    Command,
    /// It was named on the command line, and is kept nowhere.
    Named,
    /// It is kept, since then.
    Kept(SystemTime),
    /// No key is known.
    Missing,
}

/// The places to use.
pub(crate) fn places(options: &SetupInUseOptions) -> Result<Places, Failure> {
    match &options.config {
        Some(path) => Ok(Places::beside(path.clone())),
        None => Places::usual().ok_or(Failure::NoHome),
    }
}

impl SetupInUse {
    /// Reads the configuration and takes the setup in use.
    ///
    /// # Errors
    /// [`Failure`] if the configuration cannot be read, or names no setup.
    pub fn open(options: &SetupInUseOptions) -> Result<Self, Failure> {
        let places = places(options)?;
        let file = ConfigFile::at(places.config);
        let config = file.read()?;
        if config.setups.is_empty() {
            return Err(Failure::NoSetupYet { path: file.path().to_owned() });
        }
        let name = options.setup.clone().or_else(|| config.setup.clone());
        // With one setup only there is nothing to choose.
        let name = name.or_else(|| config.setups.keys().next().filter(|_| config.setups.len() == 1).cloned());
        let name = name.ok_or_else(|| Failure::NoSetup { path: file.path().to_owned() })?;
        let (setup, service) = Self::take(&config, &name, file.path())?;
        Ok(Self {
            keys: Keys::below(&places.data),
            results: Results::below(&places.data),
            rehearsals: Rehearsals::below(&places.data),
            service_name: setup.service.clone(),
            setup_name: name,
            file,
            config,
            setup,
            service,
            named: None,
        })
    }

    fn take(config: &Config, name: &str, path: &Path) -> Result<(Setup, Service), Failure> {
        let setup = config.setups.get(name).cloned().ok_or_else(|| Failure::Unknown {
            what: "setup",
            name: name.to_owned(),
            known: known(config.setups.keys()),
        })?;
        let service = config.services.get(&setup.service).cloned();
        let service =
            service.ok_or_else(|| Failure::NoServers { service: setup.service.clone(), path: path.to_owned() })?;
        Ok((setup, service))
    }

    /// Changes one value of the setup, in the file.
    ///
    /// # Errors
    /// [`Failure`] if the file cannot be read or written; it is then as it was.
    pub fn change(&mut self, change: &Change) -> Result<(), Failure> {
        if self.is_named() {
            change.apply(&mut self.setup);
            return Ok(());
        }
        self.config = self.file.change(&self.setup_name, change)?;
        (self.setup, self.service) = Self::take(&self.config, &self.setup_name, self.file.path())?;
        Ok(())
    }

    /// The servers to test: those named, else those of a region, else all.
    ///
    /// # Errors
    /// [`Failure`] if one is not there.
    pub fn targets(&self, names: &[String], region: Option<&str>) -> Result<Vec<Target>, Failure> {
        let target = |s: &moth_plan::service::IngestServer| Target {
            server: Server { name: s.name.clone(), address: s.address.clone() },
            region: s.region.clone(),
        };
        let found: Vec<Target> = if names.is_empty() {
            let in_region = |s: &&moth_plan::service::IngestServer| {
                region.is_none_or(|wanted| s.region.as_deref().is_some_and(|r| r.eq_ignore_ascii_case(wanted)))
            };
            self.service.servers.iter().filter(in_region).map(target).collect()
        } else {
            let find = |name: &String| {
                self.service.server(name).map(target).ok_or_else(|| Failure::Unknown {
                    what: "server",
                    name: name.clone(),
                    known: known(self.service.servers.iter().map(|s| &s.name)),
                })
            };
            names.iter().map(find).collect::<Result<_, _>>()?
        };
        match (found.is_empty(), region) {
            (false, _) => Ok(found),
            (true, Some(region)) => {
                let known = self.service.regions().join(", ");
                Err(Failure::Unknown { what: "region", name: region.to_owned(), known })
            }
            (true, None) => Err(self.no_servers()),
        }
    }

    fn no_servers(&self) -> Failure {
        Failure::NoServers { service: self.service.name.clone(), path: self.file.path().to_owned() }
    }

    /// A host of one's own that runs `moth ingest`, named on the command line with this option, and a key for it: from the file, if
    /// one is named, else any.
    ///
    /// # Errors
    /// [`Failure`] if that is no address, or the file holds no key.
    pub fn host_of_ones_own(
        &self,
        option: &'static str,
        text: &str,
        file: Option<&Path>,
    ) -> Result<(Server, StreamKey), Failure> {
        let address: Address = text.parse().map_err(|error| Failure::Address { option, error })?;
        let any = || StreamKey::new(ANY_KEY).map_err(|error| Failure::Key { origin: "the key for any".into(), error });
        let key = file.map_or_else(any, |file| self.key(Some(file)))?;
        Ok((Server { name: address.authority(), address }, key))
    }

    /// Everything that was measured.
    ///
    /// # Errors
    /// [`Failure`] if the file is there and cannot be read.
    pub fn history(&self) -> Result<History, Failure> {
        let fail = |error| Failure::Results { path: self.results.path().to_owned(), what: "read", error };
        self.results.read().map_err(fail)
    }

    /// Keeps a result.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written.
    pub fn keep(&self, kept: &Kept) -> Result<(), Failure> {
        let fail = |error| Failure::Results { path: self.results.path().to_owned(), what: "kept", error };
        self.results.add(kept).map_err(fail)
    }

    /// What the setup asks of a server.
    #[must_use]
    pub fn wanted(&self) -> Wanted {
        Wanted { planned: self.setup.total(), headroom: self.setup.headroom }
    }

    /// The name of the server the setup uses: the one it names, else the best of the newest test, else the first.
    #[must_use]
    pub fn server_in_use(&self, history: &History) -> Option<String> {
        match &self.setup.server {
            ServerChoice::Named(name) => self.service.server(name).map(|s| s.name.clone()),
            ServerChoice::Automatic => {
                let tested = history.newest_routes(&self.service_name).map(|(_, servers)| rank(servers, self.wanted()));
                let best = tested.and_then(|ranking| {
                    let held = ranking.places.into_iter().filter(|place| place.holds.is_some());
                    held.map(|place| place.server).find(|name| self.service.server(name).is_some())
                });
                best.or_else(|| self.service.servers.first().map(|s| s.name.clone()))
            }
        }
    }

    /// All servers, the one in use first.
    ///
    /// # Errors
    /// [`Failure`] if there is none.
    pub fn servers(&self) -> Result<Vec<Server>, Failure> {
        let first = self.server_in_use(&self.history()?).ok_or_else(|| self.no_servers())?;
        let mut servers: Vec<Server> = self.targets(&[], None)?.into_iter().map(|target| target.server).collect();
        servers.sort_by_key(|server| server.name != first);
        Ok(servers)
    }

    /// How a server is measured for the setup: what is offered is twice what is planned, unless said otherwise.
    #[must_use]
    pub fn measure_plan(&self, planned: Bitrate, seconds: u64, up_to: Option<Bitrate>) -> MeasurePlan {
        MeasurePlan {
            length: Duration::from_secs(seconds),
            planned,
            up_to: up_to.unwrap_or(planned.scaled(2.0)),
            size: self.setup.size,
            fps: self.setup.rate,
        }
    }

    /// What a broadcast with this setup is meant to be. What the line sustained counts if it was measured before.
    #[must_use]
    pub fn intended(&self) -> Intended {
        let (setup, limits) = (&self.setup, &self.service.limits);
        let measured = self
            .history()
            .ok()
            .and_then(|history| Basis::newest(&history, &self.service_name, self.server_in_use(&history).as_deref()));
        Intended {
            width: Some(setup.size.width),
            height: Some(setup.size.height),
            fps: Some(setup.rate),
            video_bitrate: Some(setup.bitrate),
            keyframe_interval_s: Some(limits.keyframe_s.unwrap_or(setup.keyframe_s)),
            b_frames: Some(limits.b_frames.unwrap_or(setup.b_frames)),
            line: measured.map(|basis| basis.sustained),
            codecs: codecs(&limits.codecs),
        }
    }

    /// What the moth may do by itself with this setup, and what is known of the servers.
    #[must_use]
    pub fn automatics(&self, options: &AutomaticOptions) -> Automatics {
        let tested = self.history().ok().and_then(|history| {
            let (_, servers) = history.newest_routes(&self.service_name)?;
            let sustained =
                |place: moth_plan::ranking::Place| Some(Tested { server: place.server, sustained: place.holds? });
            Some(rank(servers, self.wanted()).places.into_iter().filter_map(sustained).collect())
        });
        Automatics {
            keeper: options.keeper.unwrap_or(self.setup.keeper),
            bounds: Bounds { floor: options.floor.or(self.setup.keeper_floor), ceiling: Some(self.setup.bitrate) },
            failover: options.failover || self.setup.failover,
            play_back: options.play_back || self.setup.play_back,
            failovers_an_hour: self.setup.failovers_an_hour,
            tested: tested.unwrap_or_default(),
        }
    }

    /// How a lost connection is made again.
    #[must_use]
    pub fn reconnect(&self) -> Reconnect {
        let chosen = self.setup.reconnect;
        let seconds = Duration::from_secs_f64;
        Reconnect {
            first: seconds(chosen.first_s),
            growth: chosen.growth,
            longest: seconds(chosen.longest_s),
            total: (chosen.give_up_s > 0.0).then(|| seconds(chosen.give_up_s)),
        }
    }

    /// The folder recordings go to, as far as it is known.
    #[must_use]
    pub fn recordings(&self, given: Option<&PathBuf>) -> PathBuf {
        given.or(self.setup.recordings.as_ref()).cloned().unwrap_or_else(|| PathBuf::from("."))
    }

    /// A key for a run nobody sees, where the service has such a thing.
    ///
    /// # Errors
    /// [`Failure`] if that is no key any more.
    pub fn unseen(&self, key: StreamKey) -> Result<StreamKey, Failure> {
        let Some(added) = &self.service.unseen else { return Ok(key) };
        let fail =
            |error| Failure::Key { origin: format!("the stream key with `unseen` of {}", self.service.name), error };
        key.with_added(added).map_err(fail)
    }

    /// Where the service's key would come from.
    #[must_use]
    pub fn key_status(&self) -> KeyStatus {
        if self.is_named() {
            return KeyStatus::Named;
        }
        if std::env::var_os(key_source::VARIABLE).is_some_and(|value| !value.is_empty()) {
            return KeyStatus::Environment;
        }
        if self.service.key_command.is_some() {
            return KeyStatus::Command;
        }
        self.keys.changed(&self.service_name).map_or(KeyStatus::Missing, KeyStatus::Kept)
    }

    /// The service's key: from a file if one is named, else the environment, else the user's command, else the one kept.
    ///
    /// # Errors
    /// [`Failure`] if there is none, or it cannot be used.
    pub fn key(&self, file: Option<&Path>) -> Result<StreamKey, Failure> {
        if let (Some(key), None) = (&self.named, file) {
            return Ok(key.clone());
        }
        if file.is_some() || self.key_status() == KeyStatus::Environment {
            return key_source::find(file, std::env::var_os(key_source::VARIABLE));
        }
        if let Some(command) = &self.service.key_command {
            return from_command(command, &self.service.name);
        }
        self.keys.read(&self.service_name)?.ok_or(Failure::NoKey)
    }
}

fn known<'a>(names: impl Iterator<Item = &'a String>) -> String {
    let names: Vec<&str> = names.map(String::as_str).collect();
    if names.is_empty() { "none".into() } else { names.join(", ") }
}

/// The first line a command prints. It may ask its user for something, so it has the terminal.
fn from_command(command: &[String], service: &str) -> Result<StreamKey, Failure> {
    let Some((program, arguments)) = command.split_first() else { return Err(Failure::NoKey) };
    let fail = |why: String| Failure::KeyCommand { program: program.clone(), service: service.to_owned(), why };
    let run = || -> std::io::Result<_> {
        let mut command = child::command(program);
        command.args(arguments).stdin(Stdio::inherit()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        let (mut child, mut printed) = (command.spawn()?, Vec::new());
        if let Some(output) = child.stdout.take() {
            // More than a key may have is no key, however much is printed.
            output.take(MAX_KEY_BYTES as u64 + 64).read_to_end(&mut printed)?;
        }
        Ok((printed, child.wait()?))
    };
    let (printed, status) = run().map_err(|error| fail(format!("cannot be run: {error}")))?;
    if !status.success() {
        return Err(fail(format!("ended with {status}")));
    }
    let text = String::from_utf8(printed).map_err(|_| fail("printed something that is not text".into()))?;
    StreamKey::new(text.lines().next().unwrap_or_default()).map_err(|error| fail(format!("printed no key: {error}")))
}

/// A demo's setup in use: the shipped configuration in a folder of its own, so that picking and planning write for real.
///
/// # Errors
/// [`Failure`] if no temporary folder can be made.
pub fn of_the_demo() -> Result<(SetupInUse, tempfile::TempDir), Failure> {
    let dir = tempfile::tempdir().map_err(Failure::system("a folder for the demo could not be made"))?;
    let config: PathBuf = dir.path().join("moth.toml");
    ConfigFile::at(config.clone()).create()?;
    Ok((SetupInUse::open(&SetupInUseOptions { config: Some(config), setup: None })?, dir))
}

/// The codecs that a service names, in the words of its entry; `None` if it names none, or one in other words than are known here: it may
/// mean any.
fn codecs(named: &[String]) -> Option<Codecs> {
    let mut codecs = Codecs::default();
    for name in named {
        match name.to_lowercase().as_str() {
            "h264" | "h.264" | "avc" => codecs.h264 = true,
            "hevc" | "h265" | "h.265" => codecs.hevc = true,
            "av1" => codecs.av1 = true,
            _ => return None,
        }
    }
    (!named.is_empty()).then_some(codecs)
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_store::config::TEMPLATE;

    fn in_use(text: &str) -> (Result<SetupInUse, Failure>, tempfile::TempDir) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("moth.toml");
        std::fs::write(&path, text).unwrap();
        (SetupInUse::open(&SetupInUseOptions { config: Some(path), setup: None }), dir)
    }

    #[test]
    fn a_services_codecs_are_known_by_the_names_they_go_by_and_other_words_may_mean_any() {
        let of = |names: &[&str]| codecs(&names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>());
        assert_eq!(of(&["H264", "h.265"]), Some(Codecs { h264: true, hevc: true, av1: false }));
        assert_eq!([of(&[]), of(&["h264", "the usual ones"])], [None; 2]);
    }

    #[test]
    fn the_setup_in_use_is_taken_with_its_service() {
        let (in_use, _dir) = in_use(TEMPLATE);
        let mut in_use = in_use.unwrap();
        assert_eq!((in_use.setup_name.as_str(), in_use.service.name.as_str()), ("comet-night", "Nocturne"));
        let nothing = History::default();
        assert_eq!(in_use.server_in_use(&nothing).as_deref(), Some("Aldmoor"), "nothing tested yet: the first");
        in_use.change(&Change::Server(ServerChoice::Named("Dunmere".into()))).unwrap();
        assert_eq!(in_use.server_in_use(&nothing).as_deref(), Some("Dunmere"));
        assert_eq!(in_use.servers().unwrap()[0].name, "Dunmere");
        assert_eq!(in_use.servers().unwrap().len(), 6);
    }

    #[test]
    fn servers_are_chosen_by_name_or_region() {
        let (in_use, _dir) = in_use(TEMPLATE);
        let in_use = in_use.unwrap();
        let names = |targets: Vec<Target>| targets.into_iter().map(|t| t.server.name).collect::<Vec<_>>();
        assert_eq!(names(in_use.targets(&["dunmere".into()], None).unwrap()), ["Dunmere"]);
        assert_eq!(names(in_use.targets(&[], Some("North")).unwrap()), ["Aldmoor", "Brackwater"]);
        assert!(in_use.targets(&["Grimsby".into()], None).unwrap_err().to_string().contains("Aldmoor, Brackwater"));
        assert!(in_use.targets(&[], Some("west")).unwrap_err().to_string().contains("north, south, islands"));
    }

    #[cfg(unix)]
    #[test]
    fn a_key_comes_from_the_users_command_and_its_failure_says_nothing_of_it() {
        let with = |command: &str| {
            let (in_use, dir) =
                in_use(&TEMPLATE.replace(
                    "# key_command = [\"pass\", \"show\", \"nocturne\"]",
                    &format!("key_command = {command} #"),
                ));
            (in_use.unwrap().key(None), dir)
        };
        let (key, _dir) = with("[\"printf\", \"orbit-77\\\\nuser: x\"]");
        assert_eq!(key.unwrap().expose(), "orbit-77");
        let (key, _dir) = with("[\"sh\", \"-c\", \"echo plain-secret; exit 3\"]");
        let said = key.unwrap_err().to_string();
        assert!(said.contains("`sh`") && said.contains("exit status: 3") && !said.contains("plain-secret"), "{said}");
        let (key, _dir) = with("[\"no-such-program-here\"]");
        assert!(key.unwrap_err().to_string().contains("cannot be run"));
    }
}
