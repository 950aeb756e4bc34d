//! Repeats, read off frame sizes: an inter frame that codes *the same again* next to nothing.
//!
//! Our own measurements, 720p60 at 4.5 Mb/s with x264 (preset veryfast): without B-frames, repeats weigh 0.3–13 % of
//! the moving frames around them (95 % of them under 10 %), and the smallest moving frame 30 %. With two B-frames,
//! repeats weigh 0.5–3 %, and the smallest natural B-frame 4.4 %.

use std::collections::VecDeque;

use serde::Serialize;

use crate::reading::VideoFrame;

/// Inter frames looked at: about a second.
const MEMORY: usize = 64;
/// What a moving frame weighs is this quantile of them, so that three of four may be repeats.
const MOVING_QUANTILE: f64 = 0.85;
/// A frame below this share of a moving one is a repeat; between the figures measured above.
const REPEAT: f64 = 0.10;
/// The same in a stream with B-frames.
const REPEAT_WITH_B: f64 = 0.04;
/// A frame above this share says that the picture moves on.
const MOVES_ON: f64 = 0.3;
/// A longer run of small frames is a still picture, not a late scene, in seconds.
const LONGEST_RUN_S: f64 = 0.25;
/// Below so many bytes, at 720 lines, a frame holds no moving picture: the largest repeat measured had 670.
const STILL_BYTES: f64 = 700.0;
/// Frames over which a source's own rate is looked for: about three seconds at 60 frames/s.
const PATTERN: usize = 180;

/// Whether the picture moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Moving {
    /// It does.
    Yes,
    /// Every frame is tiny: nothing moves, and a repeat would look no different.
    Still,
}

/// Finds repeats.
#[derive(Debug, Clone, Default)]
pub(super) struct Repeats {
    sizes: VecDeque<u32>,
    /// Small frames since the last that moved; none before the first.
    run: u64,
    has_moved: bool,
    /// For each of the last [`PATTERN`] frames, whether it was a new picture.
    pattern: VecDeque<bool>,
    /// The picture once moved at the full rate.
    was_full_rate: bool,
    /// Frames since each of the last runs of repeats ended.
    ended: VecDeque<u64>,
    frames: u64,
}

impl Repeats {
    /// Takes a frame; gives the repeats that are certain by it: a run counts when the picture moves on.
    pub(super) fn frame(&mut self, frame: &VideoFrame, fps: f64, has_b_frames: bool) -> u64 {
        self.frames += 1;
        let horizon = self.frames.saturating_sub((fps * 3.0) as u64);
        while self.ended.front().is_some_and(|at| *at < horizon) {
            self.ended.pop_front();
        }
        if frame.keyframe {
            // Full of bits whatever the picture does: it says nothing.
            return 0;
        }
        let net = frame.bytes.saturating_sub(frame.filler_bytes);
        self.sizes.push_back(net);
        if self.sizes.len() > MEMORY {
            self.sizes.pop_front();
        }
        let moving = self.moving_bytes();
        if self.sizes.len() < MEMORY / 2 || moving < STILL_BYTES {
            self.run = 0;
            self.has_moved = false;
            return 0;
        }
        let share = f64::from(net) / moving;
        let border = if has_b_frames { REPEAT_WITH_B } else { REPEAT };
        self.note(share > border);
        if share <= border {
            self.run += u64::from(self.has_moved);
            return 0;
        }
        if share < MOVES_ON && !has_b_frames {
            return 0;
        }
        let run = std::mem::take(&mut self.run);
        self.has_moved = true;
        let unknown = self.pattern.len() < PATTERN / 3;
        if run == 0 || unknown || run as f64 > (fps * LONGEST_RUN_S).max(2.0) || self.source_rate(fps).is_some() {
            return 0;
        }
        self.ended.push_back(self.frames);
        run
    }

    fn note(&mut self, is_new: bool) {
        self.pattern.push_back(is_new);
        if self.pattern.len() > PATTERN {
            self.pattern.pop_front();
        }
        let is_full = self.pattern.len() >= PATTERN / 3
            && self.pattern.iter().rev().take(PATTERN / 3).filter(|new| !**new).count() <= 3;
        self.was_full_rate |= is_full;
    }

    /// What a moving frame weighs, in bytes.
    fn moving_bytes(&self) -> f64 {
        let mut sorted: Vec<u32> = self.sizes.iter().copied().collect();
        sorted.sort_unstable();
        let at = ((sorted.len().max(1) - 1) as f64 * MOVING_QUANTILE) as usize;
        sorted.get(at).copied().map_or(0.0, f64::from)
    }

    /// Runs of repeats that ended within the last three seconds.
    pub(super) fn runs(&self) -> u32 {
        u32::try_from(self.ended.len()).unwrap_or(u32::MAX)
    }

