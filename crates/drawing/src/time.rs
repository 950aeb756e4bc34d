//! A time axis: the seconds that are drawn, and where each stands.

use moth_core::history::Second;

use crate::evening::{Changed, Evening, Stretch};
use crate::names::letters;
use crate::sheet::{Anchor, Sheet, Writing};
use crate::ticks::{clock, times};

/// For the names before the lanes, and for their values behind them. Ours.
const NAMES: f64 = 118.0;
const VALUES: f64 = 92.0;

pub(crate) struct Time<'a> {
    pub seconds: &'a [Second],
    pub from_s: f64,
    pub until_s: f64,
    /// Where the first second stands, and the end of the last.
    pub left: f64,
    pub right: f64,
}

impl<'a> Time<'a> {
    /// A stretch of a broadcast over the width of a sheet, with so much more for names.
    pub(crate) fn of(evening: &'a Evening, stretch: Stretch, sheet: &Sheet, more: f64) -> Self {
        let seconds = evening.within(stretch);
        let from = stretch.from_s.max(0.0).floor().min(evening.seconds.len() as f64);
        let until_s = (from + seconds.len() as f64).max(from + 1.0);
        Self { seconds, from_s: from, until_s, left: sheet.left() + NAMES + more, right: sheet.right() - VALUES }
    }

    pub(crate) fn x(&self, at_s: f64) -> f64 {
        let share = (at_s - self.from_s) / (self.until_s - self.from_s).max(1.0);
        self.left + share.clamp(0.0, 1.0) * (self.right - self.left)
    }

    /// The places of each column's seconds: a column of a pixel, or each second where there are fewer.
    pub(crate) fn places(&self) -> Vec<(f64, f64, std::ops::Range<usize>)> {
        let count = self.seconds.len().min((self.right - self.left) as usize).max(1);
        let edge = |n: usize| n * self.seconds.len() / count;
        let columns = (0..count).map(|column| edge(column)..edge(column + 1)).filter(|inside| !inside.is_empty());
        columns
            .map(|inside| (self.x(self.from_s + inside.start as f64), self.x(self.from_s + inside.end as f64), inside))
            .collect()
    }

    pub(crate) fn columns(&self) -> Vec<(f64, f64, &'a [Second])> {
        self.places().into_iter().map(|(x0, x1, inside)| (x0, x1, &self.seconds[inside])).collect()
    }

    /// The axis below what was drawn; gives where it ends.
    pub(crate) fn axis(&self, sheet: &mut Sheet, y: f64, top: f64) -> f64 {
        let theme = sheet.theme;
        sheet.line(vec![(self.left, y), (self.right, y)], theme.ink(), 1.0);
        let writing = Writing::new(11.0, theme.ink()).at(Anchor::Middle);
        let most = ((self.right - self.left) / 70.0).max(2.0) as usize;
        for at in times(self.from_s, self.until_s, most) {
            let x = self.x(f64::from(at));
            sheet.line(vec![(x, y), (x, y + 5.0)], theme.ink(), 1.0);
            sheet.rule((x, top), (x, y));
            sheet.text(x, y + 18.0, writing, &clock(f64::from(at)));
        }
        sheet.text(sheet.left(), y + 18.0, Writing::new(11.0, theme.faint()), "since the start");
        y + 24.0
    }

    /// Changes as dashes from above the first lane to below the last, each with its letter.
    pub(crate) fn changes(&self, sheet: &mut Sheet, changes: &[&Changed], top: f64, bottom: f64) {
        let writing = Writing::new(11.0, sheet.theme.ink()).bold().at(Anchor::Middle);
        let mut last_x = f64::NEG_INFINITY;
        for (n, change) in changes.iter().enumerate() {
            let x = self.x(change.at_s);
            sheet.dashed((x, top - 2.0), (x, bottom), sheet.theme.ink());
            let name = letters(n);
            // Where they stand too close, the dashes remain, and the list tells the time.
            if x - last_x > writing.width(&name) + 6.0 {
                sheet.text(x, top - 5.0, writing, &name);
                last_x = x;
            }
        }
    }
}
