//! One connection to a server that takes a broadcast: the session on it, what is written, what is acknowledged.

use std::future::poll_fn;
use std::io;
use std::pin::Pin;
use std::task::Poll;
use std::time::Duration;

use bytes::{Buf, BytesMut};
use moth_core::reading::ConnectionFigures;
use moth_destination::FailureKind;
use moth_destination::{Address, StreamKey};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadBuf};
use tokio::time::{Instant, timeout};

use crate::connection::{BoxConnection, Dialer, Server};
use crate::packet::Packet;
use crate::rtmp::server::RtmpSession;
use crate::session::Session;
use crate::token_bucket::TokenBucket;
use moth_destination::LinkError;

/// A server gets this long to take a TCP connection. Ours.
const DIAL: Duration = Duration::from_secs(5);
/// A server that was connected to gets this long to take the broadcast. Ours.
const OPEN: Duration = Duration::from_secs(8);

/// Answers to a server that are kept while it reads nothing, in bytes. Ours.
const MOST_ANSWERS: usize = 64 << 10;

/// What a server says while it is parted from is a few answers, in bytes; one that says more is left. Ours.
const MOST_AFTERWARDS: usize = 64 << 10;

/// A server is listened to no faster: one that takes a broadcast says a few things a second. Ours.
const MESSAGES_PER_S: u32 = 500;
const MESSAGES_AT_ONCE: u32 = 20_000;

/// Connects to a server, if it answers soon.
pub(crate) async fn connect(dialer: &dyn Dialer, server: &Server) -> Result<BoxConnection, LinkError> {
    let silent = |_| LinkError::new(FailureKind::Silent, format!("no answer within {} s", DIAL.as_secs()));
    timeout(DIAL, dialer.dial(server)).await.map_err(silent)?
}

/// A connection to a server that takes the broadcast.
pub(crate) struct Link {
    connection: BoxConnection,
    session: Box<dyn Session>,
    out: BytesMut,
    /// How much of it answers the server, at the most.
    answers_bytes: usize,
    written_bytes: u64,
    settled_bytes: u64,
    progress_at: Instant,
    pace: TokenBucket,
    input: Vec<u8>,
}

impl Link {
    /// Connects.
    pub(crate) async fn dial(dialer: &dyn Dialer, server: &Server, key: StreamKey) -> Result<Self, LinkError> {
        let connection = connect(dialer, server).await?;
        Ok(Self::over(connection, server.address.clone(), key))
    }

    fn over(connection: BoxConnection, address: Address, key: StreamKey) -> Self {
        Self {
            connection,
            session: Box::new(RtmpSession::new(address, key)),
            out: BytesMut::new(),
            answers_bytes: 0,
            written_bytes: 0,
            settled_bytes: 0,
            progress_at: Instant::now(),
            pace: TokenBucket::new(MESSAGES_PER_S, MESSAGES_AT_ONCE),
            input: vec![0; 16 << 10],
        }
    }

    /// Asks the server to take the broadcast.
    pub(crate) async fn open(&mut self) -> Result<(), LinkError> {
        let open = async {
            self.out.unsplit(self.session.take_output());
            while !self.session.is_taken() {
                self.step().await?;
            }
            Ok::<_, LinkError>(())
        };
        let opened = timeout(OPEN, open).await;
        let why = || format!("it connects but does not take a broadcast within {} s", OPEN.as_secs());
        let outcome = opened.map_err(|_| LinkError::new(FailureKind::Silent, why()))?;
        outcome.map_err(|error| self.hung_up(error))
    }

    /// Many servers refuse by hanging up; what they mean depends on what they were asked last.
    fn hung_up(&self, error: LinkError) -> LinkError {
        match self.session.hung_up() {
            Some((kind, meaning)) if error.kind == FailureKind::Broken => {
                LinkError::new(kind, format!("{} {meaning}", error.why))
            }
            _ => error,
        }
    }

    /// Bytes encoded and not yet taken by the connection.
    pub(crate) fn waiting_bytes(&self) -> usize {
        self.out.len()
    }

