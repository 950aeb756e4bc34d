//! A report on a broadcast: the summary in words first, then the lanes of the whole, each verdict with its evidence, what changes
//! did, tests, the machine, and how figures are known.

use std::path::Path;

use crate::evening::{Evening, Stood};
use crate::export::{self, ExportError};
use crate::page;
use crate::paper::{self, Paper};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::clock;
use crate::why::Question;
use crate::{lanes, line, machine, servers, summary, trial, why};

/// Above and below what stands on a page, in pixels. Ours.
const TOP: f64 = 60.0;
const FOOT: f64 = 64.0;
/// Verdicts that are shown with their evidence; the others stand in the list below the lanes. Ours.
const MOST_SHOWN: usize = 8;
/// Suspects of each.
const SUSPECTS: usize = 3;
/// Of the lanes' height, so that they stand on the first page. Ours.
const TALL: f64 = 0.75;
/// Changes that are shown. Ours.
const MOST_TRIALS: usize = 6;

const TITLE: &str = "Report on a broadcast";

/// Draws the pages of a report.
#[must_use]
pub fn draw(evening: &Evening, paper: Paper) -> Vec<Drawing> {
    let mut flow = Flow::new(paper);
    first_page(&mut flow, evening);
    verdicts(&mut flow, evening);
    trials(&mut flow, evening);
    tests(&mut flow, evening);
    machines(&mut flow, evening);
    known(&mut flow, evening);
    flow.finish(evening)
}

/// A report as a PDF.
///
/// # Errors
/// [`ExportError::Pdf`].
pub fn pdf(evening: &Evening, paper: Paper) -> Result<Vec<u8>, ExportError> {
    paper::bind(&draw(evening, paper), paper, &format!("{TITLE}: {}", evening.source))
}

/// Whether a report may be written to a file, as far as that can be told before.
///
/// # Errors
/// [`ExportError::NoPdf`], [`ExportError::Exists`].
pub fn check(path: &Path, may_replace: bool) -> Result<(), ExportError> {
    match export::Format::of(path) {
        Ok(export::Format::Pdf) => export::check(path, may_replace),
        _ => Err(ExportError::NoPdf { path: path.to_owned() }),
    }
}

fn first_page(flow: &mut Flow, evening: &Evening) {
    let whole = evening.whole();
    flow.place(0.0, |sheet, y| {
        let ink = sheet.theme.ink();
        sheet.text(sheet.left(), y + 20.0, Writing::new(24.0, ink).bold(), TITLE);
        let faint = Writing::new(12.0, sheet.theme.faint());
        sheet.wrapped(sheet.left(), y + 42.0, sheet.room(), faint, &page::stretch(evening, whole)) + 6.0
    });
    flow.heading("For whoever runs the line or the server");
    let sentences = summary::for_the_provider(evening);
    flow.place(0.0, |sheet, y| {
        let (ink, left) = (sheet.theme.ink(), sheet.left());
        let mut end = y - 4.0;
        for sentence in &sentences {
            end = sheet.wrapped(left + 16.0, end + 18.0, sheet.room() - 24.0, Writing::new(12.5, ink), sentence) + 4.0;
        }
        sheet.filled(left, y, left + 3.0, end + 4.0, sheet.theme.quantity().1);
        end + 6.0
    });
    flow.heading("In short");
    let said = summary::losses(evening).into_iter().chain(summary::faults(evening)).chain(summary::changes(evening));
    for sentence in said {
        flow.paragraph(&sentence);
    }
    flow.section("The whole broadcast", |sheet, y| lanes::body(sheet, y + 16.0, evening, whole, TALL) + 2.0);
    for row in lanes::told(evening, whole) {
        flow.place(0.0, |sheet, y| row.draw(sheet, y - 6.0) + 4.0);
    }
    flow.note(page::COLUMNS);
}

fn verdicts(flow: &mut Flow, evening: &Evening) {
    // The longest are shown, in their order.
    let length = |stood: &Stood| stood.until_s - stood.from_s;
    let mut shown: Vec<(usize, &Stood)> = evening.verdicts.iter().enumerate().collect();
    shown.sort_by(|a, b| length(b.1).total_cmp(&length(a.1)));
    shown.truncate(MOST_SHOWN);
    shown.sort_by_key(|(n, _)| *n);
    for (n, stood) in &shown {
        let heading = format!(
            "Verdict {}, {} to {}: {}, {}, {:.0} % sure",
            n + 1,
            clock(stood.from_s),
            clock(stood.until_s),
            stood.fault.word(),
            stood.cause_words(),
            stood.confidence * 100.0
        );
        let stretch = why::around(evening, stood);
        flow.section(&heading, |sheet, y| why::body(sheet, y, evening, &Question::of(stood), stretch, SUSPECTS) + 8.0);
    }
    let left = evening.verdicts.len() - shown.len();
    if left > 0 {
        flow.note(&format!("{left} shorter verdicts are not shown with their evidence."));
    }
}

