//! Whether there is a broadcast: the one state that the broadcaster's side and the server's side both change. Each step is taken
//! from one phase only, so that none is taken twice or out of turn, whoever comes first.

use std::time::Duration;

use tokio::sync::watch;
use tokio::time::timeout;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Phase {
    /// The place on air is free.
    Idle,
    OnAir,
    /// The broadcaster is gone; its last frames are still being delivered.
    Finishing,
    /// It is being seen off, and somebody waits for that to be over: only what is on its way already is waited for.
    CutShort,
}

/// The phase, as it goes round.
#[derive(Debug)]
pub(crate) struct Phases(watch::Sender<Phase>);

impl Default for Phases {
    fn default() -> Self {
        Self(watch::Sender::new(Phase::Idle))
    }
}

impl Phases {
    pub(crate) fn now(&self) -> Phase {
        *self.0.borrow()
    }

    /// Takes the place, if it is free; gives whether it was.
    pub(crate) fn take_place(&self) -> bool {
        self.step(Phase::Idle, Phase::OnAir)
    }

    /// The broadcaster is gone, or the program stops.
    pub(crate) fn finish(&self) {
        self.step(Phase::OnAir, Phase::Finishing);
    }

    /// Somebody waits: the seeing-off is cut short.
    pub(crate) fn cut_short(&self) {
        self.step(Phase::Finishing, Phase::CutShort);
    }

    /// The broadcast was seen off.
    pub(crate) fn free_place(&self) {
        self.0.send_replace(Phase::Idle);
    }

    /// Ready once there is a broadcast, or was one that nobody has seen off.
    pub(crate) async fn begins(&self) {
        self.comes_to(|phase| phase != Phase::Idle).await;
    }

    /// Waits until nobody is on air.
    pub(crate) async fn off_air(&self) {
        self.comes_to(|phase| phase != Phase::OnAir).await;
    }

    /// Whether the place becomes free within this time.
    pub(crate) async fn frees_within(&self, long: Duration) -> bool {
        timeout(long, self.comes_to(|phase| phase == Phase::Idle)).await.is_ok()
    }

    /// Waits until the seeing-off is cut short.
    pub(crate) async fn is_cut_short(&self) {
        self.comes_to(|phase| phase == Phase::CutShort).await;
    }

    async fn comes_to(&self, wanted: impl Fn(Phase) -> bool) {
        // An error would say that this is gone itself.
        let _ = self.0.subscribe().wait_for(|phase| wanted(*phase)).await;
    }

    fn step(&self, from: Phase, to: Phase) -> bool {
        self.0.send_if_modified(|phase| {
            let is_turn = *phase == from;
            if is_turn {
                *phase = to;
            }
            is_turn
        })
    }
}
