//! The screens. Each is a file of its own, which says all there is to say of it in a [`Screen`]; a new one is added to [`ALL`].

pub(super) mod machine;
pub(super) mod plan;
pub(super) mod rehearse;
pub(super) mod routes;
pub(super) mod watch;
pub(super) mod why;

use crossterm::event::KeyCode;
use moth_core::Snapshot;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use super::dialogs::export::Subject;
use super::model::Model;
use super::reaction::Reaction;
use super::style::palette::Palette;
use super::style::paragraphs::{paint, wrapped};

/// All screens, in the order of their keys.
pub(super) const ALL: &[&Screen] =
    &[&watch::SCREEN, &why::SCREEN, &routes::SCREEN, &plan::SCREEN, &rehearse::SCREEN, &machine::SCREEN];

/// What a screen shows.
#[derive(Clone, Copy)]
pub(super) struct Shown<'a> {
    pub model: &'a Model,
    pub snapshot: &'a Snapshot,
    pub palette: Palette,
}

/// Keys and what they do, for the foot of a screen.
pub(super) type Keys = Vec<(&'static str, String)>;

/// A screen: all that the frame around it needs to know.
pub(super) struct Screen {
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

/// Lines of help.
pub(super) struct HelpLines<'a> {
    pub palette: Palette,
    pub lines: &'a mut Vec<Line<'static>>,
}

impl HelpLines<'_> {
    /// A key, and what it does.
    pub(super) fn key(&mut self, name: &str, what: &str) {
        self.pair(name, what, self.palette.strong());
    }

    /// A word, and what it means.
    pub(super) fn word(&mut self, name: &str, what: &str) {
        self.pair(name, what, self.palette.faint());
    }

    fn pair(&mut self, name: &str, what: &str, style: Style) {
        self.lines.push(Line::from(vec![Span::styled(format!("{name:>9}  "), style), Span::raw(what.to_owned())]));
    }

    /// The keys of the other screens.
    pub(super) fn others(&mut self) {
        let names: Vec<String> =
            ALL.iter().enumerate().map(|(n, screen)| format!("{} {}", n + 1, screen.name)).collect();
        self.key(&format!("1-{}", ALL.len()), &format!("{}; Tab goes on", names.join(" ")));
    }

    /// An empty line.
    pub(super) fn gap(&mut self) {
        self.lines.push(Line::default());
    }
}

/// Turning to it does nothing else.
pub(super) fn nothing_else(_: &mut Model) -> Reaction {
    Reaction::none()
}

/// One column free on both sides, and a row above.
pub(super) fn inner(area: Rect) -> Rect {
    let gap = u16::from(area.height > 24);
    Rect { x: area.x + 1, width: area.width.saturating_sub(2), y: area.y + gap, height: area.height - gap }
}

/// What a screen says that needs a setup, where there is none.
pub(super) fn without_a_setup(frame: &mut Frame<'_>, area: Rect, is_replay: bool) {
    let told = if is_replay {
        "This screen is for before a broadcast. A replay shows one that is over: Watch (1), Why (2) and Machine (6) have it."
    } else {
        "This screen works with a setup. You named the server with --to; run `moth setup`, put your service into the file it names, and start `moth watch` without --to."
    };
    paint(frame, inner(area), wrapped(told, inner(area).width, Style::new()));
}
