//! What the broadcaster's side and the server's side share.

use std::net::SocketAddr;
use std::sync::atomic::AtomicBool;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use moth_core::Moment;
use moth_core::reading::Observation;
use tokio::sync::{Notify, watch};

use crate::exchange::{Exchange, Limits};
use crate::packet::Packet;
use crate::phase::Phases;

/// What the broadcaster's side and the server's side share.
pub(crate) struct Shared {
    post: Mutex<Post>,
    /// Something was offered.
    pub offered: Notify,
    pub phase: Phases,
    /// The server that takes the broadcast now, by its place among them.
    pub carried_by: watch::Sender<Option<usize>>,
    /// The broadcaster's end of its connection.
    pub peer: watch::Sender<Option<SocketAddr>>,
    /// The place of a broadcaster that is being restarted waits for it.
    pub vacant: AtomicBool,
    /// How often a broadcaster went on where another had stopped.
    pub resumed: watch::Sender<u64>,
    /// Who publishes and has fallen silent is asked to make room for another.
    pub make_room: Notify,
}

struct Post {
    exchange: Exchange,
    sent_bytes: u64,
    /// When anything came from who publishes.
    heard_at: Moment,
    /// When the newest message came, and its timestamp: a restarted broadcaster goes on from there.
    newest: Option<(Moment, u32)>,
    /// Another broadcaster is expected to take this one's place until then.
    expected_until: Option<Moment>,
}

/// The exchange, for as long as nothing waits.
pub(crate) struct ExchangeGuard<'a>(MutexGuard<'a, Post>);

impl std::ops::Deref for ExchangeGuard<'_> {
    type Target = Exchange;
    fn deref(&self) -> &Exchange {
        &self.0.exchange
    }
}

impl std::ops::DerefMut for ExchangeGuard<'_> {
    fn deref_mut(&mut self) -> &mut Exchange {
        &mut self.0.exchange
    }
}

impl Shared {
    /// The state in which nobody is on air, and nothing waits.
    pub(crate) fn new(limits: Limits) -> Self {
        let post = Post {
            exchange: Exchange::new(limits),
            sent_bytes: 0,
            heard_at: Moment::START,
            newest: None,
            expected_until: None,
        };
        Self {
            post: Mutex::new(post),
            offered: Notify::new(),
            phase: Phases::default(),
            carried_by: watch::Sender::new(None),
            peer: watch::Sender::new(None),
            vacant: AtomicBool::new(false),
            resumed: watch::Sender::new(0),
            make_room: Notify::new(),
        }
    }

    /// Where every frame is by now, and what waits.
    pub(crate) fn account(&self, now: Moment) -> Observation {
        let post = self.lock();
        let (freezes, frozen_ms) = post.exchange.freezes(now);
        let (accounts, queue) = (post.exchange.accounts(), post.exchange.level(now));
        Observation::Relay { accounts, queue, sent_bytes: post.sent_bytes, freezes, frozen_ms }
    }

    fn lock(&self) -> MutexGuard<'_, Post> {
        // Nothing that holds the lock can leave the accounts half changed, so a panic elsewhere is survived.
        self.post.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn exchange(&self) -> ExchangeGuard<'_> {
        ExchangeGuard(self.lock())
    }

    /// A broadcaster is about to be restarted: its place is kept until then.
    pub(crate) fn keep_place(&self, until: Option<Moment>) {
        self.lock().expected_until = until;
    }

    /// Whether another broadcaster is expected to go on with the broadcast, and until when.
    pub(crate) fn expected(&self, now: Moment) -> Option<Moment> {
        self.lock().expected_until.filter(|until| *until > now)
    }

    /// Something came from who publishes.
    pub(crate) fn heard(&self, now: Moment) {
        self.lock().heard_at = now;
    }

    /// For how long who publishes has been silent.
    pub(crate) fn silent_for(&self, now: Moment) -> Duration {
        now.since(self.lock().heard_at)
    }

    /// Takes a packet from the broadcaster.
    pub(crate) fn offer(&self, packet: Packet, now: Moment) {
        let mut post = self.lock();
        post.newest = Some((now, packet.time_ms));
        post.exchange.offer(packet, now);
    }

    /// A restarted broadcaster begins: where its timestamps go on, and how long nothing came, in milliseconds.
    pub(crate) fn resume(&self, now: Moment) -> (u32, u64) {
        let mut post = self.lock();
        post.exchange.interrupted();
        let Some((at, time_ms)) = post.newest else { return (0, 0) };
        let gap_ms = u64::try_from(now.since(at).as_millis()).unwrap_or(u64::MAX);
        // The stream's clock goes on as the wall's does; it is meant to wrap.
        (time_ms.wrapping_add(gap_ms as u32), gap_ms)
    }

    /// Settles accounts; `settle` gives the bytes newly acknowledged.
    pub(crate) fn with(&self, settle: impl FnOnce(&mut Exchange) -> u64) {
        let mut post = self.lock();
        post.sent_bytes += settle(&mut post.exchange);
    }
}
