//! Where the stream key comes from: a file or the environment, never an argument.

use std::ffi::OsString;
use std::path::Path;

use moth_destination::StreamKey;
use moth_destination::key::{KeyError, MAX_KEY_BYTES};
use moth_store::bounded;

use crate::failure::Failure;

/// The environment variable that may hold the key.
pub const VARIABLE: &str = "MOTH_STREAM_KEY";

/// The key from the file if one is named, else from the environment's `variable`.
///
/// # Errors
/// [`Failure`] if there is none or it cannot be one. The key's text is in none of them.
pub fn find(file: Option<&Path>, variable: Option<OsString>) -> Result<StreamKey, Failure> {
    if let Some(path) = file {
        // A little more than a key may have: its line may end.
        let text = bounded::read(path, MAX_KEY_BYTES as u64 + 64)
            .map_err(|error| Failure::KeyFile { path: path.to_owned(), error })?;
        let origin = || format!("the key file {}", path.display());
        warn_if_others_read(path);
        return StreamKey::new(&text).map_err(|error| Failure::Key { origin: origin(), error });
    }
    let value = variable.filter(|v| !v.is_empty()).ok_or(Failure::NoKey)?;
    let origin = || format!("the environment variable {VARIABLE}");
    let text = value.into_string().map_err(|_| Failure::Key { origin: origin(), error: KeyError::ControlCharacter })?;
    StreamKey::new(&text).map_err(|error| Failure::Key { origin: origin(), error })
}

#[cfg(unix)]
fn warn_if_others_read(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    if std::fs::metadata(path).is_ok_and(|m| m.permissions().mode() & 0o077 != 0) {
        tracing::warn!(file = %path.display(), "other users of this machine can read the key file; `chmod 600` keeps it yours");
    }
}

#[cfg(not(unix))]
fn warn_if_others_read(_: &Path) {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_file_comes_before_the_environment() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("key");
        std::fs::write(&path, "from-file\n").unwrap();
        let key = find(Some(&path), Some("from-environment".into())).unwrap();
        assert_eq!(key.expose(), "from-file");
        assert_eq!(find(None, Some("from-environment".into())).unwrap().expose(), "from-environment");
    }

    #[test]
    fn what_is_wrong_is_said_without_the_key() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("key");
        let error = |variable: Option<&str>| find(Some(&path), variable.map(Into::into)).unwrap_err().to_string();
        assert!(error(None).contains("cannot be read"));
        std::fs::write(&path, "secret-one\nsecret-two\n").unwrap();
        assert!(error(None).contains("one line") && !error(None).contains("secret"));
        std::fs::write(&path, [0xff; 90]).unwrap();
        assert!(error(None).contains("not a text file"));
        std::fs::write(&path, "").unwrap();
        assert!(error(None).contains("empty"));
        assert!(matches!(find(None, None), Err(Failure::NoKey)));
        assert!(matches!(find(None, Some("".into())), Err(Failure::NoKey)));
        assert!(find(Some(dir.path()), None).is_err(), "a folder is no key file");
    }
}
