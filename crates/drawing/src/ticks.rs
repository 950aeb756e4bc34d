//! Where an axis is marked, and how.

/// Steps of a time axis, in seconds. Ours.
const STEPS_S: [u32; 15] = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400];

/// Whole steps of time between two moments, in seconds, at most so many.
pub(crate) fn times(from_s: f64, until_s: f64, most: usize) -> Vec<u32> {
    let span = (until_s - from_s).max(1.0);
    let step = STEPS_S.into_iter().find(|step| span / f64::from(*step) <= most as f64).unwrap_or(28_800);
    let first = (from_s / f64::from(step)).ceil().max(0.0) as u32;
    (first..).map(|n| n * step).take_while(|at| f64::from(*at) <= until_s + 1e-6).collect()
}

/// A moment as h:mm:ss, or mm:ss within the first hour.
#[must_use]
pub fn clock(seconds: f64) -> String {
    let all = seconds.max(0.0).round() as u64;
    let (hours, minutes, seconds) = (all / 3600, all / 60 % 60, all % 60);
    if hours > 0 { format!("{hours}:{minutes:02}:{seconds:02}") } else { format!("{minutes:02}:{seconds:02}") }
}

/// The least of 1, 2, 5 times a power of ten that is no less than a value: the top of an axis.
#[must_use]
pub fn top(value: f64) -> f64 {
    if !value.is_finite() || value <= 0.0 {
        return 1.0;
    }
    let power = 10_f64.powf(value.log10().floor());
    [1.0, 1.5, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0]
        .into_iter()
        .map(|step| step * power)
        .find(|top| *top >= value)
        .unwrap_or(value)
}

/// A number with thin spaces between its thousands.
pub(crate) fn number(value: f64) -> String {
    if value != 0.0 && value.abs() < 10.0 && value.fract() != 0.0 {
        return format!("{value:.1}");
    }
    let digits = format!("{:.0}", value.abs());
    let mut text = String::new();
    for (n, digit) in digits.chars().enumerate() {
        if n > 0 && (digits.len() - n).is_multiple_of(3) {
            text.push('\u{a0}');
        }
        text.push(digit);
    }
    if value < 0.0 { format!("−{text}") } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn axes_have_round_marks() {
        assert_eq!(times(0.0, 45.0, 10), [0, 5, 10, 15, 20, 25, 30, 35, 40, 45]);
        assert_eq!(times(3601.0, 3660.0, 4), [3615, 3630, 3645, 3660]);
        assert_eq!(times(0.0, 8.0 * 3600.0, 8).len(), 9);
        assert_eq!((clock(65.4), clock(3725.0)), ("01:05".into(), "1:02:05".into()));
        assert_eq!((top(0.0), top(7.0), top(6001.0), top(10.0)), (1.0, 8.0, 8000.0, 10.0));
        assert_eq!(
            (number(1_234_567.0), number(0.5), number(-20.0)),
            ("1\u{a0}234\u{a0}567".into(), "0.5".into(), "−20".into())
        );
    }
}
