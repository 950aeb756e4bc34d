//! What people mean on a command line: a length of time with its unit, a share with its sign, a port by itself.

use std::net::{Ipv4Addr, SocketAddr};
use std::ops::RangeInclusive;

use moth_core::rate::{Bitrate, RateError};

/// A length of time in whole seconds within a range: `90`, `90s`, `1m`, `1m30s`, `2h`.
///
/// # Errors
/// What is expected, in a sentence.
pub fn seconds(text: &str, range: RangeInclusive<u64>) -> Result<u64, String> {
    let wrong = || {
        let (least, most) = (range.start(), range.end());
        format!("expected a length of time like 90, 90s, 1m30s or 2h, from {least} to {most} seconds")
    };
    let (mut total, mut number, mut last_unit) = (0_u64, String::new(), u64::MAX);
    for c in text.trim().chars() {
        if c.is_ascii_digit() {
            number.push(c);
            continue;
        }
        let unit = match c {
            's' => 1,
            'm' => 60,
            'h' => 3600,
            _ => return Err(wrong()),
        };
        // The longer unit first, and each once.
        if unit >= last_unit {
            return Err(wrong());
        }
        let value: u64 = number.parse().map_err(|_| wrong())?;
        total = value.checked_mul(unit).and_then(|more| total.checked_add(more)).ok_or_else(wrong)?;
        (number, last_unit) = (String::new(), unit);
    }
    if !number.is_empty() {
        // A number by itself is seconds; behind a unit it could be anything.
        if last_unit != u64::MAX {
            return Err(wrong());
        }
        total = number.parse().map_err(|_| wrong())?;
    } else if last_unit == u64::MAX {
        return Err(wrong());
    }
    if range.contains(&total) { Ok(total) } else { Err(wrong()) }
}

/// A share in percent, with or without its sign: `25`, `25%`, `25 %`.
///
/// # Errors
/// What is expected, in a sentence.
pub fn percent(text: &str, range: RangeInclusive<u8>) -> Result<u8, String> {
    let number = text.trim().strip_suffix('%').unwrap_or(text).trim();
    let found = number.parse().ok().filter(|percent| range.contains(percent));
    found.ok_or_else(|| format!("expected percent from {} to {}, like 25", range.start(), range.end()))
}

/// A bitrate as it is likely meant, and why that is said back, where what was written does not say it by itself.
///
/// # Errors
/// [`RateError`] if it is none.
pub fn bitrate(text: &str) -> Result<(Bitrate, Option<&'static str>), RateError> {
    let error = match text.parse() {
        Ok(rate) => return Ok((rate, None)),
        Err(error) => error,
    };
    let compact: String = text.chars().filter(|c| !c.is_whitespace() && *c != '_').collect();
    if let Ok(number) = compact.replace(',', ".").parse::<f64>() {
        // Broadcasts have from some hundred kb/s to some tens of Mb/s: there is no number that could well be both.
        let unit = if number >= 100.0 { "k" } else { "M" };
        return Ok((format!("{compact}{unit}").parse()?, Some("a number alone is taken so")));
    }
    match compact.strip_suffix(['B']) {
        // Services and lines are told in bits; who means bytes writes them a second.
        Some(bits) if !bits.ends_with(|c: char| c.is_ascii_digit()) => {
            Ok((format!("{bits}b").parse()?, Some("bits, as services say them; bytes would be MB/s")))
        }
        _ => Err(error),
    }
}

/// Where something is served: an address with its port, or a port on this machine alone.
///
/// # Errors
/// What is expected, in a sentence.
pub fn place(text: &str) -> Result<SocketAddr, String> {
    if let Ok(port) = text.parse::<u16>() {
        return Ok((Ipv4Addr::LOCALHOST, port).into());
    }
    // Names would have to be looked up, but for the one that is this machine.
    let text = text.strip_prefix("localhost:").map_or_else(|| text.to_owned(), |port| format!("127.0.0.1:{port}"));
    text.parse().map_err(|_| "expected an address and a port like 127.0.0.1:9377, or a port by itself".to_owned())
}

