//! What is on the screen, taken away: one key asks what is wanted and how, and the drawing, or the report, is made and written
//! outside the screen.

use moth_core::suspects::Fault;
use moth_drawing::evening::Stretch;
use moth_drawing::{Format, Paper};
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use crate::terminal::style::format::wrap;
use crate::terminal::style::palette::Palette;

/// Something that can be taken away.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// The lanes of the broadcast.
    Lanes,
    /// The frame's journey.
    Journey,
    /// The newest change, and what it did.
    Trial,
    /// The suspects of a stage.
    Why(Fault),
    /// The comparison of servers.
    Servers,
    /// The line.
    Line,
    /// The map of pictures.
    Picture,
    /// A climb.
    Climb,
    /// The load on a machine, by its place.
    Machine(usize),
    /// Two past broadcasts, or two stretches of one.
    Comparison,
    /// A report on the broadcast so far.
    Report,
}

impl Subject {
    /// What its file is called.
    pub(super) fn slug(self) -> &'static str {
        match self {
            Self::Lanes => "lanes",
            Self::Journey => "journey",
            Self::Trial => "trial",
            Self::Why(_) => "why",
            Self::Servers => "servers",
            Self::Line => "line",
            Self::Picture => "picture",
            Self::Climb => "climb",
            Self::Machine(_) => "machine",
            Self::Comparison => "comparison",
            Self::Report => "report",
        }
    }

    /// Whether there is nothing to be seen before anybody broadcast.
    pub(super) fn is_of_a_broadcast(self) -> bool {
        matches!(self, Self::Lanes | Self::Journey | Self::Trial | Self::Why(_) | Self::Report)
    }

    /// Whether it shows a stretch of time.
    pub(super) fn has_stretch(self) -> bool {
        matches!(self, Self::Lanes | Self::Why(_) | Self::Machine(_))
    }
}

/// What is wanted, while it is being chosen.
#[derive(Debug, Clone, PartialEq)]
pub struct Export {
    /// What there is, with its words.
    pub(super) subjects: Vec<(Subject, String)>,
    /// The one under the cursor.
    pub(super) at: usize,
    pub(super) format: Format,
    pub(super) is_dark: bool,
    pub(super) is_anonymous: bool,
    pub(super) is_whole: bool,
    pub(super) paper: Paper,
    /// What the screen shows, in seconds since the beginning.
    pub(super) shown: Stretch,
}

impl Export {
    pub(super) fn subject(&self) -> Subject {
        self.subjects.get(self.at).map_or(Subject::Report, |(subject, _)| *subject)
    }

    pub(super) fn is_report(&self) -> bool {
        self.subject() == Subject::Report
    }

    /// What the dialog shows.
    pub(super) fn lines(&self, palette: Palette, columns: usize) -> Vec<Line<'static>> {
        let mut lines = Vec::new();
        for (place, (_, words)) in self.subjects.iter().enumerate() {
            let (lead, style) = if place == self.at { ("▸ ", palette.strong()) } else { ("  ", Style::new()) };
            lines.push(Line::from(vec![Span::styled(lead, palette.strong()), Span::styled(words.clone(), style)]));
        }
        lines.push(Line::default());
        let mut row = |key: &'static str, what: &str, now: &str, other: &str| {
            lines.push(Line::from(vec![
                Span::styled(format!(" {key} "), palette.key()),
                Span::raw(format!("  {what:<9}{now}")),
                Span::styled(format!("   or {other}"), palette.faint()),
            ]));
        };
        let pick = |is_first: bool, first: &'static str, second: &'static str| {
            if is_first { (first, second) } else { (second, first) }
        };
        if self.is_report() {
            let (now, other) = pick(self.paper == Paper::A4, "A4", "Letter");
            row("p", "paper", now, other);
        } else {
            let (now, other) = pick(self.format == Format::Svg, "SVG", "PDF");
            row("f", "format", now, other);
            let (now, other) = pick(!self.is_dark, "white", "black");
            row("g", "ground", now, other);
        }
        let (now, other) = pick(!self.is_anonymous, "as they are", "left out");
        row("n", "names", now, other);
        // Preparation anything is shown there is only the whole.
        if self.subject().has_stretch() && self.shown.from_s < self.shown.until_s {
            let clock =
                |s: f64| crate::terminal::style::format::clock(std::time::Duration::from_secs(s.max(0.0) as u64));
            let shown = format!("what the screen shows, {} to {}", clock(self.shown.from_s), clock(self.shown.until_s));
            let (now, other) =
                if self.is_whole { ("the whole", shown.as_str()) } else { (shown.as_str(), "the whole") };
            row("s", "stretch", now, other);
        }
        lines.push(Line::default());
        let told = "Names are those of servers, services, lines, machines and programs, and addresses. The file goes into the folder in \
                    which the moth was started.";
        lines.extend(wrap(told, columns).into_iter().map(|line| Line::styled(line, palette.faint())));
        lines.push(Line::default());
        lines
    }
}
