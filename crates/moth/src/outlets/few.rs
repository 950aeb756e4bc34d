//! A port that serves a few at a time: who came first makes room for a newcomer, so that idle ones neither lock others out nor take
//! the descriptors that the broadcast needs.

use std::collections::VecDeque;
use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use axum::serve::Listener;
use moth_relay::sparing::Sparing;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::oneshot;

/// After a failure to accept, which the next try would meet as well. Ours.
const PAUSE: Duration = Duration::from_millis(200);

/// A port for a few.
#[derive(Debug)]
pub struct Few {
    socket: TcpListener,
    most: usize,
    /// Dropped, a guest is turned away.
    guests: VecDeque<oneshot::Sender<()>>,
    failed: Sparing,
}

impl Few {
    /// No more than so many at a time.
    #[must_use]
    pub fn new(socket: TcpListener, most: usize) -> Self {
        Self { socket, most, guests: VecDeque::new(), failed: Sparing::default() }
    }
}

impl Listener for Few {
    type Io = Guest;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Guest, SocketAddr) {
        loop {
            match self.socket.accept().await {
                Ok((stream, peer)) => {
                    self.guests.retain(|guest| !guest.is_closed());
                    if self.guests.len() >= self.most {
                        self.guests.pop_front();
                        // Its descriptor is given back before more are taken in.
                        tokio::task::yield_now().await;
                    }
                    let (stays, turned_away) = oneshot::channel();
                    self.guests.push_back(stays);
                    return (Guest { stream, turned_away: Some(turned_away) }, peer);
                }
                Err(error) => {
                    if let Some(left_out) = self.failed.tell() {
                        tracing::warn!(%error, "a connection to the endpoint could not be taken{left_out}");
                    }
                    tokio::time::sleep(PAUSE).await;
                }
            }
        }
    }

    fn local_addr(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }
}

/// A connection that ends when it is turned away.
#[derive(Debug)]
pub struct Guest {
    stream: TcpStream,
    /// Ready when it is turned away; `None` after that.
    turned_away: Option<oneshot::Receiver<()>>,
}

impl Guest {
    fn is_turned_away(&mut self, cx: &mut Context<'_>) -> bool {
        if self.turned_away.as_mut().is_some_and(|away| Pin::new(away).poll(cx).is_ready()) {
            self.turned_away = None;
        }
        self.turned_away.is_none()
    }
}

impl AsyncRead for Guest {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        if self.is_turned_away(cx) {
            return Poll::Ready(Err(io::ErrorKind::ConnectionAborted.into()));
        }
        Pin::new(&mut self.stream).poll_read(cx, buf)
    }
}

impl AsyncWrite for Guest {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        if self.is_turned_away(cx) {
            return Poll::Ready(Err(io::ErrorKind::ConnectionAborted.into()));
        }
        Pin::new(&mut self.stream).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::Router;
    use axum::routing::get;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    #[tokio::test]
    async fn idle_ones_make_room_for_who_asks() {
        let socket = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = socket.local_addr().unwrap();
        let app = Router::new().route("/", get(|| async { "here" }));
        tokio::spawn(async move { axum::serve(Few::new(socket, 3), app).await });
        let mut idle = Vec::new();
        for _ in 0..20 {
            idle.push(TcpStream::connect(address).await.unwrap());
        }
        let mut asks = TcpStream::connect(address).await.unwrap();
        asks.write_all(b"GET / HTTP/1.1\r\nHost: here\r\nConnection: close\r\n\r\n").await.unwrap();
        let mut answer = String::new();
        asks.read_to_string(&mut answer).await.unwrap();
        assert!(answer.ends_with("here"), "{answer}");
        // All but the last two were turned away.
        for mut stream in idle.drain(..18) {
            assert!(matches!(stream.read(&mut [0]).await, Ok(0) | Err(_)));
        }
    }
}
