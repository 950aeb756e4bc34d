//! The place on air is given back whatever a broadcaster does, in whatever order it is noticed: every sequence of a few steps, with
//! and without a moment for the relay between them, against servers of every temper.

use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll};
use std::time::Duration;

use futures::FutureExt;
use futures::future::BoxFuture;
use moth_adversary::words::Words;
use moth_core::reading::ConnectionFigures;
use moth_destination::{Address, StreamKey};
use moth_relay::{
    BoxConnection, Connection, Dialer, Incoming, Limits, LinkError, Reconnect, Recorder, Relay, RelayHandle,
    RelaySettings, Server,
};
use moth_rtmp::session::{Receiver, ReceiverEvent, RefuseCode};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, DuplexStream, ReadBuf, duplex};
use tokio::sync::{Notify, mpsc};
use tokio::time::{Instant, sleep, timeout};

/// A broadcaster that comes is on air within this.
const COMES_ON_AIR: Duration = Duration::from_secs(3);

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Step {
    /// On a connection of its own, all at once.
    Publish,
    Keyframe,
    /// It says that the stream is over.
    Delete,
    /// On the connection it has.
    PublishAgain,
    Garbage,
    Close,
    /// The server hangs up.
    HangUp,
    /// Every task that is ready has one turn.
    Breath,
    /// Everything that is to happen soon, happens.
    Moment,
}

const ALL: [Step; 9] = [
    Step::Publish,
    Step::Keyframe,
    Step::Delete,
    Step::PublishAgain,
    Step::Garbage,
    Step::Close,
    Step::HangUp,
    Step::Breath,
    Step::Moment,
];

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Temper {
    Takes,
    Refuses,
    /// It takes connections, and the broadcast, and then reads nothing more.
    Freezes,
    /// It takes connections and says nothing.
    Silent,
}

/// Servers of one temper.
struct Servers {
    temper: Temper,
    hang_up: Arc<Notify>,
    got_keyframe: Arc<AtomicBool>,
}

struct Line(DuplexStream);

impl AsyncRead for Line {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.0).poll_read(cx, buf)
    }
}

impl AsyncWrite for Line {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.0).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.0).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.0).poll_shutdown(cx)
    }
}

impl Connection for Line {
    fn unacknowledged_bytes(&self) -> Option<u64> {
        None
    }

    fn figures(&self) -> ConnectionFigures {
        ConnectionFigures::default()
    }
}

impl Dialer for Servers {
    fn dial<'a>(&'a self, _server: &'a Server) -> BoxFuture<'a, Result<BoxConnection, LinkError>> {
        let (near, far) = duplex(4096);
        tokio::spawn(serve(far, self.temper, self.hang_up.clone(), self.got_keyframe.clone()));
        async move { Ok(Box::new(Line(near)) as BoxConnection) }.boxed()
    }

    fn round_trip<'a>(&'a self, _server: &'a Server) -> BoxFuture<'a, Result<Duration, LinkError>> {
        async { Ok(Duration::from_millis(1)) }.boxed()
    }
}

async fn serve(mut stream: DuplexStream, temper: Temper, hang_up: Arc<Notify>, got_keyframe: Arc<AtomicBool>) {
    let mut session = Receiver::default();
    let mut bytes = [0; 4096];
    loop {
        let read = tokio::select! {
            read = stream.read(&mut bytes) => read.unwrap_or(0),
            () = hang_up.notified() => return,
        };
        if read == 0 {
            return;
        }
        if temper == Temper::Silent {
            continue;
        }
        session.feed(&bytes[..read]);
        while let Ok(Some(event)) = session.poll() {
            match event {
                ReceiverEvent::PublishRequested { .. } if temper == Temper::Refuses => {
                    session.refuse(RefuseCode::BadName, "not you");
                }
                ReceiverEvent::PublishRequested { .. } => session.accept(),
                ReceiverEvent::Media(_) => got_keyframe.store(true, Ordering::Relaxed),
                ReceiverEvent::Ended => return,
            }
            if stream.write_all(&session.take_output()).await.is_err() {
                return;
            }
            if temper == Temper::Freezes && got_keyframe.load(Ordering::Relaxed) {
                hang_up.notified().await;
                return;
            }
        }
        if stream.write_all(&session.take_output()).await.is_err() {
            return;
        }
    }
}

