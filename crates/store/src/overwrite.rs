//! Writing a file whole or not at all.

use std::fs;
use std::io::{self, Write};
use std::path::Path;

use tempfile::NamedTempFile;

/// Puts `text` in the place of what the file holds. If anything goes wrong, the file is as it was. A file only for its
/// user is made so before anything is in it.
pub(crate) fn overwrite(path: &Path, text: &str, is_private: bool) -> io::Result<()> {
    // A link stays a link: people keep their configuration elsewhere.
    let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
    make_dir(dir, is_private)?;
    // Temporary files are readable by their user alone.
    let mut file = NamedTempFile::new_in(dir)?;
    file.write_all(text.as_bytes())?;
    file.as_file().sync_all()?;
    if !is_private {
        share(file.as_file(), &path)?;
    }
    file.persist(&path).map_err(|error| error.error)?;
    Ok(())
}

/// Makes a folder, if it is not there.
pub(crate) fn make_dir(dir: &Path, is_private: bool) -> io::Result<()> {
    if dir.is_dir() {
        return Ok(());
    }
    let mut builder = fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    if is_private {
        use std::os::unix::fs::DirBuilderExt;
        builder.mode(0o700);
    }
    #[cfg(not(unix))]
    let _ = is_private;
    builder.create(dir)
}

/// The permissions the file had; for a new one, those that are usual.
#[cfg(unix)]
fn share(file: &fs::File, path: &Path) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let permissions = fs::metadata(path).map_or_else(|_| fs::Permissions::from_mode(0o644), |m| m.permissions());
    file.set_permissions(permissions)
}

#[cfg(not(unix))]
fn share(_: &fs::File, _: &Path) -> io::Result<()> {
    Ok(())
}
