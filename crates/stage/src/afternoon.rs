//! The stand-in line and servers before a broadcast, for tests of the line and of the servers.

use std::sync::Arc;

use moth_destination::{Address, StreamKey};
use moth_relay::{Dialer, Server};
use tokio::sync::watch;
use tokio::task::JoinSet;

use crate::evening::{Evening, EveningError};
use crate::ingest::{self, APP, KEY, Ledger, UNSEEN};
use crate::uplink::Uplink;

const SHIPPED: &str = include_str!("../evenings/afternoon.toml");

/// A line and servers with nobody on air. Everything ends when it is dropped.
pub struct Afternoon {
    servers: Vec<Server>,
    uplink: Uplink,
    _cast: JoinSet<()>,
}

impl Afternoon {
    /// The one that comes with the program. Call it on a tokio runtime.
    ///
    /// # Errors
    /// None unless its file is wrong, which a test would tell.
    pub fn shipped(seed: u64) -> Result<Self, EveningError> {
        Ok(Self::open(&Self::evening()?, seed))
    }

    /// The same as an evening in which nothing happens, for a broadcast on it.
    ///
    /// # Errors
    /// As [`Afternoon::shipped`].
    pub fn evening() -> Result<Evening, EveningError> {
        SHIPPED.parse()
    }

    /// How things stand at the beginning of an evening, for good.
    #[must_use]
    pub fn open(evening: &Evening, seed: u64) -> Self {
        let (conditions, follow) = watch::channel(evening.conditions());
        let (uplink, arrivals) = Uplink::new(follow);
        let mut cast = JoinSet::new();
        cast.spawn(uplink.clone().run(seed));
        cast.spawn(ingest::run(arrivals, Ledger::default()));
        // The conditions stay as they are for as long as somebody holds them.
        cast.spawn(async move { conditions.closed().await });
        let at = |name: String| {
            let address = Address::new(&format!("{}.nocturne.invalid", name.to_lowercase()), 1935, APP).ok()?;
            Some(Server { name, address })
        };
        Self { servers: evening.servers().into_iter().filter_map(at).collect(), uplink, _cast: cast }
    }

    /// The servers.
    #[must_use]
    pub fn servers(&self) -> &[Server] {
        &self.servers
    }

    /// What connects to them.
    #[must_use]
    pub fn dialer(&self) -> Arc<dyn Dialer> {
        Arc::new(self.uplink.clone())
    }

    /// The stand-in service's key, for a run nobody sees.
    #[must_use]
    pub fn key() -> Option<StreamKey> {
        StreamKey::new(&format!("{KEY}{UNSEEN}")).ok()
    }
}
