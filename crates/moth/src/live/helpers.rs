//! The helpers of a broadcast: what reads pictures and machines, probes the path, and runs the feed and the encoder command. Whatever
//! becomes of one of them, the broadcast goes on.

use std::future::Future;
use std::time::Duration;

use moth_core::figure::Origin;
use moth_core::reading::Observation;
use moth_relay::Recorder;
use tokio::task::{JoinError, JoinSet};
use tokio::time::{Instant, sleep};

/// A helper that ended starts again after this pause, and after twice as long each time, up to the longest. Ours.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);
/// A helper that ran for so long is well: the next end counts as its first. Ours.
const STEADY: Duration = Duration::from_secs(120);

/// The helpers of one broadcast. They end when this is dropped.
#[derive(Default)]
pub(super) struct Helpers {
    tasks: JoinSet<()>,
}

impl Helpers {
    /// Runs a helper, and starts it again whenever it ends or panics. The log tells of each end, and a remark of the first.
    pub(super) fn keep<F>(
        &mut self,
        name: &'static str,
        recorder: &Recorder,
        mut start: impl FnMut() -> F + Send + 'static,
    ) where
        F: Future<Output = ()> + Send + 'static,
    {
        let recorder = recorder.clone();
        self.tasks.spawn(async move {
            let (mut pause, mut is_told) = (FIRST_PAUSE, false);
            loop {
                let began = Instant::now();
                let why = end_of(start()).await;
                if began.elapsed() >= STEADY {
                    (pause, is_told) = (FIRST_PAUSE, false);
                }
                tracing::warn!("{name} {why}; it starts again in {} s", pause.as_secs());
                if !std::mem::replace(&mut is_told, true) {
                    remark(&recorder, format!("{name} {why}; Moth starts it again"));
                }
                sleep(pause).await;
                pause = (2 * pause).min(LONGEST_PAUSE);
            }
        });
    }

    /// Runs a helper that cannot start again, as what it works with is gone with it: a port, a queue, a program.
    pub(super) fn run(
        &mut self,
        name: &'static str,
        recorder: &Recorder,
        helper: impl Future<Output = ()> + Send + 'static,
    ) {
        let recorder = recorder.clone();
        self.tasks.spawn(async move {
            let why = end_of(helper).await;
            tracing::warn!("{name} {why}");
            remark(&recorder, format!("{name} {why}; the broadcast goes on without it"));
        });
    }
}

fn remark(recorder: &Recorder, text: String) {
    recorder.note(Origin::Measured, Observation::Remark { text });
}

/// Waits for a helper's end, and says how it came.
async fn end_of(helper: impl Future<Output = ()> + Send + 'static) -> &'static str {
    // In a task of its own, which ends with the set: a panic stays there.
    let mut task = JoinSet::new();
    task.spawn(helper);
    match task.join_next().await {
        Some(Err(error)) if JoinError::is_panic(&error) => "failed",
        _ => "ended",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::future::pending;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicU32, Ordering};
    use tokio::time::timeout;

    fn remarks(readings: &mut tokio::sync::mpsc::UnboundedReceiver<moth_core::Reading>) -> Vec<String> {
        let text = |reading: moth_core::Reading| match reading.what {
            Observation::Remark { text } => Some(text),
            _ => None,
        };
        std::iter::from_fn(|| readings.try_recv().ok()).filter_map(text).collect()
    }

    #[tokio::test(start_paused = true)]
    async fn a_helper_that_fails_twenty_times_starts_again_each_time_and_is_told_of_once() {
        let (recorder, mut readings) = Recorder::new();
        let (mut helpers, starts) = (Helpers::default(), Arc::new(AtomicU32::new(0)));
        let counted = starts.clone();
        helpers.keep("the machine's load", &recorder, move || {
            let nth = counted.fetch_add(1, Ordering::Relaxed);
            async move {
                assert!(nth >= 20, "it fails");
                pending::<()>().await;
            }
        });
        sleep(Duration::from_secs(3600)).await;
        assert_eq!(starts.load(Ordering::Relaxed), 21);
        assert_eq!(remarks(&mut readings), ["the machine's load failed; Moth starts it again"]);
    }

    #[tokio::test(start_paused = true)]
    async fn pauses_grow_to_a_minute_and_begin_anew_once_a_helper_was_well() {
        let (recorder, mut readings) = Recorder::new();
        let (mut helpers, starts) = (Helpers::default(), Arc::new(AtomicU32::new(0)));
        let counted = starts.clone();
        helpers.keep("a helper", &recorder, move || {
            let nth = counted.fetch_add(1, Ordering::Relaxed);
            // The ninth runs for five minutes.
            sleep(if nth == 8 { Duration::from_secs(300) } else { Duration::ZERO })
        });
        // 1 + 2 + 4 + 8 + 16 + 32 s, then a minute each.
        sleep(Duration::from_secs(64)).await;
        assert_eq!(starts.load(Ordering::Relaxed), 7);
        sleep(Duration::from_secs(120 + 300 + 2)).await;
        assert_eq!(starts.load(Ordering::Relaxed), 10, "a second after the ninth ended");
        assert_eq!(remarks(&mut readings).len(), 2, "once each time that it began to fail");
    }

    #[tokio::test(start_paused = true)]
    async fn one_that_cannot_start_again_is_told_of_and_ends_nothing_else() {
        let (recorder, mut readings) = Recorder::new();
        let mut helpers = Helpers::default();
        let (alive, lives) = tokio::sync::oneshot::channel::<()>();
        helpers.run("the feed", &recorder, async { panic!("a fault") });
        helpers.run("the encoder command", &recorder, async move {
            let _alive = alive;
            pending::<()>().await;
        });
        assert!(timeout(Duration::from_secs(60), lives).await.is_err(), "the other one runs");
        assert_eq!(remarks(&mut readings), ["the feed failed; the broadcast goes on without it"]);
    }
}
