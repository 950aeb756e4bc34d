//! One connection to a server: the session on it, what is written, and what is acknowledged.

use std::collections::VecDeque;
use std::future::poll_fn;
use std::io;
use std::pin::Pin;
use std::task::Poll;
use std::time::Duration;

use bytes::{Buf, BytesMut};
use moth_core::reading::ConnectionFigures;
use moth_rtmp::StreamKey;
use moth_rtmp::session::{Publisher, PublisherEvent, SessionError};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Instant, timeout};

use crate::connection::{BoxConnection, Dialer, Server};
use crate::exchange::{Exchange, Outgoing, Role};

/// A server gets this long to take a TCP connection.
const DIAL: Duration = Duration::from_secs(5);
/// And this long to take the broadcast.
const OPEN: Duration = Duration::from_secs(8);
/// With bytes on their way and none acknowledged for this long, the connection is lost, whatever the kernel
/// still hopes: it would retry for a quarter of an hour.
const STALL: Duration = Duration::from_secs(6);
/// Messages are encoded ahead of the connection up to this many bytes: what is encoded cannot be dropped.
const COMMITTED_BYTES: usize = 8 << 10;

/// Why a connection ended or did not come about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct LineError {
    /// In plain words; never holds the key.
    pub why: String,
    /// The server answered and said no.
    pub refused: bool,
}

impl LineError {
    fn new(why: impl Into<String>) -> Self {
        Self { why: why.into(), refused: false }
    }
}

impl From<SessionError> for LineError {
    fn from(error: SessionError) -> Self {
        Self { refused: matches!(error, SessionError::Refused { .. }), why: error.to_string() }
    }
}

impl From<io::Error> for LineError {
    fn from(error: io::Error) -> Self {
        Self::new(match error.kind() {
            io::ErrorKind::ConnectionRefused => "nothing listens there (connection refused)".into(),
            io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe => "the server cut the connection".into(),
            io::ErrorKind::UnexpectedEof => "the server closed the connection".into(),
            _ => error.to_string(),
        })
    }
}

/// A connection to a server that takes the broadcast.
pub(crate) struct Line {
    pub server: Server,
    connection: BoxConnection,
    publisher: Publisher,
    out: BytesMut,
    written_bytes: u64,
    settled_bytes: u64,
    progress_at: Instant,
    /// Frames given to the connection, each with the count of bytes that ends with its last one.
    in_flight: VecDeque<(u64, Role)>,
    input: Vec<u8>,
}

impl Line {
    /// Connects, and asks the server to take the broadcast.
    pub(crate) async fn establish(dialer: &dyn Dialer, server: Server, key: StreamKey) -> Result<Self, LineError> {
        let connection = timeout(DIAL, dialer.dial(&server))
            .await
            .map_err(|_| LineError::new(format!("no answer within {} s", DIAL.as_secs())))??;
        let publisher = Publisher::new(server.address.clone(), key);
        let mut line = Self {
            server,
            connection,
            publisher,
            out: BytesMut::new(),
            written_bytes: 0,
            settled_bytes: 0,
            progress_at: Instant::now(),
            in_flight: VecDeque::new(),
            input: vec![0; 16 << 10],
        };
        let open = async {
            line.out.unsplit(line.publisher.take_output());
            while !line.publisher.is_ready() {
                line.step().await?;
            }
            Ok::<_, LineError>(())
        };
        timeout(OPEN, open).await.map_err(|_| {
            LineError::new(format!("it connects but does not take a broadcast within {} s", OPEN.as_secs()))
        })??;
        Ok(line)
    }

    /// Whether the next message may be handed over.
    pub(crate) fn wants_more(&self) -> bool {
        self.out.len() < COMMITTED_BYTES
    }

    /// Takes a message to send.
    pub(crate) fn send(&mut self, outgoing: &Outgoing) {
        self.publisher.send(&outgoing.message);
        self.out.unsplit(self.publisher.take_output());
        if !matches!(outgoing.role, Role::Header(_) | Role::Note) {
            if self.in_flight.is_empty() {
                self.progress_at = Instant::now();
            }
            self.in_flight.push_back((self.written_bytes + self.out.len() as u64, outgoing.role));
        }
    }

