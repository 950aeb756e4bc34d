//! The place on air: who has it, who gets it next, and what comes from whoever has it.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use moth_core::Moment;
use moth_core::figure::Origin;
use moth_core::reading::Observation;
use tokio::time::{sleep, timeout};

use crate::onlooker::Onlooker;
use crate::packet::sighting::seen;
use crate::packet::{Medium, Packet};
use crate::phase::Phase;
use crate::recorder::Recorder;
use crate::shared::Shared;

/// A broadcaster that comes back while its last broadcast is being seen off waits for this long; then that is cut short. Ours.
const SEEING_OFF: Duration = Duration::from_millis(1200);
/// One that has been silent for so long makes room for another; the first for one of the same host, which is most likely the same
/// broadcaster come back. Ours.
const MAKES_ROOM: (Duration, Duration) = (Duration::from_millis(1500), Duration::from_secs(5));
/// One that is on its way out gets this long: what it sent last is read before its end is seen. Ours.
const ON_ITS_WAY_OUT: Duration = Duration::from_millis(500);

/// The place on air. There is one.
pub(crate) struct Place {
    pub shared: Arc<Shared>,
    pub recorder: Recorder,
    /// Who looks at the pictures.
    pub onlooker: Option<Arc<dyn Onlooker>>,
}

/// A broadcaster's hold on the place, given back when it is dropped, however its connection ends.
pub(crate) struct OnAir<'a> {
    place: &'a Place,
    /// It goes on with the broadcast of one that was there before.
    resumes: bool,
    /// Added to every timestamp, so that a restarted broadcaster goes on where it stopped; known with the first packet.
    ahead_ms: Option<u32>,
}

impl Place {
    /// Lets a broadcaster on air, or says why not. It may wait for one that is on its way out.
    ///
    /// # Errors
    /// Why not, in words for people.
    pub(crate) async fn take(&self, peer: Option<SocketAddr>) -> Result<OnAir<'_>, String> {
        if self.shared.expected(self.recorder.now()).is_some() && self.shared.vacant.swap(false, Ordering::AcqRel) {
            return Ok(self.given_to(peer, true));
        }
        let phase = &self.shared.phase;
        if phase.now() == Phase::OnAir {
            if self.is_to_make_room(peer) {
                self.shared.make_room.notify_waiters();
            }
            let _ = timeout(ON_ITS_WAY_OUT, phase.off_air()).await;
        }
        // The same broadcaster, most likely, restarted: its last frames are still on their way. A server that is slow to take them
        // is not to keep it off the air.
        if matches!(phase.now(), Phase::Finishing | Phase::CutShort) && !phase.frees_within(SEEING_OFF).await {
            phase.cut_short();
            phase.frees_within(SEEING_OFF).await;
        }
        if !phase.take_place() {
            return Err("another broadcaster is already publishing through this moth; stop it first".into());
        }
        let on_air = self.given_to(peer, false);
        self.recorder.note(Origin::Measured, Observation::Broadcaster { present: true });
        Ok(on_air)
    }

    fn given_to(&self, peer: Option<SocketAddr>, resumes: bool) -> OnAir<'_> {
        self.shared.peer.send_replace(peer);
        // Its silence begins now, not when the one before it was last heard.
        self.shared.heard(self.recorder.now());
        OnAir { place: self, resumes, ahead_ms: None }
    }

    /// Whether who publishes has been silent for so long that `peer` may have its place.
    fn is_to_make_room(&self, peer: Option<SocketAddr>) -> bool {
        let here = *self.shared.peer.borrow();
        let is_same_host = here.zip(peer).is_some_and(|(here, peer)| here.ip() == peer.ip());
        let silent = self.shared.silent_for(self.recorder.now());
        silent >= if is_same_host { MAKES_ROOM.0 } else { MAKES_ROOM.1 }
    }

    /// Waits until the one on air is to make room for another.
    pub(crate) async fn is_wanted_by_another(&self) {
        self.shared.make_room.notified().await;
    }
}

impl OnAir<'_> {
    /// Something came from it.
    pub(crate) fn heard(&self) {
        self.place.shared.heard(self.place.recorder.now());
    }

    /// Takes a packet from it; `false` if it could not be delivered any more, as the broadcast is being ended.
    pub(crate) fn offer(&mut self, mut packet: Packet) -> bool {
        let Place { shared, recorder, onlooker } = self.place;
        if shared.phase.now() != Phase::OnAir {
            return false;
        }
        let ahead_ms = self.ahead_ms.unwrap_or_else(|| if self.resumes { self.resume(packet.time_ms) } else { 0 });
        self.ahead_ms = Some(ahead_ms);
        packet.time_ms = packet.time_ms.wrapping_add(ahead_ms);
        if let Some((origin, observation)) = seen(&packet) {
            recorder.note(origin, observation);
        }
        // Only the main track is looked at: another's decoder configuration would be taken for a new one.
        if let Some(onlooker) = onlooker.as_ref().filter(|_| packet.medium == Medium::Video && packet.track.is_none()) {
            onlooker.video(packet.time_ms, &packet.payload, recorder);
        }
        shared.offer(packet, recorder.now());
        shared.offered.notify_one();
        true
    }

    /// A restarted broadcaster begins: what is added to its timestamps.
    fn resume(&self, first_ms: u32) -> u32 {
        let Place { shared, recorder, .. } = self.place;
        let (goes_on_ms, gap_ms) = shared.resume(recorder.now());
        // Only now: one that connects and sends nothing has not taken the place.
        shared.keep_place(None);
        shared.resumed.send_modify(|times| *times += 1);
        recorder.note(Origin::Measured, Observation::Resumed { gap_ms });
        goes_on_ms.wrapping_sub(first_ms)
    }
}

impl Drop for OnAir<'_> {
    fn drop(&mut self) {
        let (shared, recorder) = (&self.place.shared, &self.place.recorder);
        shared.peer.send_replace(None);
        if let Some(until) = shared.expected(recorder.now()) {
            shared.vacant.store(true, Ordering::Release);
            tokio::spawn(await_another(shared.clone(), recorder.clone(), until));
            return;
        }
        leave(shared, recorder);
    }
}

/// The broadcast is over.
fn leave(shared: &Shared, recorder: &Recorder) {
    recorder.note(Origin::Measured, Observation::Broadcaster { present: false });
    shared.phase.finish();
}

/// Keeps the place of a broadcaster that is being restarted; if nobody comes, the broadcast is over.
async fn await_another(shared: Arc<Shared>, recorder: Recorder, mut until: Moment) {
    loop {
        sleep(until.since(recorder.now())).await;
        match shared.expected(recorder.now()) {
            // It was restarted once more meanwhile: this is not the end of that wait.
            Some(later) => until = later,
            None => break,
        }
    }
    if shared.vacant.swap(false, Ordering::AcqRel) {
        leave(&shared, &recorder);
    }
}
