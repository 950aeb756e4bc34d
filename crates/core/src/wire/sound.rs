//! Sound beside the picture: whether it is there, and whether the two drift apart.
//!
//! Only what the timestamps and the frames' sizes say can be seen: sound that is late within its own frames cannot, nor silence that
//! an encoder pads.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::moment::Moment;
use crate::reading::SoundFrame;
use crate::window::Gauge;

/// Sound that stays away this long is missing. Ours.
const MISSING: Duration = Duration::from_secs(2);
/// Over this the lead is averaged: both come in bunches. Ours.
const SPAN: Duration = Duration::from_secs(4);
/// The lead at the beginning is taken once the broadcast has run so long. Ours.
const SETTLED: Duration = Duration::from_secs(6);

/// A frame of no more bytes carries no sound, where sound has 16 kb/s and more. Measured, with its headers: digital silence is 8 bytes a
/// frame from an AAC encoder of variable size (and 23 each 256 frames, which name the encoder) and from an Opus encoder, the quietest
/// noise 85 and more at 32 kb/s; encoders of one size (MP3, some of AAC) pad both alike.
const EMPTY_BYTES: u32 = 32;
/// Sound that carries nothing for so long is silent: words have pauses, and in those a microphone still hears a room. Ours.
const HUSH: Duration = Duration::from_secs(1);

/// Viewers notice sound that leads the picture by more than this, in milliseconds (EBU Recommendation R37).
pub(crate) const LEADS_MS: f64 = 40.0;
/// Viewers notice sound that trails the picture by more than this, in milliseconds (EBU Recommendation R37).
pub(crate) const TRAILS_MS: f64 = 60.0;

/// How the sound is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Heard {
    /// It comes. Measured.
    Present,
    /// It comes, and carries nothing. Inferred, from the sizes of its frames.
    Silent,
    /// None comes. Measured.
    Missing,
    /// It has moved so far from the picture that viewers notice. Inferred, from the timestamps.
    Drifting,
}

impl Heard {
    /// All of them, the best first.
    pub const ALL: [Self; 4] = [Self::Present, Self::Silent, Self::Drifting, Self::Missing];

    /// In a word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Present => "present",
            Self::Silent => "silent",
            Self::Missing => "missing",
            Self::Drifting => "drifting",
        }
    }
}

/// Follows both clocks.
#[derive(Debug, Clone, Default)]
pub(super) struct Sound {
    video: Option<(Moment, u32)>,
    first_video: Option<Moment>,
    /// Since when no frame has carried anything; `None` if the newest did.
    empty_since: Option<Moment>,
    first: Option<Moment>,
    last: Option<Moment>,
    lead_ms: Gauge,
    at_first_ms: Option<f64>,
}

impl Sound {
    pub(super) fn video(&mut self, at: Moment, time_ms: u32) {
        self.video = Some((at, time_ms));
        self.first_video.get_or_insert(at);
    }

