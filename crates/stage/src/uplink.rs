//! The stand-in line: one narrow place with a buffer before it, a delay behind it, and a receiver's window.
//!
//! A fluid model in steps of [`STEP`]: every connection's bytes wait in its socket until the congestion
//! window lets them into the router's buffer, leave it at the line's rate, arrive after the delay, and wait
//! in the receiver's buffer until the server reads them. Acknowledgements come back after the same delay.
//! The figures a kernel would supply fall out of it. The window opens by a segment a round trip and closes
//! by three tenths when the buffer overflows (as in RFC 9438, CUBIC, section 4.6); segments are not
//! followed one by one.

use std::collections::VecDeque;
use std::io;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll, Waker};
use std::time::Duration;

use bytes::{Buf, BytesMut};
use futures::FutureExt;
use futures::future::BoxFuture;
use moth_core::reading::ConnectionFigures;
use moth_destination::FailureKind;
use moth_relay::{BoxConnection, Connection, Dialer, LinkError, Server};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::sync::{mpsc, watch};
use tokio::time::{Instant, MissedTickBehavior, interval, sleep};

use crate::conditions::Conditions;
use crate::noise::Noise;

/// The step of the model. Ours.
const STEP: Duration = Duration::from_millis(5);
/// The most that waits unsent in the stand-in socket, in bytes, as on a real one. Ours.
const UNSENT_BYTES: u64 = 32 << 10;
/// The receiver's window, in bytes. Ours.
const WINDOW_BYTES: u64 = 384 << 10;
/// A round trip this far above its shortest climbs, in milliseconds. Ours.
const CLIMBS_MS: f64 = 50.0;
/// A segment's payload, in bytes. Ours.
const SEGMENT_BYTES: u64 = 1448;

/// A connection that reached a server.
pub(crate) struct Arrival {
    pub server: String,
    pub end: ServerEnd,
}

/// The line, shared by all connections over it.
#[derive(Clone)]
pub(crate) struct Uplink {
    pipes: Arc<Mutex<Vec<Arc<Mutex<Pipe>>>>>,
    conditions: watch::Receiver<Conditions>,
    arrivals: mpsc::UnboundedSender<Arrival>,
}

/// One connection's bytes, upstream (`forth`) and down (`back`). Positions count bytes since the start.
struct Pipe {
    server: String,
    forth: BytesMut,
    /// Position of the first byte in `forth`: how much the server has read.
    read: u64,
    written: u64,
    /// Let into the router's buffer.
    sent: u64,
    /// Left the router's buffer.
    passed: u64,
    arrived: u64,
    acknowledged: u64,
    /// Positions that arrive, and positions that are acknowledged, each at its time.
    arriving: VecDeque<(Instant, u64)>,
    acknowledging: VecDeque<(Instant, u64)>,
    /// When each position was sent, for the round trip.
    sent_at: VecDeque<(u64, Instant)>,
    window: f64,
    rtt_ms: Option<f64>,
    min_rtt_ms: Option<f64>,
    rtt_var_ms: f64,
    retransmits: u64,
    busy_us: u64,
    receiver_limited_us: u64,
    /// What the server may read now, in bytes.
    reading: f64,
    back: BytesMut,
    coming_back: VecDeque<(Instant, BytesMut)>,
    reset: bool,
    client_closed: bool,
    /// The server's goodbye is on its way and arrives then, after its last acknowledgement.
    closing_at: Option<Instant>,
    server_closed: bool,
    wakers: Vec<Waker>,
}

impl Pipe {
    fn new(server: String) -> Self {
        Self {
            server,
            forth: BytesMut::new(),
            read: 0,
            written: 0,
            sent: 0,
            passed: 0,
            arrived: 0,
            acknowledged: 0,
            arriving: VecDeque::new(),
            acknowledging: VecDeque::new(),
            sent_at: VecDeque::new(),
            window: 10.0 * SEGMENT_BYTES as f64,
            rtt_ms: None,
            min_rtt_ms: None,
            rtt_var_ms: 0.0,
            retransmits: 0,
            busy_us: 0,
            receiver_limited_us: 0,
            reading: 0.0,
            back: BytesMut::new(),
            coming_back: VecDeque::new(),
            reset: false,
            client_closed: false,
            closing_at: None,
            server_closed: false,
            wakers: Vec::new(),
        }
    }

    fn wake(&mut self) {
        self.wakers.drain(..).for_each(Waker::wake);
    }

    fn wait(&mut self, cx: &Context<'_>) {
        if !self.wakers.iter().any(|w| w.will_wake(cx.waker())) {
            self.wakers.push(cx.waker().clone());
        }
    }

    fn unsent(&self) -> u64 {
        self.written - self.sent
    }

    /// Whether it has bytes that the line has not carried yet.
    fn is_waiting(&self) -> bool {
        self.written > self.passed
    }

