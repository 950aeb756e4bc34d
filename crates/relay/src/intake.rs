//! One connection of a broadcaster: its session, and its frames' way into the exchange.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use moth_core::Moment;
use moth_core::figure::Origin;
use moth_core::reading::{Observation, SoundFrame};
use moth_rtmp::StreamKey;
use moth_rtmp::media::{AudioPart, track};
use moth_rtmp::message::{Message, MessageKind};
use moth_rtmp::session::{Receiver, ReceiverEvent, RefuseCode, SessionError, Stage};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{Instant, sleep, sleep_until, timeout, timeout_at};

use crate::exchange::{HeaderSlot, Role};
use crate::lobby::{Progress, Stay};
use crate::metadata::stream_facts;
use crate::onlooker::Onlooker;
use crate::phase::Phase;
use crate::recorder::Recorder;
use crate::relay::{ByteStream, Incoming, Shared};
use crate::sighting::sighting;
use crate::sparing::Sparing;
use crate::token_bucket::TokenBucket;

/// A peer gets this long to say that it publishes.
const INTRODUCTION: Duration = Duration::from_secs(10);
/// A broadcaster that comes back while its last broadcast is being seen off waits for this long; then that is cut short.
const SEEING_OFF: Duration = Duration::from_millis(1200);
/// Who publishes and sends nothing for so long is gone: broadcasters send sound or pictures many times a second.
const SILENT: Duration = Duration::from_secs(30);
/// One that has been silent for so long makes room for another; the first for one of the same host, which is most likely the same
/// broadcaster come back.
const MAKES_ROOM: (Duration, Duration) = (Duration::from_millis(1500), Duration::from_secs(5));
/// Who publishes gets this long to read what it is told.
const READS: Duration = Duration::from_secs(5);
/// A peer that does not publish yet has said all it has to say in far less than this, in bytes.
const MOST_INTRODUCTION: u64 = 64 << 10;
/// Nobody is listened to faster: eight tracks of 120 pictures a second with their sound are under 1 500 messages a second, and
/// a broadcaster that was held up for half a minute catches up at once.
const MESSAGES_PER_S: u32 = 4000;
const MESSAGES_AT_ONCE: u32 = 16_384;
/// A peer gets this long to take its leave, a refused one to read why.
const FAREWELL: Duration = Duration::from_millis(500);

