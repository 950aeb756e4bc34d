//! Bitrates, with their unit.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use serde::{Deserialize, Serialize};

/// Bits per second. Shown as `2 250 kb/s` (k is 1000, b is a bit).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Bitrate {
    bits_per_second: u64,
}

impl Bitrate {
    /// Nothing.
    pub const ZERO: Self = Self { bits_per_second: 0 };

    /// From kilobits (1000 bits) per second.
    #[must_use]
    pub const fn from_kbps(kbps: u64) -> Self {
        Self { bits_per_second: kbps.saturating_mul(1000) }
    }

    /// From bits per second.
    #[must_use]
    pub const fn from_bps(bits_per_second: u64) -> Self {
        Self { bits_per_second }
    }

    /// The rate at which `bytes` passed in `span`; zero for an empty span.
    #[must_use]
    pub fn of(bytes: f64, span: Duration) -> Self {
        let seconds = span.as_secs_f64();
        if seconds <= 0.0 {
            Self::ZERO
        } else {
            Self { bits_per_second: (bytes.max(0.0) * 8.0 / seconds).round() as u64 }
        }
    }

    /// Bits per second.
    #[must_use]
    pub const fn bps(self) -> u64 {
        self.bits_per_second
    }

    /// Kilobits per second.
    #[must_use]
    pub fn kbps(self) -> f64 {
        self.bits_per_second as f64 / 1000.0
    }

    /// This rate times a factor.
    #[must_use]
    pub fn scaled(self, factor: f64) -> Self {
        Self { bits_per_second: (self.bits_per_second as f64 * factor.max(0.0)).round() as u64 }
    }

    /// This rate less another, not below zero.
    #[must_use]
    pub fn less(self, other: Self) -> Self {
        Self { bits_per_second: self.bits_per_second.saturating_sub(other.bits_per_second) }
    }

    /// Down to a whole multiple of `step`.
    #[must_use]
    pub fn rounded_down_to(self, step: Self) -> Self {
        let step = step.bits_per_second.max(1);
        Self { bits_per_second: self.bits_per_second / step * step }
    }
}

impl fmt::Display for Bitrate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{} kb/s", grouped(self.bits_per_second.saturating_add(500) / 1000)))
    }
}

/// Why a text is not a bitrate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RateError {
    text: String,
    why: &'static str,
}

impl fmt::Display for RateError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "`{}` {}; write a bitrate like 6M, 6000k, 6 Mb/s or 750 kB/s", self.text, self.why)
    }
}

impl std::error::Error for RateError {}

/// The highest bitrate that is taken for one, in bits per second. Ours.
const HIGHEST_BPS: f64 = 1e12;

impl FromStr for Bitrate {
    type Err = RateError;

    /// Reads a bitrate as people write it: a number, a prefix (`k`, `M`, `G`, or `Ki`, `Mi`, `Gi` for powers of
    /// 1024), and bits (`b/s`, `bps`, `bit/s`, or nothing) or bytes (a capital `B`: `B/s`, `Bps`). A number alone is
    /// not taken: half of those who write `6000` mean something else than the other half.
    ///
    /// # Errors
    /// [`RateError`], which quotes the text and says what is expected.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let shown = || text.chars().filter(|c| !c.is_control()).take(40).collect::<String>();
        let fail = |why| RateError { text: shown(), why };
        let compact: String = text.chars().filter(|c| !c.is_whitespace() && *c != '_').collect();
        let split = compact.find(|c: char| !(c.is_ascii_digit() || c == '.' || c == ',')).unwrap_or(compact.len());
        let (number, unit) = compact.split_at(split);
        let number: f64 = number.replace(',', ".").parse().map_err(|_| fail("does not begin with a number"))?;
        if unit.is_empty() {
            return Err(fail("has no unit"));
        }
        if matches!(unit, "B" | "kB" | "KB" | "MB" | "GB") {
            // Who writes `6MB` for an upload mostly means megabits, and eight times as much would be taken without a word.
            return Err(fail("may be bits or bytes a second: a B alone does not say which"));
        }
        let factor = factor_of(unit).ok_or_else(|| fail("has a unit that is not known"))?;
        let bits = number * factor;
        if bits > HIGHEST_BPS {
            return Err(fail("is more than 1 000 Gb/s"));
        }
        Ok(Self { bits_per_second: bits.round() as u64 })
    }
}

