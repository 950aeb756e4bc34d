//! Sheets of paper, and a PDF of several pages.

use std::collections::HashMap;

use pdf_writer::{Content, Finish, Name, Pdf, Rect, Ref, TextStr};
use svg2pdf::ConversionOptions;

use crate::export::ExportError;
use crate::sheet::Drawing;

/// A sheet's size.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Paper {
    /// 210 by 297 mm (ISO 216).
    #[default]
    A4,
    /// 8.5 by 11 inches (ANSI/ASME Y14.1, size A).
    Letter,
}

/// Points to an inch, and pixels (CSS Values and Units, 6.2).
const POINTS: f64 = 72.0;
const PIXELS: f64 = 96.0;

impl Paper {
    /// Width and height in inches.
    fn inches(self) -> (f64, f64) {
        match self {
            Self::A4 => (210.0 / 25.4, 297.0 / 25.4),
            Self::Letter => (8.5, 11.0),
        }
    }

    /// Width and height in pixels, of which there are 96 to an inch.
    #[must_use]
    pub fn pixels(self) -> (f64, f64) {
        let (width, height) = self.inches();
        ((width * PIXELS).round(), (height * PIXELS).round())
    }
}

/// Makes a PDF of pages that are as large as the paper.
///
/// # Errors
/// [`ExportError::Pdf`], a fault of ours.
pub(crate) fn bind(pages: &[Drawing], paper: Paper, title: &str) -> Result<Vec<u8>, ExportError> {
    let mut last = Ref::new(1);
    let (catalog, tree, info) = (last.bump(), last.bump(), last.bump());
    let mut pdf = Pdf::new();
    pdf.catalog(catalog).pages(tree).lang(TextStr("en"));
    pdf.document_info(info).title(TextStr(title)).creator(TextStr("Vigilant Moth"));
    let (width, height) = paper.inches();
    let (width, height) = ((width * POINTS) as f32, (height * POINTS) as f32);
    let places: Vec<Ref> = pages.iter().map(|_| last.bump()).collect();
    let count = i32::try_from(pages.len()).unwrap_or(i32::MAX);
    pdf.pages(tree).kids(places.iter().copied()).count(count);
    for (drawing, place) in pages.iter().zip(places) {
        let fail = |error: &dyn std::fmt::Display| ExportError::Pdf(error.to_string());
        let (chunk, image) =
            svg2pdf::to_chunk(&drawing.tree()?, ConversionOptions::default()).map_err(|error| fail(&error))?;
        let mut known = HashMap::new();
        let chunk = chunk.renumber(|old| *known.entry(old).or_insert_with(|| last.bump()));
        let Some(image) = known.get(&image).copied() else { return Err(fail(&"a page has no picture")) };
        let text = last.bump();
        let name = Name(b"P");
        let mut page = pdf.page(place);
        page.media_box(Rect::new(0.0, 0.0, width, height)).parent(tree).contents(text);
        page.resources().x_objects().pair(name, image);
        page.finish();
        let mut content = Content::new();
        content.transform([width, 0.0, 0.0, height, 0.0, 0.0]).x_object(name);
        pdf.stream(text, &content.finish());
        pdf.extend(&chunk);
    }
    Ok(pdf.finish())
}
