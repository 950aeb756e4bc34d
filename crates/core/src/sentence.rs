//! Words as sentences begin with them.

/// A text with its first letter as a capital.
#[must_use]
pub fn capitalised(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}
