//! What is put on, live or demo: checked, and ready to begin.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;

use jiff::Timestamp;
use moth_core::figure::Origin;
use moth_core::keeper::Bounds;
use moth_core::reading::{Automatics, Intended, Observation, StreamFacts};
use moth_core::{Core, Moment, Settings};
use moth_destination::{Address, StreamKey};
use moth_feed::Feed;
use moth_host::Places;
use moth_plan::setup::Setup;
use moth_relay::listener::Listener;
use moth_relay::scout::{self, Doubt};
use moth_relay::tcp::TcpDialer;
use moth_relay::{Dialer, Limits, Onlooker, Reconnect, Recorder, Relay, RelaySettings, Server};
use moth_stage::{Afternoon, Evening, LineShape, ShapedServer, Theatre};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinSet;

use super::encoder_command::{self, EncoderCommand, Values};
use super::helpers::Helpers;
use super::machine_reader::read_machine;
use super::onlooker::{NoOnlooker, ProcessOnlooker};
use super::production::{Production, RunningParts};
use super::second_machine::Also;
use crate::cli::AutomaticOptions;
use crate::failure::Failure;
use crate::logbook::going_on::GoingOn;
use crate::measuring::tester::Field;
use crate::setup_in_use::{self, SetupInUse, afternoon};

/// Of everything random in a stand-in line: what wavers there comes of the measurement. Ours.
const SEED: u64 = 1;

/// What is put on, checked and ready to begin.
#[derive(Clone)]
pub enum Plan {
    /// An evening, its seed, and what may be done by itself in it.
    Demo(Box<Evening>, u64, Automatics),
    /// A real broadcast.
    Live(Box<LivePlan>),
}

/// A real broadcast to come.
#[derive(Clone)]
pub struct LivePlan {
    pub(crate) doors: Doors,
    pub(crate) servers: Vec<Server>,
    pub(crate) key: StreamKey,
    /// The key for runs nobody sees, where the service has such a thing.
    pub(crate) test_key: StreamKey,
    pub(crate) limits: Limits,
    /// The setup it is made from, or what was named with --to as if it were one; `None` if there is no folder for that.
    pub(crate) in_use: Option<SetupInUse>,
    pub(crate) intended: Option<Intended>,
    pub(crate) recordings: Option<PathBuf>,
    pub(crate) also: Vec<Also>,
    pub(crate) automatics: Automatics,
    pub(crate) reconnect: Reconnect,
    pub(crate) one_at_a_time: bool,
    /// The setup, for a broadcaster that the moth runs or changes by a command.
    pub(crate) setup: Option<Setup>,
    /// The pictures are looked at.
    pub(crate) looks: bool,
    /// A stand-in server behind such a line takes it, in the place of the servers.
    pub(crate) stand_in: Option<LineShape>,
    /// Says that a rehearsal with this setup was cut off, if one was.
    pub(crate) cut_off: Option<String>,
    /// A broadcast that was cut off just now, which it goes on with.
    pub(crate) going_on: Option<Arc<GoingOn>>,
}

/// What a screen says above everything else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Banner {
    /// The evening's name, if it is a demo.
    pub demo: Option<String>,
    /// Where broadcasters publish to.
    pub publish_to: Option<String>,
    /// The file's name, if it is a replay.
    pub replay: Option<String>,
}

impl Plan {
    /// The names of the servers.
    #[must_use]
    pub fn servers(&self) -> Vec<String> {
        match self {
            Self::Demo(evening, ..) => evening.servers(),
            Self::Live(live) if live.stand_in.is_some() => vec![moth_stage::STAND_IN.to_owned()],
            Self::Live(live) => live.servers.iter().map(|s| s.name.clone()).collect(),
        }
    }

    /// Says that a rehearsal with its setup was cut off, if one was.
    pub(crate) fn cut_off(&self) -> Option<String> {
        match self {
            Self::Demo(..) => None,
            Self::Live(live) => live.cut_off.clone(),
        }
    }