/// What asks to publish once more, on a connection that did: a chunk of its own on stream 3, a command for message stream 1.
fn asks_again() -> Vec<u8> {
    let command = b"\x02\x00\x07publish\x00\x40\x14\x00\x00\x00\x00\x00\x00\x05\x02\x00\x04name\x02\x00\x04live";
    let length = u8::try_from(command.len()).unwrap();
    [&[3, 0, 0, 0, 0, 0, length, 20, 1, 0, 0, 0][..], command].concat()
}

struct Tried {
    connect: mpsc::Sender<Incoming>,
    connections: Vec<DuplexStream>,
    hang_up: Arc<Notify>,
    /// A relay without one ends.
    handle: RelayHandle,
}

impl Tried {
    async fn begin(temper: Temper) -> (Self, Arc<AtomicBool>) {
        let (recorder, _) = Recorder::new();
        let address = Address::new("server.invalid", 1935, "live").unwrap();
        let settings = RelaySettings {
            app: "moth".into(),
            servers: vec![Server { name: "Aldmoor".into(), address }],
            key: StreamKey::new("secret").unwrap(),
            limits: Limits::default(),
            reconnect: Reconnect::default(),
            only_name: None,
            one_at_a_time: false,
        };
        let (hang_up, got_keyframe) = (Arc::new(Notify::new()), Arc::new(AtomicBool::new(false)));
        let servers = Servers { temper, hang_up: hang_up.clone(), got_keyframe: got_keyframe.clone() };
        let (relay, handle) = Relay::new(settings, Arc::new(servers), None, recorder).unwrap();
        let (connect, incoming) = mpsc::channel(8);
        tokio::spawn(relay.run(incoming));
        (Self { connect, connections: Vec::new(), hang_up, handle }, got_keyframe)
    }

    async fn connection(&mut self) -> &mut DuplexStream {
        let (near, far) = duplex(1 << 20);
        assert!(self.connect.send(Incoming { stream: Box::new(far), peer: None }).await.is_ok());
        self.connections.push(near);
        self.connections.last_mut().unwrap()
    }

    async fn say(&mut self, bytes: &[u8]) {
        if let Some(connection) = self.connections.last_mut() {
            // Whether it is still listened to is not the question.
            let _ = connection.write_all(bytes).await;
        }
    }

    async fn step(&mut self, step: Step, words: &Words) {
        match step {
            Step::Publish => {
                self.connection().await.write_all(&words.at_once()).await.unwrap();
            }
            Step::Keyframe => self.say(&words.keyframe).await,
            Step::Delete => self.say(&words.end).await,
            Step::PublishAgain => self.say(&asks_again()).await,
            Step::Garbage => self.say(&[0xff; 64]).await,
            Step::Close => drop(self.connections.pop()),
            Step::HangUp => self.hang_up.notify_waiters(),
            Step::Breath => tokio::task::yield_now().await,
            Step::Moment => sleep(Duration::from_millis(120)).await,
        }
    }

    /// Whether a new broadcaster is let on air.
    async fn lets_another_on_air(&mut self, words: &Words) -> bool {
        let connection = self.connection().await;
        connection.write_all(&words.at_once()).await.unwrap();
        let mut heard = Vec::new();
        let mut bytes = [0; 4096];
        loop {
            match connection.read(&mut bytes).await {
                Ok(read) if read > 0 => heard.extend_from_slice(&bytes[..read]),
                _ => return false,
            }
            let says = |text: &[u8]| heard.windows(text.len()).any(|window| window == text);
            if says(b"NetStream.Publish.Start") {
                return true;
            }
            if says(b"NetStream.Publish.BadName") {
                return false;
            }
        }
    }
}

