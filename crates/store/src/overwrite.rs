//! Writing a file whole or not at all.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use tempfile::NamedTempFile;

/// Puts `text` in the place of what the file holds. If anything goes wrong, the file is as it was. A file only for its
/// user is made so before anything is in it.
pub(crate) fn overwrite(path: &Path, text: &str, is_private: bool) -> io::Result<()> {
    let path = follow(path)?;
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

/// Links between a name and its file; more are a circle. Ours.
const MOST_LINKS: u32 = 40;

/// Where a name leads: a link stays a link, as people keep their configuration elsewhere, also one whose file is not there yet.
fn follow(path: &Path) -> io::Result<PathBuf> {
    let mut path = path.to_owned();
    for _ in 0..MOST_LINKS {
        let Ok(target) = fs::read_link(&path) else { return Ok(path) };
        path = path.parent().unwrap_or(Path::new("")).join(target);
    }
    Err(io::Error::other("its links lead in a circle"))
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

#[cfg(test)]
#[cfg(unix)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    #[test]
    fn a_link_stays_a_link_also_one_that_leads_nowhere_yet() {
        let dir = tempfile::tempdir().unwrap();
        let at = |name: &str| dir.path().join(name);
        fs::create_dir(at("elsewhere")).unwrap();
        symlink("elsewhere/file", at("first")).unwrap();
        symlink(at("first"), at("second")).unwrap();
        for text in ["one", "two"] {
            overwrite(&at("second"), text, true).unwrap();
            assert_eq!(fs::read_to_string(at("elsewhere/file")).unwrap(), text);
            assert!(fs::symlink_metadata(at("second")).unwrap().is_symlink());
        }
        symlink("round", at("round")).unwrap();
        assert!(overwrite(&at("round"), "three", true).unwrap_err().to_string().contains("circle"));
        assert!(fs::symlink_metadata(at("round")).unwrap().is_symlink());
    }
}
