//! Sound beside the picture: whether it is there, and whether the two drift apart.
//!
//! Only what the timestamps say can be seen: sound that is late within its own frames cannot.

use std::time::Duration;

use crate::moment::Moment;
use crate::window::Gauge;

/// Sound that stays away this long is missing. Ours.
const MISSING: Duration = Duration::from_secs(2);
/// Over this the lead is averaged: both come in bunches. Ours.
const SPAN: Duration = Duration::from_secs(4);
/// The lead at the beginning is taken once the broadcast has run so long. Ours.
const SETTLED: Duration = Duration::from_secs(6);

/// Follows both clocks.
#[derive(Debug, Clone, Default)]
pub(super) struct Sound {
    video: Option<(Moment, u32)>,
    first: Option<Moment>,
    last: Option<Moment>,
    lead_ms: Gauge,
    at_first_ms: Option<f64>,
}

impl Sound {
    pub(super) fn video(&mut self, at: Moment, time_ms: u32) {
        self.video = Some((at, time_ms));
    }

    pub(super) fn audio(&mut self, at: Moment, time_ms: u32) {
        self.last = Some(at);
        let first = *self.first.get_or_insert(at);
        let Some((video_at, video_ms)) = self.video else { return };
        let lead = f64::from(time_ms.wrapping_sub(video_ms).cast_signed()) - at.since(video_at).as_secs_f64() * 1000.0;
        self.lead_ms.set(at, lead);
        if self.at_first_ms.is_none() && at.since(first) > SETTLED {
            self.at_first_ms = self.lead_ms.mean(at, SPAN);
        }
    }

    /// How far sound has moved before the picture since the beginning, in milliseconds.
    pub(super) fn lead_ms(&self, now: Moment) -> Option<f64> {
        Some(self.lead_ms.mean(now, SPAN)? - self.at_first_ms?)
    }

    /// Seconds without sound while pictures come, if there was sound.
    pub(super) fn silent_s(&self, now: Moment) -> Option<f64> {
        let (video_at, _) = self.video?;
        let silent = now.since(self.last?);
        (silent > MISSING && now.since(video_at) < MISSING).then_some(silent.as_secs_f64())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn play(sound: &mut Sound, from_s: u64, to_s: u64, audio_clock: impl Fn(u64) -> Option<u64>) -> Moment {
        for ms in (from_s * 1000..to_s * 1000).step_by(20) {
            sound.video(Moment::from_ms(ms), u32::try_from(ms).unwrap());
            if let Some(audio_ms) = audio_clock(ms) {
                sound.audio(Moment::from_ms(ms), u32::try_from(audio_ms).unwrap());
            }
        }
        Moment::from_ms(to_s * 1000)
    }

    #[test]
    fn sound_in_step_does_not_drift_and_a_fast_clock_does() {
        let mut sound = Sound::default();
        let now = play(&mut sound, 0, 20, |ms| Some(ms + 300));
        assert!(sound.lead_ms(now).unwrap().abs() < 1.0, "a constant lead is how it began");
        let mut sound = Sound::default();
        let now = play(&mut sound, 0, 60, |ms| Some(ms + ms / 200));
        assert!((200.0..300.0).contains(&sound.lead_ms(now).unwrap()), "half a percent for a minute");
        assert_eq!(sound.silent_s(now), None);
    }

    #[test]
    fn sound_that_stops_is_missed_and_sound_that_never_was_is_not() {
        let mut sound = Sound::default();
        play(&mut sound, 0, 10, Some);
        let now = play(&mut sound, 10, 15, |_| None);
        assert!((4.9..5.1).contains(&sound.silent_s(now).unwrap()));
        let mut mute = Sound::default();
        let now = play(&mut mute, 0, 15, |_| None);
        assert_eq!(mute.silent_s(now), None);
    }
}