    pub(super) fn audio(&mut self, at: Moment, frame: &SoundFrame) {
        let time_ms = frame.time_ms;
        self.last = Some(at);
        self.empty_since = (frame.bytes <= EMPTY_BYTES).then(|| self.empty_since.unwrap_or(at));
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

    /// How it is; `None` while no pictures come, and until it would have come.
    pub(super) fn heard(&self, now: Moment) -> Option<Heard> {
        let (video_at, _) = self.video?;
        if now.since(video_at) >= MISSING {
            return None;
        }
        match self.last {
            None => return (now.since(self.first_video?) > MISSING).then_some(Heard::Missing),
            Some(last) if now.since(last) > MISSING => return Some(Heard::Missing),
            Some(_) => {}
        }
        Some(match self.lead_ms(now) {
            _ if self.empty_s(now).is_some() => Heard::Silent,
            Some(lead) if is_noticed(lead) => Heard::Drifting,
            _ => Heard::Present,
        })
    }

    /// Seconds for which it has carried nothing, while it comes.
    pub(super) fn empty_s(&self, now: Moment) -> Option<f64> {
        let (empty, last) = (now.since(self.empty_since?), now.since(self.last?));
        (empty >= HUSH && last <= MISSING).then_some(empty.as_secs_f64())
    }

    /// Seconds without sound while pictures come, if there was sound.
    pub(super) fn missing_s(&self, now: Moment) -> Option<f64> {
        let (video_at, _) = self.video?;
        let missing = now.since(self.last?);
        (missing > MISSING && now.since(video_at) < MISSING).then_some(missing.as_secs_f64())
    }
}

/// Whether viewers notice that the sound leads the picture by so many milliseconds, or trails it.
fn is_noticed(lead_ms: f64) -> bool {
    !(-TRAILS_MS..=LEADS_MS).contains(&lead_ms)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn play(sound: &mut Sound, from_s: u64, to_s: u64, audio_clock: impl Fn(u64) -> Option<u64>) -> Moment {
        play_frames_of(400, sound, from_s, to_s, audio_clock)
    }

    fn play_frames_of(
        bytes: u32,
        sound: &mut Sound,
        from_s: u64,
        to_s: u64,
        audio_clock: impl Fn(u64) -> Option<u64>,
    ) -> Moment {
        for ms in (from_s * 1000..to_s * 1000).step_by(20) {
            sound.video(Moment::from_ms(ms), u32::try_from(ms).unwrap());
            if let Some(audio_ms) = audio_clock(ms) {
                let time_ms = u32::try_from(audio_ms).unwrap();
                sound.audio(Moment::from_ms(ms), &SoundFrame { time_ms, bytes });
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
        assert_eq!(sound.missing_s(now), None);
    }

    #[test]
    fn sound_that_stops_is_missed_and_sound_that_never_was_is_not() {
        let mut sound = Sound::default();
        play(&mut sound, 0, 10, Some);
        let now = play(&mut sound, 10, 15, |_| None);
        assert!((4.9..5.1).contains(&sound.missing_s(now).unwrap()));
        let mut mute = Sound::default();
        let now = play(&mut mute, 0, 15, |_| None);
        assert_eq!(mute.missing_s(now), None);
    }

    #[test]
    fn sound_is_told_present_silent_missing_or_drifting() {
        let mut sound = Sound::default();
        assert_eq!(sound.heard(Moment::START), None, "nobody broadcasts");
        let now = play(&mut sound, 0, 10, Some);
        assert_eq!(sound.heard(now), Some(Heard::Present));
        play_frames_of(8, &mut sound, 10, 12, Some);
        // One of each 256 frames names the encoder.
        let now = play_frames_of(23, &mut sound, 12, 13, Some);
        assert_eq!(sound.heard(now), Some(Heard::Silent));
        let now = play(&mut sound, 13, 14, Some);
        assert_eq!(sound.heard(now), Some(Heard::Present));
        let now = play(&mut sound, 14, 17, |_| None);
        assert_eq!(sound.heard(now), Some(Heard::Missing));
        let now = play(&mut sound, 17, 27, |ms| Some(ms - 200));
        assert_eq!(sound.heard(now), Some(Heard::Drifting));
        assert_eq!(sound.heard(Moment::from_ms(29_500)), None, "without pictures there is nothing to be beside");
    }

    #[test]
    fn a_pause_between_words_is_no_silence_and_a_broadcast_without_sound_misses_it() {
        let mut sound = Sound::default();
        play(&mut sound, 0, 5, Some);
        for second in 5..15 {
            // Half of each second carries something.
            for half in [8, 400] {
                for ms in (0..500).step_by(20) {
                    let at = second * 1000 + if half == 8 { ms } else { 500 + ms };
                    sound.video(Moment::from_ms(at), u32::try_from(at).unwrap());
                    sound.audio(Moment::from_ms(at), &SoundFrame { time_ms: u32::try_from(at).unwrap(), bytes: half });
                    assert_eq!(sound.heard(Moment::from_ms(at)), Some(Heard::Present));
                }
            }
        }
        let mut mute = Sound::default();
        let now = play(&mut mute, 0, 2, |_| None);
        assert_eq!(mute.heard(now), None, "it may yet come");
        let now = play(&mut mute, 2, 4, |_| None);
        assert_eq!(mute.heard(now), Some(Heard::Missing));
    }
}
