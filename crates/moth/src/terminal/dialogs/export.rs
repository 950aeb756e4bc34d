//! What is on the screen, taken away: one key asks what is wanted and how, and the drawing, or the report, is made and written
//! outside the screen.

use crossterm::event::{KeyCode, KeyEvent};
use moth_core::Snapshot;
use moth_core::suspects::Fault;
use moth_drawing::evening::Stretch;
use moth_drawing::{Format, Paper, Theme};
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use super::Dialog;
use crate::drawings::chronicle::standing_now;
use crate::drawings::job::{Job, Work};
use crate::drawings::side_drawing::Drawable;
use crate::setup_in_use::advice::picture;
use crate::terminal::model::Model;
use crate::terminal::reaction::Reaction;
use crate::terminal::screens::Screen;
use crate::terminal::style::format::wrap;
use crate::terminal::style::palette::Palette;
use crate::terminal::wish::Wish;

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
    /// A report on the broadcast so far.
    Report,
}

impl Subject {
    /// What its file is called.
    fn slug(self) -> &'static str {
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
            Self::Report => "report",
        }
    }

    /// Whether there is nothing to be seen before anybody broadcast.
    fn is_of_a_broadcast(self) -> bool {
        matches!(self, Self::Lanes | Self::Journey | Self::Trial | Self::Why(_) | Self::Report)
    }

    /// Whether it shows a stretch of time.
    fn has_stretch(self) -> bool {
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

/// What can be taken from a screen.
pub(in crate::terminal) fn begin(model: &Model, screen: &Screen) -> Reaction {
    let Some(snapshot) = &model.snapshot else { return Reaction::none() };
    open(model, (screen.exports)(model, snapshot), snapshot)
}

/// A report on the broadcast so far.
pub(in crate::terminal) fn begin_report(model: &Model) -> Reaction {
    let Some(snapshot) = &model.snapshot else { return Reaction::none() };
    open(model, vec![(Subject::Report, "a report on the broadcast so far".into())], snapshot)
}

fn open(model: &Model, mut subjects: Vec<(Subject, String)>, snapshot: &Snapshot) -> Reaction {
    let (from, until) = model.view.shown();
    let length = snapshot.history.len();
    let until = until.min(length);
    let was_on_air = (0..length).any(|second| snapshot.history.get(second).is_some_and(|s| s.state.is_some()));
    subjects.retain(|(subject, _)| was_on_air || !subject.is_of_a_broadcast());
    if subjects.is_empty() {
        return Reaction::tell("there is nothing to take away from here yet");
    }
    Reaction::open(Dialog::Export(Export {
        subjects,
        at: 0,
        format: Format::Svg,
        is_dark: false,
        is_anonymous: false,
        is_whole: from >= until,
        paper: Paper::A4,
        shown: Stretch { from_s: from as f64, until_s: until as f64 },
    }))
}

pub(super) fn key(model: &Model, mut export: Export, key: KeyEvent) -> Reaction {
    let last = export.subjects.len() - 1;
    match key.code {
        KeyCode::Esc | KeyCode::Char('q') => return Reaction::none(),
        KeyCode::Enter => return take(model, &export),
        KeyCode::Up => export.at = export.at.saturating_sub(1),
        KeyCode::Down => export.at = (export.at + 1).min(last),
        KeyCode::Char('f') if !export.is_report() => {
            export.format = if export.format == Format::Svg { Format::Pdf } else { Format::Svg };
        }
        KeyCode::Char('g') if !export.is_report() => export.is_dark = !export.is_dark,
        KeyCode::Char('n') => export.is_anonymous = !export.is_anonymous,
        KeyCode::Char('s') if export.subject().has_stretch() => {
            export.is_whole = !export.is_whole || export.shown.from_s >= export.shown.until_s;
        }
        KeyCode::Char('p') if export.is_report() => {
            export.paper = if export.paper == Paper::A4 { Paper::Letter } else { Paper::A4 };
        }
        _ => {}
    }
    Reaction::open(Dialog::Export(export))
}

/// Puts together what is to be drawn.
fn take(model: &Model, export: &Export) -> Reaction {
    let Some(work) = work(model, export) else {
        return Reaction::tell("there is nothing to take away from here any more");
    };
    Reaction::wish(Wish::Export(Box::new(Job {
        name: format!("moth-{}", export.subject().slug()),
        format: if export.is_report() { Format::Pdf } else { export.format },
        theme: if export.is_dark { Theme::Dark } else { Theme::Light },
        work,
    })))
    .and_tell("being drawn…")
}

fn work(model: &Model, export: &Export) -> Option<Work> {
    let subject = export.subject();
    match subject {
        Subject::Servers | Subject::Line | Subject::Picture | Subject::Climb => return work_before(model, export),
        _ => {}
    }
    let snapshot = model.snapshot.as_ref()?;
    let mut evening = model.evening(snapshot);
    // What is asked about goes along, so that its names go as well.
    let asked = match subject {
        Subject::Why(stage) => standing_now(snapshot, stage),
        _ => None,
    };
    // Those of which nothing was ever known are not among the evening's, and names may go.
    let machine = match subject {
        Subject::Machine(place) => {
            let host = &std::iter::once(&snapshot.machine).chain(&snapshot.others).nth(place)?.host;
            evening.machines.iter().position(|machine| machine.host == *host)
        }
        _ => None,
    };
    let (is_asked, verdicts) = (asked.is_some(), evening.verdicts.len());
    evening.verdicts.extend(asked);
    if export.is_anonymous {
        evening = evening.anonymous();
    }
    let asked = is_asked.then(|| evening.verdicts.split_off(verdicts).pop()).flatten();
    let stretch = if export.is_whole { evening.whole() } else { export.shown };
    let evening = Box::new(evening);
    Some(match subject {
        Subject::Lanes => Work::Lanes(evening, stretch),
        Subject::Journey => {
            let standing = Box::new(evening.standing.clone()?);
            Work::Journey(evening, standing)
        }
        Subject::Trial => {
            let trial = Box::new(evening.trials.last()?.clone());
            Work::Trial(evening, trial)
        }
        Subject::Why(stage) => match asked {
            Some(stood) => Work::Why(evening, Box::new(stood), stretch),
            None => Work::Calm(evening, stage, stretch),
        },
        Subject::Machine(_) => Work::Machine(evening, machine?, stretch),
        Subject::Report => Work::Report(evening, export.paper),
        Subject::Servers | Subject::Line | Subject::Picture | Subject::Climb => return None,
    })
}

/// What was found out before going live.
fn work_before(model: &Model, export: &Export) -> Option<Work> {
    let before = model.preparation.as_ref()?;
    let in_use = &before.in_use;
    fn plain<D: Drawable>(what: D, in_use: &crate::setup_in_use::SetupInUse, is_anonymous: bool) -> Box<D> {
        Box::new(if is_anonymous { what.without_names(in_use) } else { what })
    }
    Some(match export.subject() {
        Subject::Servers => Work::Servers(plain(before.newest_servers()?, in_use, export.is_anonymous)),
        Subject::Line => Work::Line(plain(before.newest_line()?, in_use, export.is_anonymous)),
        Subject::Climb => Work::Climb(plain(model.over_climb()?, in_use, export.is_anonymous)),
        _ => {
            let mut drawn = picture(&before.plan()?, in_use);
            if before.is_stand_in() {
                drawn.source.push_str(", all made up");
            }
            Work::Picture(plain(drawn, in_use, export.is_anonymous))
        }
    })
}

impl Export {
    pub(super) fn subject(&self) -> Subject {
        self.subjects.get(self.at).map_or(Subject::Report, |(subject, _)| *subject)
    }

    fn is_report(&self) -> bool {
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
