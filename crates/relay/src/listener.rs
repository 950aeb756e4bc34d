//! Where broadcasters connect.

use std::io;

use moth_destination::Address;
use tokio::net::TcpListener;
use tokio::sync::mpsc;

use crate::incoming::Incoming;
use crate::sparing::Sparing;

/// Takes connections on a TCP port and hands them to the relay.
#[derive(Debug)]
pub struct Listener {
    socket: TcpListener,
}

impl Listener {
    /// Opens the port.
    ///
    /// # Errors
    /// What the system says if the address cannot be listened on.
    pub async fn bind(address: &Address) -> io::Result<Self> {
        Ok(Self { socket: TcpListener::bind((address.host(), address.port())).await? })
    }

    /// The port in use, also where the system chose it.
    ///
    /// # Errors
    /// What the system says if it cannot tell.
    pub fn port(&self) -> io::Result<u16> {
        Ok(self.socket.local_addr()?.port())
    }

    /// Hands over connections until the relay is gone.
    pub async fn run(self, relay: mpsc::Sender<Incoming>) {
        let failed = Sparing::default();
        loop {
            let (stream, peer) = match self.socket.accept().await {
                Ok(accepted) => accepted,
                Err(error) => {
                    // Out of descriptors, or a peer gone before it was accepted: neither ends the program.
                    if let Some(left_out) = failed.tell() {
                        tracing::warn!(%error, "a connection could not be accepted{left_out}");
                    }
                    tokio::time::sleep(std::time::Duration::from_millis(200)).await;
                    continue;
                }
            };
            if let Err(error) = stream.set_nodelay(true) {
                tracing::debug!(%error, "no-delay could not be set");
            }
            if relay.send(Incoming { stream: Box::new(stream), peer: Some(peer) }).await.is_err() {
                return;
            }
        }
    }
}
