//! Which screens come in to a moth, and how many.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use tokio::io::AsyncWriteExt;
use tokio::net::UnixStream;
use tokio::time::timeout;

use super::far_seat::FarSeat;
use super::words::{Ask, FromMoth, Hands, PROTOCOL, line};
use crate::outlets::json_line::JsonLine;
use crate::terminal::Left;
use crate::terminal::hub::Hub;

/// Screens at a time. Ours: each draws a few times a second.
pub(crate) const MOST: usize = 10;

/// Screens that are there.
#[derive(Debug, Clone, Default)]
pub(crate) struct Guests(Arc<AtomicUsize>);

/// One of them, counted until it is gone.
struct Guest(Guests);

impl Drop for Guest {
    fn drop(&mut self) {
        self.0.0.fetch_sub(1, Ordering::AcqRel);
    }
}

impl Guests {
    /// Whether nobody is there.
    pub(crate) fn is_empty(&self) -> bool {
        self.0.load(Ordering::Acquire) == 0
    }

    fn come(&self) -> Option<Guest> {
        let come =
            self.0.fetch_update(Ordering::AcqRel, Ordering::Acquire, |there| (there < MOST).then_some(there + 1));
        come.ok().map(|_| Guest(self.clone()))
    }

    /// Lets a screen in, on a thread of its own; it may panic there without harm to anything else.
    pub(crate) fn welcome(
        &self,
        hub: Arc<Hub>,
        stream: std::os::unix::net::UnixStream,
        ask: &Ask,
        rest: Vec<u8>,
    ) -> std::io::Result<()> {
        let guest = self.come();
        let (size, colours, protocol) = (ask.size, ask.colours, ask.protocol);
        let hands = Hands { mouse: ask.mouse, began: ask.began, setups: ask.setups };
        std::thread::Builder::new().name("screen".into()).spawn(move || {
            let Ok(mut seat) = FarSeat::new(stream, size, rest) else { return };
            let Some(_guest) = guest else {
                return seat.say_last(&FromMoth::Refused(format!("{MOST} screens are attached already; leave one of them")));
            };
            if protocol != PROTOCOL {
                let version = env!("CARGO_PKG_VERSION");
                return seat.say_last(&FromMoth::Refused(format!(
                    "the moth that runs is version {version} and speaks protocol {PROTOCOL}; this screen speaks {protocol}: use the moth that began it"
                )));
            }
            seat.say(&FromMoth::Hello { protocol: PROTOCOL, version: env!("CARGO_PKG_VERSION").into() });
            let shown = catch_unwind(AssertUnwindSafe(|| hub.show_on(&mut seat, colours.into(), hands)));
            seat.say_last(&match shown {
                Ok(Ok(Left::TheScreen)) => FromMoth::Left,
                Ok(Ok(Left::ForTheSetups)) => {
                    hub.wait_for_the_end();
                    FromMoth::Setups
                }
                // It has ended, or was told to: what became of it is known once it is closed.
                Ok(Ok(Left::ForGood)) => FromMoth::Over(hub.wait_for_the_end()),
                Ok(Err(failure)) => FromMoth::Refused(failure.to_string()),
                Err(_) => FromMoth::Refused("the screen met a fault and was ended; the broadcast goes on".into()),
            });
        })?;
        Ok(())
    }
}

/// A program that follows takes a line within this. Ours.
const TAKES: Duration = Duration::from_secs(30);

impl Guests {
    /// Gives how everything stands in JSON lines, at each look, for as long as they are taken; who reads slowly misses some.
    pub(crate) async fn follow(&self, hub: &Hub, mut stream: UnixStream) -> std::io::Result<()> {
        let Some(_guest) = self.come() else {
            return stream.write_all(&line(&FromMoth::Refused(format!("{MOST} are attached already")))).await;
        };
        let mut snapshots = hub.snapshots();
        while snapshots.changed().await.is_ok() {
            let snapshot = snapshots.borrow_and_update().clone();
            let Some(snapshot) = snapshot else { continue };
            let text = line(&JsonLine::from(&*snapshot));
            match timeout(TAKES, stream.write_all(&text)).await {
                Ok(written) => written?,
                // Whoever stopped reading is gone.
                Err(_) => return Ok(()),
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn so_many_come_in_and_who_leaves_makes_room() {
        let guests = Guests::default();
        let mut there: Vec<Guest> = (0..MOST).filter_map(|_| guests.come()).collect();
        assert_eq!((there.len(), guests.come().is_none()), (MOST, true));
        there.pop();
        assert!(guests.come().is_some());
    }
}
