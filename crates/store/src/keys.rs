//! Stream keys, each in a file that only its user can read.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use moth_destination::StreamKey;
use moth_destination::key::{KeyError, MAX_KEY_BYTES};

use crate::bounded;
use crate::overwrite::overwrite;

/// The keys that are kept, by their service's name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Keys {
    dir: PathBuf,
}

/// Why a key cannot be read, kept or forgotten. The key is in none of them.
#[derive(Debug, thiserror::Error)]
pub enum KeysError {
    /// What the system says.
    #[error("the stream key's file {} cannot be {what}: {error}", path.display())]
    Io {
        /// Which file.
        path: PathBuf,
        /// `read`, `written` or `removed`.
        what: &'static str,
        /// What the system says.
        error: io::Error,
    },
    /// What it holds is not a key.
    #[error("the stream key's file {}: {error}", path.display())]
    Key {
        /// Which file.
        path: PathBuf,
        /// What is wrong.
        error: KeyError,
    },
}

impl Keys {
    /// The keys that are kept below this folder.
    #[must_use]
    pub fn below(data: &Path) -> Self {
        Self { dir: data.join("keys") }
    }

    fn path(&self, service: &str) -> PathBuf {
        self.dir.join(service)
    }

    /// When a service's key was last changed; `None` if none is kept.
    #[must_use]
    pub fn changed(&self, service: &str) -> Option<SystemTime> {
        fs::metadata(self.path(service)).ok()?.modified().ok()
    }

    /// A service's key; `None` if none is kept.
    ///
    /// # Errors
    /// [`KeysError`] if it is there and cannot be used.
    pub fn read(&self, service: &str) -> Result<Option<StreamKey>, KeysError> {
        let path = self.path(service);
        let fail = |error| KeysError::Io { path: path.clone(), what: "read", error };
        match close_to_others(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            // On a disk that only is read, say. That others can read it is no reason not to go on air.
            Err(error) => tracing::warn!(path = %path.display(), %error, "others can read this stream key's file"),
            Ok(()) => {}
        }
        let text = bounded::read(&path, MAX_KEY_BYTES as u64 + 64).map_err(fail)?;
        StreamKey::new(&text).map(Some).map_err(|error| KeysError::Key { path: path.clone(), error })
    }

    /// Keeps a service's key, in the place of the one before.
    ///
    /// # Errors
    /// [`KeysError`]; the one before is then still there.
    pub fn replace(&self, service: &str, key: &StreamKey) -> Result<(), KeysError> {
        let path = self.path(service);
        overwrite(&path, key.expose(), true).map_err(|error| KeysError::Io { path, what: "written", error })
    }

    /// Forgets a service's key; gives whether there was one.
    ///
    /// # Errors
    /// [`KeysError`] if it is there and cannot be removed.
    pub fn forget(&self, service: &str) -> Result<bool, KeysError> {
        let path = self.path(service);
        match fs::remove_file(&path) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(KeysError::Io { path, what: "removed", error }),
        }
    }
}

/// A key that others can read, after a copy from elsewhere say, is closed to them.
#[cfg(unix)]
fn close_to_others(path: &Path) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let mode = fs::metadata(path)?.permissions().mode();
    if mode & 0o077 != 0 { fs::set_permissions(path, fs::Permissions::from_mode(0o600)) } else { Ok(()) }
}

#[cfg(not(unix))]
fn close_to_others(path: &Path) -> io::Result<()> {
    fs::metadata(path).map(|_| ())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_kept_replaced_and_forgotten() {
        let dir = tempfile::tempdir().unwrap();
        let keys = Keys::below(dir.path());
        assert!(keys.read("nocturne").unwrap().is_none() && keys.changed("nocturne").is_none());
        for text in ["orbit-1", "orbit-2"] {
            keys.replace("nocturne", &StreamKey::new(text).unwrap()).unwrap();
            assert_eq!(keys.read("nocturne").unwrap().unwrap().expose(), text);
        }
        assert!(keys.changed("nocturne").is_some());
        assert!(keys.forget("nocturne").unwrap() && !keys.forget("nocturne").unwrap());
        assert!(keys.read("nocturne").unwrap().is_none());
    }

    #[cfg(unix)]
    #[test]
    fn only_its_user_can_read_it() {
        use std::os::unix::fs::PermissionsExt;
        let dir = tempfile::tempdir().unwrap();
        let keys = Keys::below(dir.path());
        keys.replace("nocturne", &StreamKey::new("orbit-1").unwrap()).unwrap();
        let path = dir.path().join("keys/nocturne");
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(&path), mode(path.parent().unwrap())), (0o600, 0o700));
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        keys.read("nocturne").unwrap();
        assert_eq!(mode(&path), 0o600, "one that was open to others is closed");
    }

    #[test]
    fn what_is_wrong_is_said_without_the_key() {
        let dir = tempfile::tempdir().unwrap();
        let keys = Keys::below(dir.path());
        fs::create_dir_all(dir.path().join("keys")).unwrap();
        fs::write(dir.path().join("keys/nocturne"), "plain-secret\nanother").unwrap();
        let said = keys.read("nocturne").unwrap_err().to_string();
        assert!(said.contains("one line") && !said.contains("secret"), "{said}");
    }
}