fn trials(flow: &mut Flow, evening: &Evening) {
    for trial in evening.trials.iter().take(MOST_TRIALS) {
        let heading = format!("Change at {}: {}, {}", clock(trial.since.seconds()), trial.title, trial.words());
        flow.section(&heading, |sheet, y| trial::body(sheet, y, evening, trial) + 8.0);
    }
    let left = evening.trials.len().saturating_sub(MOST_TRIALS);
    if left > 0 {
        flow.note(&format!("{left} more changes stand on the first page."));
    }
}

fn tests(flow: &mut Flow, evening: &Evening) {
    if let Some(test) = &evening.line
        && let Some(reading) = moth_plan::line::read(&test.runs, &test.around, test.headroom)
    {
        flow.section("The line, tested", |sheet, y| {
            let faint = Writing::new(10.5, sheet.theme.faint());
            let y = sheet.wrapped(sheet.left(), y + 6.0, sheet.room(), faint, &line::source(test)) + 12.0;
            line::body(sheet, y, test, &reading) + 8.0
        });
    }
    if let Some(test) = &evening.servers {
        flow.section("The servers, tested", |sheet, y| {
            let faint = Writing::new(10.5, sheet.theme.faint());
            let y = sheet.wrapped(sheet.left(), y + 6.0, sheet.room(), faint, &servers::source(test)) + 8.0;
            servers::body(sheet, y, test) + 8.0
        });
    }
    if evening.line.is_none() && evening.servers.is_none() {
        flow.heading("Tests of line and servers");
        flow.paragraph("None that belongs to this broadcast is kept.");
    }
}

fn machines(flow: &mut Flow, evening: &Evening) {
    for machine in &evening.machines {
        let name = machine.host.as_deref().unwrap_or("this machine");
        flow.section(&format!("The load on {name}"), |sheet, y| {
            machine::body(sheet, y + 4.0, evening, machine, evening.whole()) + 8.0
        });
    }
    if evening.machines.is_empty() {
        flow.heading("The machine");
        flow.paragraph("Nothing of its load was known.");
    }
}

fn known(flow: &mut Flow, evening: &Evening) {
    flow.heading("How it is known");
    for note in page::how_known(evening) {
        flow.paragraph(&note);
    }
    flow.paragraph(
        "measured: by the moth or the kernel; reported: said by the broadcaster; inferred: read off the wire, likely and not certain.",
    );
}

/// Pages that fill one after another.
struct Flow {
    paper: Paper,
    pages: Vec<Sheet>,
    y: f64,
}

impl Flow {
    fn new(paper: Paper) -> Self {
        Self { paper, pages: vec![Self::page(paper)], y: TOP }
    }

    fn page(paper: Paper) -> Sheet {
        Sheet::page(Theme::Light, paper.pixels().0)
    }

    /// Draws something that stays together, on the next page if this one has no room for it and for so much behind it.
    fn place(&mut self, behind: f64, draw: impl Fn(&mut Sheet, f64) -> f64) {
        let height = draw(&mut Self::page(self.paper), 0.0);
        let bottom = self.paper.pixels().1 - FOOT;
        if self.y + height + behind > bottom && self.y > TOP {
            self.pages.push(Self::page(self.paper));
            self.y = TOP;
        }
        if let Some(page) = self.pages.last_mut() {
            self.y = draw(page, self.y);
        }
    }

    fn heading(&mut self, text: &str) {
        self.heading_before(text, 60.0);
    }

    /// A heading with a drawing that stays with it.
    fn section(&mut self, heading: &str, draw: impl Fn(&mut Sheet, f64) -> f64) {
        self.heading_before(heading, draw(&mut Self::page(self.paper), 0.0));
        self.place(0.0, draw);
    }

    /// A heading that stays with so much of what follows it.
    fn heading_before(&mut self, text: &str, behind: f64) {
        self.place(behind, |sheet, y| {
            let bold = Writing::new(15.0, sheet.theme.ink()).bold();
            sheet.wrapped(sheet.left(), y + 26.0, sheet.room(), bold, text) + 10.0
        });
    }

    fn paragraph(&mut self, text: &str) {
        self.place(0.0, |sheet, y| {
            sheet.wrapped(sheet.left(), y + 12.0, sheet.room(), Writing::new(12.0, sheet.theme.ink()), text) + 6.0
        });
    }

    fn note(&mut self, text: &str) {
        self.place(0.0, |sheet, y| {
            sheet.wrapped(sheet.left(), y + 12.0, sheet.room(), Writing::new(10.5, sheet.theme.faint()), text) + 4.0
        });
    }

    fn finish(self, evening: &Evening) -> Vec<Drawing> {
        let (count, height) = (self.pages.len(), self.paper.pixels().1);
        let pages = self.pages.into_iter().enumerate();
        pages
            .map(|(n, mut page)| {
                let faint = Writing::new(10.0, page.theme.faint());
                let (left, right, y) = (page.left(), page.right(), height - FOOT / 2.0);
                page.text(right, y, faint.at(Anchor::Right), &format!("page {} of {count}", n + 1));
                let source = format!("Vigilant Moth, {}", evening.source);
                page.text(left, y, faint, &faint.fit(&source, right - left - 100.0));
                page.finish(height, TITLE, &source)
            })
            .collect()
    }
}
