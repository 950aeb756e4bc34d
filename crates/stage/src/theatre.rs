//! Puts an evening on: every stand-in, and the real relay in the middle.

use std::collections::BTreeMap;
use std::sync::Arc;

use moth_core::action::Action;
use moth_core::figure::Origin;
use moth_core::reading::{Observation, Reading};
use moth_destination::{Address, StreamKey};
use moth_relay::scout::{Doubt, scout};
use moth_relay::{Dialer, Incoming, Limits, Reconnect, Recorder, Relay, RelayHandle, RelaySettings, Server};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep_until};

use crate::broadcaster::{BroadcasterControl, StandInBroadcaster};
use crate::evening::{Evening, EveningError};
use crate::ingest::{APP, KEY, Ledger, Received};
use crate::machine;
use crate::onlooker::DirectOnlooker;
use crate::uplink::Uplink;

/// Room in the in-memory wire between broadcaster and moth, in bytes: what a loopback socket holds. Ours.
const WIRE_BYTES: usize = 1 << 20;

/// An evening being put on. Everything ends when it is dropped.
pub struct Theatre {
    /// What was seen, for the core.
    pub readings: mpsc::UnboundedReceiver<Reading>,
    /// Stamps further readings with the same clock.
    pub recorder: Recorder,
    /// The relay.
    pub relay: RelayHandle,
    /// The stand-in broadcaster.
    pub broadcaster: BroadcasterControl,
    /// Tells the stand-in scout how things stand.
    pub doubt: watch::Sender<Doubt>,
    uplink: Uplink,
    ledger: Ledger,
    cast: JoinSet<()>,
}

impl Theatre {
    /// Begins an evening now. Call it on a tokio runtime.
    ///
    /// # Errors
    /// If the evening has no server, or one that cannot be named in an address.
    pub fn open(evening: &Evening, seed: u64) -> Result<Self, EveningError> {
        let (recorder, readings) = Recorder::new();
        let (conditions, follow) = watch::channel(evening.conditions());
        let (uplink, arrivals) = Uplink::new(follow.clone());
        let ledger = Ledger::default();
        let local = Address::new("moth.invalid", 1935, "moth");
        let key = StreamKey::new(KEY);
        let servers: Vec<Server> = evening
            .servers()
            .into_iter()
            .filter_map(|name| {
                let address = Address::new(&format!("{}.nocturne.invalid", name.to_lowercase()), 1935, APP).ok()?;
                Some(Server { name, address })
            })
            .collect();
        let nothing =
            || EveningError::Range { what: "the number of servers".into(), value: 0.0, expected: "at least one" };
        let (Ok(local), Ok(key)) = (local, key) else { return Err(nothing()) };
        let settings = RelaySettings {
            app: local.app().to_owned(),
            servers,
            key,
            limits: Limits::default(),
            reconnect: Reconnect::default(),
            only_name: None,
            one_at_a_time: evening.one_at_a_time,
        };
        let (doubt, doubted) = watch::channel(Doubt::default());
        let scouting = scout(Arc::new(uplink.clone()), settings.servers.clone(), doubted, recorder.clone());
        let (relay, handle) =
            Relay::new(settings, Arc::new(uplink.clone()), Some(Arc::new(DirectOnlooker::default())), recorder.clone())
                .ok_or_else(nothing)?;

        let (broadcaster, control) = StandInBroadcaster::new(follow.clone(), recorder.clone(), seed);
        let (near, far) = tokio::io::duplex(WIRE_BYTES);
        let (connect, incoming) = mpsc::channel(1);
        let mut cast = JoinSet::new();
        let line = uplink.clone();
        cast.spawn(uplink.run(seed));
        cast.spawn(crate::ingest::run(arrivals, ledger.clone()));
        cast.spawn(relay.run(incoming));
        cast.spawn(scouting);
        cast.spawn(machine::run(follow, recorder.clone(), seed));
        cast.spawn(async move {
            let stream = Incoming { stream: Box::new(far), peer: None };
            if connect.send(stream).await.is_ok() {
                let _ = broadcaster.run(near, local).await;
            }
            // The relay goes on for as long as connections could come.
            std::future::pending::<()>().await;
            drop(connect);
        });
        let (events, remarks, start) = (evening.events.clone(), recorder.clone(), Instant::now());
        cast.spawn(async move {
            for event in events {
                sleep_until(start + event.at()).await;
                conditions.send_modify(|c| event.apply(c));
                remarks.note(Origin::Measured, Observation::Remark { text: format!("script: {}", event.what) });
            }
            std::future::pending::<()>().await;
        });
        Ok(Self { readings, recorder, relay: handle, broadcaster: control, doubt, uplink: line, ledger, cast })
    }

    /// Reaches the stand-in servers over the stand-in line.
    #[must_use]
    pub fn dialer(&self) -> Arc<dyn Dialer> {
        Arc::new(self.uplink.clone())
    }

    /// Waits until a part of it ends, which none does before it is dropped unless the program has a fault.
    pub async fn fails(&mut self) {
        self.cast.join_next().await;
    }

    /// The readings apart from everything else, which must be kept for the evening to go on.
    #[must_use]
    pub fn split(mut self) -> (Self, mpsc::UnboundedReceiver<Reading>) {
        let (_, none) = mpsc::unbounded_channel();
        let readings = std::mem::replace(&mut self.readings, none);
        (self, readings)
    }

    /// What the stand-in servers received so far, by name.
    #[must_use]
    pub fn received(&self) -> BTreeMap<String, Received> {
        self.ledger.read()
    }

    /// Carries out an action on the stand-ins; what came of it arrives as a reading.
    pub async fn act(relay: &RelayHandle, broadcaster: &BroadcasterControl, recorder: &Recorder, action: Action) {
        let failed = match &action {
            Action::SetBitrate { video } => {
                broadcaster.set_bitrate(*video);
                None
            }
            Action::LighterPreset => {
                broadcaster.lighten_preset(1);
                None
            }
            Action::HeavierPreset => {
                broadcaster.lighten_preset(-1);
                None
            }
            Action::SetSize { width, height } => {
                broadcaster.set_size(*width, *height);
                None
            }
            Action::SwitchServer { server } => return relay.switch_server(server.clone()).await,
            Action::SetRate { .. } => Some("the stand-in broadcaster keeps its frame rate"),
            Action::SetPriority { .. } => Some("the stand-in broadcaster is a part of this program"),
            Action::PlayBack => Some("the stand-in servers play nothing back"),
            Action::SetKeeper { .. } | Action::SetFailover { .. } | Action::ByHand { .. } => None,
        };
        recorder.note(Origin::Reported, Observation::acted(action, failed.map(str::to_owned)));
    }
}
