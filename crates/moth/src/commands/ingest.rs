//! `moth ingest`: takes broadcasts and throws them away, for `moth uplink` and `moth routes` to measure against.

use std::io;
use std::sync::Arc;
use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_destination::{Address, StreamKey};
use moth_relay::lobby::{Lobby, Progress, Stay};
use moth_rtmp::session::{Receiver, ReceiverEvent, RefuseCode};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio::time::{Instant, sleep_until, timeout, timeout_at};

use crate::cli::IngestOptions;
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::setup_in_use::key_source;
use crate::system::out;
use crate::system::signals::stop_requested;

/// A peer gets this long to say that it publishes,
const INTRODUCTION: Duration = Duration::from_secs(10);
/// and one that publishes and is silent, or reads nothing, for so long is gone. Ours.
const SILENCE: Duration = Duration::from_secs(30);
/// A slow reader reads so often. Ours.
const TURN: Duration = Duration::from_millis(50);
/// At most so many broadcasts at once: more is no measurement any more. Ours.
const MOST: usize = 64;
/// At most so many that do not publish yet. Ours.
const MOST_GUESTS: usize = 16;

struct Rules {
    app: String,
    key: Option<StreamKey>,
    reads: Option<Bitrate>,
}

/// Serves until it is asked to stop.
///
/// # Errors
/// [`Failure`] if the port cannot be opened.
pub fn run(options: &IngestOptions) -> Outcome {
    let listen: Address = options.listen.parse().map_err(|error| Failure::Address { option: "--listen", error })?;
    if listen.is_secure() {
        return Err(Failure::SecureListen);
    }
    let key = options.key_file.as_deref().map(|file| key_source::find(Some(file), None)).transpose()?;
    let rules = Arc::new(Rules { app: listen.app().to_owned(), key, reads: options.reads });
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(Failure::system("the program's scheduler could not be started"))?;
    runtime.block_on(async {
        let socket = TcpListener::bind((listen.host(), listen.port())).await;
        let socket = socket.map_err(|error| Failure::Listen { address: listen.authority(), error })?;
        let end = async {
            match options.run_for {
                Some(seconds) => tokio::time::sleep(Duration::from_secs(seconds)).await,
                None => std::future::pending().await,
            }
        };
        let slow = options
            .reads
            .map_or_else(String::new, |rate| format!(", reading no faster than {rate}: a stand-in for a tired server"));
        out::text(&format!("taking broadcasts at {listen}{slow}; what comes is thrown away\n"))?;
        tokio::select! {
            outcome = serve_all(socket, rules) => outcome,
            stopped = stop_requested() => stopped.map_err(Failure::system("signals cannot be listened for")),
            () = end => Ok(()),
        }
    })
}

async fn serve_all(socket: TcpListener, rules: Arc<Rules>) -> Outcome {
    let places = Arc::new(Semaphore::new(MOST));
    let lobby = Lobby::new(MOST_GUESTS);
    loop {
        let (stream, peer) = match socket.accept().await {
            Ok(accepted) => accepted,
            Err(error) => {
                tracing::warn!(%error, "a connection could not be accepted");
                tokio::time::sleep(Duration::from_millis(200)).await;
                continue;
            }
        };
        let (rules, places) = (rules.clone(), places.clone());
        let guest = lobby.welcome(move |stay| async move {
            let began = Instant::now();
            let mut taken = Taken::default();
            let ended = serve(stream, &rules, &mut taken, stay, places).await;
            // A round trip's connection says nothing; there is nothing to tell of it.
            if taken.bytes > 0 {
                let _ = out::text(&format!("{peer}: {}\n", taken.words(began.elapsed(), ended.err())));
            }
        });
        let _turned_away = guest.await;
    }
}

#[derive(Default)]
struct Taken {
    bytes: u64,
    is_broadcast: bool,
}

impl Taken {
    /// What came in so long a time, and how it ended.
    fn words(&self, long: Duration, why: Option<io::Error>) -> String {
        let how = why.map_or_else(String::new, |why| format!("; {why}"));
        // The few bytes of an introduction, or of garbage, have no rate.
        if !self.is_broadcast {
            return format!("no broadcast{how}");
        }
        let rate = Bitrate::of(self.bytes as f64, long);
        format!("a broadcast for {:.0} s, {rate} on average{how}", long.as_secs_f64())
    }
}

async fn serve(
    mut stream: TcpStream,
    rules: &Rules,
    taken: &mut Taken,
    stay: Stay,
    places: Arc<Semaphore>,
) -> io::Result<()> {
    stream.set_nodelay(true)?;
    let introduced_by = Instant::now() + INTRODUCTION;
    let (mut stay, mut place) = (Some(stay), None);
    let mut session = Receiver::default();
    let mut turn = Instant::now();
    let turn_bytes = rules.reads.map(|rate| ((rate.bps() as f64 / 8.0 * TURN.as_secs_f64()) as usize).max(64));
    let mut slow = vec![0; turn_bytes.unwrap_or(0)];
    loop {
        while let Some(event) = session.poll().map_err(io::Error::other)? {
            match event {
                ReceiverEvent::PublishRequested { app, key } => {
                    let known = rules.key.as_ref().is_none_or(|ours| key.as_ref().is_some_and(|key| ours.admits(key)));
                    if app != rules.app {
                        session.refuse(RefuseCode::Rejected, "there is no such application here");
                    } else if !known {
                        session.refuse(RefuseCode::BadName, "this key is not known here");
                    } else {
                        let Ok(free) = places.clone().try_acquire_owned() else {
                            session.refuse(RefuseCode::Rejected, "as many broadcasts as are taken are here already");
                            continue;
                        };
                        session.accept();
                        (place, stay) = (Some(free), None);
                        taken.is_broadcast = true;
                    }
                }
                ReceiverEvent::Media(_) => {}
                ReceiverEvent::Ended => return Ok(()),
            }
        }
        let output = session.take_output();
        let by = if place.is_some() { Instant::now() + SILENCE } else { introduced_by };
        if !output.is_empty() {
            let written = timeout_at(by, stream.write_all(&output)).await;
            written.map_err(|_| io::Error::other("it does not read what it is told"))??;
        }
        let count = if slow.is_empty() || !taken.is_broadcast {
            let read = timeout_at(by, stream.read_buf(session.room())).await;
            let count = read.map_err(|_| io::Error::other("it fell silent"))??;
            if let Some(stay) = &stay {
                stay.progressed(Progress::Speaks);
            }
            session.received(count);
            count
        } else {
            turn += TURN;
            // What it did not read it may not save up: it is slow, not resting.
            turn = turn.max(Instant::now());
            sleep_until(turn).await;
            let count =
                timeout(SILENCE, stream.read(&mut slow)).await.map_err(|_| io::Error::other("it fell silent"))??;
            session.feed(&slow[..count]);
            count
        };
        if count == 0 {
            return Ok(());
        }
        taken.bytes += count as u64;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_refused_has_no_rate() {
        let second = Duration::from_millis(50);
        let refused = Taken { bytes: 3400, is_broadcast: false };
        assert_eq!(refused.words(second, None), "no broadcast");
        assert_eq!(refused.words(second, Some(io::Error::other("it fell silent"))), "no broadcast; it fell silent");
        let taken = Taken { bytes: 1_250_000, is_broadcast: true };
        assert_eq!(taken.words(Duration::from_secs(10), None), "a broadcast for 10 s, 1 000 kb/s on average");
    }
}
