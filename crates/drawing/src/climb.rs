//! A climb: one thing raised step by step until frames are lost, and what gave way.

use jiff::Zoned;
use moth_core::suspects::{Cause, Fault};

use crate::hatch::{self, Hatch};
use crate::names::Veil;
use crate::page::{self, Words, page};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::{clock, top};
/// Room for the steps' names and for what came of each try, and the height of a try, in pixels. Ours.
const NAMES: f64 = 150.0;
const RIGHT: f64 = 330.0;
const ROW: f64 = 30.0;

/// A climb, as it went.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Climb {
    /// What was raised, like `bitrate`.
    pub of: String,
    /// Every step that was there to be tried, the lightest first.
    pub steps: Vec<Step>,
    /// Which step was confirmed for longer, by its place.
    pub confirmed: Option<usize>,
    /// What it came to, in a sentence.
    pub sentence: String,
    /// Of what it was made, in words.
    pub source: String,
    /// When it began; `None` if that is not known.
    pub began: Option<Zoned>,
    /// How it is known and under what it was found, a sentence each.
    pub notes: Vec<String>,
}

/// One step.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// What was set, with its unit.
    pub name: String,
    /// Every time it was tried, in their order.
    pub tries: Vec<Try>,
}

/// One time that a step was tried.
#[derive(Debug, Clone, PartialEq)]
pub struct Try {
    /// Its place among all tries of the climb, from 1.
    pub order: usize,
    /// For how long, in seconds.
    pub seconds: f64,
    /// Share of the frames that were lost, in percent.
    pub lost_percent: f64,
    /// That share with 95 % confidence: at least and at most, in percent; `None` while too little was seen.
    pub between: Option<(f64, f64)>,
    /// What came of it.
    pub outcome: Outcome,
}

/// What came of a try.
#[derive(Debug, Clone, PartialEq)]
pub enum Outcome {
    /// Nothing gave way.
    Held,
    /// Something gave way.
    GaveWay {
        /// Which stage.
        fault: Fault,
        /// The cause, if one was found.
        cause: Option<Cause>,
    },
    /// It cannot be told.
    Unclear,
}

impl Climb {
    /// The same without names.
    #[must_use]
    pub fn anonymous(mut self, veil: &Veil) -> Self {
        self.sentence = veil.hide(&self.sentence);
        self.source = veil.hide(&self.source);
        self.notes = self.notes.iter().map(|note| veil.hide(note)).collect();
        self
    }
}

/// Draws a climb.
#[must_use]
pub fn draw(climb: &Climb, theme: Theme) -> Drawing {
    let began = climb.began.as_ref().map(|at| format!(", begun {}", page::date(at)));
    let source = format!("a climb of {}, {}{}", climb.of, climb.source, began.unwrap_or_default());
    let mut notes = vec![
        "A mark is a try: ● held, ▲ gave way, ◌ cannot be told; its whiskers are the share of frames lost with 95 % confidence. The \
         number beside it is its place among all tries."
            .to_owned(),
    ];
    notes.extend(climb.notes.iter().cloned());
    let words = Words { title: climb.sentence.clone(), source, notes };
    page(theme, &words, |sheet, y| body(sheet, y, climb))
}