/// Where a broadcaster publishes to: an RTMP address, or as much of one as says the rest by itself: `127.0.0.1:1935`, `1935`.
/// What is no address is told when it is used.
#[must_use]
pub fn door(text: &str) -> String {
    let text = text.trim();
    if text.contains("://") {
        return text.to_owned();
    }
    let host = if text.parse::<u16>().is_ok() { format!("127.0.0.1:{text}") } else { text.to_owned() };
    let app = if host.contains('/') { "" } else { "/moth" };
    format!("rtmp://{host}{app}")
}

/// The known word that is most like one that was written, if one is like it at all: as alike as where clap, too, asks back.
#[must_use]
pub fn near<'a>(written: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    const ALIKE: f64 = 0.7;
    let alike = |word: &&str| strsim::jaro(written, word);
    let best = known.into_iter().max_by(|a, b| alike(a).total_cmp(&alike(b)))?;
    (alike(&best) > ALIKE).then_some(best)
}

/// What may be meant, as a question behind what was not understood; nothing if nothing is like it.
#[must_use]
pub fn asked_back(meant: Option<&str>) -> String {
    meant.map_or_else(String::new, |meant| format!(" (did you mean `{meant}`?)"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_of_time_are_taken_as_people_write_them() {
        for (text, length) in
            [("90", 90), ("90s", 90), ("1m", 60), ("1m30s", 90), ("2h", 7200), ("1h0m5s", 3605), (" 7 ", 7)]
        {
            assert_eq!(seconds(text, 1..=1_000_000), Ok(length), "{text}");
        }
        for text in ["", "s", "soon", "1m30", "1s1m", "1m1m", "-5", "1.5m", "99999999999999999999h", "0", "2000000"] {
            let said = seconds(text, 1..=1_000_000).unwrap_err();
            assert!(said.contains("1m30s") && said.contains("from 1 to 1000000"), "{text}: {said}");
        }
    }

    #[test]
    fn a_bitrate_that_is_not_plain_is_taken_as_it_is_likely_meant_and_said_back() {
        for (text, kbps, is_said_back) in [
            ("6M", 6000, false),
            ("750 kB/s", 6000, false),
            ("6000", 6000, true),
            ("6", 6000, true),
            ("4,5", 4500, true),
            ("6 MB", 6000, true),
            ("6000kB", 6000, true),
        ] {
            let (rate, said) = bitrate(text).unwrap();
            assert_eq!((rate, said.is_some()), (Bitrate::from_kbps(kbps), is_said_back), "{text}");
        }
        for text in ["", "fast", "6 x", "6B", "B", "-6"] {
            assert!(bitrate(text).is_err(), "{text}");
        }
    }

    #[test]
    fn doors_and_slips_of_the_pen_are_understood() {
        for (text, address) in [
            ("127.0.0.1:1935", "rtmp://127.0.0.1:1935/moth"),
            ("1935", "rtmp://127.0.0.1:1935/moth"),
            ("localhost:1935/live", "rtmp://localhost:1935/live"),
            ("rtmp://127.0.0.1:1935/x", "rtmp://127.0.0.1:1935/x"),
        ] {
            assert_eq!(door(text), address);
        }
        let known = ["calm", "tired-server", "two-at-once"];
        assert_eq!(near("tired-sever", known), Some("tired-server"));
        assert_eq!((near("twoatonce", known), near("zzz", known)), (Some("two-at-once"), None));
    }

    #[test]
    fn shares_and_places_are_taken_where_they_are_plain() {
        assert_eq!((percent("25", 0..=90), percent("25%", 0..=90), percent("25 %", 0..=90)), (Ok(25), Ok(25), Ok(25)));
        for text in ["", "%", "a quarter", "95", "-1", "25%%"] {
            assert!(percent(text, 0..=90).unwrap_err().contains("from 0 to 90"), "{text}");
        }
        let here = |port| SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        assert_eq!((place("9377"), place("localhost:9377")), (Ok(here(9377)), Ok(here(9377))));
        assert_eq!(place("0.0.0.0:80").unwrap().port(), 80);
        assert!(place("[::1]:80").is_ok());
        for text in ["", "99999", "127.0.0.1", "studio:80", ":80"] {
            assert!(place(text).unwrap_err().contains("127.0.0.1:9377"), "{text}");
        }
    }
}
