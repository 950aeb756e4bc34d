//! Numbers as people read them, each with its unit.

use std::time::Duration;

use moth_core::rate::grouped;
use unicode_width::UnicodeWidthStr;

/// `1:02:03` or `2:03`
pub(crate) fn clock(duration: Duration) -> String {
    let seconds = duration.as_secs();
    let (h, m, s) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    if h > 0 { format!("{h}:{m:02}:{s:02}") } else { format!("{m}:{s:02}") }
}

/// A value that may not be had, without its unit.
pub(in crate::terminal) fn number(value: Option<f64>) -> String {
    match value {
        None => "n/a".into(),
        Some(v) if v.abs() < 20.0 => format!("{v:.1}"),
        Some(v) => grouped(v.max(0.0).round() as u64),
    }
}

/// A value that may not be had, with its unit.
pub(in crate::terminal) fn with_unit(value: Option<f64>, unit: &str) -> String {
    match value {
        None => "not available".into(),
        Some(_) => format!("{} {unit}", number(value)),
    }
}

/// As much of a text as fits into some columns, with a mark where it was cut.
pub(crate) fn fit(text: &str, columns: usize) -> String {
    if text.width() <= columns {
        return text.to_owned();
    }
    let mut out = String::new();
    for c in text.chars() {
        if out.width() + 2 > columns {
            break;
        }
        out.push(c);
    }
    if columns > 0 {
        out.push('…');
    }
    out
}

/// Text broken at spaces into lines of at most so many columns.
pub(in crate::terminal) fn wrap(text: &str, columns: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= columns => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(fit(word, columns)),
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_numbers_and_texts() {
        assert_eq!(clock(Duration::from_secs(62)), "1:02");
        assert_eq!(clock(Duration::from_secs(3723)), "1:02:03");
        assert_eq!(number(Some(6158.4)), "6 158");
        assert_eq!(number(Some(9.24)), "9.2");
        assert_eq!(with_unit(None, "ms"), "not available");
        assert_eq!(fit("Brackwater", 6), "Brack…");
        assert_eq!(wrap("one two three", 7), ["one two", "three"]);
    }
}