    fn buffered(&self) -> u64 {
        self.sent - self.passed
    }

    /// Lets bytes from the socket into the router's buffer, as far as the windows allow.
    fn admit(&mut self, now: Instant, buffer_bytes: u64) {
        let step_us = u64::try_from(STEP.as_micros()).unwrap_or(0);
        if self.written > self.acknowledged {
            self.busy_us += step_us;
        }
        let in_flight = self.sent - self.acknowledged;
        let free = WINDOW_BYTES.saturating_sub(self.sent - self.read);
        let by_window = (self.window as u64).saturating_sub(in_flight);
        let take = self.unsent().min(free).min(by_window);
        if take == free && self.unsent() > take {
            self.receiver_limited_us += step_us;
        }
        if take > 0 {
            self.sent += take;
            self.sent_at.push_back((self.sent, now));
        }
        if self.buffered() > buffer_bytes {
            // What overflows is lost and sent again; the positions stay, as the bytes do get through.
            self.retransmits += (self.buffered() - buffer_bytes).div_ceil(SEGMENT_BYTES).min(20);
            self.window = (self.window * 0.7).max(4.0 * SEGMENT_BYTES as f64);
        } else if take > 0 && take == by_window {
            // Slow start until the round trip climbs, a segment a round trip afterwards.
            let rtt = self.rtt_ms.unwrap_or(50.0).max(1.0);
            let gain = if rtt < self.min_rtt_ms.unwrap_or(rtt) + CLIMBS_MS {
                take as f64
            } else {
                SEGMENT_BYTES as f64 * STEP.as_secs_f64() * 1000.0 / rtt
            };
            self.window = (self.window + gain).min(8e6);
        }
    }

    /// Lets `bytes` leave the router's buffer.
    fn pass(&mut self, bytes: u64, arrive_at: Instant) {
        let bytes = bytes.min(self.buffered());
        if bytes > 0 {
            self.passed += bytes;
            // Jitter never puts bytes out of order.
            let after = self.arriving.back().map_or(arrive_at, |(at, _)| arrive_at.max(*at));
            self.arriving.push_back((after, self.passed));
        }
    }

