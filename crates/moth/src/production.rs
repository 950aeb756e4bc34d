//! Where readings come from, live or demo, and who carries out actions.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use moth_core::figure::Origin;
use moth_core::keeper::Bounds;
use moth_core::proposal::Action;
use moth_core::reading::{Automatics, Intended, Observation, Reading, StreamFacts};
use moth_core::{Bitrate, Core, Settings, Snapshot};
use moth_destination::{Address, StreamKey};
use moth_feed::{Feed, FeedHandle};
use moth_host::{Look, Machine, Places};
use moth_plan::breach::breaches;
use moth_plan::setup::Setup;
use moth_relay::listener::Listener;
use moth_relay::scout::{self, Doubt};
use moth_relay::tcp::TcpDialer;
use moth_relay::{Dialer, Limits, Onlooker, Reconnect, Recorder, Relay, RelayHandle, RelaySettings, Server};
use moth_stage::{Afternoon, BroadcasterControl, Evening, LineShape, ShapedServer, Theatre, shipped};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinSet;
use tokio::time::{MissedTickBehavior, interval};

use crate::also::Also;
use crate::child::{self, Group};
use crate::cli::{AutomaticOptions, DemoOptions, KitOptions, WatchOptions};
use crate::encoder_command::{self, EncoderCommand, EncoderOrders, Values};
use crate::failure::Failure;
use crate::kit::{self, Kit};
use crate::onlooker::{NoOnlooker, ProcessOnlooker};
use crate::tester::Field;
use crate::{key_source, meant, plan, rehearse};

/// Of everything random in a stand-in line: what wavers there comes of the measurement.
const SEED: u64 = 1;
/// A command of the user's gets this long.
const COMMAND: Duration = Duration::from_secs(20);

/// A broadcast that is being watched. Everything behind it ends when it is dropped.
pub struct Production {
    /// What was seen.
    pub readings: mpsc::UnboundedReceiver<Reading>,
    /// The clock of the readings.
    pub recorder: Recorder,
    /// The relay.
    pub relay: RelayHandle,
    /// Reaches servers over the same line.
    pub dialer: Arc<dyn Dialer>,
    /// Who takes a new bitrate or preset: the stand-in; a real broadcaster's user does it by hand.
    broadcaster: Option<BroadcasterControl>,
    /// Tells the scout, and who reads the machine, how things stand.
    doubt: watch::Sender<Doubt>,
    /// Who reports over the feed, and may be asked for changes.
    feed: Option<FeedHandle>,
    /// The encoder that the moth runs itself.
    encoder: Option<EncoderOrders>,
    /// A command of the user's that sets the bitrate, and what else it may be filled with.
    bitrate_command: Option<(Vec<String>, Values)>,
    running: Running,
    /// It ends when it is dropped.
    _stand_in: Option<ShapedServer>,
}

/// What must go on for a broadcast to go on.
enum Running {
    Live(JoinSet<()>),
    Demo(Box<Theatre>),
}

impl Running {
    /// Waits until a part ends by itself, which only a fault in the program makes it do.
    async fn fails(&mut self) {
        match self {
            Self::Live(tasks) => {
                tasks.join_next().await;
            }
            Self::Demo(theatre) => theatre.fails().await,
        }
    }
}

impl Production {
    /// Waits until a part of it ends by itself, which only a fault in the program makes it do.
    pub async fn fails(&mut self) {
        self.running.fails().await;
    }

    /// Lets the scout look further when the connection is in doubt.
    pub fn tell_scout(&self, snapshot: &Snapshot) {
        scout::tell(&self.doubt, snapshot);
    }

