//! A sheet that is drawn on: shapes and texts, in pixels from its upper left corner. They are drawn by plotters, in tenths of a
//! pixel, as it knows whole numbers only.

use std::fmt::Write;

use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters_svg::SVGBackend;

use crate::face;
use crate::theme::{Colour, Theme};

/// Parts of a pixel. Ours.
const FINE: f64 = 10.0;

/// plotters 0.3 divides sizes by this on their way into SVG, and lifts a text by half the height of an x, which in this
/// typeface is so much of its size. Both are taken back.
const SMALLER: f64 = 1.24;
const HIGHER: f64 = 0.547 / 2.0;

/// A finished drawing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drawing {
    /// The whole SVG (SVG 1.1), its typeface included.
    pub svg: String,
}

/// Where a text stands, against its point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Anchor {
    Left,
    Middle,
    Right,
}

/// How a text looks.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Writing {
    pub size: f64,
    pub is_bold: bool,
    pub colour: Colour,
    pub anchor: Anchor,
}

impl Writing {
    pub(crate) fn new(size: f64, colour: Colour) -> Self {
        Self { size, is_bold: false, colour, anchor: Anchor::Left }
    }

    pub(crate) fn bold(self) -> Self {
        Self { is_bold: true, ..self }
    }

    pub(crate) fn at(self, anchor: Anchor) -> Self {
        Self { anchor, ..self }
    }

    /// From one line's baseline to the next.
    pub(crate) fn leading(&self) -> f64 {
        (self.size * 1.36).round()
    }

    /// How wide a text is in it, in pixels.
    pub(crate) fn width(&self, text: &str) -> f64 {
        face::width(text, self.size, self.is_bold)
    }

    /// As much of a text as fits, with a mark that something is left out.
    pub(crate) fn fit(&self, text: &str, width: f64) -> String {
        if self.width(text) <= width {
            return text.to_owned();
        }
        let mut fitted = String::new();
        for c in text.chars() {
            fitted.push(c);
            if self.width(&fitted) + self.width("…") > width {
                fitted.pop();
                break;
            }
        }
        fitted.trim_end().to_owned() + "…"
    }

    /// A text in lines that fit.
    pub(crate) fn wrap(&self, text: &str, width: f64) -> Vec<String> {
        let mut lines: Vec<String> = Vec::new();
        let text = together(text);
        // Only at plain spaces.
        for word in text.split(' ').filter(|word| !word.is_empty()) {
            match lines.last_mut() {
                Some(line) if self.width(line) + self.width(" ") + self.width(word) <= width => {
                    line.push(' ');
                    line.push_str(word);
                }
                _ => lines.push(self.fit(word, width)),
            }
        }
        lines
    }
}

/// A text whose numbers keep together over their thousands, and with a unit behind them.
fn together(text: &str) -> String {
    const UNITS: [&str; 8] = ["kb/s", "ms", "s", "%", "frames", "GB", "°C", "Hz"];
    let mut kept = String::with_capacity(text.len());
    for word in text.split(' ') {
        let bare = word.trim_end_matches(|c: char| !c.is_alphanumeric() && c != '%');
        let is_thousands = bare.len() == 3 && bare.bytes().all(|byte| byte.is_ascii_digit());
        let is_behind_a_number = kept.ends_with(|c: char| c.is_ascii_digit());
        if !kept.is_empty() {
            kept.push(if is_behind_a_number && (is_thousands || UNITS.contains(&bare)) { '\u{a0}' } else { ' ' });
        }
        kept.push_str(word);
    }
    kept
}

/// Beside what is drawn by itself, and on a page of a report. Ours.
const MARGIN: f64 = 32.0;
const PAGE_MARGIN: f64 = 56.0;

/// A sheet of paper.
pub(crate) struct Sheet {
    pub(crate) theme: Theme,
    width: f64,
    margin: f64,
    /// What is drawn, in its order; drawn at once, as plotters holds on to where it draws.
    parts: Vec<Part>,
    /// What lies behind all of it.
    behind: Vec<Part>,
}

enum Part {
    Text(f64, f64, Writing, String),
    Box(f64, f64, f64, f64, Colour),
    Line(Vec<(f64, f64)>, Colour, f64),
    Area(Vec<(f64, f64)>, Colour),
    Dot(f64, f64, f64, Colour, bool),
}

