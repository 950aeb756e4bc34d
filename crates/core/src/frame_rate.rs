//! Frame rates, which are often not whole: 59.94 is 60 × 1000/1001, as broadcasts in colour have had it since 1953.

use std::fmt;
use std::str::FromStr;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Frames per second, in whole thousandths, from 1 to 1 000. Shown as `60` or `59.94`; in JSON it is a number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FrameRate {
    millihertz: u32,
}

impl FrameRate {
    /// The nearest thousandth; the nearest end of the range if it is outside, and 1 if it is no number.
    #[must_use]
    pub fn from_fps(fps: f64) -> Self {
        let fps = if fps.is_nan() { 1.0 } else { fps.clamp(1.0, 1000.0) };
        Self { millihertz: (fps * 1000.0).round() as u32 }
    }

    /// Whole frames per second.
    #[must_use]
    pub fn whole(fps: u32) -> Self {
        Self::from_fps(f64::from(fps))
    }

    /// Frames per second.
    #[must_use]
    pub fn fps(self) -> f64 {
        f64::from(self.millihertz) / 1000.0
    }
}

impl fmt::Display for FrameRate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.fps().to_string())
    }
}

impl FromStr for FrameRate {
    type Err = FrameRateError;

    /// Reads a rate as people write it: `30`, `59.94`, `29,97`, a fraction like `60000/1001`, each with or without `fps` or
    /// `frames/s`.
    ///
    /// # Errors
    /// [`FrameRateError`] if it is no number from 1 to 1 000.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let text = text.trim();
        let bare =
            ["fps", "frames/s", "frames per second", "Hz", "p"].into_iter().find_map(|unit| text.strip_suffix(unit));
        let number = |text: &str| text.trim().replace(',', ".").parse::<f64>().ok();
        let bare = bare.unwrap_or(text);
        let fps = match bare.split_once('/') {
            Some((over, under)) => number(over).zip(number(under)).map(|(over, under)| over / under),
            None => number(bare),
        };
        fps.filter(|fps| (1.0..=1000.0).contains(fps)).map(Self::from_fps).ok_or(FrameRateError)
    }
}

/// A text is no frame rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FrameRateError;

impl fmt::Display for FrameRateError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("it is no frame rate; expected frames per second from 1 to 1000, like 30 or 59.94")
    }
}

impl std::error::Error for FrameRateError {}

impl Serialize for FrameRate {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        if self.millihertz.is_multiple_of(1000) {
            serializer.serialize_u32(self.millihertz / 1000)
        } else {
            serializer.serialize_f64(self.fps())
        }
    }
}

impl<'de> Deserialize<'de> for FrameRate {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let fps = f64::deserialize(deserializer)?;
        let is_one = (1.0..=1000.0).contains(&fps);
        if is_one { Ok(Self::from_fps(fps)) } else { Err(D::Error::custom(FrameRateError)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_are_read_as_people_write_them() {
        let read = |text: &str| text.parse::<FrameRate>().map(|rate| rate.to_string());
        for (text, rate) in [
            ("30", "30"),
            ("30fps", "30"),
            ("59.94", "59.94"),
            ("29,97 fps", "29.97"),
            ("60000/1001", "59.94"),
            ("24000/1001", "23.976"),
            ("50 frames/s", "50"),
        ] {
            assert_eq!(read(text).as_deref(), Ok(rate), "{text}");
        }
        for text in ["", "fps", "0", "-30", "1/0", "NaN", "inf", "thirty", "2000"] {
            assert_eq!(read(text), Err(FrameRateError), "{text}");
        }
    }

    #[test]
    fn in_json_it_is_a_number_and_a_whole_one_as_it_always_was() {
        let json = |fps: f64| serde_json::to_string(&FrameRate::from_fps(fps)).unwrap_or_default();
        assert_eq!((json(30.0), json(60.0 / 1.001)), ("30".into(), "59.94".into()));
        let read = |text: &str| serde_json::from_str::<FrameRate>(text).ok().map(FrameRate::fps);
        assert_eq!((read("30"), read("59.94"), read("0"), read("1e9")), (Some(30.0), Some(59.94), None, None));
    }
}
