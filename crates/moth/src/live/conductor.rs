//! Gives readings to the core, and its snapshots to whoever shows them.

use std::future::pending;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::Duration;

use moth_core::action::Action;
use moth_core::reading::Observation;
use moth_core::{Core, Snapshot};
use tokio::sync::{mpsc, watch};
use tokio::time::{MissedTickBehavior, interval};

use crate::failure::Failure;
use crate::failure::Outcome;
use crate::live::production::Production;
use crate::logbook::scribe::Scribe;
use crate::outlets::Outlets;
use crate::recordings::writer::Recording;
use crate::system::signals::stop_requested;
use crate::tell::ToldWords;
use crate::tell::told::Tellings;

/// What is attached to a broadcast under way: where it is told something, and who is told of it.
pub struct Attached {
    /// Things to do.
    pub actions: mpsc::UnboundedReceiver<Action>,
    /// Becomes true when it should end.
    pub stop: watch::Receiver<bool>,
    /// Where everything that is seen is written, if anywhere.
    pub recording: Option<Recording>,
    /// Where it is kept, if anywhere.
    pub scribe: Option<Scribe>,
    /// Where snapshots go beside whoever looks.
    pub outlets: Outlets,
    /// What `moth tell` tells.
    pub told: mpsc::UnboundedReceiver<ToldWords>,
    /// Whoever looks is told here that the program is asked to stop, and ends when ready; a second time is not waited for. Without
    /// it, it ends at once.
    pub asked_to_stop: Option<watch::Sender<bool>>,
}

impl Attached {
    /// Writes what is left of the recording and of what is kept; gives the number of the newest broadcast that was kept.
    ///
    /// # Errors
    /// What the recording or the keeping came to, if not all of it was written.
    pub fn close(self) -> Result<Option<i64>, Failure> {
        let kept = self.scribe.map_or(Ok(None), Scribe::finish);
        self.recording.map_or(Ok(()), Recording::finish)?;
        kept
    }
}

/// Conducts a broadcast until it should end: by signal, by the attached, or when `look` breaks. Every
/// `look_each` a snapshot is given to `look`; a last one after all accounts are settled.
///
/// # Errors
/// [`Failure::Fault`] if a part of the program failed.
pub async fn conduct(
    mut production: Production,
    mut core: Core,
    attached: &mut Attached,
    look_each: Duration,
    mut look: impl FnMut(Arc<Snapshot>) -> ControlFlow<()>,
) -> Outcome {
    let mut tick = interval(look_each);
    tick.set_missed_tick_behavior(MissedTickBehavior::Skip);
    // The first tick is at once, when there is nothing to see yet but the empty screen.
    let signalled = || async {
        if let Err(error) = stop_requested().await {
            tracing::warn!(%error, "signals cannot be listened for");
            pending::<()>().await;
        }
    };
    let mut signal = Box::pin(signalled());
    let (mut attached_open, mut post_open) = (true, true);
    let mut tellings = Tellings::default();
    loop {
        tokio::select! {
            biased;
            () = &mut signal => match &attached.asked_to_stop {
                Some(asked) if !asked.send_replace(true) => signal = Box::pin(signalled()),
                _ => break,
            },
            stopped = attached.stop.wait_for(|stop| *stop) => { drop(stopped); break }
            action = attached.actions.recv(), if attached_open => match action {
                Some(action) => production.act(action).await,
                None => attached_open = false,
            },
            told = attached.told.recv(), if post_open => match told {
                Some(told) => {
                    // What waits was seen before this: a snapshot now must not make it count as seen now.
                    let now = production.recorder.cut();
                    drain(&mut production, &mut core, &mut attached.recording, &mut tellings);
                    let snapshot = core.snapshot(now);
                    if let Some(action) = tellings.take(told, &snapshot) {
                        production.act(action).await;
                    }
                }
                None => post_open = false,
            },
            _ = tick.tick() => {
                // Readings made before now belong into this snapshot.
                let now = production.recorder.cut();
                drain(&mut production, &mut core, &mut attached.recording, &mut tellings);
                while let Some(wish) = core.take_wish() {
                    production.act(wish).await;
                }
                tellings.pass_to(now);
                let snapshot = Arc::new(core.snapshot(now));
                production.tell_scout(&snapshot);
                attached.outlets.take(&snapshot);
                keep(&mut attached.scribe, &snapshot);
                if look(snapshot).is_break() {
                    break;
                }
            }
            // Readings wait for the next look: to be woken for each of them would cost more than all the rest.
            () = production.fails() => return Err(Failure::Fault),
        }
    }
    production.relay.finish().await;
    // The relay's last account comes a tenth of a second after it is settled.
    tokio::time::sleep(Duration::from_millis(150)).await;
    drain(&mut production, &mut core, &mut attached.recording, &mut tellings);
    let last = Arc::new(core.snapshot(production.recorder.now()));
    keep(&mut attached.scribe, &last);
    let _ = look(last);
    Ok(())
}

