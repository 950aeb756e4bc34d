//! What can be read off a broadcast going by, without the broadcaster's help.
//!
//! Everything here is inferred, and says how far it can be trusted.

mod cadence;
mod groups;
mod pace;
mod repeats;
mod sound;

use serde::{Deserialize, Serialize};

pub use groups::Groups;
pub use repeats::Moving;

use crate::figure::Trust;
use crate::moment::Moment;
use crate::reading::{PictureChange, SoundFrame, VideoCodec, VideoFrame};
use cadence::Cadence;
use pace::Pace;
use repeats::Repeats;
pub use sound::Heard;
use sound::Sound;
pub(crate) use sound::{LEADS_MS, TRAILS_MS};

/// The wire, read closely.
#[derive(Debug, Clone, Default)]
pub struct Wire {
    cadence: Cadence,
    repeats: Repeats,
    pace: Pace,
    groups: Groups,
    sound: Sound,
    codec: Option<VideoCodec>,
    /// Why the pictures cannot be looked at.
    unseen: Option<String>,
}

/// What stands on the wire at one moment.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct WireFigures {
    /// The codec, if it is one whose units are known.
    pub codec: Option<VideoCodec>,
    /// Frames per second, from the timestamps.
    pub fps: Option<f64>,
    /// Seconds from keyframe to keyframe.
    pub keyframe_interval_s: Option<f64>,
    /// B-frames in a row.
    pub b_frames: Option<u32>,
    /// How long the encoder holds pictures back to send others before them, in milliseconds; its look-ahead does not show.
    pub held_back_ms: Option<f64>,
    /// How far the bitrate of single seconds lies from their mean, as a share of it (standard deviation).
    pub unsteadiness: Option<f64>,
    /// How much of the picture's bits are filler, as a share.
    pub filler: Option<f64>,
    /// Milliseconds the newest frames came later, against their timestamps, than frames a few seconds before.
    pub behind_ms: Option<f64>,
    /// Seconds of picture that come in a second.
    pub pace: Option<f64>,
    /// Milliseconds the sound's timestamps lead the picture's, against how they stood when the broadcast began.
    pub sound_lead_ms: Option<f64>,
    /// How the sound is; `None` while no pictures come, and until it would have come.
    #[serde(default)]
    pub sound: Option<Heard>,
    /// Seconds without sound, if there was sound before and there is none.
    #[serde(alias = "silent_s")]
    pub sound_missing_s: Option<f64>,
    /// Seconds for which the sound has carried nothing, as the sizes of its frames tell.
    #[serde(default)]
    pub sound_empty_s: Option<f64>,
    /// Whether the picture moves.
    pub moving: Option<Moving>,
    /// New pictures a second, where the source is slower than the broadcast all along.
    pub source_fps: Option<f64>,
    /// How far skipped frames read off the wire can be trusted.
    pub skipped_trust: Trust,
    /// How far repeats read off the pictures can be trusted; `None` if they cannot be read at all.
    pub repeated_trust: Option<Trust>,
    /// Why the pictures cannot be looked at; `None` if they can, or if that is not known yet.
    pub unseen: Option<String>,
}

impl Wire {
    /// Takes the broadcaster's word for its frame rate, in frames per second.
    pub fn state_rate(&mut self, fps: f64) {
        self.cadence.state_rate(fps);
    }

    /// Takes the codec, as its header told.
    pub fn state_codec(&mut self, codec: VideoCodec) {
        self.codec = Some(codec);
    }

    /// The pictures cannot be looked at, and why.
    pub fn state_unseen(&mut self, why: &str) {
        self.unseen = Some(why.to_owned());
    }

    /// The broadcaster was restarted: its clock may start anew, what it stated stands.
    pub fn interrupt(&mut self) {
        let (cadence, codec) = (std::mem::take(&mut self.cadence), self.codec);
        *self = Self { cadence, codec, ..Self::default() };
        self.cadence.interrupt();
    }

    /// Takes a video frame that came at `at`; gives the frames missing just before it.
    pub fn video(&mut self, at: Moment, frame: &VideoFrame) -> u64 {
        self.groups.frame(frame);
        if self.pace.frame(at, frame.time_ms) {
            self.cadence.leap();
        }
        self.sound.video(at, frame.time_ms);
        self.cadence.frame(frame.time_ms)
    }

