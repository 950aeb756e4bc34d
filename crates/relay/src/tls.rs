//! Connections over TLS, trusting who the system trusts.
//!
//! What the kernel tells counts bytes on the wire, which are more than those of the broadcast. So whenever
//! everything given to TLS has been written, both counts are noted side by side; what is acknowledged of the
//! one then tells what was acknowledged of the other, never too much.

use std::collections::VecDeque;
use std::io;
use std::pin::Pin;
use std::sync::{Arc, OnceLock};
use std::task::{Context, Poll, ready};
use std::time::Duration;

use moth_core::reading::ConnectionFigures;
use moth_destination::FailureKind;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use tokio_rustls::rustls::pki_types::ServerName;
use tokio_rustls::rustls::{self, ClientConfig, RootCertStore};

use crate::connection::{BoxConnection, Connection};
use crate::tcp_connection::TcpConnection;
use moth_destination::LinkError;

/// At most so much is given to TLS at once, in bytes: one record (RFC 8446, section 5.1).
const RECORD_BYTES: usize = 16 << 10;
/// A server gets this long to answer in TLS; one that does not speak it may wait for more bytes for ever. Ours.
const HANDSHAKE: Duration = Duration::from_secs(4);
/// What the likeliest mistake is.
const HINT: &str = "an address without TLS begins with rtmp://";

/// Makes connections secure. The system's trust roots are read when they are first needed.
#[derive(Debug, Default)]
pub(crate) struct Tls {
    config: OnceLock<Arc<ClientConfig>>,
}

impl Tls {
    /// Secures a connection to `host`, whose certificate must be for that name and signed by a root that the
    /// system trusts.
    pub(crate) async fn secure(&self, connection: TcpConnection, host: &str) -> Result<BoxConnection, LinkError> {
        let name = ServerName::try_from(host.to_owned())
            .map_err(|_| failed(format!("`{host}` is not a name that a certificate could be for")))?;
        let config = match self.config.get() {
            Some(config) => config.clone(),
            None => {
                let made = config().map_err(|error| failed(format!("TLS cannot be set up: {error}")))?;
                self.config.get_or_init(|| Arc::new(made)).clone()
            }
        };
        let counted = Counted { connection, written_bytes: 0 };
        let stream = timeout(HANDSHAKE, TlsConnector::from(config).connect(name, counted))
            .await
            .map_err(|_| failed(format!("it does not answer in TLS; {HINT}")))?
            .map_err(in_words)?;
        let at = (0, stream.get_ref().0.written_bytes);
        Ok(Box::new(TlsConnection { stream, taken_bytes: 0, milestones: VecDeque::from([at]) }))
    }
}

fn config() -> Result<ClientConfig, rustls::Error> {
    let mut roots = RootCertStore::empty();
    let found = rustls_native_certs::load_native_certs();
    for error in &found.errors {
        tracing::warn!(%error, "some of the system's trust roots could not be read");
    }
    roots.add_parsable_certificates(found.certs);
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    Ok(builder.with_root_certificates(roots).with_no_client_auth())
}

fn failed(why: String) -> LinkError {
    LinkError::new(FailureKind::Tls, why)
}

/// A refused certificate is said so, and that nothing was told to whoever showed it.
fn in_words(error: io::Error) -> LinkError {
    let inner = error.get_ref().and_then(|e| e.downcast_ref::<rustls::Error>());
    match inner {
        Some(rustls::Error::InvalidCertificate(why)) => failed(format!(
            "its certificate is refused ({why}): it may not be the server it says, and was told no stream key"
        )),
        Some(other) => failed(format!("no TLS connection: {other}; {HINT}")),
        // Something that does not speak TLS hangs up on it.
        None if matches!(error.kind(), io::ErrorKind::UnexpectedEof | io::ErrorKind::ConnectionReset) => {
            failed(format!("it closed the connection when asked for TLS; {HINT}"))
        }
        None => error.into(),
    }
}

/// Counts what is written to the wire.
struct Counted {
    connection: TcpConnection,
    written_bytes: u64,
}

struct TlsConnection {
    stream: TlsStream<Counted>,
    /// Bytes of the broadcast taken so far.
    taken_bytes: u64,
    /// Counts of the broadcast and of the wire at moments when nothing was held between them; the first is
    /// the newest one that is known to be acknowledged.
    milestones: VecDeque<(u64, u64)>,
}

impl TlsConnection {
    fn acknowledged_bytes(&self) -> Option<u64> {
        let wire = &self.stream.get_ref().0;
        let acknowledged = wire.written_bytes.saturating_sub(wire.connection.unacknowledged_bytes()?);
        Some(self.milestones.iter().rev().find(|(_, at)| *at <= acknowledged).map_or(0, |(taken, _)| *taken))
    }

    /// Notes where both counts stand, and forgets what is no longer asked for.
    fn milestone(&mut self) {
        let at = (self.taken_bytes, self.stream.get_ref().0.written_bytes);
        if self.milestones.back().is_some_and(|(taken, _)| *taken == at.0) {
            return;
        }
        if let Some(acknowledged) = self.acknowledged_bytes() {
            while self.milestones.get(1).is_some_and(|(taken, _)| *taken <= acknowledged) {
                self.milestones.pop_front();
            }
        } else {
            self.milestones.clear();
        }
        self.milestones.push_back(at);
    }
}

impl Connection for TlsConnection {
    fn unacknowledged_bytes(&self) -> Option<u64> {
        Some(self.taken_bytes - self.acknowledged_bytes()?)
    }

    fn figures(&self) -> ConnectionFigures {
        self.stream.get_ref().0.connection.figures()
    }
}

impl AsyncRead for TlsConnection {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(cx, buf)
    }
}

impl AsyncWrite for TlsConnection {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        // One record at a time reaches the socket before the next is made: what waits, waits in the moth.
        ready!(self.as_mut().poll_flush(cx))?;
        let count = ready!(Pin::new(&mut self.stream).poll_write(cx, &buf[..buf.len().min(RECORD_BYTES)]))?;
        self.taken_bytes += count as u64;
        Poll::Ready(Ok(count))
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        ready!(Pin::new(&mut self.stream).poll_flush(cx))?;
        self.milestone();
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}

impl AsyncRead for Counted {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.connection).poll_read(cx, buf)
    }
}

impl AsyncWrite for Counted {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        let count = ready!(Pin::new(&mut self.connection).poll_write(cx, buf))?;
        self.written_bytes += count as u64;
        Poll::Ready(Ok(count))
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.connection).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.connection).poll_shutdown(cx)
    }
}
