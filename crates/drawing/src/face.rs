//! The typeface that goes with every drawing, so that it looks the same where there is none: DejaVu Sans Condensed
//! (licence beside the files in `fonts`), cut down to what is written here: Latin, Greek, Cyrillic, and the marks in use.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// As it is named in drawings.
pub(crate) const FAMILY: &str = "DejaVu Sans Condensed";

/// A weight's file.
pub(crate) fn file(is_bold: bool) -> &'static [u8] {
    if is_bold {
        include_bytes!("../fonts/DejaVuSansCondensed-Bold.ttf")
    } else {
        include_bytes!("../fonts/DejaVuSansCondensed.ttf")
    }
}

/// How wide a text is, in pixels, at a size in pixels. What the typeface does not have counts as wide as an M.
#[must_use]
pub fn width(text: &str, size: f64, is_bold: bool) -> f64 {
    let Ok(face) = ttf_parser::Face::parse(file(is_bold), 0) else { return text.chars().count() as f64 * size };
    let units = f64::from(face.units_per_em());
    let advance = |c: char| face.glyph_index(c).and_then(|glyph| face.glyph_hor_advance(glyph));
    let wide = advance('M').unwrap_or(face.units_per_em());
    text.chars().map(|c| f64::from(advance(c).unwrap_or(wide)) / units * size).sum()
}

/// Whether the typeface has everything that a text holds.
pub(crate) fn has_all(text: &str) -> bool {
    let Ok(face) = ttf_parser::Face::parse(file(false), 0) else { return false };
    text.chars().all(|c| c.is_control() || face.glyph_index(c).is_some())
}

/// What makes a drawing bring its typeface along (CSS Fonts, section 4).
pub(crate) fn style() -> String {
    let one = |is_bold: bool| {
        format!(
            "@font-face{{font-family:'{FAMILY}';font-weight:{};src:url(data:font/ttf;base64,{}) format('truetype')}}",
            if is_bold { "bold" } else { "normal" },
            STANDARD.encode(file(is_bold))
        )
    };
    [false, true].map(one).concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_has_every_mark_that_is_written() {
        let face = ttf_parser::Face::parse(file(false), 0).unwrap();
        let bold = ttf_parser::Face::parse(file(true), 0).unwrap();
        for c in "AagjßőşΩЖщ–…·×→←↑↓≈≤≥−°²³⁵⁹●○◆◌▲▼■□▸▾▪█▇▒░✓✗↶µ€".chars()
        {
            assert!(face.glyph_index(c).is_some(), "{c}");
        }
        assert!(bold.glyph_index('≈').is_some() && bold.glyph_index('Ж').is_some());
        assert!(has_all("Орион, Ωρίων, Łódź") && !has_all("東京"));
        assert!(width("MMM", 10.0, true) > width("MMM", 10.0, false));
        assert!(width("iii", 10.0, false) < width("MMM", 10.0, false) / 2.0);
    }
}
