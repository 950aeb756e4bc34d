//! Hatching, which tells in black and white what colours tell.

use moth_core::suspects::Fault;

use crate::sheet::Sheet;
use crate::theme::Colour;

/// How a box is filled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Hatch {
    Rising,
    Standing,
    Lying,
    Empty,
}

impl Hatch {
    /// A stage's: the network's rises, the encoder's stands, the rendering's lies.
    pub(crate) fn of(fault: Fault) -> Self {
        match fault {
            Fault::Network => Self::Rising,
            Fault::Encoder => Self::Standing,
            Fault::Rendering => Self::Lying,
            Fault::None => Self::Empty,
        }
    }
}

/// Fills a box with lines so far apart, and draws its outline.
pub(crate) fn fill(sheet: &mut Sheet, (x0, y0, x1, y1): (f64, f64, f64, f64), hatch: Hatch, step: f64, colour: Colour) {
    match hatch {
        Hatch::Empty => {}
        Hatch::Lying => {
            let mut y = y0 + step / 2.0;
            while y < y1 {
                sheet.line(vec![(x0, y), (x1, y)], colour, 1.2);
                y += step;
            }
        }
        Hatch::Standing => {
            let mut x = x0 + step / 2.0;
            while x < x1 {
                sheet.line(vec![(x, y0), (x, y1)], colour, 1.2);
                x += step;
            }
        }
        Hatch::Rising => {
            let height = y1 - y0;
            let mut x = x0 - height;
            while x < x1 {
                // Cut off at both sides.
                let (from, to) = (x.max(x0), (x + height).min(x1));
                if to > from {
                    sheet.line(vec![(from, y1 - (from - x)), (to, y1 - (to - x))], colour, 1.2);
                }
                x += step;
            }
        }
    }
    sheet.outline(x0, y0, x1, y1, colour, 1.2);
}