    fn deliver(&mut self, now: Instant, delay: Duration) {
        while let Some((at, position)) = self.arriving.front().copied().filter(|(at, _)| *at <= now) {
            self.arriving.pop_front();
            self.arrived = position;
            self.acknowledging.push_back((at + delay, position));
        }
        while let Some((_, position)) = self.acknowledging.front().copied().filter(|(at, _)| *at <= now) {
            self.acknowledging.pop_front();
            self.acknowledged = position;
            while let Some((_, at)) = self.sent_at.front().copied().filter(|(p, _)| *p <= position) {
                self.sent_at.pop_front();
                let sample = now.duration_since(at).as_secs_f64() * 1000.0;
                // Smoothed as a kernel does, RFC 6298, section 2.
                self.min_rtt_ms = Some(self.min_rtt_ms.map_or(sample, |shortest| shortest.min(sample)));
                let off = self.rtt_ms.map_or(sample / 2.0, |rtt| (sample - rtt).abs());
                self.rtt_var_ms += (off - self.rtt_var_ms) / 4.0;
                self.rtt_ms = Some(self.rtt_ms.map_or(sample, |rtt| rtt + (sample - rtt) / 8.0));
            }
        }
        while let Some((_, bytes)) = self.coming_back.pop_front_if(|(at, _)| *at <= now) {
            self.back.unsplit(bytes);
        }
        self.server_closed |= self.closing_at.is_some_and(|at| at <= now);
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Uplink {
    /// A line under these conditions, and where connections arrive at servers.
    pub(crate) fn new(conditions: watch::Receiver<Conditions>) -> (Self, mpsc::UnboundedReceiver<Arrival>) {
        let (arrivals, at_servers) = mpsc::unbounded_channel();
        (Self { pipes: Arc::default(), conditions, arrivals }, at_servers)
    }

    /// Moves bytes along, for as long as it is polled.
    pub(crate) async fn run(self, seed: u64) {
        let mut noise = Noise::new(seed, "line");
        let mut tick = interval(STEP);
        tick.set_missed_tick_behavior(MissedTickBehavior::Burst);
        let mut wavering = 1.0;
        let mut dip_until = Instant::now();
        loop {
            let now = tick.tick().await;
            // Ordinary noise: the rate wavers by a few percent, and every few minutes it halves for a moment.
            wavering += (noise.about(1.0, 0.05) - wavering) * 0.02;
            if noise.chance(STEP.as_secs_f64() / 150.0) {
                dip_until = now + Duration::from_secs_f64(noise.between(0.05, 0.35));
            }
            let factor = if now < dip_until { wavering * 0.5 } else { wavering };
            self.step(now, factor, &mut noise);
        }
    }

    fn step(&self, now: Instant, factor: f64, noise: &mut Noise) {
        let conditions = self.conditions.borrow();
        let line = conditions.line;
        let (left, _) = line.left_kbps(conditions.machine.uploads_kbps());
        let rate = left * factor;
        let bytes_of = |kbps: f64| kbps * 1000.0 / 8.0 * STEP.as_secs_f64();
        let buffer_bytes = ((left * line.buffer_ms / 8.0) as u64).max(16 << 10);
        let mut pipes = lock(&self.pipes);
        pipes.retain(|pipe| {
            let pipe = lock(pipe);
            !(pipe.reset || pipe.client_closed && pipe.server_closed)
        });
        let waiting = pipes.iter().filter(|pipe| lock(pipe).is_waiting()).count().max(1);
        for pipe in pipes.iter() {
            let mut pipe = lock(pipe);
            let Some(server) = conditions.servers.iter().find(|s| s.name == pipe.server) else { continue };
            if server.away {
                pipe.reset = true;
                pipe.wake();
                continue;
            }
            let delay = Duration::from_secs_f64((line.delay_ms + server.delay_ms) / 1000.0);
            let jitter = Duration::from_secs_f64(noise.between(0.0, line.jitter_ms + server.jitter_ms) / 1000.0);
            pipe.admit(now, buffer_bytes);
            let share = (bytes_of(rate) / waiting as f64).min(bytes_of(server.route_kbps * factor));
            pipe.pass(share as u64, now + delay + jitter);
            pipe.deliver(now, delay);
            let reads = bytes_of(server.reads_kbps);
            // What it did not read it may not save up: it is slow, not resting.
            pipe.reading =
                if reads.is_finite() { (pipe.reading + reads).min(reads * 4.0 + 4096.0) } else { f64::INFINITY };
            pipe.wake();
        }
    }
}

impl Dialer for Uplink {
    fn dial<'a>(&'a self, server: &'a Server) -> BoxFuture<'a, Result<BoxConnection, LinkError>> {
        async move {
            self.handshake(server).await?;
            let delay_ms = self.delay_ms(server)?;
            let pipe = Arc::new(Mutex::new(Pipe::new(server.name.clone())));
            lock(&self.pipes).push(pipe.clone());
            let end = ServerEnd { pipe: pipe.clone(), delay: Duration::from_secs_f64(delay_ms / 1000.0) };
            let arrival = Arrival { server: server.name.clone(), end };
            self.arrivals.send(arrival).map_err(|_| io::Error::from(io::ErrorKind::ConnectionRefused))?;
            Ok(Box::new(ClientEnd { pipe }) as BoxConnection)
        }
        .boxed()
    }

    fn round_trip<'a>(&'a self, server: &'a Server) -> BoxFuture<'a, Result<Duration, LinkError>> {
        async move {
            let began = Instant::now();
            self.handshake(server).await?;
            Ok(began.elapsed())
        }
        .boxed()
    }

    fn first_hop<'a>(&'a self, _server: &'a Server) -> Option<BoxFuture<'a, Result<Duration, LinkError>>> {
        let question = async move {
            let (own_ms, before_it) = {
                let conditions = self.conditions.borrow();
                let (_, link_is_narrow) = conditions.line.left_kbps(conditions.machine.uploads_kbps());
                (conditions.line.gateway_ms, link_is_narrow)
            };
            let queueing_ms = if before_it { self.shared_queue_ms() } else { 0.0 };
            sleep(Duration::from_secs_f64((own_ms + queueing_ms) / 1000.0)).await;
            Ok(Duration::from_secs_f64((own_ms + queueing_ms) / 1000.0))
        };
        Some(question.boxed())
    }
}

impl Uplink {
    /// One-way delay to a server, in milliseconds.
    fn delay_ms(&self, server: &Server) -> Result<f64, LinkError> {
        let conditions = self.conditions.borrow();
        let found = conditions.servers.iter().find(|s| s.name == server.name);
        let found = found.ok_or_else(|| LinkError::new(FailureKind::NameNotFound, "no server of that name"))?;
        Ok(found.delay_ms + conditions.line.delay_ms)
    }

    /// How long what waits in the place all connections share takes to leave it, in milliseconds. What waits before one
    /// server's own narrow route is not in anybody else's way.
    fn shared_queue_ms(&self) -> f64 {
        let conditions = self.conditions.borrow();
        let (left, _) = conditions.line.left_kbps(conditions.machine.uploads_kbps());
        let is_shared = |name: &str| {
            conditions.servers.iter().find(|s| s.name == name).is_none_or(|server| server.route_kbps >= left)
        };
        let pipes = lock(&self.pipes);
        let waiting: u64 = pipes
            .iter()
            .map(|pipe| lock(pipe))
            .filter(|pipe| is_shared(&pipe.server))
            .map(|pipe| pipe.buffered())
            .sum();
        waiting as f64 * 8.0 / left.max(1.0)
    }

    /// A TCP handshake: its first segment waits behind everything that is in the router's buffer.
    async fn handshake(&self, server: &Server) -> Result<(), LinkError> {
        let delay_ms = self.delay_ms(server)?;
        let away = self.conditions.borrow().servers.iter().any(|s| s.name == server.name && s.away);
        let queueing_ms = self.shared_queue_ms();
        sleep(Duration::from_secs_f64((delay_ms * 2.0 + queueing_ms) / 1000.0)).await;
        if away { Err(io::Error::from(io::ErrorKind::ConnectionRefused).into()) } else { Ok(()) }
    }
}

/// The moth's end of a connection.
struct ClientEnd {
    pipe: Arc<Mutex<Pipe>>,
}

impl Connection for ClientEnd {
    fn unacknowledged_bytes(&self) -> Option<u64> {
        let pipe = lock(&self.pipe);
        Some(pipe.written - pipe.acknowledged)
    }

    fn figures(&self) -> ConnectionFigures {
        let pipe = lock(&self.pipe);
        ConnectionFigures {
            rtt_ms: pipe.rtt_ms,
            min_rtt_ms: pipe.min_rtt_ms,
            rtt_var_ms: pipe.rtt_ms.map(|_| pipe.rtt_var_ms),
            unsent_bytes: Some(pipe.unsent()),
            retransmits: Some(pipe.retransmits),
            delivery_rate: None,
            busy_us: Some(pipe.busy_us),
            receiver_limited_us: Some(pipe.receiver_limited_us),
        }
    }
}

impl AsyncRead for ClientEnd {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let mut pipe = lock(&self.pipe);
        if pipe.reset {
            return Poll::Ready(Err(io::ErrorKind::ConnectionReset.into()));
        }
        let count = pipe.back.len().min(buf.remaining());
        if count == 0 && !pipe.server_closed {
            pipe.wait(cx);
            return Poll::Pending;
        }
        buf.put_slice(&pipe.back.split_to(count));
        Poll::Ready(Ok(()))
    }
}

impl AsyncWrite for ClientEnd {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let mut pipe = lock(&self.pipe);
        if pipe.reset || pipe.server_closed {
            return Poll::Ready(Err(io::ErrorKind::ConnectionReset.into()));
        }
        let count = bytes.len().min(usize::try_from(UNSENT_BYTES.saturating_sub(pipe.unsent())).unwrap_or(0));
        if count == 0 && !bytes.is_empty() {
            pipe.wait(cx);
            return Poll::Pending;
        }
        pipe.forth.extend_from_slice(&bytes[..count]);
        pipe.written += count as u64;
        Poll::Ready(Ok(count))
    }