/// Why a broadcaster's connection ended.
#[derive(Debug, thiserror::Error)]
pub(crate) enum IntakeError {
    #[error("{0}")]
    Session(#[from] SessionError),
    #[error("{0}")]
    Io(#[from] io::Error),
    #[error("it did not say within {} s that it publishes", INTRODUCTION.as_secs())]
    Silent,
    #[error("it sent {} kB and did not say that it publishes", MOST_INTRODUCTION >> 10)]
    Chatty,
    #[error("it published, and then sent nothing for {} s", SILENT.as_secs())]
    Fell,
    #[error("it published, fell silent, and made room for another")]
    MadeRoom,
    #[error("it does not read what it is told")]
    Deaf,
    #[error("refused: {0}")]
    Refused(String),
}

pub(crate) struct Intake {
    pub shared: Arc<Shared>,
    pub recorder: Recorder,
    /// The application broadcasters publish to.
    pub app: String,
    /// The only name let on air, if there is one.
    pub only_name: Option<String>,
    /// Who looks at the pictures.
    pub onlooker: Option<Arc<dyn Onlooker>>,
    /// Connections that ended badly, and ones that send too many messages.
    pub ended: Sparing,
    pub hurried: Sparing,
}

impl Intake {
    /// Serves one connection to its end.
    pub(crate) async fn serve(&self, incoming: Incoming, stay: Stay) {
        let peer = incoming.from();
        match self.converse(incoming, stay).await {
            Ok(true) => tracing::info!(peer, "the broadcaster's connection ended"),
            // It came, and left without having been on air: so does whoever looks what is behind a port.
            Ok(false) => tracing::debug!(peer, "a connection that did not publish ended"),
            Err(error) => {
                let Some(left_out) = self.ended.tell() else { return };
                tracing::warn!(peer, %error, "a connection on the broadcaster's side ended{left_out}");
                // Somebody who wonders why nothing arrives looks at the screen, not into a log.
                let text = format!("a connection from {peer} ended: {error}{left_out}");
                self.recorder.note(Origin::Measured, Observation::Remark { text });
            }
        }
    }

    /// Gives whether it was on air.
    async fn converse(&self, mut incoming: Incoming, stay: Stay) -> Result<bool, IntakeError> {
        let mut session = Receiver::default();
        let mut by = Instant::now() + INTRODUCTION;
        let (mut received_bytes, mut has_published) = (0, false);
        let mut pace = TokenBucket::new(MESSAGES_PER_S, MESSAGES_AT_ONCE);
        let mut publishing: Option<OnAir<'_>> = None;
        // Added to every timestamp, so that a restarted broadcaster goes on where it stopped.
        let mut ahead_ms: Option<u32> = None;
        loop {
            loop {
                let before = session.received_messages();
                let event = session.poll();
                pace.took(session.received_messages() - before);
                if pace.is_ahead() {
                    self.tell_hurry(&incoming);
                    tokio::select! {
                        () = pace.ready() => {}
                        () = self.shared.make_room.notified(), if publishing.is_some() => {
                            return Err(IntakeError::MadeRoom);
                        }
                        () = sleep_until(by), if publishing.is_none() => return Err(IntakeError::Silent),
                    }
                }
                match event {
                    Ok(None) => break,
                    Ok(Some(ReceiverEvent::PublishRequested { app, key })) => {
                        stay.progressed(Progress::Asks);
                        let admitted = {
                            let admit = self.admit(&app, key.as_ref(), incoming.peer);
                            tokio::select! {
                                biased;
                                // Who hung up while it waited is not to take the place from who is still there.
                                gone = hung_up(&mut *incoming.stream, &mut session) => {
                                    return gone.map(|()| has_published).map_err(IntakeError::Io);
                                }
                                admitted = admit => admitted,
                            }
                        };
                        match admitted {
                            Ok(on_air) => {
                                session.accept();
                                (publishing, has_published) = (Some(on_air), true);
                                stay.progressed(Progress::Publishes);
                            }
                            Err(why) => {
                                session.refuse(RefuseCode::BadName, &why);
                                say_farewell(&mut incoming, &mut session).await;
                                return Err(IntakeError::Refused(why));
                            }
                        }
                    }
                    // The moth is stopping: what comes now could not be delivered any more.
                    Ok(Some(ReceiverEvent::Media(_))) if self.shared.phase.now() != Phase::OnAir => {
                        return Ok(true);
                    }
                    Ok(Some(ReceiverEvent::Media(mut message))) => {
                        let resumes = publishing.as_ref().is_some_and(|on_air| on_air.resumes);
                        let ahead = *ahead_ms.get_or_insert_with(|| if resumes { self.resume(&message) } else { 0 });
                        message.time.0 = message.time.0.wrapping_add(ahead);
                        self.take(message);
                    }
                    Ok(Some(ReceiverEvent::Ended)) => {
                        // It may publish again, and is a guest like any other until it does.
                        (publishing, ahead_ms) = (None, None);
                        stay.ended();
                        (by, received_bytes) = (Instant::now() + INTRODUCTION, 0);
                    }
                    Err(error) => {
                        say_farewell(&mut incoming, &mut session).await;
                        return Err(error.into());
                    }
                }
            }
            match session.stage() {
                Stage::Application => stay.progressed(Progress::Opened),
                Stage::Broadcast => stay.progressed(Progress::Connected),
                Stage::Handshake | Stage::Taken => {}
            }
            let output = session.take_output();
            if !output.is_empty() {
                let reads_by = if publishing.is_some() { Instant::now() + READS } else { by };
                timeout_at(reads_by, incoming.stream.write_all(&output)).await.map_err(|_| IntakeError::Deaf)??;
            }
            let read = incoming.stream.read_buf(session.room());
            let count = if publishing.is_some() {
                tokio::select! {
                    biased;
                    read = timeout(SILENT, read) => read.map_err(|_| IntakeError::Fell)??,
                    () = self.shared.make_room.notified() => return Err(IntakeError::MadeRoom),
                }
            } else {
                match timeout_at(by, read).await {
                    Ok(read) => read?,
                    // It has done what it came for, and left the door open.
                    Err(_) if has_published => return Ok(true),
                    Err(_) => return Err(IntakeError::Silent),
                }
            };
            if count == 0 {
                return Ok(has_published);
            }
            session.received(count);
            if publishing.is_some() {
                self.shared.heard(self.recorder.now());
            } else {
                stay.progressed(Progress::Speaks);
                received_bytes += count as u64;
                if received_bytes > MOST_INTRODUCTION {
                    return Err(IntakeError::Chatty);
                }
            }
            // Others have their turn, however fast it speaks.
            tokio::task::yield_now().await;
        }
    }

    /// Tells that somebody is held back.
    fn tell_hurry(&self, incoming: &Incoming) {
        if let Some(left_out) = self.hurried.tell() {
            let peer = incoming.from();
            let text = format!("{peer} sends over {MESSAGES_PER_S} messages a second and is read no faster{left_out}");
            tracing::warn!("{text}");
            self.recorder.note(Origin::Measured, Observation::Remark { text });
        }
    }

    /// Lets a broadcaster on air, or says why not.
    async fn admit(&self, app: &str, name: Option<&StreamKey>, peer: Option<SocketAddr>) -> Result<OnAir<'_>, String> {
        if app != self.app {
            return Err(format!("publish to the application `{}` here; the address ends in /{}", self.app, self.app));
        }
        if self.only_name.as_deref().is_some_and(|only| name.is_none_or(|name| name.expose() != only)) {
            return Err("this moth runs its broadcaster itself, by the setup's command, and takes no other".into());
        }
        if self.shared.expected(self.recorder.now()).is_some() && self.shared.vacant.swap(false, Ordering::AcqRel) {
            self.shared.peer.send_replace(peer);
            // Its silence begins now, not when the one before it was last heard.
            self.shared.heard(self.recorder.now());
            return Ok(OnAir { intake: self, resumes: true });
        }
        let phase = &self.shared.phase;
        if phase.now() == Phase::OnAir {
            if self.is_to_make_room(peer) {
                self.shared.make_room.notify_waiters();
            }
            // It may be on its way out: what it sent last is read before its end is seen.
            let _ = timeout(FAREWELL, phase.off_air()).await;
        }
        // The same broadcaster, most likely, restarted: its last frames are still on their way. A server that is slow to take them
        // is not to keep it off the air.
        if matches!(phase.now(), Phase::Finishing | Phase::CutShort) && !phase.frees_within(SEEING_OFF).await {
            phase.cut_short();
            phase.frees_within(SEEING_OFF).await;
        }
        if !phase.take_place() {
            return Err("another broadcaster is already publishing through this moth; stop it first".into());
        }
        self.shared.peer.send_replace(peer);
        self.shared.heard(self.recorder.now());
        self.recorder.note(Origin::Measured, Observation::Broadcaster { present: true });
        Ok(OnAir { intake: self, resumes: false })
    }

    /// Whether who publishes has been silent for so long that `peer` may have its place.
    fn is_to_make_room(&self, peer: Option<SocketAddr>) -> bool {
        let here = *self.shared.peer.borrow();
        let is_same_host = here.zip(peer).is_some_and(|(here, peer)| here.ip() == peer.ip());
        let silent = self.shared.silent_for(self.recorder.now());
        silent >= if is_same_host { MAKES_ROOM.0 } else { MAKES_ROOM.1 }
    }

    fn take(&self, message: Message) {
        let bytes = u32::try_from(message.payload.len()).unwrap_or(u32::MAX);
        let time_ms = message.time.0;
        match message.kind {
            MessageKind::Video => {
                if let Some(seen) = sighting(time_ms, &message.payload) {
                    self.recorder.note(Origin::Measured, seen);
                }
                // Only the main track is looked at: another's decoder configuration would be taken for a new one.
                if let Some(onlooker) =
                    self.onlooker.as_ref().filter(|_| track(message.kind, &message.payload).is_none())
                {
                    onlooker.video(time_ms, &message.payload, &self.recorder);
                }
            }
            MessageKind::Audio if AudioPart::parse(&message.payload) == AudioPart::Frame => {
                self.recorder.note(Origin::Measured, Observation::Audio(SoundFrame { time_ms, bytes }));
            }
            _ if Role::of(&message) == Role::Header(HeaderSlot::Metadata) => {
                if let Some(facts) = stream_facts(&message.payload) {
                    self.recorder.note(Origin::Reported, Observation::Stream(facts));
                }
            }
            _ => {}
        }
        self.shared.offer(message, self.recorder.now());
        self.shared.offered.notify_one();
    }
}

impl Intake {
    /// A restarted broadcaster begins: what is added to its timestamps.
    fn resume(&self, first: &Message) -> u32 {
        let (goes_on_ms, gap_ms) = self.shared.resume(self.recorder.now());
        // Only now: one that connects and sends nothing has not taken the place.
        self.shared.keep_place(None);
        self.shared.resumed.send_modify(|times| *times += 1);
        self.recorder.note(Origin::Measured, Observation::Resumed { gap_ms });
        goes_on_ms.wrapping_sub(first.time.0)
    }
}

/// A broadcaster's place on air, given back when its connection ends, however it ends.
struct OnAir<'a> {
    intake: &'a Intake,
    /// It goes on with the broadcast of one that was there before.
    resumes: bool,
}

