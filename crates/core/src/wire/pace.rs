//! Whether the encoder keeps up with real time: when frames arrive against when their timestamps say.

use std::time::Duration;

use crate::moment::Moment;
use crate::window::Gauge;

/// A step of the stream's clock beyond this is a pause or a restart, in milliseconds. Ours.
const PAUSE_MS: i64 = 2000;
/// A frame that is earlier than any for a while by so many milliseconds, and by most of the step before it: the stream's clock
/// leapt. Where frames are missing, time has passed that they would have taken. Ours.
const EARLY_MS: f64 = 100.0;
const EARLY_SHARE: f64 = 0.75;
/// After so many frames at one time the stream has no clock; tracks beside each other are fewer. Ours.
const STANDS: u32 = 30;
/// Spans that are compared: the newest second, and the one two seconds before it. Ours.
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
    /// Frames in a row at one time.
    standing: u32,
}

impl Pace {
    /// Takes a frame; gives whether the stream's clock leapt just before it.
    pub(super) fn frame(&mut self, at: Moment, time_ms: u32) -> bool {
        let step = self.last_ms.replace(time_ms).map(|last| i64::from(time_ms.wrapping_sub(last).cast_signed()));
        match step {
            Some(step) if (-200..=PAUSE_MS).contains(&step) => self.stream_ms += step,
            _ => {
                (self.stream_ms, self.began) = (0, at);
                self.late_ms.clear();
            }
        }
        self.standing = if step == Some(0) { self.standing + 1 } else { 0 };
        if self.standing >= STANDS {
            // How late it is, such a stream does not tell.
            self.late_ms.clear();
            return false;
        }
        let late_ms = at.since(self.began).as_secs_f64() * 1000.0 - self.stream_ms as f64;
        let early_ms = self.late_ms.lowest(at, crate::window::REACH).map_or(0.0, |floor| floor - late_ms);
        let leapt = early_ms > EARLY_MS && early_ms > step.unwrap_or_default() as f64 * EARLY_SHARE;
        if leapt {
            (self.stream_ms, self.began) = (0, at);
            self.late_ms.clear();
        }
        self.late_ms.set(at, if leapt { 0.0 } else { late_ms });
        leapt
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
    fn a_stream_whose_clock_stands_tells_nothing_of_lateness() {
        let mut pace = Pace::default();
        let now = run(&mut pace, 0, 5, 1.0, 1);
        assert!(pace.behind(now).is_some());
        for n in 0..500 {
            pace.frame(Moment::from_ms(5000 + n * 20), 4980);
        }
        assert_eq!(pace.behind(Moment::from_ms(15_000)), None);
    }

    #[test]
    fn a_leap_of_the_clock_is_told_from_a_gap_and_from_a_hold_up() {
        let at = |ms: u64| Moment::from_ms(ms);
        let mut pace = Pace::default();
        run(&mut pace, 0, 10, 1.0, 1);
        assert!(!pace.frame(at(11_900), 11_900), "1.9 s passed, and are missing");
        // Held up on its way for a second, and then everything at once, with a gap in it.
        for n in (12_000..13_000).filter(|n| n % 20 == 0 && !(12_400..12_700).contains(n)) {
            assert!(!pace.frame(at(13_000), n));
        }
        for n in (13_000..15_000).step_by(20) {
            assert!(!pace.frame(at(n), u32::try_from(n).unwrap()));
        }
        assert!(pace.frame(at(15_020), 16_920), "1.9 s are missing in which 20 ms passed");
        assert!(!pace.frame(at(15_040), 16_940), "and from there it goes on");
    }

    #[test]
    fn a_pause_is_not_lateness() {
        let mut pace = Pace::default();
        run(&mut pace, 0, 5, 1.0, 1);
        let now = run(&mut pace, 60_000, 5, 1.0, 1);
        assert!(pace.behind(now).unwrap().0 < 30.0);
    }
}