    /// How broadcasters reach it; `None` if a stand-in does.
    pub(crate) fn doors(&self) -> Option<Doors> {
        match self {
            Self::Demo(..) => None,
            Self::Live(live) => Some(live.doors.clone()),
        }
    }

    /// The setup in use it is made from, with the folder of a demo's; `None` if the servers were named with --to.
    ///
    /// # Errors
    /// If the demo's folder cannot be made.
    pub fn take_setup_in_use(&mut self) -> Result<Option<(SetupInUse, Option<tempfile::TempDir>)>, Failure> {
        Ok(match self {
            Self::Demo(..) => {
                let (in_use, folder) = setup_in_use::of_the_demo()?;
                afternoon::put_in(&in_use.results, Timestamp::now())?;
                Some((in_use, Some(folder)))
            }
            Self::Live(live) => live.in_use.take().map(|in_use| (in_use, None)),
        })
    }

    /// Where tests go. Call on a tokio runtime.
    ///
    /// # Errors
    /// If the demo's line cannot be made.
    pub fn field(&self) -> Result<Field, Failure> {
        Ok(match self {
            Self::Demo(_, seed, _) => Field::StandIn(Box::new(Afternoon::shipped(*seed)?)),
            Self::Live(live) => Field::Real(live.test_key.clone()),
        })
    }

    /// The afternoon before an evening, with stand-ins, beginning at a server.
    ///
    /// # Errors
    /// None unless its file is wrong, which a test would tell.
    pub(crate) fn afternoon(server: &str, seed: u64) -> Result<Self, Failure> {
        let evening = Afternoon::evening()?.beginning_at(server);
        Ok(Self::Demo(Box::new(evening), seed, Automatics::default()))
    }

    /// A core for it.
    #[must_use]
    pub fn core(&self) -> Core {
        let settings = Settings { servers: self.servers() };
        match self.going_on().and_then(|going_on| Some((going_on.pen.history()?, going_on.from()))) {
            Some((history, from)) => Core::going_on(settings, history, from),
            None => Core::new(settings),
        }
    }

    /// The broadcast that it goes on with, if one was cut off just now.
    #[must_use]
    pub fn going_on(&self) -> Option<&Arc<GoingOn>> {
        match self {
            Self::Demo(..) => None,
            Self::Live(live) => live.going_on.as_ref(),
        }
    }

    /// The same as another broadcast: what was cut off is over.
    #[must_use]
    pub(crate) fn anew(&self) -> Self {
        match self {
            Self::Live(live) => Self::Live(Box::new(LivePlan { going_on: None, ..live.as_ref().clone() })),
            demo @ Self::Demo(..) => demo.clone(),
        }
    }

    /// What a screen says of it.
    #[must_use]
    pub fn banner(&self) -> Banner {
        match self {
            Self::Demo(evening, ..) => Banner { demo: Some(evening.name.clone()), publish_to: None, replay: None },
            Self::Live(live) => Banner { demo: None, publish_to: Some(live.doors.listen.to_string()), replay: None },
        }
    }

    /// Begins it. Call on a tokio runtime.
    ///
    /// # Errors
    /// If a port cannot be opened or an evening cannot be put on.
    pub async fn begin(self) -> Result<Production, Failure> {
        match self {
            Self::Demo(evening, seed, automatics) => {
                let theatre = Theatre::open(&evening, seed)?;
                let (cast, readings) = theatre.split();
                cast.recorder.note(Origin::Reported, Observation::Automatics(automatics));
                Ok(Production {
                    readings,
                    recorder: cast.recorder.clone(),
                    relay: cast.relay.clone(),
                    dialer: cast.dialer(),
                    broadcaster: Some(cast.broadcaster.clone()),
                    doubt: cast.doubt.clone(),
                    feed: None,
                    encoder: None,
                    bitrate_command: None,
                    running: RunningParts::Demo(Box::new(cast)),
                    _stand_in: None,
                })
            }
            Self::Live(live) => live.begin().await,
        }
    }
}

