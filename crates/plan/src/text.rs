//! Values that files hold as text.

use std::fmt;
use std::str::FromStr;

use moth_core::rate::Bitrate;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

/// A bitrate written as people write it; for `#[serde(with = "rate")]`.
pub mod rate {
    use std::fmt;

    use serde::de::Visitor;

    use super::{Bitrate, Deserializer, Error, Serializer};

    struct AsText;

    impl Visitor<'_> for AsText {
        type Value = Bitrate;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            f.write_str("a bitrate in quotes, with its unit, like \"6000 kb/s\"")
        }

        fn visit_str<E: Error>(self, text: &str) -> Result<Bitrate, E> {
            text.parse().map_err(E::custom)
        }
    }

    /// Writes `6000 kb/s`.
    ///
    /// # Errors
    /// Those of the serializer.
    pub fn serialize<S: Serializer>(rate: &Bitrate, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&rate.to_text())
    }

    /// Reads any spelling that [`Bitrate`] takes.
    ///
    /// # Errors
    /// If the text is not a bitrate.
    pub fn deserialize<'a, D: Deserializer<'a>>(from: D) -> Result<Bitrate, D::Error> {
        from.deserialize_str(AsText)
    }
}

/// A frame rate as people write it: `30`, `59.94`, `"30fps"`; for `#[serde(deserialize_with = "fps")]`.
///
/// # Errors
/// If it is none.
pub fn fps<'a, D: Deserializer<'a>>(from: D) -> Result<f64, D::Error> {
    use std::fmt;

    struct Fps;

    impl serde::de::Visitor<'_> for Fps {
        type Value = f64;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            f.write_str("frames per second from 1 to 240, like 30 or 59.94")
        }

        fn visit_f64<E: Error>(self, fps: f64) -> Result<f64, E> {
            Ok(fps)
        }

        fn visit_i64<E: Error>(self, fps: i64) -> Result<f64, E> {
            Ok(fps as f64)
        }

        fn visit_u64<E: Error>(self, fps: u64) -> Result<f64, E> {
            Ok(fps as f64)
        }

        fn visit_str<E: Error>(self, text: &str) -> Result<f64, E> {
            let rate = text.parse::<moth_core::frame_rate::FrameRate>();
            rate.map(|rate| rate.fps()).map_err(|_| E::invalid_value(serde::de::Unexpected::Str(text), &self))
        }
    }
    from.deserialize_any(Fps)
}

/// The same for one that may be missing.
///
/// # Errors
/// If it is none.
pub fn maybe_fps<'a, D: Deserializer<'a>>(from: D) -> Result<Option<f64>, D::Error> {
    fps(from).map(Some)
}

/// The same for a bitrate that may be missing; for `#[serde(default, with = "maybe_rate")]`.
pub mod maybe_rate {
    use super::{Bitrate, Deserializer, Serializer, rate};

    /// Writes `6000 kb/s`, or nothing.
    ///
    /// # Errors
    /// Those of the serializer.
    pub fn serialize<S: Serializer>(value: &Option<Bitrate>, to: S) -> Result<S::Ok, S::Error> {
        match value {
            Some(value) => rate::serialize(value, to),
            None => to.serialize_none(),
        }
    }

    /// Reads any spelling that a bitrate takes.
    ///
    /// # Errors
    /// If the text is not a bitrate.
    pub fn deserialize<'a, D: Deserializer<'a>>(from: D) -> Result<Option<Bitrate>, D::Error> {
        rate::deserialize(from).map(Some)
    }
}

/// A picture's size in pixels, written `1280x720`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Size {
    /// Pixels in a line.
    pub width: u32,
    /// Lines.
    pub height: u32,
}

impl Size {
    /// A size from its sides.
    #[must_use]
    pub const fn new(width: u32, height: u32) -> Self {
        Self { width, height }
    }

    /// How many pixels it has.
    #[must_use]
    pub fn pixels(self) -> f64 {
        f64::from(self.width) * f64::from(self.height)
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{}×{}", self.width, self.height))
    }
}

/// Why a text is not a size.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a picture size; write width and height in pixels, from 64 to 8192 each, like 1280x720")]
pub struct SizeError(String);

impl FromStr for Size {
    type Err = SizeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let fail = || SizeError(text.chars().filter(|c| !c.is_control()).take(40).collect());
        let (width, height) = text.split_once(['x', 'X', '×']).ok_or_else(fail)?;
        let side = |text: &str| text.trim().parse().ok().filter(|n| (64..=8192).contains(n)).ok_or_else(fail);
        Ok(Self { width: side(width)?, height: side(height)? })
    }
}

impl Serialize for Size {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&format!("{}x{}", self.width, self.height))
    }
}

impl<'a> Deserialize<'a> for Size {
    fn deserialize<D: Deserializer<'a>>(from: D) -> Result<Self, D::Error> {
        String::deserialize(from)?.parse().map_err(D::Error::custom)
    }
}

/// `8 %`, `12 %`: a share from 0 to 1 as people read it.
#[must_use]
pub fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}

/// An interface's rate, which is counted in megabits: `1 000 Mb/s`.
#[must_use]
pub fn link_rate(rate: Bitrate) -> String {
    if rate >= Bitrate::from_kbps(10_000) {
        format!("{} Mb/s", moth_core::rate::grouped(rate.bps() / 1_000_000))
    } else {
        rate.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_and_shown() {
        assert_eq!("1280x720".parse(), Ok(Size::new(1280, 720)));
        assert_eq!("1920 × 1080".parse::<Size>().map(|s| s.to_string()), Ok("1920×1080".into()));
        for bad in ["1280", "x720", "1280x0", "99999x9", "a×b", ""] {
            assert!(bad.parse::<Size>().unwrap_err().to_string().contains("1280x720"), "{bad}");
        }
    }
}