impl Sheet {
    pub(crate) fn new(theme: Theme, width: f64) -> Self {
        Self { theme, width, margin: MARGIN, parts: Vec::new(), behind: Vec::new() }
    }

    /// A page of a report.
    pub(crate) fn page(theme: Theme, width: f64) -> Self {
        Self { margin: PAGE_MARGIN, ..Self::new(theme, width) }
    }

    /// Where what is drawn begins, at the left.
    pub(crate) fn left(&self) -> f64 {
        self.margin
    }

    /// Where it ends, at the right.
    pub(crate) fn right(&self) -> f64 {
        self.width - self.margin
    }

    /// How wide what is drawn may be, from the left margin to the right one.
    pub(crate) fn room(&self) -> f64 {
        self.width - 2.0 * self.margin
    }

    /// A text; `y` is its baseline.
    pub(crate) fn text(&mut self, x: f64, y: f64, writing: Writing, text: &str) {
        // No control character is allowed in XML (XML 1.0, section 2.2).
        let text: String = text.chars().filter(|c| !c.is_control()).collect();
        // What kept a number together while lines were broken is a plain space again, for who looks for it. Of several spaces
        // in a row SVG shows one (SVG 1.1, section 10.15).
        let text = text.replace('\u{a0}', " ").replace("  ", " \u{a0}");
        if !text.is_empty() {
            self.parts.push(Part::Text(x, y, writing, text));
        }
    }

    /// A filled box from its upper left to its lower right corner.
    pub(crate) fn filled(&mut self, x0: f64, y0: f64, x1: f64, y1: f64, colour: Colour) {
        self.parts.push(Part::Box(x0, y0, x1, y1, colour));
    }

    /// A line through points.
    pub(crate) fn line(&mut self, points: Vec<(f64, f64)>, colour: Colour, width: f64) {
        if points.len() > 1 {
            self.parts.push(Part::Line(points, colour, width));
        }
    }

    /// A line behind everything else.
    pub(crate) fn rule(&mut self, from: (f64, f64), to: (f64, f64)) {
        self.behind.push(Part::Line(vec![from, to], self.theme.rule(), 0.6));
    }

    /// A filled shape.
    pub(crate) fn area(&mut self, points: Vec<(f64, f64)>, colour: Colour) {
        if points.len() > 2 {
            self.parts.push(Part::Area(points, colour));
        }
    }

    /// A full dot, or a ring.
    pub(crate) fn dot(&mut self, x: f64, y: f64, radius: f64, colour: Colour, is_full: bool) {
        self.parts.push(Part::Dot(x, y, radius, colour, is_full));
    }

    /// The outline of a box.
    pub(crate) fn outline(&mut self, x0: f64, y0: f64, x1: f64, y1: f64, colour: Colour, width: f64) {
        self.line(vec![(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)], colour, width);
    }

    /// A text in lines that fit, the first of which has its baseline at `y`; gives the baseline of the last.
    pub(crate) fn wrapped(&mut self, x: f64, y: f64, room: f64, writing: Writing, text: &str) -> f64 {
        let lines = writing.wrap(text, room);
        for (n, line) in lines.iter().enumerate() {
            self.text(x, y + n as f64 * writing.leading(), writing, line);
        }
        y + lines.len().saturating_sub(1) as f64 * writing.leading()
    }

    /// A line in dashes.
    pub(crate) fn dashed(&mut self, from: (f64, f64), to: (f64, f64), colour: Colour) {
        let (dx, dy) = (to.0 - from.0, to.1 - from.1);
        let length = dx.hypot(dy);
        let mut at = 0.0;
        while at < length {
            let end = (at + 4.0).min(length);
            let point = |along: f64| (from.0 + dx * along / length, from.1 + dy * along / length);
            self.line(vec![point(at), point(end)], colour, 0.8);
            at += 7.0;
        }
    }

    /// The sheet is so high, and finished.
    pub(crate) fn finish(self, height: f64, title: &str, description: &str) -> Drawing {
        let mut svg = String::new();
        let size = (fine(self.width).unsigned_abs(), fine(height).unsigned_abs());
        {
            let root = SVGBackend::with_string(&mut svg, size).into_drawing_area();
            // Writing into a string does not fail.
            let _ = root.fill(&rgb(self.theme.ground()));
            for part in self.behind.iter().chain(&self.parts) {
                let _ = draw(&root, part);
            }
            let _ = root.present();
        }
        Drawing { svg: self.dress(&svg, height, title, description) }
    }

