//! JSON in which measured values have as many digits as anybody reads.
//!
//! A mean of milliseconds has seventeen digits, of which a screen shows three; the others cannot be deflated. Values are written with
//! [`DIGITS`] significant ones. Whole numbers and words stay as they are.

use std::io::{self, Write};

use serde::Serialize;
use serde_json::ser::{CompactFormatter, Formatter, Serializer};

/// Significant digits that are kept. Ours: as many as the longest figure on a screen has.
const DIGITS: usize = 5;

/// A value as one line of JSON, with a newline behind it.
///
/// # Errors
/// If it cannot be JSON.
pub fn brief(value: &impl Serialize) -> serde_json::Result<Vec<u8>> {
    let mut line = Vec::with_capacity(16 << 10);
    value.serialize(&mut Serializer::with_formatter(&mut line, Brief(CompactFormatter)))?;
    line.push(b'\n');
    Ok(line)
}

struct Brief(CompactFormatter);

impl Formatter for Brief {
    fn write_f64<W: ?Sized + Write>(&mut self, to: &mut W, value: f64) -> io::Result<()> {
        self.0.write_f64(to, rounded(value))
    }
}

/// A value with [`DIGITS`] significant digits.
fn rounded(value: f64) -> f64 {
    if value == 0.0 || !value.is_finite() {
        return value;
    }
    // Written out and read again is exact, where dividing by a power of ten is not.
    format!("{value:.*e}", DIGITS - 1).parse().unwrap_or(value)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn five_digits_are_kept_and_whole_numbers_all() {
        for (value, kept) in
            [(32.790_275_044_021_9, 32.790), (0.001_234_567_8, 0.001_234_6), (-1e-9, -1e-9), (0.0, 0.0)]
        {
            assert_eq!(rounded(value), kept);
        }
        assert_eq!(
            brief(&(u64::MAX, 1.0 / 3.0, "12.3456789")).unwrap(),
            b"[18446744073709551615,0.33333,\"12.3456789\"]\n"
        );
    }
}
