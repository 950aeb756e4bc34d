//! The clock of a demo, which may run faster than the machine's.

use std::thread;
use std::time::{Duration, Instant};

use tokio::sync::mpsc;
use tokio::time::{advance, pause};

/// Real time between two steps of the clock. At 16 times the speed, a step is 32 ms: as long as two frames at 60 frames/s.
const STEP: Duration = Duration::from_millis(2);
/// A step is at most so long. On a machine that had no time for the demo, the clock runs slower and does not jump.
const LONGEST_STEP: Duration = Duration::from_millis(10);

/// Lets tokio's clock run `speed` times as fast from now on, for the runtime that this is called on. A speed of 1 changes nothing.
///
/// Only a demo can have another: its broadcaster, its servers and its line wait on tokio's clock and on nothing else.
pub(crate) fn speed_up(speed: u32) {
    if speed <= 1 {
        return;
    }
    pause();
    let (step, mut steps) = mpsc::channel(1);
    // When everything waits, tokio advances a paused clock by itself, unless a blocking task runs. This one runs to the end.
    tokio::task::spawn_blocking(move || {
        let mut last = Instant::now();
        loop {
            thread::sleep(STEP);
            let passed = last.elapsed();
            last += passed;
            if step.blocking_send(passed.min(LONGEST_STEP)).is_err() {
                return;
            }
        }
    });
    tokio::spawn(async move {
        while let Some(passed) = steps.recv().await {
            for _ in 0..speed {
                advance(passed).await;
            }
        }
    });
}
