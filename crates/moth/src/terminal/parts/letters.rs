//! Letters made of blocks, as large as there is room for.

use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::Line;
use ratatui::widgets::Widget;
use tui_big_text::{BigText, PixelSize};

use crate::terminal::style::format::wrap;

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

/// A text in the smallest of the large letters, broken at spaces; broken as small text, if there is no room for that. Gives its lines
/// and the rows of each.
pub(in crate::terminal) fn wrapped(text: &str, width: u16, height: u16) -> (Vec<String>, u16) {
    let (_, columns, rows) = SIZES[SIZES.len() - 1];
    let large = wrap(text, usize::from(width / columns));
    let fits = large.len() * usize::from(rows) <= height.into() && !large.iter().any(|line| line.ends_with('…'));
    if fits { (large, rows) } else { (wrap(text, width.into()), 1) }
}

/// Draws an address, in two parts if its letters are larger then; as it is, if there is no room for large ones. Gives the rows it takes.
pub(in crate::terminal) fn draw_address(frame: &mut Frame<'_>, area: Rect, address: &str, style: Style) -> u16 {
    // The host is one part, what follows it the other.
    let host = address.find("://").map_or(0, |scheme| scheme + 3);
    let cut = address[host..].find([':', '/']).map_or(address.len(), |at| host + at);
    let parts = [&address[..cut], &address[cut..]];
    let fits = |part: &str| fitting(part, area.width, SIDE / 2).is_some_and(|(size, ..)| size == PixelSize::HalfHeight);
    if fits(address) || !parts.iter().all(|part| fits(part)) || area.height < SIDE {
        return draw(frame, Rect { height: area.height.min(SIDE / 2), ..area }, address, style);
    }
    let mut taken = 0;
    for part in parts {
        taken += draw(frame, Rect { y: area.y + taken, height: SIDE / 2, ..area }, part, style);
    }
    taken
}

/// Draws a text from the left; as it is, if there is no room for large letters. Gives the rows it takes.
pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, text: &str, style: Style) -> u16 {
    match fitting(text, area.width, area.height) {
        Some((size, _, rows)) => {
            draw_in(frame, area, text, style, size);
            rows
        }
        None => {
            let height = area.height.min(1);
            frame.render_widget(Line::styled(text.to_owned(), style), Rect { height, ..area });
            height
        }
    }
}

/// Draws a text in the smallest of the large letters, for which there is room.
pub(in crate::terminal) fn draw_small(frame: &mut Frame<'_>, area: Rect, text: &str, style: Style) {
    draw_in(frame, area, text, style, SIZES[SIZES.len() - 1].0);
}

fn draw_in(frame: &mut Frame<'_>, area: Rect, text: &str, style: Style, size: PixelSize) {
    let big = BigText::builder().pixel_size(size).style(style).lines(vec![Line::from(text.to_owned())]).build();
    frame.render_widget(big, area);
}

/// Draws a text that fills the area, however large that is; as [`draw`] does, if there is no room for whole pixels. Gives the rows it takes.
pub(in crate::terminal) fn fill(frame: &mut Frame<'_>, area: Rect, text: &str, style: Style) -> u16 {
    let letters = u16::try_from(text.chars().count()).unwrap_or(u16::MAX).max(1);
    // A pixel is so many columns wide and half rows high: up to twice as high as wide, as letters may be.
    let across = area.width / letters.saturating_mul(SIDE);
    let down = (area.height.saturating_mul(2) / SIDE).min(across * 2);
    if across == 0 || down == 0 {
        return draw(frame, area, text, style);
    }
    let mut plain = Buffer::empty(Rect::new(0, 0, letters * SIDE, SIDE));
    let full = plain.area;
    BigText::builder().lines(vec![Line::from(text.to_owned())]).build().render(full, &mut plain);
    let is_set = |column: u16, half: u16| {
        let at = (column / across, half / down);
        plain.cell(at).is_some_and(|cell| cell.symbol() != " ")
    };
    let rows = (SIDE * down).div_ceil(2);
    let from = area.x + (area.width - letters * SIDE * across) / 2;
    for row in 0..rows {
        for column in 0..letters * SIDE * across {
            let symbol = match (is_set(column, row * 2), is_set(column, row * 2 + 1)) {
                (false, false) => continue,
                (true, true) => FULL,
                (true, false) => "▀",
                (false, true) => "▄",
            };
            let place = (from + column, area.y + row);
            if symbol == FULL {
                fill_cell(frame.buffer_mut(), place, style);
            } else if let Some(cell) = frame.buffer_mut().cell_mut(place) {
                cell.set_symbol(symbol).set_style(style);
            }
        }
    }
    rows
}

/// A cell that is filled.
const FULL: &str = "█";

/// Fills a cell. In many fonts a block does not: the background has its colour too, and where there is no colour, it is an
/// empty cell reversed.
pub(in crate::terminal) fn fill_cell(buffer: &mut Buffer, place: (u16, u16), style: Style) {
    let Some(cell) = buffer.cell_mut(place) else { return };
    match style.fg {
        Some(colour) => cell.set_symbol(FULL).set_style(style.bg(colour)),
        None => cell.set_symbol(" ").set_style(style.add_modifier(Modifier::REVERSED)),
    };
}

fn fitting(text: &str, width: u16, height: u16) -> Option<(PixelSize, u16, u16)> {
    let letters = u16::try_from(text.chars().count()).ok()?;
    let fits =
        |(_, columns, rows): &(PixelSize, u16, u16)| letters.saturating_mul(*columns) <= width && *rows <= height;
    SIZES.into_iter().find(fits)
}