/// Waits on a paused clock: virtual seconds, and none of ours.
fn on_air_after(temper: Temper, steps: &[Step], words: &Words) -> Result<Duration, &'static str> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build().unwrap();
    runtime.block_on(async {
        let (mut tried, got_keyframe) = Tried::begin(temper).await;
        for step in [&[Step::Publish], steps].concat() {
            tried.step(step, words).await;
        }
        // Whoever was there is gone.
        tried.connections.clear();
        got_keyframe.store(false, Ordering::Relaxed);
        let came = Instant::now();
        match timeout(COMES_ON_AIR, tried.lets_another_on_air(words)).await {
            Ok(true) => {}
            Ok(false) => return Err("refused"),
            Err(_) => return Err("kept waiting"),
        }
        let waited = came.elapsed();
        if matches!(temper, Temper::Takes | Temper::Freezes) {
            tried.say(&words.keyframe).await;
            // A server that hung up may be tried again after a while.
            let by = Instant::now() + Duration::from_secs(10);
            while !got_keyframe.load(Ordering::Relaxed) {
                if Instant::now() > by {
                    return Err("its pictures do not arrive");
                }
                sleep(Duration::from_millis(50)).await;
                tried.say(&words.keyframe).await;
            }
        }
        Ok(waited)
    })
}

/// Tries every order of so many steps after a broadcaster first asked to publish. Each step more takes nine times as long.
fn the_next_one_gets_on_air_after(count: u32) {
    let words = Words::to("moth");
    for number in 0..ALL.len().pow(count) {
        let steps: Vec<Step> = (0..count).map(|place| ALL[number / ALL.len().pow(place) % ALL.len()]).collect();
        for temper in [Temper::Takes, Temper::Freezes, Temper::Refuses, Temper::Silent] {
            if let Err(what) = on_air_after(temper, &steps, &words) {
                panic!("{temper:?}, {steps:?}: the next broadcaster: {what}");
            }
        }
    }
}

#[test]
fn whatever_a_broadcaster_does_in_whatever_order_the_next_one_gets_on_air() {
    the_next_one_gets_on_air_after(3);
}

mod long {
    #[test]
    fn whatever_four_things_a_broadcaster_does_the_next_one_gets_on_air() {
        super::the_next_one_gets_on_air_after(4);
    }
}

#[tokio::test(start_paused = true)]
async fn who_has_ended_its_stream_may_publish_another_on_the_same_connection() {
    let words = Words::to("moth");
    let (mut tried, got_keyframe) = Tried::begin(Temper::Takes).await;
    let started = |heard: &[u8]| heard.windows(22).filter(|window| *window == b"NetStream.Publish.Star").count();
    let mut heard = Vec::new();
    for (round, asks) in [words.at_once(), asks_again(), asks_again()].into_iter().enumerate() {
        got_keyframe.store(false, Ordering::Relaxed);
        if round == 0 {
            tried.connection().await;
        }
        tried.say(&asks).await;
        tried.say(&words.keyframe).await;
        sleep(Duration::from_secs(3)).await;
        let mut bytes = [0; 4096];
        let read = tried.connections[0].read(&mut bytes).await.unwrap();
        heard.extend_from_slice(&bytes[..read]);
        assert_eq!(started(&heard), round + 1);
        assert!(got_keyframe.load(Ordering::Relaxed), "round {round}");
        tried.say(&words.end).await;
        sleep(Duration::from_secs(1)).await;
    }
    // Having done what it came for, it is not told off for staying, and not kept either.
    let left = timeout(Duration::from_secs(12), tried.connections[0].read(&mut [0; 4096])).await;
    assert_eq!(left.unwrap().unwrap(), 0);
}

#[tokio::test(start_paused = true)]
async fn one_that_is_restarted_twice_keeps_its_place_for_as_long_as_the_second_restart_was_given() {
    let words = Words::to("moth");
    let (mut tried, _) = Tried::begin(Temper::Takes).await;
    let resumed = tried.handle.resumed();
    let long = Duration::from_secs(23);
    // Two restarts at 1 s and at 15 s; the second comes back at 25 s, when the wait for the first would have ended.
    for (n, away_s, until_restart_s) in [(0, 0, 1), (1, 1, 13), (2, 10, 1)] {
        sleep(Duration::from_secs(away_s)).await;
        tried.step(Step::Publish, &words).await;
        tried.step(Step::Keyframe, &words).await;
        sleep(Duration::from_secs(until_restart_s)).await;
        assert_eq!(*resumed.borrow(), n, "it went on with the broadcast that was there");
        tried.handle.expect_another(Some(long));
        tried.connections.clear();
    }
    // And nobody's place is kept for ever.
    sleep(long + Duration::from_secs(1)).await;
    assert!(tried.lets_another_on_air(&words).await);
    assert_eq!(*resumed.borrow(), 2);
}
