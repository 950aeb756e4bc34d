//! The feed's port.

use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use moth_core::action::Action;
use moth_core::figure::Origin;
use moth_core::reading::{Observation, StreamFacts};
use moth_relay::Recorder;
use moth_relay::lobby::{Lobby, Progress, Stay};
use moth_relay::sparing::Sparing;
use moth_relay::token_bucket::TokenBucket;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, broadcast};
use tokio::time::{Instant, timeout};

use crate::report::{Heard, LONGEST, Reports};
use crate::request::{Answer, Request};

/// Senders at once: a broadcaster, a script beside it, and some that forgot to leave. Ours.
const MOST: usize = 8;
/// Connections at once that have said nothing that is understood. Ours.
const MOST_GUESTS: usize = 8;
/// They get this long to say something. Ours.
const INTRODUCTION: Duration = Duration::from_secs(30);
/// A broadcaster that has not answered a request after this long will not. Ours.
const PATIENCE: Duration = Duration::from_secs(10);
/// A sender is read no faster: counters come once a second, answers when something was asked. Ours.
const LINES_PER_S: u32 = 100;
const LINES_AT_ONCE: u32 = 500;
/// A sender that does not read what it is told is not told. Ours.
const WRITE: Duration = Duration::from_secs(2);

/// The feed, before it runs.
pub struct Feed {
    listener: TcpListener,
    shared: Arc<Shared>,
    recorder: Recorder,
}

struct Shared {
    requests: broadcast::Sender<Request>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    next: u64,
    /// What is taken, by sender.
    takes: HashMap<u64, StreamFacts>,
    waiting: HashMap<u64, Action>,
}

/// Asks whoever is connected.
#[derive(Clone)]
pub struct FeedHandle {
    shared: Arc<Shared>,
    recorder: Recorder,
}

impl Shared {
    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl FeedHandle {
    /// Asks for an action; what comes of it arrives as a reading. `false` if nobody there takes it.
    #[must_use]
    pub fn ask(&self, action: &Action) -> bool {
        let request = {
            let mut state = self.shared.state();
            let taken = state.takes.values().any(|takes| match action {
                Action::SetBitrate { .. } => takes.takes_bitrate,
                Action::LighterPreset | Action::HeavierPreset => takes.takes_preset,
                Action::SetSize { .. } => takes.takes_size,
                Action::SetRate { .. } => takes.takes_rate,
                _ => false,
            });
            let Some(request) = Request::of(state.next, action).filter(|_| taken) else { return false };
            let number = state.next;
            state.waiting.insert(number, action.clone());
            state.next += 1;
            (number, request)
        };
        let (number, request) = request;
        // Nobody there to hear it is found out by the answer that does not come.
        let _ = self.shared.requests.send(request);
        let this = self.clone();
        tokio::spawn(async move {
            tokio::time::sleep(PATIENCE).await;
            let late = format!("the broadcaster did not answer within {} s", PATIENCE.as_secs());
            this.shared.answered(&this.recorder, Answer { request: number, failed: Some(late) });
        });
        true
    }
}

impl Shared {
    fn answered(&self, recorder: &Recorder, answer: Answer) {
        let action = self.state().waiting.remove(&answer.request);
        if let Some(action) = action {
            recorder.note(Origin::Reported, Observation::acted(action, answer.failed));
        }
    }
}

impl Feed {
    /// Opens the port.
    ///
    /// # Errors
    /// What the system says.
    pub async fn bind(address: SocketAddr, recorder: Recorder) -> io::Result<(Self, FeedHandle)> {
        let listener = TcpListener::bind(address).await?;
        let (requests, _) = broadcast::channel(16);
        let shared = Arc::new(Shared { requests, state: Mutex::default() });
        let handle = FeedHandle { shared: shared.clone(), recorder: recorder.clone() };
        Ok((Self { listener, shared, recorder }, handle))
    }

    /// Where it is.
    ///
    /// # Errors
    /// What the system says.
    pub fn address(&self) -> io::Result<SocketAddr> {
        self.listener.local_addr()
    }

