//! Letters made of blocks, as large as there is room for.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::Line;
use tui_big_text::{BigText, PixelSize};

/// A letter is so many pixels wide and high.
const SIDE: u16 = 8;

/// Sizes, from the largest: columns and rows of a letter. Those with three or four pixels above each other in a cell look torn in
/// many fonts, and are left out.
const SIZES: [(PixelSize, u16, u16); 4] = [
    (PixelSize::Full, SIDE, SIDE),
    (PixelSize::HalfHeight, SIDE, SIDE / 2),
    (PixelSize::HalfWidth, SIDE / 2, SIDE),
    (PixelSize::Quadrant, SIDE / 2, SIDE / 2),
];

/// The rows that a text takes, in the largest letters in which it fits; one, if it fits in none of them.
pub(in crate::terminal) fn rows(text: &str, width: u16, height: u16) -> u16 {
    fitting(text, width, height).map_or(1, |(_, _, rows)| rows)
}

/// Draws a text from the left; as it is, if there is no room for large letters.
pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, text: &str, style: Style) {
    match fitting(text, area.width, area.height) {
        Some((size, ..)) => {
            let big = BigText::builder().pixel_size(size).style(style).lines(vec![Line::from(text.to_owned())]).build();
            frame.render_widget(big, area);
        }
        None => frame.render_widget(Line::styled(text.to_owned(), style), Rect { height: area.height.min(1), ..area }),
    }
}

fn fitting(text: &str, width: u16, height: u16) -> Option<(PixelSize, u16, u16)> {
    let letters = u16::try_from(text.chars().count()).ok()?;
    let fits =
        |(_, columns, rows): &(PixelSize, u16, u16)| letters.saturating_mul(*columns) <= width && *rows <= height;
    SIZES.into_iter().find(fits)
}
