//! The stream key: whoever has it can broadcast as its owner.

use std::fmt;

use secrecy::{ExposeSecret, SecretString};

/// The most bytes a key may have; longer than any service's, short enough for one AMF0 string.
pub const MAX_KEY_BYTES: usize = 4096;

/// A stream key. It prints as `[stream key]`, is wiped when dropped, and leaves this type only
/// through [`StreamKey::expose`], which only the publishing session, receiving servers and the key's own file call.
#[derive(Clone)]
pub struct StreamKey(SecretString);

/// Why a text cannot be a stream key. The text itself is never part of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// Nothing but white space.
    #[error("the stream key is empty")]
    Empty,
    /// A line break or another control character inside.
    #[error("the stream key has a line break or control character inside; it must be one line")]
    ControlCharacter,
    /// Over [`MAX_KEY_BYTES`].
    #[error("the stream key is longer than {MAX_KEY_BYTES} bytes")]
    TooLong,
}

impl StreamKey {
    /// A key from a text, white space around it taken off (key files end with a line break).
    ///
    /// # Errors
    /// [`KeyError`] if nothing is left, or what is left cannot be a key.
    pub fn new(text: &str) -> Result<Self, KeyError> {
        let text = text.trim();
        if text.is_empty() {
            return Err(KeyError::Empty);
        }
        if text.len() > MAX_KEY_BYTES {
            return Err(KeyError::TooLong);
        }
        if text.chars().any(char::is_control) {
            return Err(KeyError::ControlCharacter);
        }
        Ok(Self(SecretString::from(text)))
    }

    /// The key itself, for the one command that carries it.
    #[must_use]
    pub fn expose(&self) -> &str {
        self.0.expose_secret()
    }

    /// The key with something added, such as what a service takes for a run nobody sees.
    ///
    /// # Errors
    /// [`KeyError`] if that is no key any more.
    pub fn with_added(&self, added: &str) -> Result<Self, KeyError> {
        Self::new(&format!("{}{added}", self.expose()))
    }

    /// `text` with every appearance of the key replaced: servers like to quote it in refusals.
    /// The part before a `?` counts too, as some services take parameters after the key.
    #[must_use]
    pub fn redact(&self, text: &str) -> String {
        let key = self.expose();
        let mut clean = text.replace(key, "[stream key]");
        if let Some((name, _)) = key.split_once('?')
            && !name.is_empty()
        {
            clean = clean.replace(name, "[stream key]");
        }
        clean
    }
}

impl fmt::Debug for StreamKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("[stream key]")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn prints_nothing_of_itself() {
        let key = StreamKey::new("  comet-5150\n").unwrap();
        assert_eq!(key.expose(), "comet-5150");
        assert_eq!(format!("{key:?}"), "[stream key]");
    }

    #[test]
    fn is_taken_out_of_what_a_server_says() {
        let key = StreamKey::new("comet-5150?unseen=1").unwrap();
        assert_eq!(key.redact("no stream comet-5150 here"), "no stream [stream key] here");
        assert_eq!(key.redact("bad: comet-5150?unseen=1."), "bad: [stream key].");
    }

    #[test]
    fn refuses_what_cannot_be_a_key() {
        assert_eq!(StreamKey::new(" \n").unwrap_err(), KeyError::Empty);
        assert_eq!(StreamKey::new("a\nb").unwrap_err(), KeyError::ControlCharacter);
        assert_eq!(StreamKey::new(&"k".repeat(5000)).unwrap_err(), KeyError::TooLong);
    }
}
