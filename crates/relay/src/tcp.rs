//! Real connections to servers.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use futures::FutureExt;
use futures::future::BoxFuture;
use moth_destination::FailureKind;
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout};

use crate::connection::{BoxConnection, Dialer, Server};
use crate::race::race;
use crate::tcp_connection::TcpConnection;
use crate::tcp_info;
use crate::tls::Tls;
use moth_destination::LinkError;

/// The most that may wait unsent in the kernel, in bytes: enough to keep 100 Mb/s busy between two wake-ups
/// of a few milliseconds, and 30 ms of an 8 Mb/s broadcast. Ours.
const UNSENT_BYTES: u32 = 32 << 10;

/// Connects over TCP, and over TLS where the address says so.
#[derive(Debug, Default)]
pub struct TcpDialer {
    tls: Tls,
    fills_buffers: bool,
    gateway: Option<FindGateway>,
}

/// Finds the first router on the way to an address: a matter of the platform, and of the moment.
pub type FindGateway = fn(IpAddr) -> Option<IpAddr>;

/// Ports a router in the house may have an answer at, if only a refusal: name service, its page.
const ROUTER_PORTS: [u16; 2] = [53, 80];
/// A port that says nothing at all is given up after this long. Ours.
const SILENT_PORT: Duration = Duration::from_millis(400);

/// The congestion control that fills the buffer before the narrowest place, as most uploads do (RFC 9438). Some, such as
/// BBR, avoid that, and would never show how deep it is.
const FILLING: &str = "cubic";

impl TcpDialer {
    /// One whose connections fill the buffer of the line whatever this machine's own way of sending is, to find out how
    /// deep it is.
    #[must_use]
    pub fn filling() -> Self {
        Self { fills_buffers: true, ..Self::default() }
    }

    /// One that can ask the first router.
    #[must_use]
    pub fn finding_gateway(find: FindGateway) -> Self {
        Self { gateway: Some(find), ..Self::default() }
    }
}

impl Dialer for TcpDialer {
    fn dial<'a>(&'a self, server: &'a Server) -> BoxFuture<'a, Result<BoxConnection, LinkError>> {
        async move {
            let (stream, _) = race(&look_up(server).await?, TcpStream::connect::<SocketAddr>).await?;
            // A frame's last segment must not wait for the next frame.
            stream.set_nodelay(true)?;
            tcp_info::limit_unsent(&stream, UNSENT_BYTES)?;
            if self.fills_buffers
                && let Err(error) = tcp_info::send_by(&stream, FILLING)
            {
                tracing::warn!(%error, "{FILLING} is not to be had: the depth of the buffer may be understated");
            }
            let connection = TcpConnection(stream);
            if server.address.is_secure() {
                return self.tls.secure(connection, server.address.host()).await;
            }
            Ok(Box::new(connection) as BoxConnection)
        }
        .boxed()
    }

    fn round_trip<'a>(&'a self, server: &'a Server) -> BoxFuture<'a, Result<Duration, LinkError>> {
        async move {
            let (_, took) = race(&look_up(server).await?, TcpStream::connect::<SocketAddr>).await?;
            Ok(took)
        }
        .boxed()
    }

    fn first_hop<'a>(&'a self, server: &'a Server) -> Option<BoxFuture<'a, Result<Duration, LinkError>>> {
        let find = self.gateway?;
        let question = async move {
            let address = look_up(server).await?.first().map(SocketAddr::ip);
            let none = || LinkError::new(FailureKind::Other, "no router stands between");
            let gateway = address.and_then(find).ok_or_else(none)?;
            for port in ROUTER_PORTS {
                let began = Instant::now();
                match timeout(SILENT_PORT, TcpStream::connect((gateway, port))).await {
                    Ok(Ok(_)) => return Ok(began.elapsed()),
                    // A refusal is an answer, too.
                    Ok(Err(error)) if error.kind() == io::ErrorKind::ConnectionRefused => return Ok(began.elapsed()),
                    Ok(Err(_)) | Err(_) => {}
                }
            }
            Err(LinkError::new(FailureKind::Silent, "the first router says nothing"))
        };
        Some(question.boxed())
    }
}

async fn look_up(server: &Server) -> Result<Vec<SocketAddr>, LinkError> {
    let host = server.address.host();
    let why = |what: String| LinkError::new(FailureKind::NameNotFound, format!("the name `{host}` {what}"));
    let found = tokio::net::lookup_host((host, server.address.port())).await;
    let found: Vec<SocketAddr> = found.map_err(|error| why(format!("was not found: {error}")))?.collect();
    if found.is_empty() { Err(why("has no address".into())) } else { Ok(found) }
}