impl LivePlan {
    async fn begin(mut self) -> Result<Production, Failure> {
        let stand_in = self.stand_in.as_ref().and_then(|shape| ShapedServer::open(shape, SEED));
        if let Some(stand_in) = &stand_in {
            self.servers = vec![stand_in.server().clone()];
        }
        let dialer = |finding_gateway: bool| -> Arc<dyn Dialer> {
            match &stand_in {
                Some(stand_in) => stand_in.dialer(),
                None if finding_gateway => Arc::new(TcpDialer::finding_gateway(moth_host::gateway_to)),
                None => Arc::new(TcpDialer::default()),
            }
        };
        let first = self.going_on.as_ref().map_or(Moment::START, |going_on| going_on.first);
        let (recorder, readings) = Recorder::going_on(first);
        if let Some(going_on) = &self.going_on {
            recorder.note(Origin::Measured, Observation::Remark { text: going_on.mark() });
        }
        let listener = Listener::bind(&self.doors.listen)
            .await
            .map_err(|error| Failure::Listen { address: self.doors.listen.authority(), error })?;
        let named = self.servers.clone();
        let runs = self.setup.as_ref().filter(|setup| !setup.broadcaster.command.is_empty());
        // A name of this moth's own: an encoder that a killed moth left behind is not taken for its own.
        let only_name = runs.map(|_| encoder_command::name_of_its_own());
        let settings = RelaySettings {
            app: self.doors.listen.app().to_owned(),
            servers: self.servers,
            key: self.key,
            limits: self.limits,
            reconnect: self.reconnect,
            only_name: only_name.clone(),
            one_at_a_time: self.one_at_a_time,
        };
        let (doubt, doubted) = watch::channel(Doubt::default());
        let mut helpers = Helpers::default();
        let (probing, probed, probes, doubts) =
            (dialer(true), settings.servers.clone(), recorder.clone(), doubted.clone());
        helpers.keep("the path monitor", &recorder, move || {
            scout::scout(probing.clone(), probed.clone(), doubts.clone(), probes.clone())
        });
        let onlooker: Arc<dyn Onlooker> = if self.looks {
            let (onlooker, process) = ProcessOnlooker::new(recorder.clone());
            helpers.run("the picture reader", &recorder, process.run());
            Arc::new(onlooker)
        } else {
            Arc::new(NoOnlooker)
        };
        let line = dialer(false);
        let (relay, handle) =
            Relay::new(settings, line.clone(), Some(onlooker), recorder.clone()).ok_or(Failure::Circle)?;
        let (connect, incoming) = mpsc::channel(4);
        let mut vital = JoinSet::new();
        vital.spawn(listener.run(connect));
        vital.spawn(relay.run(incoming));
        let feed = match self.doors.feed {
            Some(address) => {
                let opened = Feed::bind(address, recorder.clone()).await;
                let (feed, handle) = opened.map_err(|error| Failure::Port { address, error })?;
                helpers.run("the feed", &recorder, feed.run());
                Some(handle)
            }
            None => None,
        };
        for also in self.also {
            let to = recorder.clone();
            helpers.keep("the other machine's load", &recorder, move || also.clone().read(to.clone()));
        }
        recorder.note(Origin::Reported, Observation::Automatics(self.automatics));
        let choice = self.setup.as_ref().map(|setup| &setup.broadcaster);
        let encoder = runs.zip(only_name).map(|(setup, name)| {
            // The service's key never leaves the moth.
            let publish = format!("{}/{name}", self.doors.listen);
            let (command, orders) = EncoderCommand::new(setup, publish, handle.clone(), recorder.clone());
            helpers.run("the encoder command", &recorder, command.run());
            orders
        });
        let bitrate_command = choice.filter(|choice| !choice.bitrate_command.is_empty()).and_then(|choice| {
            let facts = StreamFacts { takes_bitrate: true, ..StreamFacts::default() };
            recorder.note(Origin::Reported, Observation::Stream(facts));
            Some((choice.bitrate_command.clone(), Values::of(self.setup.as_ref()?)))
        });
        if let Some(intended) = self.intended {
            recorder.note(Origin::Reported, Observation::Intended(intended));
        }
        let places = Places::real(self.recordings);
        let (relay_of_it, to) = (handle.clone(), recorder.clone());
        helpers.keep("this machine's load", &recorder, move || {
            read_machine(relay_of_it.clone(), to.clone(), places.clone(), named.clone(), doubted.clone())
        });
        tracing::info!(publish_to = %self.doors.listen, "waiting for a broadcaster");
        Ok(Production {
            dialer: line,
            readings,
            recorder,
            relay: handle,
            broadcaster: None,
            doubt,
            feed,
            encoder,
            bitrate_command,
            running: RunningParts::Live { vital, _helpers: helpers },
            _stand_in: stand_in,
        })
    }
}

