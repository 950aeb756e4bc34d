//! A TCP connection that keeps little unsent, and tells what is not acknowledged.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use moth_core::reading::ConnectionFigures;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;

use crate::connection::Connection;
use crate::tcp_info;

/// A TCP connection that keeps little unsent.
pub(crate) struct TcpConnection(pub TcpStream);

impl Connection for TcpConnection {
    fn unacknowledged_bytes(&self) -> Option<u64> {
        tcp_info::unacknowledged_bytes(&self.0)
    }

    fn figures(&self) -> ConnectionFigures {
        tcp_info::figures(&self.0)
    }
}

impl AsyncRead for TcpConnection {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_read(cx, buf)
    }
}

impl AsyncWrite for TcpConnection {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.0).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_shutdown(cx)
    }
}
