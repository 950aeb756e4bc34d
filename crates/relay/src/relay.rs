//! Puts the relay together: who listens, what is shared, and how it is told what to do.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use moth_core::Moment;
use moth_core::figure::Origin;
use moth_core::reading::Observation;
use moth_destination::StreamKey;
use tokio::sync::{mpsc, watch};
use tokio::time::{MissedTickBehavior, interval};

use crate::backoff::{Backoff, Reconnect};
use crate::connection::{Dialer, Server};
use crate::delivery::{CUT_SHORT, Command, Delivery};
use crate::exchange::Limits;
use crate::handover::Handover;
use crate::incoming::Incoming;
use crate::lobby::Lobby;
use crate::on_air::Place;
use crate::onlooker::Onlooker;
use crate::playback::Playback;
use crate::recorder::Recorder;
use crate::rtmp::door::Door;
use crate::shared::Shared;
use crate::sparing::Sparing;

/// How often the accounts are read. Ours.
const ACCOUNTS_EACH: Duration = Duration::from_millis(100);
/// Who reads them every tenth of a second and has not for so long was stopped, or had no processor. Ours.
const STOOD_STILL: Duration = Duration::from_secs(2);
/// Connections that may be open on the broadcaster's side at once beside the one that publishes; each may hold a few hundred
/// kilobytes. Where strangers come by the hundred each second, the more there are the longer each has to say what it wants. Ours.
const MOST_CONNECTIONS: usize = 24;
/// When the program stops, what waits is sent for at most this long; then the broadcast is cut short. Ours.
const STOP: Duration = Duration::from_millis(1500);
/// Once a broadcast was cut short, its connection is closed within so long. Ours.
const SETTLES: Duration = Duration::from_millis(200);

/// What a relay needs to know.
#[derive(Debug, Clone)]
pub struct RelaySettings {
    /// The application broadcasters publish to here.
    pub app: String,
    /// The servers, at least one; the first is used first.
    pub servers: Vec<Server>,
    /// The stream key at those servers.
    pub key: StreamKey,
    /// How much may wait.
    pub limits: Limits,
    /// How a lost connection is made again.
    pub reconnect: Reconnect,
    /// Only who publishes under this name is let on air, if one is given: the encoder that the moth runs itself, and no
    /// other that an earlier moth, killed, has left behind.
    pub only_name: Option<String>,
    /// The service takes one connection at a time: the old one is closed before a new one is made.
    pub one_at_a_time: bool,
}

/// The relay, before it runs.
pub struct Relay {
    shared: Arc<Shared>,
    door: Arc<Door>,
    delivery: Delivery,
    recorder: Recorder,
}

/// Tells a running relay what to do.
#[derive(Clone)]
pub struct RelayHandle {
    commands: mpsc::Sender<Command>,
    shared: Arc<Shared>,
    recorder: Recorder,
    playback: Arc<Playback>,
}

impl RelayHandle {
    /// Moves the broadcast to another server. What came of it arrives as a reading.
    pub async fn switch_server(&self, name: String) {
        // The relay ends only when the program does; then there is nothing to move.
        let _ = self.commands.send(Command::SwitchServer(name)).await;
    }

    /// Plays the broadcast back from its server for ten seconds. What came of it arrives as a reading.
    pub fn play_back(&self) {
        let playback = self.playback.clone();
        tokio::spawn(async move { playback.run().await });
    }

    /// The broadcaster's bitrate was just lowered: what waits gets through soon, and is not dropped meanwhile.
    pub fn be_patient(&self) {
        self.shared.exchange().be_patient(self.recorder.now());
    }

    /// Drops every frame that waits: for a run that no viewer sees, where only what comes from now on is of interest.
    pub fn drop_what_waits(&self) {
        self.shared.exchange().drop_what_waits();
    }

    /// The broadcaster is about to be restarted: its place on air is kept for so long, and who publishes next goes on
    /// where it stopped. With `None` it is not.
    pub fn expect_another(&self, long: Option<Duration>) {
        let now = self.recorder.now().since(Moment::START);
        self.shared.keep_place(long.map(|long| Moment::after(now + long)));
    }

