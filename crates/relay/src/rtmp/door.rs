//! A broadcaster's connection that speaks RTMP: its session, and its packets' way on air.

use std::io;
use std::net::SocketAddr;
use std::time::Duration;

use moth_core::figure::Origin;
use moth_core::reading::Observation;
use moth_destination::StreamKey;
use moth_rtmp::session::{Receiver, ReceiverEvent, RefuseCode, SessionError, Stage};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{Instant, sleep_until, timeout, timeout_at};

use crate::incoming::{ByteStream, Incoming};
use crate::lobby::{Progress, Stay};
use crate::on_air::{OnAir, Place};
use crate::rtmp::packet;
use crate::sparing::Sparing;
use crate::token_bucket::TokenBucket;

/// A peer gets this long to say that it publishes. Ours.
const INTRODUCTION: Duration = Duration::from_secs(10);
/// Who publishes and sends nothing for so long is gone: broadcasters send sound or pictures many times a second. Ours.
const SILENT: Duration = Duration::from_secs(30);
/// Who publishes gets this long to read what it is told. Ours.
const READS: Duration = Duration::from_secs(5);
/// A peer that does not publish yet has said all it has to say in far less than this, in bytes. Ours.
const MOST_INTRODUCTION: u64 = 64 << 10;
/// Nobody is listened to faster: eight tracks of 120 pictures a second with their sound are under 1 500 messages a second, and
/// a broadcaster that was held up for half a minute catches up at once. Ours.
const MESSAGES_PER_S: u32 = 4000;
const MESSAGES_AT_ONCE: u32 = 16_384;
/// A peer gets this long to take its leave, a refused one to read why. Ours.
const FAREWELL: Duration = Duration::from_millis(500);

/// What is remarked of a connection that ended badly begins so.
pub const TURNED_AWAY: &str = "a connection from";

/// Why a broadcaster's connection ended.
#[derive(Debug, thiserror::Error)]
pub(crate) enum DoorError {
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

/// Where broadcasters that speak RTMP come in.
pub(crate) struct Door {
    pub place: Place,
    /// The application broadcasters publish to.
    pub app: String,
    /// The only name let on air, if there is one.
    pub only_name: Option<String>,
    /// Connections that ended badly, and ones that send too many messages.
    pub ended: Sparing,
    pub hurried: Sparing,
}

impl Door {
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
                let text = format!("{TURNED_AWAY} {peer} ended: {error}{left_out}");
                self.place.recorder.note(Origin::Measured, Observation::Remark { text });
            }
        }
    }

    /// Gives whether it was on air.
    async fn converse(&self, mut incoming: Incoming, stay: Stay) -> Result<bool, DoorError> {
        let mut session = Receiver::default();
        let mut by = Instant::now() + INTRODUCTION;
        let (mut received_bytes, mut has_published) = (0, false);
        let mut pace = TokenBucket::new(MESSAGES_PER_S, MESSAGES_AT_ONCE);
        let mut publishing: Option<OnAir<'_>> = None;
        loop {
            loop {
                let before = session.received_messages();
                let event = session.poll();
                pace.took(session.received_messages() - before);
                if pace.is_ahead() {
                    self.tell_hurry(&incoming);
                    tokio::select! {
                        () = pace.ready() => {}
                        () = self.place.is_wanted_by_another(), if publishing.is_some() => {
                            return Err(DoorError::MadeRoom);
                        }
                        () = sleep_until(by), if publishing.is_none() => return Err(DoorError::Silent),
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
                                    return gone.map(|()| has_published).map_err(DoorError::Io);
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
                                return Err(DoorError::Refused(why));
                            }
                        }
                    }
                    Ok(Some(ReceiverEvent::Media(message))) => {
                        // The moth is stopping: what comes now could not be delivered any more.
                        if !publishing.as_mut().is_some_and(|on_air| on_air.offer(packet(message))) {
                            return Ok(true);
                        }
                    }
                    Ok(Some(ReceiverEvent::Ended)) => {
                        // It may publish again, and is a guest like any other until it does.
                        publishing = None;
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
                timeout_at(reads_by, incoming.stream.write_all(&output)).await.map_err(|_| DoorError::Deaf)??;
            }
            let read = incoming.stream.read_buf(session.room());
            let count = if publishing.is_some() {
                tokio::select! {
                    biased;
                    read = timeout(SILENT, read) => read.map_err(|_| DoorError::Fell)??,
                    () = self.place.is_wanted_by_another() => return Err(DoorError::MadeRoom),
                }
            } else {
                match timeout_at(by, read).await {
                    Ok(read) => read?,
                    // It has done what it came for, and left the door open.
                    Err(_) if has_published => return Ok(true),
                    Err(_) => return Err(DoorError::Silent),
                }
            };
            if count == 0 {
                return Ok(has_published);
            }
            session.received(count);
            if let Some(on_air) = &publishing {
                on_air.heard();
            } else {
                stay.progressed(Progress::Speaks);
                received_bytes += count as u64;
                if received_bytes > MOST_INTRODUCTION {
                    return Err(DoorError::Chatty);
                }
            }
            // Others have their turn, however fast it speaks.
            tokio::task::yield_now().await;
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
        self.place.take(peer).await
    }

    /// Tells that somebody is held back.
    fn tell_hurry(&self, incoming: &Incoming) {
        if let Some(left_out) = self.hurried.tell() {
            let peer = incoming.from();
            let text = format!("{peer} sends over {MESSAGES_PER_S} messages a second and is read no faster{left_out}");
            tracing::warn!("{text}");
            self.place.recorder.note(Origin::Measured, Observation::Remark { text });
        }
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