    /// Gives the SVG its size in pixels, its typeface, and words for who cannot see it (SVG 1.1, section 5.4).
    fn dress(&self, svg: &str, height: f64, title: &str, description: &str) -> String {
        let begin = svg.find("<svg").unwrap_or(0);
        let end = svg[begin..].find('>').map_or(0, |end| begin + end + 1);
        let mut dressed = String::with_capacity(svg.len() + (160 << 10));
        let width = self.width;
        let _ = write!(
            dressed,
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\" viewBox=\"0 0 {} {}\" role=\"img\">\n\
             <title>{}</title>\n<desc>{}</desc>\n<style>{}</style>\n",
            fine(width),
            fine(height),
            escaped(title),
            escaped(description),
            face::style()
        );
        dressed.push_str(&svg[end..]);
        dressed
    }
}

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

fn draw<'a>(
    root: &Area<'a>,
    part: &Part,
) -> Result<(), DrawingAreaErrorKind<<SVGBackend<'a> as DrawingBackend>::ErrorType>> {
    let at = |(x, y): (f64, f64)| (fine(x), fine(y));
    match part {
        Part::Text(x, y, writing, text) => {
            let horizontal = match writing.anchor {
                Anchor::Left => HPos::Left,
                Anchor::Middle => HPos::Center,
                Anchor::Right => HPos::Right,
            };
            let weight = if writing.is_bold { FontStyle::Bold } else { FontStyle::Normal };
            let colour = rgb(writing.colour);
            let style = (face::FAMILY, writing.size * FINE * SMALLER, weight, &colour)
                .into_text_style(root)
                .pos(Pos::new(horizontal, VPos::Bottom));
            root.draw_text(text, &style, at((*x, *y + writing.size * HIGHER)))
        }
        Part::Box(x0, y0, x1, y1, colour) => {
            root.draw(&Rectangle::new([at((*x0, *y0)), at((*x1, *y1))], rgb(*colour).filled()))
        }
        Part::Dot(x, y, radius, colour, is_full) => {
            let style = if *is_full { rgb(*colour).filled() } else { rgb(*colour).stroke_width(FINE as u32) };
            root.draw(&Circle::new(at((*x, *y)), fine(*radius), style))
        }
        Part::Line(points, colour, width) => {
            let style = rgb(*colour).stroke_width((width * FINE).round() as u32);
            root.draw(&PathElement::new(points.iter().map(|p| at(*p)).collect::<Vec<_>>(), style))
        }
        Part::Area(points, colour) => {
            root.draw(&Polygon::new(points.iter().map(|p| at(*p)).collect::<Vec<_>>(), rgb(*colour).filled()))
        }
    }
}

fn fine(pixels: f64) -> i32 {
    (pixels * FINE).round() as i32
}

fn rgb(colour: Colour) -> RGBColor {
    RGBColor(colour.0, colour.1, colour.2)
}

fn escaped(text: &str) -> String {
    let plain: String = text.chars().filter(|c| !c.is_control()).collect();
    plain.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_keep_together_when_a_text_is_broken() {
        assert_eq!(together("carries 3 250 kb/s, 12 ms"), "carries 3\u{a0}250\u{a0}kb/s, 12\u{a0}ms");
        assert_eq!(together("in 3 stretches, 2.0 % of 1 927."), "in 3 stretches, 2.0\u{a0}% of 1\u{a0}927.");
        let writing = Writing::new(12.0, (0, 0, 0));
        for room in [60.0, 90.0, 120.0, 200.0] {
            for line in writing.wrap("it carried 6 193 kb/s before and 3 134 kb/s now, of 1 000 000 frames", room) {
                assert!(writing.width(&line) <= room, "{line}");
                assert!(!line.starts_with("193") && !line.starts_with("kb/s") && !line.starts_with("000"), "{line}");
            }
        }
        assert_eq!(writing.fit("a long word", 30.0).chars().last(), Some('…'));
    }
}
