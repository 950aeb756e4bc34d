//! The rungs of a climb, each with its tries and what was measured.

use moth_core::rate::grouped;
use moth_core::suspects::Fault;
use moth_rehearsal::climb::Tried;
use moth_rehearsal::figures::{Figures, Known};
use moth_rehearsal::finding::ClimbFinding;
use moth_rehearsal::ladder::Value;
use moth_rehearsal::runner::{Runner, Stand};
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use crate::terminal::parts::rehearsal_heading::bar;
use crate::terminal::style::format::{fit, number};
use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::wrapped;

/// Columns of a rung's tries. Ours.
const TRIES: usize = 7;
/// A screen of so many columns has room for every figure. Ours.
const WIDE: u16 = 150;
/// The mark of a try that held.
pub(in crate::terminal) const HELD: &str = "●";
/// The mark of a try in which something gave way, and of what broke a soak.
pub(in crate::terminal) const GAVE_WAY: &str = "▲";

/// Columns of what a rung is, of what came of it, and of a figure.
fn columns(wide: bool) -> (usize, usize, usize) {
    if wide { (25, 37, 10) } else { (22, 24, 9) }
}

/// The rungs, the heaviest at the top, each with its tries and what was measured in the newest.
pub(super) struct Rungs<'a> {
    palette: Palette,
    rungs: &'a [Value],
    tries: &'a [Tried],
    /// The climb that is under way.
    runner: Option<&'a Runner>,
    /// The highest that was clean, and the one to use, once that is known.
    clean: Option<usize>,
    recommended: Option<usize>,
    known: Known,
}

impl<'a> Rungs<'a> {
    pub(super) fn of_a_runner(palette: Palette, runner: &'a Runner) -> Self {
        let (rungs, tries) = (runner.ladder().rungs(), runner.climb().tries());
        let (runner, known) = (Some(runner), runner.known());
        Self { palette, rungs, tries, runner, clean: None, recommended: None, known }
    }

    pub(super) fn of_a_finding(palette: Palette, finding: &'a ClimbFinding) -> Self {
        let ClimbFinding { rungs, tries, highest_clean: clean, recommended, known, .. } = finding;
        Self { palette, rungs, tries, runner: None, clean: *clean, recommended: *recommended, known: *known }
    }

    /// The rung that is set or tried.
    fn now(&self) -> Option<usize> {
        self.runner?.now().map(|(_, rung, ..)| rung)
    }

