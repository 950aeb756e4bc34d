//! What happens with whoever comes to a moth's socket to look: a screen has a seat and a thread of its own, a program follows.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::time::Duration;

use tokio::io::AsyncWriteExt;
use tokio::net::UnixStream;
use tokio::time::timeout;

use super::far_seat::FarSeat;
use super::guests::MOST;
use super::words::{Ask, FromMoth, Hands, PROTOCOL, line};
use crate::outlets::json_line::JsonLine;
use crate::terminal::Left;
use crate::terminal::hub::Hub;

/// A program that follows takes a line within this. Ours.
const TAKES: Duration = Duration::from_secs(30);

/// Lets a screen in, on a thread of its own; it may panic there without harm to anything else.
pub(crate) fn welcome(
    hub: Arc<Hub>,
    stream: std::os::unix::net::UnixStream,
    ask: &Ask,
    rest: Vec<u8>,
) -> std::io::Result<()> {
    let guest = hub.guests.come();
    let (size, colours, protocol) = (ask.size, ask.colours, ask.protocol);
    let hands = Hands { mouse: ask.mouse, began: ask.began, setups: ask.setups };
    std::thread::Builder::new().name("screen".into()).spawn(move || {
        // Whoever looks must not be in the way of what is looked at; where the system does not allow it, ten are still few.
        let _ = moth_host::give_way();
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

/// Gives how everything stands in JSON lines, at each look, for as long as they are taken; who reads slowly misses some.
pub(crate) async fn follow(hub: &Hub, mut stream: UnixStream) -> std::io::Result<()> {
    let Some(_guest) = hub.guests.come() else {
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
