//! Whether the encoder keeps up with real time: when frames arrive against when their timestamps say.

use std::time::Duration;

use crate::moment::Moment;
use crate::window::Gauge;

/// A step of the stream's clock beyond this is a pause or a restart, in milliseconds.
const PAUSE_MS: i64 = 2000;
/// Spans that are compared: the newest second, and the one two seconds before it.
const SPAN: Duration = Duration::from_secs(1);
const BACK: Duration = Duration::from_secs(2);

/// How late frames come.
#[derive(Debug, Clone, Default)]
pub(super) struct Pace {
    last_ms: Option<u32>,
    /// The stream's time since the first frame, in milliseconds, wraps taken out.
    stream_ms: i64,
    began: Moment,
    /// Milliseconds each frame came after its time.
    late_ms: Gauge,
}

impl Pace {
    pub(super) fn frame(&mut self, at: Moment, time_ms: u32) {
        let step = self.last_ms.replace(time_ms).map(|last| i64::from(time_ms.wrapping_sub(last).cast_signed()));
        match step {
            Some(step) if (-200..=PAUSE_MS).contains(&step) => self.stream_ms += step,
            _ => {
                (self.stream_ms, self.began) = (0, at);
                self.late_ms.clear();
            }
        }
        let came_ms = at.since(self.began).as_secs_f64() * 1000.0;
        self.late_ms.set(at, came_ms - self.stream_ms as f64);
    }

    /// Milliseconds behind against a few seconds ago, and how many are added a second. The earliest frame of each second
    /// counts: frames that come in a bunch are not late.
    pub(super) fn behind(&self, now: Moment) -> Option<(f64, f64)> {
        let newest = self.late_ms.lowest(now, SPAN)?;
        let before = self.late_ms.lowest_between(now.before(BACK + SPAN), now.before(BACK))?;
        let floor = self.late_ms.lowest(now, crate::window::REACH)?;
        Some((newest - floor, (newest - before) / BACK.as_secs_f64()))
    }

    /// Seconds of picture that come in a second, over the last three.
    pub(super) fn pace(&self, now: Moment) -> Option<f64> {
        let (_, grows) = self.behind(now)?;
        Some((1.0 - grows / 1000.0).clamp(0.0, 2.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(pace: &mut Pace, from_ms: u64, seconds: u64, share: f64, bunch: u64) -> Moment {
        let frames = seconds * 50;
        for n in 0..frames {
            // `share` of real time; frames come in bunches.
            let due = (n / bunch + 1) * bunch;
            let at = Moment::from_ms(from_ms + (due as f64 * 20.0 / share) as u64);
            pace.frame(at, u32::try_from(from_ms + n * 20).unwrap());
        }
        Moment::from_ms(from_ms + (frames as f64 * 20.0 / share) as u64)
    }

    #[test]
    fn frames_in_time_are_not_behind_even_in_bunches() {
        for bunch in [1, 7, 20] {
            let mut pace = Pace::default();
            let now = run(&mut pace, 0, 10, 1.0, bunch);
            let (behind, grows) = pace.behind(now).unwrap();
            assert!(behind.abs() < 30.0 && grows.abs() < 15.0, "{bunch}: {behind} ms, {grows} ms/s");
        }
    }

    #[test]
    fn an_encoder_at_four_fifths_of_real_time_falls_behind() {
        let mut pace = Pace::default();
        let now = run(&mut pace, 0, 6, 0.8, 1);
        let (behind, grows) = pace.behind(now).unwrap();
        assert!(behind > 1000.0 && (150.0..250.0).contains(&grows), "{behind} ms, {grows} ms/s");
        assert!((0.75..0.85).contains(&pace.pace(now).unwrap()));
    }

    #[test]
    fn a_pause_is_not_lateness() {
        let mut pace = Pace::default();
        run(&mut pace, 0, 5, 1.0, 1);
        let now = run(&mut pace, 60_000, 5, 1.0, 1);
        assert!(pace.behind(now).unwrap().0 < 30.0);
    }
}