/// Bits per second in one of a unit.
fn factor_of(unit: &str) -> Option<f64> {
    let prefixes: [(&str, f64); 10] = [
        ("Ki", 1024.0),
        ("Mi", 1024.0 * 1024.0),
        ("Gi", 1024.0 * 1024.0 * 1024.0),
        ("ki", 1024.0),
        ("k", 1e3),
        ("K", 1e3),
        // A millibit has no use here: who writes `6m` means mega.
        ("m", 1e6),
        ("M", 1e6),
        ("G", 1e9),
        ("g", 1e9),
    ];
    let (rest, factor) = prefixes
        .iter()
        .find_map(|(prefix, factor)| unit.strip_prefix(prefix).map(|rest| (rest, *factor)))
        .unwrap_or((unit, 1.0));
    match rest {
        // A prefix alone is bits; nothing at all was no unit.
        "" if rest.len() < unit.len() => Some(factor),
        "b" | "b/s" | "bps" | "bit" | "bits" | "bit/s" | "bits/s" => Some(factor),
        "B/s" | "Bps" | "byte/s" | "bytes/s" => Some(factor * 8.0),
        _ => None,
    }
}

impl Bitrate {
    /// As it is written into a file: exact, and read back as the same rate.
    #[must_use]
    pub fn to_text(self) -> String {
        if self.bits_per_second.is_multiple_of(1000) {
            format!("{} kb/s", self.bits_per_second / 1000)
        } else {
            format!("{} b/s", self.bits_per_second)
        }
    }
}

/// A whole number with a thin break between thousands, as in `2 250`.
#[must_use]
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shows_its_unit_and_groups_thousands() {
        assert_eq!(Bitrate::from_kbps(2250).to_string(), "2 250 kb/s");
        assert_eq!(Bitrate::from_kbps(160).to_string(), "160 kb/s");
        assert_eq!(grouped(1_234_567), "1 234 567");
    }

    #[test]
    fn reads_what_people_write() {
        let rate = |text: &str| text.parse::<Bitrate>().map(Bitrate::bps);
        for text in
            ["6M", "6000k", "6 Mb/s", "750 kB/s", "6000 kb/s", "6 000 kbps", "6,0 Mbit/s", "6m", "6_000_000 b/s"]
        {
            assert_eq!(rate(text), Ok(6_000_000), "{text}");
        }
        assert_eq!(rate("1 MiB/s"), Ok(8 * 1024 * 1024));
        assert_eq!(rate("0k"), Ok(0));
        assert_eq!(rate("2.5 Gb/s"), Ok(2_500_000_000));
    }

    #[test]
    fn what_is_not_a_bitrate_is_quoted_with_what_is_expected() {
        let error = |text: &str| text.parse::<Bitrate>().unwrap_err().to_string();
        assert_eq!(error("6000"), "`6000` has no unit; write a bitrate like 6M, 6000k, 6 Mb/s or 750 kB/s");
        assert_eq!(
            error("6MB"),
            "`6MB` may be bits or bytes a second: a B alone does not say which; write a bitrate like 6M, 6000k, 6 Mb/s or 750 kB/s"
        );
        assert!(error("6 kB").contains("bits or bytes") && error("6B").contains("bits or bytes"));
        assert!(error("fast").contains("does not begin with a number"));
        assert!(error("6 furlongs").contains("unit that is not known"));
        assert!(error("-6M").contains("number"));
        assert!(error("").contains("number"));
        assert!(error("1e9M").contains("unit"));
        assert!(error("9999999999G").contains("more than"));
        assert!(error("1.2.3M").contains("number"));
    }

    proptest::proptest! {
        #[test]
        fn what_is_written_is_read_back(bps in 0_u64..1_000_000_000_000) {
            let rate = Bitrate::from_bps(bps);
            proptest::prop_assert_eq!(rate.to_text().parse::<Bitrate>(), Ok(rate));
            // What is shown is rounded to kilobits, and read back as what it shows.
            let shown: Bitrate = rate.to_string().parse().unwrap();
            proptest::prop_assert_eq!(shown.bps(), (bps + 500) / 1000 * 1000);
        }

        #[test]
        fn bytes_are_eight_bits_in_every_spelling(n in 1_u64..100_000) {
            let parse = |text: String| text.parse::<Bitrate>().unwrap();
            proptest::prop_assert_eq!(parse(format!("{n} kB/s")), parse(format!("{}kbps", n * 8)));
            proptest::prop_assert_eq!(parse(format!("{n}k")), parse(format!("{n}000 bit/s")));
        }

        #[test]
        fn any_text_is_a_rate_or_an_error(text in ".{0,30}") {
            let _ = text.parse::<Bitrate>();
        }
    }

    #[test]
    fn counts_bytes_over_time() {
        assert_eq!(Bitrate::of(750_000.0, Duration::from_secs(1)), Bitrate::from_kbps(6000));
        assert_eq!(Bitrate::of(1.0, Duration::ZERO), Bitrate::ZERO);
    }
}