    /// Takes a picture that was looked at; gives the repeats that became certain by it.
    pub fn picture(&mut self, change: &PictureChange) -> u64 {
        self.unseen = None;
        let fps = self.cadence.interval_ms().map_or(30.0, |ms| 1000.0 / ms);
        self.repeats.picture(change, fps)
    }

    /// Takes a frame of sound that came at `at`.
    pub fn audio(&mut self, at: Moment, frame: &SoundFrame) {
        self.sound.audio(at, frame);
    }

    /// How the sound is.
    #[must_use]
    pub fn heard(&self, now: Moment) -> Option<Heard> {
        self.sound.heard(now)
    }

    /// The frame interval in milliseconds, learnt or stated.
    #[must_use]
    pub fn interval_ms(&self) -> Option<f64> {
        self.cadence.interval_ms()
    }

    /// How much later than a few seconds ago the newest frames come, in milliseconds, and how fast that grows, in
    /// milliseconds a second; `None` if there is too little to tell.
    #[must_use]
    pub fn behind(&self, now: Moment) -> Option<(f64, f64)> {
        self.pace.behind(now)
    }

    /// Whether repeats can be read off this picture.
    #[must_use]
    pub fn reads_repeats(&self) -> bool {
        self.repeats.trust().is_some()
    }

    /// Whether repeats were ever read off this broadcast.
    #[must_use]
    pub fn has_read_repeats(&self) -> bool {
        self.repeats.was_read()
    }

    /// Separate runs of repeats among the last seconds: one may be a pause, several are not.
    #[must_use]
    pub fn runs_of_repeats(&self) -> u32 {
        self.repeats.runs()
    }

    /// Everything at `now`. How unsteady the bitrate is the core knows, which counts the bytes.
    #[must_use]
    pub fn figures(&self, now: Moment, unsteadiness: Option<f64>) -> WireFigures {
        let fps = self.cadence.interval_ms().map(|ms| (1_000_000.0 / ms).round() / 1000.0);
        WireFigures {
            codec: self.codec,
            fps,
            keyframe_interval_s: self.groups.interval_s(),
            b_frames: self.groups.b_frames(),
            held_back_ms: self.groups.held_back_ms(),
            unsteadiness,
            filler: self.groups.filler_share(),
            behind_ms: self.pace.behind(now).map(|(ms, _)| ms),
            pace: self.pace.pace(now),
            sound_lead_ms: self.sound.lead_ms(now),
            sound: self.sound.heard(now),
            sound_missing_s: self.sound.missing_s(now),
            sound_empty_s: self.sound.empty_s(now),
            moving: self.repeats.moving(),
            source_fps: self.repeats.source_rate(fps.unwrap_or(0.0)),
            skipped_trust: self.cadence.trust(),
            repeated_trust: self.repeats.trust(),
            unseen: self.unseen.clone(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Frames at 60 a second that come at the times their clock tells, but for a leap of 1.9 s; gives those missing.
    fn missing(wire: &mut Wire, has_passed: bool) -> u64 {
        (0..1200_u64)
            .map(|n| {
                let time_ms = n * 50 / 3 + if n < 600 { 0 } else { 1900 };
                let came_ms = if has_passed { time_ms } else { n * 50 / 3 };
                let time_ms = u32::try_from(time_ms).unwrap_or_default();
                wire.video(Moment::from_ms(came_ms), &VideoFrame { time_ms, bytes: 5000, ..VideoFrame::default() })
            })
            .sum()
    }

    #[test]
    fn a_leap_of_the_clock_is_no_skipped_frame_and_a_gap_is_many() {
        assert_eq!(missing(&mut Wire::default(), false), 0);
        assert_eq!(missing(&mut Wire::default(), true), 114);
    }

    #[test]
    fn a_clock_that_is_always_zero_says_neither_late_nor_slow() {
        let mut wire = Wire::default();
        let mut missing = 0;
        for n in 0..1200_u64 {
            let at = Moment::from_ms(n * 50 / 3);
            missing += wire.video(at, &VideoFrame { time_ms: 0, bytes: 5000, ..VideoFrame::default() });
        }
        assert_eq!((missing, wire.behind(Moment::from_ms(20_000))), (0, None));
    }
}
