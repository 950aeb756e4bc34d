//! Reads this machine's load while on air.

use std::time::Duration;

use moth_core::figure::Origin;
use moth_core::reading::Observation;
use moth_host::{Machine, MachineLook, Places};
use moth_relay::scout::Doubt;
use moth_relay::{Recorder, RelayHandle, Server};
use tokio::sync::watch;
use tokio::time::{MissedTickBehavior, interval};

/// Reads this machine's load once a second, off the thread that relays.
pub(super) async fn read_machine(
    relay: RelayHandle,
    recorder: Recorder,
    places: Places,
    servers: Vec<Server>,
    doubt: watch::Receiver<Doubt>,
) {
    let mut machine = Machine::new(places);
    let peer = relay.broadcaster_peer();
    let mut tick = interval(Duration::from_secs(1));
    tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let began = tokio::time::Instant::now();
    let (mut named, mut address) = (String::new(), None);
    loop {
        tick.tick().await;
        let broadcaster = *peer.borrow();
        let now = doubt.borrow().clone();
        if now.server != named {
            // Looked up once for each server: where its packets leave by does not change with the second.
            if let Some(server) = servers.iter().find(|s| s.name == now.server) {
                let (host, port) = (server.address.host().to_owned(), server.address.port());
                address = tokio::net::lookup_host((host, port)).await.ok().and_then(|mut found| found.next());
            }
            named = now.server;
        }
        let look = MachineLook {
            at: began.elapsed(),
            broadcaster,
            server: address.map(|address| address.ip()),
            closely: now.in_doubt || now.is_losing,
        };
        let read = tokio::task::spawn_blocking(move || {
            let load = machine.read(look);
            (machine, load)
        });
        let Ok((again, load)) = read.await else { return };
        machine = again;
        recorder.note(Origin::Measured, Observation::Machine(Box::new(load)));
    }
}