    /// Encodes a packet to be sent; gives the count of bytes that ends with its last one.
    pub(crate) fn send(&mut self, packet: &Packet) -> u64 {
        self.session.send(packet);
        self.out.unsplit(self.session.take_output());
        self.written_bytes + self.out.len() as u64
    }

    /// Waits for the connection to take or give something. Safe to give up on at any time.
    pub(crate) async fn step(&mut self) -> Result<(), LinkError> {
        self.pace.took(0);
        // Nobody is woken when it is listened to again: whoever waits here looks in several times a second.
        let listens = !self.pace.is_ahead();
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
            if !listens {
                return if wrote { Poll::Ready(Ok(0)) } else { Poll::Pending };
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
            let before = self.session.heard_messages();
            self.session.hear(&self.input[..read])?;
            self.pace.took(self.session.heard_messages() - before);
            let answers = self.session.take_output();
            self.answers_bytes = if self.out.is_empty() { 0 } else { self.answers_bytes } + answers.len();
            if self.answers_bytes > MOST_ANSWERS {
                return Err(LinkError::new(FailureKind::Broken, "it asks without end and reads no answer"));
            }
            self.out.unsplit(answers);
        }
        Ok(())
    }

    /// Looks up what was acknowledged; gives how much newly, in bytes.
    pub(crate) fn settle(&mut self) -> u64 {
        // Where the platform cannot tell, written counts as delivered.
        let waiting = self.connection.unacknowledged_bytes().unwrap_or(0);
        let settled = self.written_bytes.saturating_sub(waiting).max(self.settled_bytes);
        let newly = settled - self.settled_bytes;
        if newly > 0 {
            self.progress_at = Instant::now();
        }
        self.settled_bytes = settled;
        newly
    }

    /// Bytes acknowledged so far.
    pub(crate) fn settled_bytes(&self) -> u64 {
        self.settled_bytes
    }

    /// From now on, what waits counts as waiting.
    pub(crate) fn begin_waiting(&mut self) {
        self.progress_at = Instant::now();
    }

    /// How long ago something was acknowledged, or began to wait.
    pub(crate) fn since_progress(&self) -> Duration {
        self.progress_at.elapsed()
    }

    /// Whether everything handed over was written and acknowledged.
    pub(crate) fn is_settled(&self) -> bool {
        self.out.is_empty() && self.settled_bytes == self.written_bytes
    }

    /// What the platform tells of the connection.
    pub(crate) fn figures(&self) -> ConnectionFigures {
        self.connection.figures()
    }

    /// Closes it so that nothing is lost that was acknowledged: closed with something of the server's unread, or while it still speaks,
    /// a connection is reset (RFC 1122, section 4.2.2.13), and what the server's program has not read yet may go with it.
    /// The server gets so long to close its side: its program may still be reading.
    pub(crate) async fn part(mut self, within: Duration) {
        let Self { connection, input, .. } = &mut self;
        let parting = async {
            let mut heard = 0;
            if connection.shutdown().await.is_err() {
                return;
            }
            while let Ok(count @ 1..) = connection.read(input).await {
                heard += count;
                if heard > MOST_AFTERWARDS {
                    return;
                }
            }
        };
        let _ = timeout(within, parting).await;
    }