/// A row for each step, the heaviest at the top; gives where they end.
pub(crate) fn body(sheet: &mut Sheet, y: f64, climb: &Climb) -> f64 {
    let theme = sheet.theme;
    let (left, right) = (sheet.left() + NAMES, sheet.right() - RIGHT);
    let tries = || climb.steps.iter().flat_map(|step| &step.tries);
    let most = tries().map(|t| t.between.map_or(t.lost_percent, |(_, most)| most)).fold(0.5, f64::max);
    let scale = top(most);
    let x = |percent: f64| left + (percent / scale).clamp(0.0, 1.0) * (right - left);
    let mut foot = y + 4.0;
    for (n, step) in climb.steps.iter().enumerate().rev() {
        let height = ROW * step.tries.len().max(1) as f64;
        let is_confirmed = climb.confirmed == Some(n);
        if is_confirmed {
            sheet.outline(sheet.left() - 6.0, foot + 1.0, sheet.right() + 6.0, foot + height - 1.0, theme.ink(), 1.6);
        }
        let is_tried = !step.tries.is_empty();
        let ink = if is_tried { theme.ink() } else { theme.faint() };
        let name = Writing { is_bold: is_confirmed, ..Writing::new(13.0, ink) };
        let told = if is_confirmed { format!("▸ {}", step.name) } else { step.name.clone() };
        sheet.text(sheet.left() + 4.0, foot + 19.0, name, &name.fit(&told, NAMES - 16.0));
        if !is_tried {
            sheet.text(left + 8.0, foot + 19.0, Writing::new(11.0, theme.faint()), "not tried");
        }
        for (row, tried) in step.tries.iter().enumerate() {
            draw_try(sheet, foot + ROW * row as f64, tried, right, &x);
        }
        sheet.rule((left, foot + height), (right, foot + height));
        foot += height;
    }
    sheet.line(vec![(left, foot), (right, foot)], theme.ink(), 1.0);
    sheet.line(vec![(left, y + 4.0), (left, foot)], theme.ink(), 1.0);
    let writing = Writing::new(11.0, theme.ink()).at(Anchor::Middle);
    for n in 0..=4_u32 {
        let at = left + (right - left) * f64::from(n) / 4.0;
        sheet.line(vec![(at, foot), (at, foot + 5.0)], theme.ink(), 1.0);
        sheet.text(at, foot + 18.0, writing, &format!("{:.1}", scale * f64::from(n) / 4.0));
    }
    sheet.text(sheet.left(), foot + 18.0, Writing::new(11.0, theme.faint()), "frames lost, %");
    foot + 24.0
}

fn draw_try(sheet: &mut Sheet, y: f64, tried: &Try, right: f64, x: &dyn Fn(f64) -> f64) {
    let theme = sheet.theme;
    let middle = y + ROW / 2.0;
    let colour = match &tried.outcome {
        Outcome::Held => theme.quantity().1,
        Outcome::GaveWay { fault, .. } => theme.fault(*fault),
        Outcome::Unclear => theme.faint(),
    };
    if let Some((least, most)) = tried.between {
        sheet.line(vec![(x(least), middle), (x(most), middle)], colour, 1.6);
        for end in [least, most] {
            sheet.line(vec![(x(end), middle - 4.0), (x(end), middle + 4.0)], colour, 1.6);
        }
    }
    let at = x(tried.lost_percent);
    match &tried.outcome {
        Outcome::Held => sheet.dot(at, middle, 5.0, colour, true),
        Outcome::GaveWay { fault, .. } => {
            sheet.area(vec![(at - 6.0, middle + 5.0), (at + 6.0, middle + 5.0), (at, middle - 6.0)], colour);
            hatch::fill(sheet, (right + 42.0, y + 9.0, right + 58.0, y + 21.0), Hatch::of(*fault), 4.0, colour);
        }
        Outcome::Unclear => sheet.dot(at, middle, 5.0, colour, false),
    }
    let told = match &tried.outcome {
        Outcome::Held => "held".to_owned(),
        Outcome::GaveWay { fault, cause } => match cause {
            Some(cause) => format!("{}: {}", fault.word(), cause.words()),
            None => format!("{} gave way", fault.word()),
        },
        Outcome::Unclear => "cannot be told".to_owned(),
    };
    let (ink, faint) = (Writing::new(11.5, theme.ink()), Writing::new(10.5, theme.faint()));
    sheet.text(right + 12.0, y + 19.0, faint, &format!("{}.", tried.order));
    let words = format!("{told}, {}", clock(tried.seconds));
    sheet.text(right + 66.0, y + 19.0, ink, &ink.fit(&words, sheet.right() - right - 66.0));
}
