//! What a screen is to the frame around it.

use crossterm::event::KeyCode;
use moth_core::Snapshot;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use super::dialogs::export::Subject;
use super::model::Model;
use super::reaction::Reaction;
use super::style::format::wrap;
use super::style::palette::Palette;
use super::style::paragraphs::{paint, wrapped};

/// The smallest terminal on which there is room for more than the lantern. Ours.
const SMALLEST: (u16, u16) = (80, 24);

/// Whether there is no room for the screens: then the lantern is shown.
pub(in crate::terminal) fn is_small(area: Rect) -> bool {
    area.width < SMALLEST.0 || area.height < SMALLEST.1
}

/// What a screen shows.
#[derive(Clone, Copy)]
pub(in crate::terminal) struct Shown<'a> {
    pub model: &'a Model,
    pub snapshot: &'a Snapshot,
    pub palette: Palette,
}

/// Keys and what they do, for the foot of a screen.
pub(in crate::terminal) type Keys = Vec<(&'static str, &'static str)>;

/// A screen: all that the frame around it needs to know.
pub(in crate::terminal) struct Screen {
    pub name: &'static str,
    /// Draws what is below the header and above the keys.
    pub draw: fn(&mut Frame<'_>, Rect, Shown<'_>),
    /// What the foot says of its keys.
    pub keys: fn(Shown<'_>) -> Keys,
    /// What `?` says of its keys, and of its words.
    pub help: fn(Shown<'_>, HelpLines),
    /// What can be taken away from it, in words.
    pub exports: fn(&Model, &Snapshot) -> Vec<(Subject, String)>,
    /// What a key does that is not the frame's.
    pub key: fn(&mut Model, KeyCode) -> Reaction,
    /// What happens when one turns to it.
    pub turned_to: fn(&mut Model) -> Reaction,
}

impl std::fmt::Debug for Screen {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

impl PartialEq for Screen {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name
    }
}

/// Columns for what a key does, or a word means, in the help. Ours: beside their names, what a dialog has.
const HELP: usize = 62;

/// Lines of help.
pub(in crate::terminal) struct HelpLines<'a> {
    pub palette: Palette,
    pub lines: &'a mut Vec<Line<'static>>,
    /// The names of all screens, in the order of their keys.
    pub screens: &'a [&'static str],
}

impl HelpLines<'_> {
    /// A key, and what it does.
    pub(in crate::terminal) fn key(&mut self, name: &str, what: &str) {
        self.pair(name, what, self.palette.strong());
    }

    /// A word, and what it means.
    pub(in crate::terminal) fn word(&mut self, name: &str, what: &str) {
        self.pair(name, what, self.palette.faint());
    }

    fn pair(&mut self, name: &str, what: &str, style: Style) {
        for (n, row) in wrap(what, HELP).into_iter().enumerate() {
            let name = if n == 0 { name } else { "" };
            self.lines.push(Line::from(vec![Span::styled(format!("{name:>9}  "), style), Span::raw(row)]));
        }
    }

    /// The keys of the other screens.
    pub(in crate::terminal) fn others(&mut self) {
        // Their order is that of the keys.
        self.key(&format!("0-{} Tab", self.screens.len()), &format!("Lantern {}", self.screens.join(" ")));
    }

    /// An empty line.
    pub(in crate::terminal) fn gap(&mut self) {
        self.lines.push(Line::default());
    }
}

/// Turning to it does nothing else.
pub(in crate::terminal) fn nothing_else(_: &mut Model) -> Reaction {
    Reaction::none()
}

/// One column free on both sides, and a row above.
pub(in crate::terminal) fn inner(area: Rect) -> Rect {
    let gap = u16::from(area.height > 24);
    Rect { x: area.x + 1, width: area.width.saturating_sub(2), y: area.y + gap, height: area.height - gap }
}

/// What a screen says that is for before a broadcast, where there is nothing before it.
pub(in crate::terminal) fn without_a_setup(frame: &mut Frame<'_>, area: Rect, is_replay: bool) {
    let told = if is_replay {
        "This screen is for before a broadcast. A replay shows one that is over: Watch (1), Why (2) and Machine (6) have it."
    } else {
        "This screen keeps what it finds out, and there is no home folder to keep it in. Name a configuration with --config: results are kept beside it."
    };
    paint(frame, inner(area), wrapped(told, inner(area).width, Style::new()));
}