    fn poll_flush(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        lock(&self.pipe).client_closed = true;
        Poll::Ready(Ok(()))
    }
}

impl Drop for ClientEnd {
    fn drop(&mut self) {
        let mut pipe = lock(&self.pipe);
        pipe.client_closed = true;
        pipe.wake();
    }
}

/// The server's end of a connection.
pub(crate) struct ServerEnd {
    pipe: Arc<Mutex<Pipe>>,
    delay: Duration,
}

impl AsyncRead for ServerEnd {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let mut pipe = lock(&self.pipe);
        if pipe.reset {
            return Poll::Ready(Err(io::ErrorKind::ConnectionReset.into()));
        }
        let here = usize::try_from(pipe.arrived - pipe.read).unwrap_or(0);
        let may = if pipe.reading.is_finite() { pipe.reading as usize } else { usize::MAX };
        let count = here.min(may).min(buf.remaining());
        if count == 0 {
            if pipe.client_closed && pipe.read == pipe.written {
                return Poll::Ready(Ok(()));
            }
            pipe.wait(cx);
            return Poll::Pending;
        }
        buf.put_slice(&pipe.forth[..count]);
        pipe.forth.advance(count);
        pipe.read += count as u64;
        pipe.reading -= count as f64;
        Poll::Ready(Ok(()))
    }
}

impl AsyncWrite for ServerEnd {
    fn poll_write(self: Pin<&mut Self>, _: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let mut pipe = lock(&self.pipe);
        if pipe.reset || pipe.client_closed {
            return Poll::Ready(Err(io::ErrorKind::ConnectionReset.into()));
        }
        let at = Instant::now() + self.delay;
        pipe.coming_back.push_back((at, bytes.into()));
        Poll::Ready(Ok(bytes.len()))
    }

    fn poll_flush(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }
}

impl Drop for ServerEnd {
    fn drop(&mut self) {
        lock(&self.pipe).closing_at = Some(Instant::now() + self.delay);
    }
}