    /// How often a broadcaster that was expected went on where another had stopped: it counts with its first message.
    #[must_use]
    pub fn resumed(&self) -> watch::Receiver<u64> {
        self.shared.resumed.subscribe()
    }

    /// The broadcaster's end of its connection, as it changes.
    #[must_use]
    pub fn broadcaster_peer(&self) -> watch::Receiver<Option<SocketAddr>> {
        self.shared.peer.subscribe()
    }

    /// Ends the broadcast: sends what waits, within three seconds, and closes the connection properly.
    pub async fn finish(&self) {
        self.shared.phase.finish();
        if !self.shared.phase.frees_within(STOP).await {
            self.shared.phase.cut_short();
            self.shared.phase.frees_within(CUT_SHORT + SETTLES).await;
        }
    }
}

impl Relay {
    /// A relay and the handle to it; `onlooker` looks at the pictures, if anyone does. `None` without a server.
    #[must_use]
    pub fn new(
        settings: RelaySettings,
        dialer: Arc<dyn Dialer>,
        onlooker: Option<Arc<dyn Onlooker>>,
        recorder: Recorder,
    ) -> Option<(Self, RelayHandle)> {
        if settings.servers.is_empty() {
            return None;
        }
        let shared = Arc::new(Shared::new(settings.limits));
        let (commands, orders) = mpsc::channel(16);
        let door = Door {
            place: Place { shared: shared.clone(), recorder: recorder.clone(), onlooker },
            app: settings.app,
            only_name: settings.only_name,
            ended: Sparing::default(),
            hurried: Sparing::default(),
        };
        let playback = Arc::new(Playback {
            shared: shared.clone(),
            dialer: dialer.clone(),
            servers: settings.servers.clone(),
            key: settings.key.clone(),
            recorder: recorder.clone(),
            runs: AtomicBool::new(false),
        });
        let delivery = Delivery {
            shared: shared.clone(),
            dialer,
            servers: settings.servers,
            key: settings.key,
            recorder: recorder.clone(),
            commands: orders,
            current: 0,
            backoff: Backoff::new(settings.reconnect),
            one_at_a_time: settings.one_at_a_time,
            handover: Handover::default(),
            left: None,
        };
        let handle = RelayHandle { commands, shared: shared.clone(), recorder: recorder.clone(), playback };
        Some((Self { shared, door: Arc::new(door), delivery, recorder }, handle))
    }

    /// Relays until no more connections can come.
    pub async fn run(self, mut incoming: mpsc::Receiver<Incoming>) {
        let Self { shared, door, delivery, recorder } = self;
        let mut delivering = tokio::spawn(delivery.run());
        let reporting = tokio::spawn(report(shared, recorder));
        let lobby = Lobby::new(MOST_CONNECTIONS);
        loop {
            let connection = tokio::select! {
                biased;
                connection = incoming.recv() => connection,
                ended = &mut delivering => {
                    reporting.abort();
                    // A fault in the program must not go on as a relay that delivers nothing.
                    match ended {
                        Err(error) if error.is_panic() => std::panic::resume_unwind(error.into_panic()),
                        _ => return,
                    }
                }
            };
            let Some(connection) = connection else { break };
            let door = door.clone();
            let turned_away = lobby.welcome(|stay| async move { door.serve(connection, stay).await }).await;
            if turned_away {
                tracing::debug!("a connection that did not publish made room for another");
            }
        }
        reporting.abort();
        delivering.abort();
    }
}

/// Reads the accounts, whatever state the connection is in.
async fn report(shared: Arc<Shared>, recorder: Recorder) {
    let mut tick = interval(ACCOUNTS_EACH);
    tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut before = recorder.now();
    loop {
        tick.tick().await;
        let now = recorder.now();
        let stood = now.since(before);
        before = now;
        if stood > STOOD_STILL {
            let text = format!("the moth itself stood still for {} s, and carried nothing meanwhile", stood.as_secs());
            tracing::warn!("{text}: it was stopped, or the machine slept or had no time for it");
            recorder.note(Origin::Measured, Observation::Remark { text });
        }
        recorder.note(Origin::Measured, shared.account(now));
    }
}
