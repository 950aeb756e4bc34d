//! The map of pictures: sizes by rates, how each looks for the bitrate there is, and which is recommended.

use moth_plan::picture::{Appearance, Cell, PictureMap};
use moth_plan::text::{Size, percent};

use crate::hatch::{self, Hatch};
use crate::names::Veil;
use crate::page::{Words, page};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
/// Room for the sizes, and the height of a cell, in pixels. Ours.
const NAMES: f64 = 118.0;
const ROW: f64 = 46.0;

/// What is drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Picture {
    /// The map.
    pub map: PictureMap,
    /// The picture that is sent now, if it is on the map: size and frames per second.
    pub now: Option<(Size, f64)>,
    /// The bitrate in a sentence: how much, what binds it, what it rests on.
    pub bitrate: String,
    /// Of what, and when, in words.
    pub source: String,
}

impl Picture {
    /// Without names.
    #[must_use]
    pub fn anonymous(mut self, veil: &Veil) -> Self {
        self.bitrate = veil.hide(&self.bitrate);
        self.source = veil.hide(&self.source);
        self
    }
}

/// Draws the map.
#[must_use]
pub fn draw(picture: &Picture, theme: Theme) -> Drawing {
    let map = &picture.map;
    let title = match map.choice() {
        Some(cell) => format!("{} at {} frames/s suits {} of video best", cell.size, cell.fps, map.bitrate),
        None => "There is no picture to choose from".into(),
    };
    let looks = [Appearance::Spare, Appearance::Good, Appearance::Soft, Appearance::Blocky]
        .map(|look| format!("{}: {}", look.word(), look.meaning()));
    let notes = vec![
        format!("{}.", looks.join("; ")),
        "What a picture needs is an estimate from its size, its rate and how much moves; bits/pixel are the bits there are for each \
         pixel of each frame."
            .to_owned(),
    ];
    page(theme, &Words { title, source: picture.source.clone(), notes }, |sheet, y| body(sheet, y, picture))
}

/// The map and what it comes to; gives where it ends.
pub(crate) fn body(sheet: &mut Sheet, mut y: f64, picture: &Picture) -> f64 {
    let (theme, map) = (sheet.theme, &picture.map);
    let plain = Writing::new(12.5, theme.ink());
    y = sheet.wrapped(sheet.left(), y + 8.0, sheet.room(), plain, &picture.bitrate) + 22.0;
    let left = sheet.left() + NAMES;
    let width = ((sheet.right() - left) / map.rates.len().max(1) as f64).min(300.0);
    let head = Writing::new(12.0, theme.ink()).bold().at(Anchor::Middle);
    for (n, fps) in map.rates.iter().enumerate() {
        sheet.text(left + (n as f64 + 0.5) * width, y, head, &format!("{fps} frames/s"));
    }
    y += 8.0;
    for (row, cells) in map.rows.iter().enumerate() {
        let name = Writing::new(13.0, theme.ink());
        sheet.text(sheet.left(), y + ROW / 2.0 + 4.0, name, &map.sizes[row].to_string());
        for (column, cell) in cells.iter().enumerate() {
            let x = left + column as f64 * width;
            let is_now = picture.now.is_some_and(|(size, fps)| size == cell.size && (fps - cell.fps).abs() < 0.01);
            draw_cell(sheet, (x, y, width), cell, ((row, column) == map.recommended, is_now));
        }
        y += ROW;
    }
    let faint = Writing::new(11.0, theme.faint());
    sheet.text(left, y + 16.0, faint, "▸ recommended   ◆ sent now   hatched: the denser, the worse it looks");
    y = sheet.wrapped(sheet.left(), y + 42.0, sheet.room(), plain, &format!("{}.", map.reason()));
    for step in map.steps() {
        y = sheet.wrapped(sheet.left() + 14.0, y + 18.0, sheet.room() - 14.0, plain, &format!("{step}."));
    }
    y
}

fn draw_cell(sheet: &mut Sheet, (x, y, width): (f64, f64, f64), cell: &Cell, (is_recommended, is_now): (bool, bool)) {
    let theme = sheet.theme;
    let (x1, y1) = (x + width - 4.0, y + ROW - 4.0);
    // The strip at the left tells the look by its hatching too.
    let strip = x + 34.0;
    let (hatch, step) = match cell.look {
        Appearance::Spare => (Hatch::Empty, 8.0),
        Appearance::Good => (Hatch::Rising, 9.0),
        Appearance::Soft => (Hatch::Rising, 5.0),
        Appearance::Blocky => (Hatch::Rising, 2.6),
    };
    hatch::fill(sheet, (x, y, strip, y1), hatch, step, theme.look(cell.look));
    sheet.outline(
        x,
        y,
        x1,
        y1,
        if is_recommended { theme.ink() } else { theme.rule() },
        if is_recommended { 2.4 } else { 1.0 },
    );
    let marks = [(is_recommended, "▸ "), (is_now, "◆ ")].into_iter().filter(|(is, _)| *is).map(|(_, mark)| mark);
    let word = Writing { is_bold: is_recommended, ..Writing::new(12.5, theme.ink()) };
    sheet.text(strip + 8.0, y + 18.0, word, &format!("{}{}", marks.collect::<String>(), cell.look.word()));
    let faint = Writing::new(10.5, theme.faint());
    let told = format!("{:.3} bits/pixel, {} of the need", cell.bits_per_pixel, percent(cell.share_of_need));
    sheet.text(strip + 8.0, y + 33.0, faint, &faint.fit(&told, x1 - strip - 12.0));
}

impl Theme {
    pub(crate) fn look(self, look: Appearance) -> crate::theme::Colour {
        match look {
            Appearance::Spare => self.faint(),
            Appearance::Good => self.quantity().1,
            Appearance::Soft => self.warning(),
            Appearance::Blocky => self.bad(),
        }
    }
}
