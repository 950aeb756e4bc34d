//! Fills a connection with filler at a given rate, looking at it ten times a second.

use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_destination::{FailureKind, LinkError};
use moth_plan::measurement::ConnectionLook;
use tokio::time::{Instant, MissedTickBehavior, interval, sleep_until};

use super::filler::Filler;
use super::{Cancel, MeasurePlan, cancelled};
use crate::link::Link;

/// How often the connection is looked at. Ours.
const LOOK: Duration = Duration::from_millis(100);
/// What is encoded ahead of the connection, as time at the offered rate; enough that it never runs dry between two
/// frames, little enough that it ends soon. Ours.
const AHEAD: Duration = Duration::from_millis(100);
/// With nothing acknowledged for this long, the connection is lost. Ours.
const LOST: Duration = Duration::from_secs(6);
/// After the last frame, what is on its way gets this long to arrive. Ours.
const DRAIN: Duration = Duration::from_secs(4);

/// How filling ended.
#[derive(Debug)]
pub(super) enum Ending {
    Done,
    Cancelled,
    Lost(LinkError),
}

/// A part of the time, at a rate.
#[derive(Debug, Clone, Copy)]
pub(super) struct Stretch {
    pub until: Duration,
    pub rate: Bitrate,
}

/// Publishes filler through the stretches. `looked` sees every look.
pub(super) async fn fill(
    link: &mut Link,
    plan: &MeasurePlan,
    stretches: &[Stretch],
    cancel: &mut Cancel,
    mut looked: impl FnMut(&ConnectionLook),
) -> Ending {
    let mut filler = Filler::new(plan.size, plan.fps);
    for header in filler.headers() {
        link.send(&header);
    }
    link.settle();
    let before_bytes = link.settled_bytes();
    let start = Instant::now();
    let frame = Duration::from_secs_f64(1.0 / plan.fps.clamp(1.0, 240.0));
    let mut due = start;
    let mut tick = interval(LOOK);
    tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
    link.begin_waiting();
    loop {
        let now = Instant::now();
        let elapsed = now - start;
        let Some(stretch) = stretches.iter().find(|stretch| elapsed < stretch.until) else { break };
        while due <= now {
            let ahead_bytes = (stretch.rate.bps() as f64 / 8.0 * AHEAD.as_secs_f64()) as usize;
            // A frame for which there is no room is left out, as a broadcast over its line would drop it.
            if link.waiting_bytes() < ahead_bytes.max(16 << 10) {
                let time_ms = u64::try_from((due - start).as_millis()).unwrap_or(u64::MAX);
                let bytes = (stretch.rate.bps() as f64 / 8.0 * frame.as_secs_f64()) as usize;
                for packet in filler.frame(time_ms, bytes) {
                    link.send(&packet);
                }
            }
            due += frame;
        }
        let outcome = tokio::select! {
            biased;
            () = cancelled(cancel) => return Ending::Cancelled,
            _ = tick.tick() => {
                link.settle();
                looked(&look(link, start.elapsed(), before_bytes));
                if link.since_progress() > LOST {
                    let why = format!("the connection stood still: nothing was acknowledged for {} s", LOST.as_secs());
                    Err(LinkError::new(FailureKind::Silent, why))
                } else {
                    Ok(())
                }
            }
            outcome = link.step() => outcome,
            () = sleep_until(due) => Ok(()),
        };
        if let Err(error) = outcome {
            return Ending::Lost(error);
        }
    }
    link.settle();
    looked(&look(link, start.elapsed(), before_bytes));
    Ending::Done
}

fn look(link: &Link, at: Duration, before_bytes: u64) -> ConnectionLook {
    ConnectionLook {
        at,
        acknowledged_bytes: link.settled_bytes().saturating_sub(before_bytes),
        is_busy: !link.is_settled(),
        figures: link.figures(),
    }
}

/// Takes leave of the server, so that the next measurement finds the line empty.
pub(super) async fn take_leave(link: &mut Link) {
    link.finish();
    let by = Instant::now() + DRAIN;
    let mut tick = interval(LOOK);
    while !link.is_settled() && Instant::now() < by {
        let outcome = tokio::select! {
            biased;
            _ = tick.tick() => Ok(()),
            outcome = link.step() => outcome,
        };
        link.settle();
        // A server may hang up on a goodbye: that is one too.
        if outcome.is_err() {
            return;
        }
    }
}