    /// Waits for the connection to take or give something. Safe to give up on at any time.
    pub(crate) async fn step(&mut self) -> Result<(), LineError> {
        let Self { connection, out, input, written_bytes, .. } = self;
        let read = poll_fn(|cx| {
            let mut wrote = false;
            // Each count is kept at once: an error after it must not unsay what the connection took.
            while !out.is_empty() {
                match Pin::new(&mut *connection).poll_write(cx, out) {
                    Poll::Ready(Ok(0)) => return Poll::Ready(Err(io::ErrorKind::WriteZero.into())),
                    Poll::Ready(Ok(count)) => {
                        out.advance(count);
                        *written_bytes += count as u64;
                        wrote = true;
                    }
                    Poll::Ready(Err(error)) => return Poll::Ready(Err(error)),
                    Poll::Pending => break,
                }
            }
            // A connection may hold what it took (TLS does); pending or not, it goes on by itself when woken.
            if let Poll::Ready(Err(error)) = Pin::new(&mut *connection).poll_flush(cx) {
                return Poll::Ready(Err(error));
            }
            let mut buffer = ReadBuf::new(input);
            match Pin::new(&mut *connection).poll_read(cx, &mut buffer) {
                Poll::Ready(Ok(())) if buffer.filled().is_empty() => {
                    Poll::Ready(Err(io::ErrorKind::UnexpectedEof.into()))
                }
                Poll::Ready(Ok(())) => Poll::Ready(Ok(buffer.filled().len())),
                Poll::Ready(Err(error)) => Poll::Ready(Err(error)),
                Poll::Pending if wrote => Poll::Ready(Ok(0)),
                Poll::Pending => Poll::Pending,
            }
        })
        .await?;
        if read > 0 {
            self.publisher.feed(&self.input[..read]);
            while let Some(PublisherEvent::Ready) = self.publisher.poll()? {}
            self.out.unsplit(self.publisher.take_output());
        }
        Ok(())
    }

    /// Moves what was acknowledged to its account; gives the bytes newly acknowledged.
    pub(crate) fn settle(&mut self, exchange: &mut Exchange) -> u64 {
        // Where the platform cannot tell, written counts as delivered.
        let waiting = self.connection.unacknowledged_bytes().unwrap_or(0);
        let settled = self.written_bytes.saturating_sub(waiting).max(self.settled_bytes);
        let newly = settled - self.settled_bytes;
        if newly > 0 {
            self.progress_at = Instant::now();
        }
        self.settled_bytes = settled;
        while let Some((_, role)) = self.in_flight.pop_front_if(|(end, _)| *end <= settled) {
            exchange.delivered(role);
        }
        newly
    }

    /// Whether the connection has stopped carrying anything.
    pub(crate) fn check_progress(&self) -> Result<(), LineError> {
        if !self.in_flight.is_empty() && self.progress_at.elapsed() > STALL {
            return Err(LineError::new(format!("nothing was acknowledged for {} s", STALL.as_secs())));
        }
        Ok(())
    }

    /// Whether everything handed over was written and acknowledged.
    pub(crate) fn is_settled(&self) -> bool {
        self.out.is_empty() && self.settled_bytes == self.written_bytes
    }

    /// What the platform tells of the connection.
    pub(crate) fn figures(&self) -> ConnectionFigures {
        self.connection.figures()
    }

    /// Tells the server that the broadcast is over, as far as it still listens.
    pub(crate) fn finish(&mut self) {
        self.publisher.finish();
        self.out.unsplit(self.publisher.take_output());
    }

    /// The connection is gone: what was not acknowledged goes with it. Gives the bytes newly acknowledged.
    pub(crate) fn cut_off(&mut self, exchange: &mut Exchange) -> u64 {
        let newly = self.settle(exchange);
        for (_, role) in self.in_flight.drain(..) {
            exchange.cut_off(role);
        }
        newly
    }
}