impl Drop for OnAir<'_> {
    fn drop(&mut self) {
        let (shared, recorder) = (&self.intake.shared, &self.intake.recorder);
        shared.peer.send_replace(None);
        if let Some(until) = shared.expected(recorder.now()) {
            shared.vacant.store(true, Ordering::Release);
            tokio::spawn(await_another(shared.clone(), recorder.clone(), until));
            return;
        }
        leave(shared, recorder);
    }
}

/// The broadcast is over.
fn leave(shared: &Shared, recorder: &Recorder) {
    recorder.note(Origin::Measured, Observation::Broadcaster { present: false });
    shared.phase.finish();
}

/// Keeps the place of a broadcaster that is being restarted; if nobody comes, the broadcast is over.
async fn await_another(shared: Arc<Shared>, recorder: Recorder, mut until: Moment) {
    loop {
        sleep(until.since(recorder.now())).await;
        match shared.expected(recorder.now()) {
            // It was restarted once more meanwhile: this is not the end of that wait.
            Some(later) => until = later,
            None => break,
        }
    }
    if shared.vacant.swap(false, Ordering::AcqRel) {
        leave(&shared, &recorder);
    }
}

/// Ready when the peer hangs up. What it says meanwhile is kept for later, and not without end.
async fn hung_up(stream: &mut dyn ByteStream, session: &mut Receiver) -> io::Result<()> {
    let mut kept_bytes = 0;
    while kept_bytes < MOST_INTRODUCTION {
        let count = stream.read_buf(session.room()).await?;
        if count == 0 {
            return Ok(());
        }
        session.received(count);
        kept_bytes += count as u64;
    }
    std::future::pending().await
}

/// Sends what is left to say, and reads on for a moment: closing with unread bytes would reset the
/// connection before the peer has read why.
async fn say_farewell(incoming: &mut Incoming, session: &mut Receiver) {
    let output = session.take_output();
    if output.is_empty() {
        return;
    }
    let farewell = async {
        incoming.stream.write_all(&output).await?;
        incoming.stream.shutdown().await
    };
    match timeout(FAREWELL, farewell).await {
        Ok(Ok(())) => read_to_end(incoming).await,
        Ok(Err(error)) => tracing::debug!(%error, "a refused peer was gone before it could be told why"),
        Err(_) => {}
    }
}

/// Lets a peer close the connection itself, for a moment.
async fn read_to_end(incoming: &mut Incoming) {
    let mut sink = vec![0; 16 << 10];
    let end = async { while incoming.stream.read(&mut sink).await.is_ok_and(|count| count > 0) {} };
    // One that goes on talking is cut off.
    let _ = timeout(FAREWELL, end).await;
}
