//! The frames on one connection to a server: which of them were acknowledged.

use std::collections::VecDeque;
use std::time::Duration;

use moth_core::reading::ConnectionFigures;
use moth_destination::FailureKind;
use moth_destination::StreamKey;

use crate::connection::{Dialer, Server};
use crate::exchange::Exchange;
use crate::link::Link;
use crate::packet::{Packet, Role};
use moth_destination::LinkError;

/// With bytes on their way and none acknowledged for this long, the connection is lost, whatever the kernel
/// still hopes: it would retry for a quarter of an hour. Ours.
const STALL: Duration = Duration::from_secs(6);
/// Messages are encoded ahead of the connection up to this many bytes: what is encoded cannot be dropped. Ours.
const COMMITTED_BYTES: usize = 8 << 10;

/// A connection to a server that takes the broadcast.
pub(crate) struct FrameCarrier {
    pub server: Server,
    link: Link,
    /// Frames given to the connection, each with the count of bytes that ends with its last one.
    in_flight: VecDeque<(u64, Role)>,
}

impl FrameCarrier {
    /// Connects, and asks the server to take the broadcast.
    pub(crate) async fn establish(dialer: &dyn Dialer, server: Server, key: StreamKey) -> Result<Self, LinkError> {
        let mut link = Link::dial(dialer, &server, key).await?;
        link.open().await?;
        Ok(Self { server, link, in_flight: VecDeque::new() })
    }

    /// Whether the next packet may be handed over.
    pub(crate) fn wants_more(&self) -> bool {
        self.link.waiting_bytes() < COMMITTED_BYTES
    }

    /// Takes a packet to send.
    pub(crate) fn send(&mut self, packet: &Packet) {
        let end = self.link.send(packet);
        if packet.role.is_frame() {
            if self.in_flight.is_empty() {
                self.link.begin_waiting();
            }
            self.in_flight.push_back((end, packet.role));
        }
    }

    /// Waits for the connection to take or give something. Safe to give up on at any time.
    pub(crate) async fn step(&mut self) -> Result<(), LinkError> {
        self.link.step().await
    }

    /// Moves what was acknowledged to its account; gives the bytes newly acknowledged.
    pub(crate) fn settle(&mut self, exchange: &mut Exchange) -> u64 {
        let newly = self.link.settle();
        let settled = self.link.settled_bytes();
        while let Some((_, role)) = self.in_flight.pop_front_if(|(end, _)| *end <= settled) {
            exchange.delivered(role);
        }
        newly
    }

    /// Whether the connection has stopped carrying anything.
    pub(crate) fn check_progress(&self) -> Result<(), LinkError> {
        if !self.in_flight.is_empty() && self.link.since_progress() > STALL {
            let why = format!("nothing was acknowledged for {} s", STALL.as_secs());
            return Err(LinkError::new(FailureKind::Silent, why));
        }
        Ok(())
    }

    /// Whether everything handed over was written and acknowledged.
    pub(crate) fn is_settled(&self) -> bool {
        self.link.is_settled()
    }

    /// What the platform tells of the connection.
    pub(crate) fn figures(&self) -> ConnectionFigures {
        self.link.figures()
    }

    /// Tells the server that the broadcast is over, as far as it still listens.
    pub(crate) fn finish(&mut self) {
        self.link.finish();
    }

    /// Closes the connection so that the server's program loses nothing of what its host acknowledged.
    /// It gets so long for that.
    pub(crate) async fn part(self, within: Duration) {
        self.link.part(within).await;
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
