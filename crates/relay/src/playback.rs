//! Plays the broadcast back from its server, as a viewer would: the only proof from here that what the server takes is given out.
//!
//! [`frame`]: how frames are known again; [`compared`]: what came back of what was handed over.

mod compared;
pub(crate) mod frame;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use moth_core::action::Action;
use moth_core::figure::Origin;
use moth_core::played_back::PlayedBack;
use moth_core::reading::Observation;
use moth_destination::{FailureKind, LinkError, StreamKey};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{Instant, timeout, timeout_at};

use crate::connection::{BoxConnection, Dialer, Server};
use crate::link::connect;
use crate::recorder::Recorder;
use crate::rtmp::viewer::{Given, Viewer};
use crate::shared::Shared;
use frame::Frame;

/// A server gets this long until a first frame: most begin at a keyframe, and those may be ten seconds apart. Ours.
const FIRST: Duration = Duration::from_secs(12);
/// From then on it is played for so long. Ours: some groups of pictures.
const LENGTH: Duration = Duration::from_secs(10);
/// What comes back is noted up to so many frames: what is kept for a new viewer, and ten seconds of 240 pictures and 100 frames of sound
/// a second. A server that gives more is no server of this broadcast. Ours.
const MOST: usize = 16_384;
/// And up to so many bytes: a minute at 64 Mb/s. Ours.
const MOST_BYTES: u64 = 480 << 20;

/// Plays the broadcast back when asked to, one time after another.
pub(crate) struct Playback {
    pub shared: Arc<Shared>,
    pub dialer: Arc<dyn Dialer>,
    pub servers: Vec<Server>,
    pub key: StreamKey,
    pub recorder: Recorder,
    /// It is being played.
    pub runs: AtomicBool,
}

impl Playback {
    /// Plays it back; what comes of it is a reading.
    pub(crate) async fn run(&self) {
        if self.runs.swap(true, Ordering::AcqRel) {
            // Whoever asks meanwhile is answered with what comes of it.
            return;
        }
        let at = *self.shared.carried_by.borrow();
        match at.and_then(|at| self.servers.get(at)) {
            Some(server) => {
                if let Some(found) = self.play(server).await {
                    self.recorder.note(Origin::Measured, Observation::PlayedBack(found));
                }
            }
            None => self.not_done("no server takes the broadcast now"),
        }
        self.runs.store(false, Ordering::Release);
    }

    fn not_done(&self, why: &str) {
        self.recorder.note(Origin::Measured, Observation::acted(Action::PlayBack, Some(why.into())));
    }

    /// Plays it back from this server; `None` if the broadcast ended or moved on meanwhile, which is then said.
    async fn play(&self, server: &Server) -> Option<PlayedBack> {
        self.shared.exchange().begin_noting();
        let mut carried_by = self.shared.carried_by.subscribe();
        let mut back = Vec::new();
        let outcome = tokio::select! {
            biased;
            _ = carried_by.changed() => None,
            outcome = self.watch(server, &mut back) => Some(outcome),
        };
        let end = self.recorder.now();
        let handed = self.shared.exchange().take_noted();
        let Some(outcome) = outcome else {
            self.not_done("the connection to the server was lost or left meanwhile, or the broadcast ended");
            return None;
        };
        Some(PlayedBack {
            server: server.name.clone(),
            seconds: back.first().map_or(0.0, |first| end.since(first.came).as_secs_f64()),
            why: outcome.err().map(|error| error.why),
            ..compared::compare(&handed, &back, end)
        })
    }

    /// Notes what comes back.
    async fn watch(&self, server: &Server, back: &mut Vec<Frame>) -> Result<(), LinkError> {
        let silent = |why: String| LinkError::new(FailureKind::Silent, why);
        let mut connection = connect(self.dialer.as_ref(), server).await?;
        let mut session = Viewer::new(server.address.clone(), self.key.clone());
        let first_by = Instant::now() + FIRST;
        let outcome = match timeout_at(first_by, self.take(&mut connection, &mut session, back, |_| true)).await {
            Err(_) => Err(silent(format!("no frame came within {} s; it may not let one play here", FIRST.as_secs()))),
            Ok(Err(error)) => Err(error),
            Ok(Ok(())) => self.look(&mut connection, &mut session, back).await,
        };
        session.finish();
        // A server that does not take it is told by the connection's end.
        let _ = timeout(Duration::from_millis(200), connection.write_all(&session.take_output())).await;
        outcome
    }

    /// Takes what comes for ten seconds; if that is sound alone, until a picture and as long after it: sound may come at once, and pictures
    /// from the next keyframe on.
    async fn look(
        &self,
        connection: &mut BoxConnection,
        session: &mut Viewer,
        back: &mut Vec<Frame>,
    ) -> Result<(), LinkError> {
        let has_picture = |frame: &Frame| frame.is_picture;
        if let Ok(outcome) = timeout(LENGTH, self.take(connection, session, back, |_| false)).await {
            return outcome;
        }
        if back.iter().any(has_picture) || !self.shared.exchange().has_noted(has_picture) {
            return Ok(());
        }
        match timeout(FIRST, self.take(connection, session, back, has_picture)).await {
            Ok(Ok(())) => timeout(LENGTH, self.take(connection, session, back, |_| false)).await.unwrap_or(Ok(())),
            Ok(Err(error)) => Err(error),
            // What is missing is told by what came.
            Err(_) => Ok(()),
        }
    }

    /// Takes what comes, until a certain frame or for as long as it is polled.
    async fn take(
        &self,
        connection: &mut BoxConnection,
        session: &mut Viewer,
        back: &mut Vec<Frame>,
        until: impl Fn(&Frame) -> bool,
    ) -> Result<(), LinkError> {
        let mut input = vec![0; 16 << 10];
        let mut heard = 0_u64;
        loop {
            let output = session.take_output();
            if !output.is_empty() {
                connection.write_all(&output).await?;
                connection.flush().await?;
            }
            let count = connection.read(&mut input).await?;
            let now = self.recorder.now();
            if count == 0 {
                return Err(session.hung_up());
            }
            heard += count as u64;
            session.hear(&input[..count]);
            let before = back.len();
            while let Some(given) = session.next()? {
                match given {
                    Given::Ended => {
                        return Err(LinkError::new(FailureKind::Broken, "it says that the broadcast is over"));
                    }
                    Given::Packet(packet) => back.extend(Frame::of(&packet, now)),
                }
            }
            if back.len() > MOST || heard > MOST_BYTES {
                return Err(LinkError::new(FailureKind::Broken, "it gives out far more than it takes"));
            }
            if back[before..].iter().any(&until) {
                return Ok(());
            }
        }
    }
}
