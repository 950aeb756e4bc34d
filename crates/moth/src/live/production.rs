//! Where readings come from, live or demo, and who carries out actions.

use std::sync::Arc;
use std::time::Duration;

use moth_core::action::Action;
use moth_core::figure::Origin;
use moth_core::reading::{Observation, Reading};
use moth_core::{Bitrate, Snapshot};
use moth_feed::FeedHandle;
use moth_relay::scout::{self, Doubt};
use moth_relay::{Dialer, Recorder, RelayHandle};
use moth_stage::{BroadcasterControl, ShapedServer, Theatre};
use tokio::sync::{mpsc, watch};
use tokio::task::JoinSet;

use crate::live::encoder_command::{EncoderOrders, Values};
use crate::live::helpers::Helpers;
use crate::system::child::{self, Group};

/// A command of the user's gets this long. Ours.
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
    pub(super) broadcaster: Option<BroadcasterControl>,
    /// Tells the scout, and who reads the machine, how things stand.
    pub(super) doubt: watch::Sender<Doubt>,
    /// Who reports over the feed, and may be asked for changes.
    pub(super) feed: Option<FeedHandle>,
    /// The encoder that the moth runs itself.
    pub(super) encoder: Option<EncoderOrders>,
    /// A command of the user's that sets the bitrate, and what else it may be filled with.
    pub(super) bitrate_command: Option<(Vec<String>, Values)>,
    pub(super) running: RunningParts,
    /// It ends when it is dropped.
    pub(super) _stand_in: Option<ShapedServer>,
}

/// What runs while a broadcast goes on.
pub(super) enum RunningParts {
    Live {
        /// The relay and what takes connections for it: without them there is no broadcast.
        vital: JoinSet<()>,
        /// All else. None of them can end the broadcast.
        _helpers: Helpers,
    },
    Demo(Box<Theatre>),
}

impl RunningParts {
    /// Waits until a vital part ends by itself, which only a fault in the program makes it do.
    async fn fails(&mut self) {
        match self {
            Self::Live { vital, .. } => {
                vital.join_next().await;
            }
            Self::Demo(theatre) => theatre.fails().await,
        }
    }
}

impl Production {
    /// Waits until a vital part of it ends by itself, which only a fault in the program makes it do.
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
            Action::PlayBack => self.relay.play_back(),
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
