//! The stand-in ingest servers: they take a broadcast, and remember what came.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use moth_destination::StreamKey;
use moth_relay::packet::{HeaderSlot, Role};
use moth_relay::rtmp::role;
use moth_rtmp::session::{Receiver, ReceiverEvent, RefuseCode};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::sync::mpsc;

use crate::uplink::{Arrival, ServerEnd};

/// The application and the key of the stand-in service.
pub(crate) const APP: &str = "live";
pub(crate) const KEY: &str = "comet-night-demo";
/// What is added to the key for a run nobody sees.
pub(crate) const UNSEEN: &str = "-dim";

fn is_known(key: &StreamKey) -> bool {
    key.expose().strip_suffix(UNSEEN).unwrap_or(key.expose()) == KEY
}

/// What a server received, over all connections.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Received {
    /// Video frames.
    pub video: u64,
    /// Audio frames.
    pub audio: u64,
    /// Connections whose first frame was a video keyframe with its decoder header before it.
    pub good_beginnings: u64,
    /// Connections whose first video frame was any other.
    pub bad_beginnings: u64,
    /// Connections that published.
    pub connections: u64,
}

/// What every server received so far, by its name.
#[derive(Debug, Clone, Default)]
pub(crate) struct Ledger(Arc<Mutex<BTreeMap<String, Received>>>);

impl Ledger {
    pub(crate) fn read(&self) -> BTreeMap<String, Received> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn change(&self, server: &str, change: impl FnOnce(&mut Received)) {
        let mut ledger = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        change(ledger.entry(server.to_owned()).or_default());
    }
}

/// Serves every connection that arrives.
pub(crate) async fn run(mut arrivals: mpsc::UnboundedReceiver<Arrival>, ledger: Ledger) {
    while let Some(Arrival { server, end }) = arrivals.recv().await {
        let ledger = ledger.clone();
        tokio::spawn(async move {
            // However it ends, the connection ends with it, which is all the moth may notice.
            let _ = serve(&server, end, &ledger).await;
        });
    }
}

async fn serve(server: &str, mut end: ServerEnd, ledger: &Ledger) -> std::io::Result<()> {
    let mut session = Receiver::default();
    let mut input = vec![0; 16 << 10];
    let (mut has_header, mut has_begun) = (false, false);
    loop {
        while let Some(event) = session.poll().map_err(std::io::Error::other)? {
            match event {
                ReceiverEvent::PublishRequested { app, key } => {
                    if app != APP {
                        session.refuse(RefuseCode::Rejected, "there is no such application");
                    } else if !key.as_ref().is_some_and(is_known) {
                        session.refuse(RefuseCode::BadName, "this key is not known");
                    } else {
                        session.accept();
                        ledger.change(server, |r| r.connections += 1);
                    }
                }
                ReceiverEvent::Media(message) => {
                    let role = role(&message);
                    has_header |= role == Role::Header(HeaderSlot::Video);
                    ledger.change(server, |r| match role {
                        Role::Audio => r.audio += 1,
                        Role::Keyframe | Role::Inter | Role::Disposable => {
                            r.video += 1;
                            let is_good = has_header && role == Role::Keyframe;
                            r.good_beginnings += u64::from(!has_begun && is_good);
                            r.bad_beginnings += u64::from(!has_begun && !is_good);
                        }
                        Role::Header(_) | Role::Note => {}
                    });
                    has_begun |= matches!(role, Role::Keyframe | Role::Inter | Role::Disposable);
                }
                ReceiverEvent::Ended => return Ok(()),
            }
        }
        let output = session.take_output();
        if !output.is_empty() {
            end.write_all(&output).await?;
        }
        let count = end.read(&mut input).await?;
        if count == 0 {
            return Ok(());
        }
        session.feed(&input[..count]);
    }
}