    /// Whether the picture moves; `None` before there is enough to tell.
    pub(super) fn moving(&self) -> Option<Moving> {
        if self.sizes.len() < MEMORY / 2 {
            return None;
        }
        Some(if self.moving_bytes() < STILL_BYTES { Moving::Still } else { Moving::Yes })
    }

    /// The source's own rate, if it is one that films and games are made at, comes in a regular pattern, and the
    /// broadcast never showed more: then repeats are how it is meant, and nothing is late.
    pub(super) fn source_rate(&self, fps: f64) -> Option<f64> {
        if self.was_full_rate || self.pattern.len() < PATTERN / 3 || fps < 40.0 {
            return None;
        }
        let new = self.pattern.iter().filter(|new| **new).count() as f64;
        let rate = fps * new / self.pattern.len() as f64;
        let made_at = [24.0, 25.0, 30.0].into_iter().find(|made| (rate - made).abs() < 0.7)?;
        // Regular: new pictures are as far apart as whole frames allow, each time.
        let apart = fps / made_at;
        let (mut since, mut odd, mut gaps) = (0.0_f64, 0, 0);
        for is_new in self.pattern.iter().skip_while(|new| !**new) {
            since += 1.0;
            if *is_new {
                gaps += 1;
                odd += usize::from(gaps > 1 && (since < apart.floor() || since > apart.ceil()));
                since = 0.0;
            }
        }
        (odd * 50 <= gaps).then_some(made_at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn inter(bytes: u32) -> VideoFrame {
        VideoFrame { bytes, ..VideoFrame::default() }
    }

    fn count(repeats: &mut Repeats, frames: usize, bytes: impl Fn(usize) -> u32) -> u64 {
        (0..frames).map(|n| repeats.frame(&inter(bytes(n)), 60.0, false)).sum()
    }

    #[test]
    fn small_frames_among_moving_ones_are_repeats() {
        let mut repeats = Repeats::default();
        assert_eq!(count(&mut repeats, 300, |n| 9000 + (n as u32 * 37) % 3000), 0);
        assert_eq!(count(&mut repeats, 300, |n| if n % 3 == 2 { 200 } else { 12_000 }), 99);
        assert!(repeats.runs() > 50);
        assert_eq!(repeats.moving(), Some(Moving::Yes));
    }

    #[test]
    fn filler_does_not_make_a_repeat_heavy() {
        let mut repeats = Repeats::default();
        count(&mut repeats, 100, |_| 12_000);
        let padded = VideoFrame { bytes: 12_000, filler_bytes: 11_700, ..VideoFrame::default() };
        assert_eq!(repeats.frame(&padded, 60.0, false) + repeats.frame(&inter(12_000), 60.0, false), 1);
    }

    #[test]
    fn a_still_picture_and_its_changes_are_no_repeats() {
        let mut repeats = Repeats::default();
        // A slide a second, each change heavy, and nothing in between.
        assert_eq!(count(&mut repeats, 600, |n| if n % 60 == 0 { 60_000 } else { 41 }), 0);
        assert_eq!(repeats.moving(), Some(Moving::Still));
        // Motion, then a pause of half a second, then motion.
        count(&mut repeats, 200, |_| 10_000);
        assert_eq!(count(&mut repeats, 30, |_| 60), 0);
        assert_eq!(count(&mut repeats, 100, |_| 10_000), 0);
    }

    #[test]
    fn small_b_frames_are_not_mistaken() {
        let mut repeats = Repeats::default();
        let natural = |n: usize| if n.is_multiple_of(3) { 19_000 } else { 1000 + (n as u32 * 71) % 2000 };
        let told: u64 = (0..300).map(|n| repeats.frame(&inter(natural(n)), 60.0, true)).sum();
        assert_eq!(told, 0);
        let lagged = |n: usize| if n % 3 == 2 { 230 } else { natural(n * 3) };
        assert!((0..300).map(|n| repeats.frame(&inter(lagged(n)), 60.0, true)).sum::<u64>() > 90);
    }

    #[test]
    fn a_source_of_thirty_frames_is_slow_and_not_late() {
        let mut repeats = Repeats::default();
        let late = count(&mut repeats, 600, |n| if n % 2 == 0 { 20_000 } else { 150 });
        assert_eq!(late, 0);
        assert_eq!(repeats.source_rate(60.0), Some(30.0));
        // The same pattern after the full rate was seen is a scene that is late.
        let mut repeats = Repeats::default();
        count(&mut repeats, 300, |_| 10_000);
        assert!(count(&mut repeats, 300, |n| if n % 2 == 0 { 20_000 } else { 150 }) > 140);
    }
}
