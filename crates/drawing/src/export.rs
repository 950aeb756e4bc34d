//! A drawing as a file: whole or not at all, and never in the place of another unless that is wanted.

use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use svg2pdf::usvg::{Options, Tree, fontdb};

use crate::face;
use crate::sheet::Drawing;

/// What kind of file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// SVG 1.1.
    Svg,
    /// PDF, a page as large as the drawing.
    Pdf,
}

/// Why a file cannot be written.
#[derive(Debug, thiserror::Error)]
pub enum ExportError {
    /// Its name tells no kind that can be written.
    #[error("{} ends in neither .svg nor .pdf, so that it is not known what to write", path.display())]
    Kind {
        /// Which file.
        path: PathBuf,
    },
    /// It is there already.
    #[error("{} is there already; name another file, or give --force to write in its place", path.display())]
    Exists {
        /// Which file.
        path: PathBuf,
    },
    /// What the system says.
    #[error("{} cannot be written: {error}", path.display())]
    Io {
        /// Which file.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
    /// A report is a PDF.
    #[error("{} does not end in .pdf, and a report is one", path.display())]
    NoPdf {
        /// Which file.
        path: PathBuf,
    },
    /// A fault of ours.
    #[error("the drawing could not be made into a PDF: {0}")]
    Pdf(String),
}

impl Format {
    /// What a file's name asks for.
    ///
    /// # Errors
    /// [`ExportError::Kind`].
    pub fn of(path: &Path) -> Result<Self, ExportError> {
        match path.extension().and_then(|extension| extension.to_str()).map(str::to_ascii_lowercase).as_deref() {
            Some("svg") => Ok(Self::Svg),
            Some("pdf") => Ok(Self::Pdf),
            _ => Err(ExportError::Kind { path: path.to_owned() }),
        }
    }
}

impl Drawing {
    /// The drawing as a file of this kind.
    ///
    /// # Errors
    /// [`ExportError::Pdf`].
    pub fn bytes(&self, format: Format) -> Result<Vec<u8>, ExportError> {
        match format {
            Format::Svg => Ok(self.svg.clone().into_bytes()),
            Format::Pdf => self.pdf(),
        }
    }

    fn pdf(&self) -> Result<Vec<u8>, ExportError> {
        let (conversion, page) = (svg2pdf::ConversionOptions::default(), svg2pdf::PageOptions::default());
        svg2pdf::to_pdf(&self.tree()?, conversion, page).map_err(|error| ExportError::Pdf(error.to_string()))
    }

    pub(crate) fn tree(&self) -> Result<Tree, ExportError> {
        // Only the typeface that goes along: what this machine has must not change what is drawn.
        let mut fonts = fontdb::Database::new();
        fonts.load_font_data(face::file(false).to_vec());
        fonts.load_font_data(face::file(true).to_vec());
        // But a name in a script that it does not have would not be seen at all.
        if !face::has_all(&self.svg) {
            fonts.load_system_fonts();
        }
        fonts.set_sans_serif_family(face::FAMILY);
        let options = Options { fontdb: Arc::new(fonts), font_family: face::FAMILY.into(), ..Options::default() };
        Tree::from_str(&self.svg, &options).map_err(|error| ExportError::Pdf(error.to_string()))
    }

    /// Writes the drawing, as the file's name asks.
    ///
    /// # Errors
    /// [`ExportError`]; nothing is then left of it, and what was there is as it was.
    pub fn write(&self, path: &Path, may_replace: bool) -> Result<(), ExportError> {
        write(path, &self.bytes(Format::of(path)?)?, may_replace)
    }
}

/// Whether a file may be written, as far as that can be told before.
///
/// # Errors
/// [`ExportError::Exists`].
pub fn check(path: &Path, may_replace: bool) -> Result<(), ExportError> {
    if !may_replace && path.symlink_metadata().is_ok() {
        return Err(ExportError::Exists { path: path.to_owned() });
    }
    Ok(())
}

/// Writes a file whole or not at all.
///
/// # Errors
/// [`ExportError::Exists`], [`ExportError::Io`].
pub fn write(path: &Path, bytes: &[u8], may_replace: bool) -> Result<(), ExportError> {
    let fail = |error: io::Error| ExportError::Io { path: path.to_owned(), error };
    check(path, may_replace)?;
    let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut named = tempfile::Builder::new();
    named.prefix(".moth-");
    // It is there to be given away: as other files of this user are.
    #[cfg(unix)]
    named.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o666));
    let mut file = named.tempfile_in(dir).map_err(fail)?;
    file.write_all(bytes).and_then(|()| file.as_file().sync_all()).map_err(fail)?;
    let kept = if may_replace { file.persist(path) } else { file.persist_noclobber(path) };
    match kept {
        Ok(_) => Ok(()),
        Err(error) if error.error.kind() == io::ErrorKind::AlreadyExists => {
            Err(ExportError::Exists { path: path.to_owned() })
        }
        Err(error) => Err(fail(error.error)),
    }
}