    /// Carries out an action; what came of it arrives as a reading.
    pub async fn act(&self, action: Action) {
        match action {
            // The core does these itself.
            Action::SetKeeper { .. } | Action::SetFailover { .. } => self.done(action, None, None),
            action if self.broadcaster.is_some() => {
                if let Some(broadcaster) = &self.broadcaster {
                    Theatre::act(&self.relay, broadcaster, &self.recorder, action).await;
                }
            }
            Action::SwitchServer { server } => self.relay.switch_server(server).await,
            Action::SetPriority { nice } => self.set_priority(nice).await,
            // Whoever runs it, or reports over the feed, may take it; what comes of it arrives as a reading.
            action if self.encoder.as_ref().is_some_and(|encoder| encoder.ask(&action)) => {}
            action if self.feed.as_ref().is_some_and(|feed| feed.ask(&action)) => {}
            Action::SetBitrate { video } if self.bitrate_command.is_some() => self.run_bitrate_command(video),
            // The user is told, and the wire is watched.
            action => self.recorder.note(Origin::Measured, Observation::Told { action }),
        }
    }

    fn done(&self, action: Action, failed: Option<String>, back: Option<Action>) {
        self.recorder.note(Origin::Measured, Observation::Acted { action, failed, back });
    }

    async fn set_priority(&self, nice: i32) {
        let peer = *self.relay.broadcaster_peer().borrow();
        let outcome = match peer {
            None => Err("there is no broadcaster on this machine".to_owned()),
            Some(peer) => tokio::task::spawn_blocking(move || moth_host::set_priority(peer, nice))
                .await
                .map_err(|error| error.to_string())
                .and_then(|set| set.map_err(|error| error.to_string())),
        };
        let action = Action::SetPriority { nice };
        match outcome {
            Ok(before) => self.done(action, None, Some(Action::SetPriority { nice: before })),
            Err(why) => self.done(action, Some(why), None),
        }
    }

