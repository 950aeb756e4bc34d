//! Groups of pictures: how far apart keyframes are, how many B-frames lie between others, how much is filler.

use std::collections::VecDeque;

use crate::reading::VideoFrame;

/// Keyframe distances remembered. Ours.
const DISTANCES: usize = 5;
/// Frames over which B-frames and filler are looked for: two seconds at 60 frames/s. Ours.
const MEMORY: usize = 120;

/// A picture is not held back for longer, in milliseconds. Ours: 16 B-frames at 10 frames/s.
const LONGEST_HELD_MS: f64 = 1700.0;

/// Learns how a stream is put together.
#[derive(Debug, Clone, Default)]
pub struct Groups {
    last_keyframe_ms: Option<u32>,
    distances_ms: VecDeque<u32>,
    /// Bytes, filler among them, whether it was a B-frame, and how long after its timestamp it is shown, in milliseconds.
    frames: VecDeque<(u32, u32, bool, i32)>,
    latest_shown_ms: Option<u32>,
}

impl Groups {
    pub(super) fn frame(&mut self, frame: &VideoFrame) {
        if frame.keyframe
            && let Some(last) = self.last_keyframe_ms.replace(frame.time_ms)
        {
            self.distances_ms.push_back(frame.time_ms.wrapping_sub(last));
            if self.distances_ms.len() > DISTANCES {
                self.distances_ms.pop_front();
            }
        }
        // A B-frame is shown before something that was sent before it.
        let shown = frame.time_ms.wrapping_add_signed(frame.composition_ms);
        let is_b =
            !frame.keyframe && self.latest_shown_ms.is_some_and(|latest| shown.wrapping_sub(latest).cast_signed() < 0);
        if !is_b {
            self.latest_shown_ms = Some(shown);
        }
        self.frames.push_back((frame.bytes, frame.filler_bytes, is_b, frame.composition_ms));
        if self.frames.len() > MEMORY {
            self.frames.pop_front();
        }
    }

    /// Seconds from keyframe to keyframe: the longest of the last few. `None` before the second keyframe.
    #[must_use]
    pub fn interval_s(&self) -> Option<f64> {
        self.distances_ms.iter().max().map(|ms| f64::from(*ms) / 1000.0)
    }

    /// The most B-frames in a row lately. `None` before there are a few frames.
    #[must_use]
    pub fn b_frames(&self) -> Option<u32> {
        if self.frames.len() < 10 {
            return None;
        }
        let (longest, _) = self.frames.iter().fold((0, 0), |(longest, run): (u32, u32), (_, _, is_b, _)| {
            let run = if *is_b { run + 1 } else { 0 };
            (longest.max(run), run)
        });
        Some(longest)
    }

    /// How long the encoder holds pictures back to send others before them, in milliseconds; 0 without B-frames. `None` before there
    /// are a few frames.
    ///
    /// A picture that others overtake is sent when they are encoded. As it then is due at once, those that overtake it lie so much ahead:
    /// by the range of the composition offsets (ISO/IEC 14496-12, 8.6.1.3). What an encoder looks ahead beyond that does not show.
    #[must_use]
    pub fn held_back_ms(&self) -> Option<f64> {
        if self.frames.len() < 10 {
            return None;
        }
        let offsets = || self.frames.iter().map(|(_, _, _, composition_ms)| *composition_ms);
        let (least, most) = (offsets().min()?, offsets().max()?);
        // No stream holds a picture back for longer: what does is no offset.
        Some(f64::from(most.saturating_sub(least))).filter(|ms| *ms <= LONGEST_HELD_MS)
    }

    /// Filler's share of the bytes lately.
    #[must_use]
    pub fn filler_share(&self) -> Option<f64> {
        let (all, filler) = self
            .frames
            .iter()
            .fold((0.0, 0.0), |(a, f), (bytes, filler, ..)| (a + f64::from(*bytes), f + f64::from(*filler)));
        (all > 0.0).then(|| filler / all)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keyframes_b_frames_and_filler_are_measured() {
        let mut groups = Groups::default();
        // Sent I P B B P B B …, at 25 frames/s, a keyframe every two seconds; a tenth is filler.
        for n in 0..200_u32 {
            let keyframe = n % 50 == 0;
            let composition_ms = if n % 50 % 3 == 1 { 120 } else { 0 };
            groups.frame(&VideoFrame {
                time_ms: n * 40,
                bytes: 1000,
                keyframe,
                composition_ms: if keyframe { 40 } else { composition_ms },
                filler_bytes: 100,
            });
        }
        assert_eq!((groups.interval_s(), groups.b_frames()), (Some(2.0), Some(2)));
        // Two B-frames wait for the one behind them, and for their turn: three pictures of 40 ms.
        assert_eq!(groups.held_back_ms(), Some(120.0));
        assert!((groups.filler_share().unwrap() - 0.1).abs() < 1e-9);
    }

    #[test]
    fn a_stream_without_b_frames_has_none() {
        let mut groups = Groups::default();
        for n in 0..100_u32 {
            groups.frame(&VideoFrame { time_ms: n * 16, bytes: 500, ..VideoFrame::default() });
        }
        assert_eq!((groups.b_frames(), groups.interval_s()), (Some(0), None));
        assert_eq!(groups.held_back_ms(), Some(0.0));
        groups.frame(&VideoFrame { time_ms: 1600, bytes: 500, composition_ms: i32::MAX, ..VideoFrame::default() });
        assert_eq!(groups.held_back_ms(), None, "nonsense is no delay");
    }
}