    /// Tells the server that the broadcast is over, as far as it still listens.
    pub(crate) fn finish(&mut self) {
        self.session.finish();
        self.out.unsplit(self.session.take_output());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::task::Context;

    /// A server that says what it has to say, and reads nothing.
    struct Deaf(BytesMut);

    impl AsyncRead for Deaf {
        fn poll_read(mut self: Pin<&mut Self>, _: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
            let count = self.0.len().min(buf.remaining());
            buf.put_slice(&self.0.split_to(count));
            Poll::Ready(Ok(()))
        }
    }

    impl AsyncWrite for Deaf {
        fn poll_write(self: Pin<&mut Self>, _: &mut Context<'_>, _: &[u8]) -> Poll<io::Result<usize>> {
            Poll::Pending
        }

        fn poll_flush(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
            Poll::Pending
        }

        fn poll_shutdown(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
            Poll::Pending
        }
    }

    impl crate::connection::Connection for Deaf {
        fn unacknowledged_bytes(&self) -> Option<u64> {
            None
        }

        fn figures(&self) -> ConnectionFigures {
            ConnectionFigures::default()
        }
    }

    fn link(says: BytesMut) -> Link {
        let address = "rtmp://127.0.0.1/live".parse().unwrap();
        let mut link = Link::over(Box::new(Deaf(says)), address, StreamKey::new("key").unwrap());
        link.out.unsplit(link.session.take_output());
        link
    }

    #[tokio::test(start_paused = true)]
    async fn a_server_that_talks_without_end_is_read_no_faster_than_one_speaks() {
        // S0 S1 S2, then acknowledgements: chunk stream 2, type 3, four bytes (RTMP 1.0, section 5.4.3).
        let mut says = BytesMut::from(&[&[3][..], &[0; 3072]].concat()[..]);
        (0..500_000).for_each(|_| says.extend_from_slice(&[2, 0, 0, 0, 0, 0, 4, 3, 0, 0, 0, 0, 0, 0, 0, 1]));
        let mut link = link(says);
        for _ in 0..200 {
            let _ = timeout(Duration::from_millis(50), link.step()).await;
        }
        let read = link.session.heard_messages();
        // At once, in ten seconds, and what came in one read.
        let most = u64::from(MESSAGES_AT_ONCE) + 10 * u64::from(MESSAGES_PER_S) + 1024;
        assert!((u64::from(MESSAGES_AT_ONCE)..most).contains(&read), "{read}");
    }

    #[tokio::test]
    async fn a_server_that_has_not_read_to_the_end_and_still_speaks_gets_all_of_it() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = format!("rtmp://{}/live", listener.local_addr().unwrap()).parse().unwrap();
        let server = Server { name: "Aldmoor".into(), address };
        let dialer = crate::tcp::TcpDialer::default();
        let (link, taken) =
            tokio::join!(Link::dial(&dialer, &server, StreamKey::new("key").unwrap()), listener.accept());
        let (mut link, mut there) = (link.unwrap(), taken.unwrap().0);
        link.out.extend_from_slice(&[7; 60_000]);
        while !link.out.is_empty() {
            // It takes what fits.
            link.step().await.unwrap();
        }
        there.write_all(b"what nobody reads any more").await.unwrap();
        // Its program closes when it has read to the end.
        let read_to_the_end = async move {
            let mut all = Vec::new();
            there.read_to_end(&mut all).await.map(|_| all.len())
        };
        let ((), read) = tokio::join!(link.part(Duration::from_secs(20)), read_to_the_end);
        assert!(read.is_ok_and(|count| count == 60_000));
    }

    #[tokio::test(start_paused = true)]
    async fn a_server_that_never_closes_is_not_waited_for_any_longer() {
        let (began, within) = (Instant::now(), Duration::from_millis(300));
        link(BytesMut::new()).part(within).await;
        assert_eq!(began.elapsed(), within);
    }

    #[tokio::test]
    async fn a_server_that_pings_and_never_reads_costs_no_memory() {
        // S0 S1 S2, then pings: chunk stream 2, type 4, six bytes (RTMP 1.0, section 7.1.7).
        let mut says = BytesMut::from(&[&[3][..], &[0; 3072]].concat()[..]);
        (0..500_000).for_each(|_| says.extend_from_slice(&[2, 0, 0, 0, 0, 0, 6, 4, 0, 0, 0, 0, 0, 6, 1, 2, 3, 4]));
        let mut link = link(says);
        let error = loop {
            if let Err(error) = link.step().await {
                break error;
            }
        };
        assert!(error.to_string().contains("reads no answer"), "{error}");
        assert!(link.waiting_bytes() < 2 * MOST_ANSWERS, "{}", link.waiting_bytes());
    }
}