/// What may be done by itself where only the command line says so.
pub(crate) fn without_a_setup(options: &AutomaticOptions) -> Automatics {
    Automatics {
        keeper: options.keeper.unwrap_or_default(),
        bounds: Bounds { floor: options.floor, ceiling: None },
        failover: options.failover,
        play_back: options.play_back,
        ..Automatics::default()
    }
}

/// Where a rehearsal goes.
pub(crate) enum Unseen {
    /// To the service, as a run that no viewer sees, or on air if that was agreed to.
    Service(StreamKey),
    /// To a host that runs `moth ingest`.
    Ingest(Server, StreamKey),
    /// To a stand-in server behind such a line.
    StandIn(LineShape),
}

/// How broadcasters reach a rehearsal.
#[derive(Debug, Clone)]
pub(crate) struct Doors {
    /// Where they publish to.
    pub listen: Address,
    /// Where they, or scripts, say what they count.
    pub feed: Option<SocketAddr>,
}

impl Doors {
    /// An address on this machine, in the words of the command line, and a port that only this machine reaches.
    ///
    /// # Errors
    /// [`Failure`] if it is no address, asks for TLS, or the feed could be reached from elsewhere.
    pub(crate) fn new(listen: &str, feed: Option<SocketAddr>) -> Result<Self, Failure> {
        let listen: Address = listen.parse().map_err(|error| Failure::Address { option: "--listen", error })?;
        if listen.is_secure() {
            return Err(Failure::SecureListen);
        }
        match feed.filter(|address| !address.ip().is_loopback()) {
            Some(address) => Err(Failure::FeedBeyond(address)),
            None => Ok(Self { listen, feed }),
        }
    }

    /// No server may be the moth itself.
    pub(crate) fn lead_elsewhere_than(&self, servers: &[Server]) -> Result<(), Failure> {
        let port = self.listen.port();
        let is_itself = |server: &Server| server.address.port() == port && is_here(server.address.host());
        if servers.iter().any(is_itself) { Err(Failure::Circle) } else { Ok(()) }
    }
}

/// What a rehearsal relays: the setup's broadcaster, and nothing is done by itself.
pub(crate) fn rehearsal(
    in_use: &SetupInUse,
    servers: Vec<Server>,
    unseen: Unseen,
    doors: &Doors,
) -> Result<Plan, Failure> {
    let (servers, key, stand_in) = match unseen {
        Unseen::Service(key) => (servers, key, None),
        Unseen::Ingest(server, key) => (vec![server], key, None),
        Unseen::StandIn(shape) => (Vec::new(), ShapedServer::key().ok_or(Failure::Fault)?, Some(shape)),
    };
    doors.lead_elsewhere_than(&servers)?;
    Ok(Plan::Live(Box::new(LivePlan {
        doors: doors.clone(),
        servers,
        test_key: key.clone(),
        key,
        limits: Limits::default(),
        in_use: None,
        intended: Some(in_use.intended()),
        recordings: Some(in_use.recordings(None)),
        also: Vec::new(),
        // What raises one thing and holds the rest must be alone in changing it.
        automatics: Automatics::default(),
        reconnect: in_use.reconnect(),
        one_at_a_time: !in_use.service.takes_two,
        setup: Some(in_use.setup.clone()),
        looks: true,
        stand_in,
        cut_off: None,
        going_on: None,
    })))
}

/// Whether a host name plainly is this machine.
fn is_here(host: &str) -> bool {
    host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback() || ip.is_unspecified())
}
