//! The stream key: whoever has it can broadcast as its owner.

use std::fmt;

use secrecy::{ExposeSecret, SecretString};

/// The most bytes a key may have; longer than any service's, short enough for one AMF0 string. Ours.
pub const MAX_KEY_BYTES: usize = 4096;

/// A stream key. It prints as `[stream key]`, is wiped when dropped, and leaves this type only
/// through [`StreamKey::expose`], which only the publishing session, receiving servers and the key's own file call.
#[derive(Clone)]
pub struct StreamKey {
    whole: SecretString,
    /// So many of its bytes are the key; what follows was added to it.
    own: usize,
}

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
        Ok(Self { whole: SecretString::from(text), own: text.len() })
    }

    /// The key itself, for the one command that carries it.
    #[must_use]
    pub fn expose(&self) -> &str {
        self.whole.expose_secret()
    }

    /// The key with something added, such as what a service takes for a run nobody sees.
    ///
    /// # Errors
    /// [`KeyError`] if that is no key any more.
    pub fn with_added(&self, added: &str) -> Result<Self, KeyError> {
        Ok(Self { own: self.own, ..Self::new(&format!("{}{added}", self.expose()))? })
    }

    /// Whether this key, or one with something added to it, is what was given.
    #[must_use]
    pub fn admits(&self, given: &Self) -> bool {
        let (ours, theirs) = (self.name(), given.name());
        // Whatever a service lets one add, it begins with a sign; a letter more is another key.
        let rest = theirs.strip_prefix(ours);
        rest.is_some_and(|rest| !rest.starts_with(char::is_alphanumeric))
    }

    /// The key itself, without what was added to it and without parameters behind a `?`, which some services take.
    fn name(&self) -> &str {
        let own = self.expose().get(..self.own).unwrap_or(self.expose());
        own.split_once('?').map_or(own, |(name, _)| name)
    }

    /// `text` with every appearance of the key replaced: servers like to quote it in refusals.
    /// The part before a `?` counts too, as some services take parameters after the key, and so does what stands before anything
    /// that was added.
    #[must_use]
    pub fn redact(&self, text: &str) -> String {
        let mut clean = text.replace(self.expose(), "[stream key]");
        if let Some(own) = self.expose().get(..self.own) {
            clean = clean.replace(own, "[stream key]");
        }
        let name = self.name();
        if name.is_empty() { clean } else { clean.replace(name, "[stream key]") }
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
        let key = StreamKey::new("comet-5150?place=north").unwrap();
        assert_eq!(key.redact("no stream comet-5150 here"), "no stream [stream key] here");
        assert_eq!(key.redact("bad: comet-5150?place=north."), "bad: [stream key].");
    }

    #[test]
    fn what_was_added_to_it_hides_it_from_no_redaction_and_keeps_it_from_no_door() {
        let key = StreamKey::new("comet-5150").unwrap();
        let added = key.with_added("-dim").unwrap();
        assert_eq!(added.expose(), "comet-5150-dim");
        assert_eq!(added.redact("comet-5150-dim? no comet-5150 here"), "[stream key]? no [stream key] here");
        for given in ["comet-5150", "comet-5150-dim", "comet-5150?unseen", "comet-5150+x"] {
            assert!(key.admits(&StreamKey::new(given).unwrap()), "{given}");
        }
        for given in ["comet-51501", "comet-5150b", "comet-515", "other"] {
            assert!(!key.admits(&StreamKey::new(given).unwrap()), "{given}");
        }
    }

    #[test]
    fn refuses_what_cannot_be_a_key() {
        assert_eq!(StreamKey::new(" \n").unwrap_err(), KeyError::Empty);
        assert_eq!(StreamKey::new("a\nb").unwrap_err(), KeyError::ControlCharacter);
        assert_eq!(StreamKey::new(&"k".repeat(5000)).unwrap_err(), KeyError::TooLong);
    }
}