    pub(super) fn lines(&self, rows: usize, area: Rect) -> Vec<Line<'static>> {
        let wide = area.width >= WIDE;
        let (values, came, figure) = columns(wide);
        let mut head = format!("{:values$}{:TRIES$}{:came$}{:>7}", "  step", "tries", "it came to", "lost");
        let names: &[&str] = if wide {
            &["sent kb/s", "bits/px", "frames/s", "CPU %", "GPU %", "encode ms", "queue ms"]
        } else {
            &["CPU %", "queue ms"]
        };
        for name in names {
            head.push_str(&format!("{name:>figure$}"));
        }
        let mut lines = vec![Line::styled(fit(&head, area.width.into()), self.palette.faint())];
        // How all of it is known goes below, where there is room.
        let foot = wrapped(&self.known.words(), area.width, self.palette.faint());
        let room_for_all = 1 + self.rungs.len() + foot.len();
        let counts = self.runner.is_some_and(|runner| !self.tries.is_empty() || runner.seen().seconds() > 0);
        let foot = if counts && rows >= room_for_all { foot } else { Vec::new() };
        let room = rows.saturating_sub(1 + foot.len()).max(1);
        // With less room than rungs, those around what matters are shown.
        let middle = self.now().or(self.clean).unwrap_or(0);
        let top = self.rungs.len().saturating_sub(1);
        let last = (middle + room / 2).min(top).max((room - 1).min(top));
        let first = (last + 1).saturating_sub(room);
        lines.extend((first..=last).rev().filter_map(|rung| Some(self.row(rung, self.rungs.get(rung)?, wide))));
        lines.extend(foot);
        lines
    }

    fn row(&self, rung: usize, value: &Value, wide: bool) -> Line<'static> {
        let palette = self.palette;
        let of_rung: Vec<&Tried> = self.tries.iter().filter(|tried| tried.rung == rung).collect();
        let (is_clean, is_recommended) = (self.clean == Some(rung), self.recommended == Some(rung));
        let runner = self.runner.filter(|_| self.now() == Some(rung));
        let mark = if runner.is_some() || is_recommended { '▸' } else { ' ' };
        let name = format!("{mark} {}", value.words());
        let style = if runner.is_some() || is_clean || is_recommended {
            palette.strong()
        } else if of_rung.is_empty() {
            palette.faint()
        } else {
            Style::new()
        };
        let (values, came_to, figure_columns) = columns(wide);
        let mut spans = vec![Span::styled(format!("{:values$}", fit(&name, values - 1)), style)];
        let hidden = of_rung.len().saturating_sub(TRIES - 2);
        for tried in of_rung.iter().skip(hidden) {
            let fault = tried.at_fault.map_or(Fault::Network, |(fault, _)| fault);
            spans.push(if tried.held {
                Span::styled(HELD, palette.quantity())
            } else {
                Span::styled(GAVE_WAY, palette.fault(fault))
            });
        }
        spans.push(Span::raw(" ".repeat(TRIES - (of_rung.len() - hidden))));
        match (runner, of_rung.last()) {
            (Some(runner), newest) if runner.stand() == Stand::Trying || newest.is_none() => {
                let least_s = runner.now().map_or(0, |(_, _, length, _)| length.least_s);
                spans.push(Span::styled(bar(runner.seen().seconds(), least_s), palette.quantity()));
            }
            (_, None) => {}
            (_, Some(newest)) => {
                let came = came(newest, is_clean, is_recommended);
                let fault = newest.at_fault.filter(|_| !newest.held).map_or(Fault::None, |(fault, _)| fault);
                spans.push(Span::styled(format!("{:came_to$}", fit(&came, came_to - 1)), palette.fault(fault)));
                spans.push(Span::raw(format!("{:>5.1} %", newest.lost * 100.0)));
                for figure in figures(&newest.figures, wide) {
                    spans.push(Span::raw(format!("{figure:>figure_columns$}")));
                }
            }
        }
        Line::from(spans)
    }
}

fn came(tried: &Tried, is_clean: bool, is_recommended: bool) -> String {
    match (tried.held, tried.at_fault) {
        (false, Some((fault, Some(cause)))) => format!("{}: {}", fault.word(), cause.words()),
        (false, Some((fault, None))) => format!("{} gave way", fault.word()),
        (false, None) => "frames were lost".into(),
        (true, _) if is_clean && is_recommended => "clean, recommended".into(),
        (true, _) if is_clean => "clean: the highest".into(),
        (true, _) if is_recommended => "held, recommended".into(),
        (true, _) => "held".into(),
    }
}

fn figures(figures: &Figures, wide: bool) -> Vec<String> {
    let whole = |value: Option<f64>| value.map_or_else(|| "n/a".into(), |value| grouped(value.round().max(0.0) as u64));
    if !wide {
        return vec![whole(figures.cpu_percent), whole(figures.queue_ms)];
    }
    vec![
        whole(figures.sent_kbps),
        figures.bits_per_pixel.map_or_else(|| "n/a".into(), |bits| format!("{bits:.3}")),
        figures.fps.map_or_else(|| "n/a".into(), |fps| format!("{fps:.0}")),
        whole(figures.cpu_percent),
        whole(figures.gpu_percent),
        number(figures.encode_ms),
        whole(figures.queue_ms),
    ]
}