    /// Runs the user's command; it may take a while.
    fn run_bitrate_command(&self, video: Bitrate) {
        let Some((command, values)) = &self.bitrate_command else { return };
        let line = Values { video, ..values.clone() }.fill(command, "");
        let recorder = self.recorder.clone();
        tokio::spawn(async move {
            let failed = match line.split_first() {
                None => Some("bitrate_command is empty".to_owned()),
                Some((program, arguments)) => {
                    let mut command = child::command(program);
                    command.args(arguments);
                    let ran = async { Group::start(command)?.wait().await };
                    match tokio::time::timeout(COMMAND, ran).await {
                        Err(_) => Some(format!("`{program}` did not end within {} s", COMMAND.as_secs())),
                        Ok(Err(error)) => Some(format!("`{program}` cannot be run: {error}")),
                        Ok(Ok(status)) if status.success() => None,
                        Ok(Ok(status)) => Some(format!("`{program}` ended with {status}")),
                    }
                }
            };
            let action = Action::SetBitrate { video };
            recorder.note(Origin::Measured, Observation::acted(action, failed));
        });
    }
}

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
    doors: Doors,
    servers: Vec<Server>,
    key: StreamKey,
    /// The key for runs nobody sees, where the service has such a thing.
    test_key: StreamKey,
    limits: Limits,
    /// The setup it is made from; `None` if the servers were named with --to.
    kit: Option<Kit>,
    intended: Option<Intended>,
    recordings: Option<PathBuf>,
    also: Vec<Also>,
    automatics: Automatics,
    reconnect: Reconnect,
    one_at_a_time: bool,
    /// The setup, for a broadcaster that the moth runs or changes by a command.
    setup: Option<Setup>,
    /// The pictures are looked at.
    looks: bool,
    /// A stand-in server behind such a line takes it, in the place of the servers.
    stand_in: Option<LineShape>,
    /// That a rehearsal with this setup was cut off, in sentences.
    cut_off: Option<String>,
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

    /// That a rehearsal with its setup was cut off, in sentences.
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

    /// The kit it is made from, with the folder of a demo's; `None` if the servers were named with --to.
    ///
    /// # Errors
    /// If the demo's folder cannot be made.
    pub fn take_kit(&mut self) -> Result<Option<(Kit, Option<tempfile::TempDir>)>, Failure> {
        Ok(match self {
            Self::Demo(..) => {
                let (kit, folder) = kit::of_the_demo()?;
                Some((kit, Some(folder)))
            }
            Self::Live(live) => live.kit.take().map(|kit| (kit, None)),
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
        Core::new(Settings { servers: self.servers() })
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
                    running: Running::Demo(Box::new(cast)),
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
        let (recorder, readings) = Recorder::new();
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
        let scouting = scout::scout(dialer(true), settings.servers.clone(), doubted.clone(), recorder.clone());
        let mut running = JoinSet::new();
        let onlooker: Arc<dyn Onlooker> = if self.looks {
            let (onlooker, process) = ProcessOnlooker::new(recorder.clone());
            running.spawn(process.run());
            Arc::new(onlooker)
        } else {
            Arc::new(NoOnlooker)
        };
        let line = dialer(false);
        let (relay, handle) =
            Relay::new(settings, line.clone(), Some(onlooker), recorder.clone()).ok_or(Failure::Circle)?;
        let (connect, incoming) = mpsc::channel(4);
        running.spawn(listener.run(connect));
        running.spawn(relay.run(incoming));
        running.spawn(scouting);
        let feed = match self.doors.feed {
            Some(address) => {
                let opened = Feed::bind(address, recorder.clone()).await;
                let (feed, handle) = opened.map_err(|error| Failure::Port { address, error })?;
                running.spawn(feed.run());
                Some(handle)
            }
            None => None,
        };
        for also in self.also {
            running.spawn(also.read(recorder.clone()));
        }
        recorder.note(Origin::Reported, Observation::Automatics(self.automatics));
        let choice = self.setup.as_ref().map(|setup| &setup.broadcaster);
        let encoder = runs.zip(only_name).map(|(setup, name)| {
            // The service's key never leaves the moth.
            let publish = format!("{}/{name}", self.doors.listen);
            let (command, orders) = EncoderCommand::new(setup, publish, handle.clone(), recorder.clone());
            running.spawn(command.run());
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
        running.spawn(read_machine(handle.clone(), recorder.clone(), places, named, doubted));
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
            running: Running::Live(running),
            _stand_in: stand_in,
        })
    }
}

/// Reads this machine's load once a second, off the thread that relays.
async fn read_machine(
    relay: RelayHandle,
    recorder: Recorder,
    places: Places,
    servers: Vec<Server>,
    doubt: watch::Receiver<Doubt>,
) {
    let mut machine = Machine::new(places);
    let peer = relay.broadcaster_peer();
    let mut tick = interval(Duration::from_secs(1));
    tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let began = tokio::time::Instant::now();
    let (mut named, mut address) = (String::new(), None);
    loop {
        tick.tick().await;
        let broadcaster = *peer.borrow();
        let now = doubt.borrow().clone();
        if now.server != named {
            // Looked up once for each server: where its packets leave by does not change with the second.
            if let Some(server) = servers.iter().find(|s| s.name == now.server) {
                let (host, port) = (server.address.host().to_owned(), server.address.port());
                address = tokio::net::lookup_host((host, port)).await.ok().and_then(|mut found| found.next());
            }
            named = now.server;
        }
        let look = Look {
            at: began.elapsed(),
            broadcaster,
            server: address.map(|address| address.ip()),
            closely: now.in_doubt || now.is_losing,
        };
        let read = tokio::task::spawn_blocking(move || {
            let load = machine.read(look);
            (machine, load)
        });
        let Ok((again, load)) = read.await else { return };
        machine = again;
        recorder.note(Origin::Measured, Observation::Machine(Box::new(load)));
    }
}

/// What may be done by itself where only the command line says so.
fn without_a_setup(options: &AutomaticOptions) -> Automatics {
    Automatics {
        keeper: options.keeper.unwrap_or_default(),
        bounds: Bounds { floor: options.floor, ceiling: None },
        failover: options.failover,
        ..Automatics::default()
    }
}

/// What `moth demo` puts on.
pub(crate) fn demo(options: &DemoOptions) -> Result<Plan, Failure> {
    let evenings = shipped();
    let given = &options.evening;
    let Some(evening) = evenings.iter().find(|evening| evening.slug == *given).cloned() else {
        let meant = meant::near(given, evenings.iter().map(|evening| evening.slug.as_str())).map(str::to_owned);
        return Err(Failure::NoEvening { given: given.clone(), meant });
    };
    let seed = options.seed.unwrap_or(evening.seed);
    Ok(Plan::Demo(Box::new(evening), seed, without_a_setup(&options.show.automatic)))
}

/// What `moth watch` relays.
pub(crate) fn watch(options: &WatchOptions, kit: &KitOptions) -> Result<Plan, Failure> {
    let doors = Doors::new(&options.listen, options.feed)?;
    let also = options.also.iter().map(|given| Also::new(given)).collect::<Result<Vec<_>, _>>()?;
    let mut servers: Vec<Server> = Vec::new();
    if options.to.is_empty() {
        let kit = Kit::open(kit)?;
        servers = kit.servers()?;
        doors.lead_elsewhere_than(&servers)?;
        let key = kit.key(options.key_file.as_deref())?;
        let test_key = kit.unseen(key.clone())?;
        for breach in breaches(&kit.setup, &kit.service.limits) {
            tracing::warn!("{}", plan::breach_sentence(&breach, &kit.service.name));
        }
        let cut_off = rehearse::take_up(&kit);
        if let Some(cut_off) = &cut_off {
            tracing::warn!("{cut_off}");
        }
        let limits = Limits { queue_ms: options.queue_ms, queue_bytes: (options.queue_mib as usize) << 20 };
        let (intended, recordings) = (Some(kit.intended()), Some(kit.recordings(None)));
        let (automatics, reconnect) = (kit.automatics(&options.show.automatic), kit.reconnect());
        let (one_at_a_time, setup) = (!kit.service.takes_two, Some(kit.setup.clone()));
        let kit = Some(kit);
        let plan = LivePlan {
            doors,
            servers,
            key,
            test_key,
            limits,
            kit,
            intended,
            recordings,
            also,
            automatics,
            reconnect,
            one_at_a_time,
            setup,
            looks: !options.no_look,
            stand_in: None,
            cut_off,
        };
        return Ok(Plan::Live(Box::new(plan)));
    }
    for text in &options.to {
        let address: Address = text.parse().map_err(|error| Failure::Address { option: "--to", error })?;
        // One server may be named with several applications; each then has a name of its own.
        let mut name = address.authority();
        while servers.iter().any(|s| s.name == name) {
            name.push('\'');
        }
        servers.push(Server { name, address });
    }
    doors.lead_elsewhere_than(&servers)?;
    let key = key_source::find(options.key_file.as_deref(), std::env::var_os(key_source::VARIABLE))?;
    let limits = Limits { queue_ms: options.queue_ms, queue_bytes: (options.queue_mib as usize) << 20 };
    let test_key = key.clone();
    let automatics = without_a_setup(&options.show.automatic);
    let plan = LivePlan {
        doors,
        servers,
        key,
        test_key,
        limits,
        kit: None,
        intended: None,
        recordings: None,
        also,
        automatics,
        reconnect: Reconnect::default(),
        one_at_a_time: false,
        setup: None,
        looks: !options.no_look,
        stand_in: None,
        cut_off: None,
    };
    Ok(Plan::Live(Box::new(plan)))
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
    fn lead_elsewhere_than(&self, servers: &[Server]) -> Result<(), Failure> {
        let port = self.listen.port();
        let is_itself = |server: &Server| server.address.port() == port && is_here(server.address.host());
        if servers.iter().any(is_itself) { Err(Failure::Circle) } else { Ok(()) }
    }
}

/// What a rehearsal relays: the setup's broadcaster, and nothing is done by itself.
pub(crate) fn rehearsal(kit: &Kit, servers: Vec<Server>, unseen: Unseen, doors: &Doors) -> Result<Plan, Failure> {
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
        kit: None,
        intended: Some(kit.intended()),
        recordings: Some(kit.recordings(None)),
        also: Vec::new(),
        // What raises one thing and holds the rest must be alone in changing it.
        automatics: Automatics::default(),
        reconnect: kit.reconnect(),
        one_at_a_time: !kit.service.takes_two,
        setup: Some(kit.setup.clone()),
        looks: true,
        stand_in,
        cut_off: None,
    })))
}

/// Whether a host name plainly is this machine.
fn is_here(host: &str) -> bool {
    host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback() || ip.is_unspecified())
}