    /// Serves for as long as it is polled.
    pub async fn run(self) {
        let places = Arc::new(Semaphore::new(MOST));
        let lobby = Lobby::new(MOST_GUESTS);
        let mut sender = 0;
        let (ended, failed) = (Arc::new(Sparing::default()), Sparing::default());
        loop {
            let (stream, peer) = match self.listener.accept().await {
                Ok(accepted) => accepted,
                Err(error) => {
                    if let Some(left_out) = failed.tell() {
                        tracing::warn!(%error, "a connection to the feed could not be taken{left_out}");
                    }
                    tokio::time::sleep(Duration::from_millis(200)).await;
                    continue;
                }
            };
            sender += 1;
            let (shared, recorder, places) = (self.shared.clone(), self.recorder.clone(), places.clone());
            let ended = ended.clone();
            let guest = lobby.welcome(move |stay| async move {
                if let Err(error) = serve(stream, sender, &shared, &recorder, stay, &places).await
                    && let Some(left_out) = ended.tell()
                {
                    tracing::info!(%peer, %error, "a connection to the feed ended{left_out}");
                }
                shared.state().takes.remove(&sender);
            });
            let _turned_away = guest.await;
        }
    }
}

async fn serve(
    stream: TcpStream,
    sender: u64,
    shared: &Shared,
    recorder: &Recorder,
    stay: Stay,
    places: &Semaphore,
) -> io::Result<()> {
    let introduced_by = Instant::now() + INTRODUCTION;
    // Who has said something that is understood has a place, and is no guest any more.
    let (mut stay, mut place) = (Some(stay), None);
    let mut requests = shared.requests.subscribe();
    let (reading, mut writing) = stream.into_split();
    let mut reading = BufReader::new(reading);
    let mut reports = Reports::default();
    let mut line = Vec::new();
    let mut pace = TokenBucket::new(LINES_PER_S, LINES_AT_ONCE);
    loop {
        let mut limited = (&mut reading).take((LONGEST + 2 - line.len().min(LONGEST + 1)) as u64);
        tokio::select! {
            read = async { pace.ready().await; limited.read_until(b'\n', &mut line).await } => {
                pace.took(1);
                let ended = read? == 0;
                let whole = line.last() == Some(&b'\n');
                if !whole && line.len() <= LONGEST && !ended {
                    continue;
                }
                let said = line.strip_suffix(b"\n").unwrap_or(&line);
                if is_http(said) {
                    // A web page can make a browser send this, and whatever it likes after it.
                    return Err(io::Error::other("it speaks HTTP, as a web page would; a broadcaster does not"));
                }
                match reports.line(said) {
                    Ok(heard) if !heard.is_empty() && place.is_none() => {
                        place = Some(places.try_acquire().map_err(|_| io::Error::other("there are too many senders"))?);
                        stay = None;
                        heard.into_iter().for_each(|heard| take(heard, sender, shared, recorder));
                    }
                    Ok(heard) => {
                        if let Some(stay) = &stay {
                            stay.progressed(Progress::Speaks);
                        }
                        heard.into_iter().for_each(|heard| take(heard, sender, shared, recorder));
                    }
                    Err(strange) => {
                        let answer = serde_json::json!({ "error": strange.0 });
                        timeout(WRITE, writing.write_all(format!("{answer}\n").as_bytes())).await??;
                    }
                }
                if reports.is_hopeless() {
                    return Err(io::Error::other("it speaks another language"));
                }
                if ended {
                    return Ok(());
                }
                if !whole {
                    // The rest of a line that is too long would be taken for lines.
                    return Err(io::Error::other("its lines are too long"));
                }
                line.clear();
            }
            () = tokio::time::sleep_until(introduced_by), if stay.is_some() => {
                return Err(io::Error::other("it said nothing that is understood"));
            }
            request = requests.recv(), if place.is_some() => {
                if let Ok(request) = request {
                    timeout(WRITE, writing.write_all(&request.line())).await??;
                }
            }
        }
    }
}

/// Whether a line is the first of an HTTP request (RFC 9112, section 3).
fn is_http(line: &[u8]) -> bool {
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    line.windows(6).any(|word| word == b" HTTP/") && line.first().is_some_and(u8::is_ascii_uppercase)
}

fn take(heard: Heard, sender: u64, shared: &Shared, recorder: &Recorder) {
    match heard {
        Heard::Counters(counters) => recorder.note(Origin::Reported, Observation::Counters(counters)),
        Heard::Stream(facts) => {
            shared.state().takes.insert(sender, facts);
            recorder.note(Origin::Reported, Observation::Stream(facts));
        }
        Heard::Answer(answer) => shared.answered(recorder, answer),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::rate::Bitrate;
    use tokio::sync::mpsc::UnboundedReceiver;

    type Readings = UnboundedReceiver<moth_core::Reading>;

    async fn feed() -> (FeedHandle, SocketAddr, Readings) {
        let (recorder, readings) = Recorder::new();
        let (feed, handle) = Feed::bind("127.0.0.1:0".parse().unwrap(), recorder).await.unwrap();
        let address = feed.address().unwrap();
        tokio::spawn(feed.run());
        (handle, address, readings)
    }

    async fn next(readings: &mut Readings) -> Observation {
        timeout(Duration::from_secs(20), readings.recv()).await.unwrap().unwrap().what
    }

    #[tokio::test]
    async fn counts_arrive_and_a_request_is_asked_and_answered() {
        let (handle, address, mut readings) = feed().await;
        let action = Action::SetBitrate { video: Bitrate::from_kbps(2500) };
        assert!(!handle.ask(&action), "nobody there takes a bitrate");
        let mut broadcaster = BufReader::new(TcpStream::connect(address).await.unwrap());
        broadcaster.write_all(b"{\"lagged\":4}\n{\"takes\":[\"bitrate\"]}\n").await.unwrap();
        assert!(matches!(next(&mut readings).await, Observation::Counters(c) if c.lagged == Some(4)));
        assert!(matches!(next(&mut readings).await, Observation::Stream(facts) if facts.takes_bitrate));
        assert!(handle.ask(&action));
        assert!(!handle.ask(&Action::LighterPreset), "that it does not take");
        let mut line = String::new();
        broadcaster.read_line(&mut line).await.unwrap();
        assert_eq!(line, "{\"set\":\"bitrate\",\"request\":0,\"video_bps\":2500000}\n");
        broadcaster.write_all(b"{\"done\":0}\n").await.unwrap();
        let Observation::Acted { action: acted, failed, .. } = next(&mut readings).await else { panic!("it was done") };
        assert_eq!((acted, failed), (action, None));
    }

    #[tokio::test]
    async fn a_web_page_is_not_believed_and_silent_connections_lock_nobody_out() {
        let (handle, address, mut readings) = feed().await;
        let mut page = TcpStream::connect(address).await.unwrap();
        let post = "POST / HTTP/1.1\r\nHost: farrowgate.invalid\r\n\r\n{\"lagged\":8700}\n{\"takes\":[\"bitrate\"]}\n";
        page.write_all(post.as_bytes()).await.unwrap();
        let mut rest = Vec::new();
        let ended = timeout(Duration::from_secs(20), page.read_to_end(&mut rest)).await;
        assert!(ended.is_ok() && rest.is_empty(), "it was hung up on: {rest:?}");
        let mut silent = Vec::new();
        for _ in 0..3 * MOST_GUESTS {
            silent.push(TcpStream::connect(address).await.unwrap());
        }
        let mut good = TcpStream::connect(address).await.unwrap();
        good.write_all(b"{\"skipped\":1}\n").await.unwrap();
        assert!(
            matches!(next(&mut readings).await, Observation::Counters(c) if c.skipped == Some(1) && c.lagged.is_none())
        );
        assert!(!handle.ask(&Action::LighterPreset));
    }

    #[tokio::test]
    async fn garbage_is_answered_and_then_left_and_others_notice_nothing() {
        let (_handle, address, mut readings) = feed().await;
        let mut garbage = BufReader::new(TcpStream::connect(address).await.unwrap());
        garbage.write_all(b"GET /\n").await.unwrap();
        let mut line = String::new();
        garbage.read_line(&mut line).await.unwrap();
        assert!(line.contains("error") && line.contains("neither"), "{line}");
        // A line without end: it is cut off after four kilobytes, not remembered for ever.
        garbage.write_all(&vec![b'x'; 100_000]).await.unwrap_or(());
        let mut rest = Vec::new();
        let left = timeout(Duration::from_secs(20), garbage.read_to_end(&mut rest)).await;
        assert!(left.is_ok(), "the connection was ended");
        let mut good = TcpStream::connect(address).await.unwrap();
        good.write_all(b"{\"skipped\":1}\n").await.unwrap();
        assert!(matches!(next(&mut readings).await, Observation::Counters(c) if c.skipped == Some(1)));
    }
}