fn keep(scribe: &mut Option<Scribe>, snapshot: &Arc<Snapshot>) {
    if let Some(scribe) = scribe {
        scribe.take(snapshot);
    }
}

/// Gives the core, and the recording, what was seen since.
fn drain(production: &mut Production, core: &mut Core, recording: &mut Option<Recording>, tellings: &mut Tellings) {
    while let Ok(reading) = production.readings.try_recv() {
        tellings.see(&reading);
        // A bitrate that was raised leaves nothing behind that must get through: only a lower one is waited for.
        if let Observation::Acted { action: Action::SetBitrate { video }, failed: None, .. } = &reading.what
            && core.bitrate_set().is_some_and(|before| *video < before)
        {
            production.relay.be_patient();
        }
        if let Some(recording) = recording {
            recording.take(&reading);
        }
        core.take(&reading);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::live::plan::Plan;
    use crate::recordings::player::Player;
    use moth_core::Moment;
    use moth_core::history::Second;
    use moth_core::reading::Automatics;
    use tokio::sync::oneshot;

    fn seconds(snapshot: &Snapshot) -> Vec<Second> {
        (0..snapshot.history.len()).filter_map(|n| snapshot.history.get(n).copied()).collect()
    }

    /// Looks are a second apart here and tellings come between them, when readings wait.
    #[tokio::test(start_paused = true)]
    async fn what_is_told_between_two_looks_leaves_the_same_broadcast_as_its_recording() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("told.jsonl");
        let evening = moth_stage::shipped().into_iter().find(|e| e.slug == "tired-server").unwrap();
        let plan = Plan::Demo(Box::new(evening), 41, Automatics::default());
        let core = plan.core();
        let recording = Some(Recording::begin(&path, plan.servers(), true).unwrap());
        let production = plan.begin().await.unwrap();
        let (_acts, actions) = mpsc::unbounded_channel();
        let (_stops, stop) = watch::channel(false);
        let (post, told) = mpsc::unbounded_channel();
        let mut attached =
            Attached { actions, stop, recording, scribe: None, outlets: Outlets::default(), told, asked_to_stop: None };
        tokio::spawn(async move {
            let mut each = interval(Duration::from_millis(730));
            loop {
                each.tick().await;
                let (reply, _) = oneshot::channel();
                if post.send((vec!["state".into()], reply)).is_err() {
                    return;
                }
            }
        });
        let mut seen = Vec::new();
        let look = |snapshot: Arc<Snapshot>| {
            if snapshot.at <= Moment::from_ms(30_000) {
                seen = seconds(&snapshot);
                return ControlFlow::Continue(());
            }
            ControlFlow::Break(())
        };
        conduct(production, core, &mut attached, Duration::from_secs(1), look).await.unwrap();
        attached.close().unwrap();
        let mut player = Player::open(&path).unwrap();
        player.go_to(Moment::from_ms(30_000)).unwrap();
        let replayed = seconds(&player.snapshot().unwrap());
        assert!(seen.len() >= 29, "{}", seen.len());
        for (n, (live, replayed)) in seen.iter().zip(&replayed).enumerate() {
            assert_eq!(live, replayed, "second {n}");
        }
    }
}
