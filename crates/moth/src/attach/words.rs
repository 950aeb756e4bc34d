//! What a screen and a moth say to each other: a JSON object in each line, both ways, as `docs/attach.md` has it.

use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use serde::{Deserialize, Serialize};

use crate::terminal::style::palette::Palette;

/// The protocol's version. What is drawn needs no agreement: screens of other versions of the moth show it as well.
pub(crate) const PROTOCOL: u32 = 1;

/// The first line of a screen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Knock {
    pub attach: Ask,
}

/// The first line of a program that wants the lines of `moth watch --headless`, five a second.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Follow {
    pub follow: bool,
}

/// What a screen is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Ask {
    pub protocol: u32,
    /// The version of the moth that shows it.
    pub version: String,
    /// Columns and rows.
    pub size: (u16, u16),
    pub colours: Colours,
    /// The mouse is taken.
    pub mouse: bool,
    /// It began the moth: left while nobody is on air, it ends it.
    #[serde(default)]
    pub began: bool,
    /// The list of setups led to it, and is where one may go back to.
    #[serde(default)]
    pub setups: bool,
}

/// What a screen can do, and how it came to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Hands {
    /// The mouse is taken.
    pub mouse: bool,
    /// It began the moth that it shows.
    pub began: bool,
    /// The list of setups led to it.
    pub setups: bool,
}

/// Which colours a terminal takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Colours {
    /// None.
    Plain,
    /// The eight of the terminal's own.
    Eight,
    /// 24 bits.
    Full,
}

impl From<Palette> for Colours {
    fn from(palette: Palette) -> Self {
        match palette {
            Palette::Plain => Self::Plain,
            Palette::Eight => Self::Eight,
            Palette::Full => Self::Full,
        }
    }
}

impl From<Colours> for Palette {
    fn from(colours: Colours) -> Self {
        match colours {
            Colours::Plain => Self::Plain,
            Colours::Eight => Self::Eight,
            Colours::Full => Self::Full,
        }
    }
}

/// What a screen says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum FromScreen {
    /// A key was pressed: a character, or a name like `Enter`; `C-` before it with Ctrl.
    Key(String),
    /// A text was pasted.
    Paste(String),
    /// Something was done with the mouse.
    Mouse(Mouse),
    /// It has so many columns and rows now; all is drawn anew.
    Size(u16, u16),
    /// It goes; the broadcast goes on.
    Leave,
}

/// Something done with the mouse.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Mouse {
    pub what: MouseWhat,
    pub column: u16,
    pub row: u16,
}

/// What was done with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum MouseWhat {
    /// The left button went down.
    Press,
    /// The wheel, upwards.
    WheelUp,
    /// The wheel, downwards.
    WheelDown,
}

/// What a moth says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum FromMoth {
    /// The screen is taken.
    Hello { protocol: u32, version: String },
    /// The screen is not taken, and why.
    Refused(String),
    /// Text and control sequences (ECMA-48) to write to the terminal: the whole screen first, then what changed.
    Draw(String),
    /// To be put on the clipboard.
    Copy(String),
    /// The bell.
    Ring,
    /// The screen was left; the broadcast goes on.
    Left,
    /// The moth ends, as another setup is to be chosen.
    Setups,
    /// The moth ends: what became of the broadcast.
    Over(Vec<String>),
}

/// Keys that have a name, beside the function keys.
const NAMED: [(&str, KeyCode); 14] = [
    ("Enter", KeyCode::Enter),
    ("Esc", KeyCode::Esc),
    ("Tab", KeyCode::Tab),
    ("BackTab", KeyCode::BackTab),
    ("Backspace", KeyCode::Backspace),
    ("Delete", KeyCode::Delete),
    ("Up", KeyCode::Up),
    ("Down", KeyCode::Down),
    ("Left", KeyCode::Left),
    ("Right", KeyCode::Right),
    ("Home", KeyCode::Home),
    ("End", KeyCode::End),
    ("PageUp", KeyCode::PageUp),
    ("PageDown", KeyCode::PageDown),
];

fn key_name(key: KeyEvent) -> Option<String> {
    let name = match key.code {
        KeyCode::Char(c) => c.to_string(),
        KeyCode::F(n) => format!("F{n}"),
        code => NAMED.iter().find(|(_, known)| *known == code)?.0.to_owned(),
    };
    Some(if key.modifiers.contains(KeyModifiers::CONTROL) { format!("C-{name}") } else { name })
}

fn key_named(name: &str) -> Option<KeyEvent> {
    // A hyphen by itself is a key.
    let (name, modifiers) = match name.strip_prefix("C-").filter(|rest| !rest.is_empty()) {
        Some(rest) => (rest, KeyModifiers::CONTROL),
        None => (name, KeyModifiers::NONE),
    };
    let mut letters = name.chars();
    let code = match (letters.next()?, letters.next()) {
        (c, None) => KeyCode::Char(c),
        ('F', Some('1'..='9')) => KeyCode::F(name[1..].parse().ok().filter(|n| (1..=24).contains(n))?),
        _ => NAMED.iter().find(|(known, _)| *known == name)?.1,
    };
    Some(KeyEvent::new(code, modifiers))
}

impl FromScreen {
    /// What is to be said of an event of a terminal; `None` if it means nothing to a moth.
    pub(crate) fn of(event: &Event) -> Option<Self> {
        let mouse = |what, mouse: &MouseEvent| Some(Self::Mouse(Mouse { what, column: mouse.column, row: mouse.row }));
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => key_name(*key).map(Self::Key),
            Event::Paste(text) => Some(Self::Paste(text.clone())),
            Event::Resize(columns, rows) => Some(Self::Size(*columns, *rows)),
            Event::Mouse(event) => match event.kind {
                MouseEventKind::Down(MouseButton::Left) => mouse(MouseWhat::Press, event),
                MouseEventKind::ScrollUp => mouse(MouseWhat::WheelUp, event),
                MouseEventKind::ScrollDown => mouse(MouseWhat::WheelDown, event),
                _ => None,
            },
            _ => None,
        }
    }

    /// The event it says; `None` if it is none.
    pub(crate) fn event(&self) -> Option<Event> {
        Some(match self {
            Self::Key(name) => Event::Key(key_named(name)?),
            Self::Paste(text) => Event::Paste(text.clone()),
            Self::Size(columns, rows) => Event::Resize(*columns, *rows),
            Self::Mouse(Mouse { what, column, row }) => {
                let kind = match what {
                    MouseWhat::Press => MouseEventKind::Down(MouseButton::Left),
                    MouseWhat::WheelUp => MouseEventKind::ScrollUp,
                    MouseWhat::WheelDown => MouseEventKind::ScrollDown,
                };
                Event::Mouse(MouseEvent { kind, column: *column, row: *row, modifiers: KeyModifiers::NONE })
            }
            Self::Leave => return None,
        })
    }
}

/// As a line.
pub(crate) fn line(said: &impl Serialize) -> Vec<u8> {
    // Of strings and numbers: it cannot fail.
    let mut line = serde_json::to_vec(said).unwrap_or_default();
    line.push(b'\n');
    line
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn key(code: KeyCode, modifiers: KeyModifiers) -> Event {
        Event::Key(KeyEvent::new(code, modifiers))
    }

    #[test]
    fn what_is_done_at_a_terminal_arrives_as_it_was() {
        let mut events: Vec<Event> = NAMED.iter().map(|(_, code)| key(*code, KeyModifiers::NONE)).collect();
        events.extend(['a', 'Ä', '-', 'C', ' ', 'F'].map(|c| key(KeyCode::Char(c), KeyModifiers::NONE)));
        events.extend([key(KeyCode::Char('c'), KeyModifiers::CONTROL), key(KeyCode::F(1), KeyModifiers::NONE)]);
        events.extend([Event::Paste("rtmp://aldmoor.example/live\n".into()), Event::Resize(80, 24)]);
        for event in events {
            let said = FromScreen::of(&event).unwrap();
            let heard: FromScreen = serde_json::from_slice(&line(&said)).unwrap();
            assert_eq!(heard.event(), Some(event), "{said:?}");
        }
        assert_eq!(FromScreen::of(&Event::FocusGained), None);
    }

    #[test]
    fn the_words_are_those_of_the_description() {
        let said = |said: &FromScreen| String::from_utf8(line(said)).unwrap();
        assert_eq!(said(&FromScreen::Key("C-c".into())), "{\"key\":\"C-c\"}\n");
        assert_eq!(said(&FromScreen::Size(158, 47)), "{\"size\":[158,47]}\n");
        assert_eq!(said(&FromScreen::Leave), "\"leave\"\n");
        let press = Mouse { what: MouseWhat::Press, column: 3, row: 4 };
        assert_eq!(said(&FromScreen::Mouse(press)), "{\"mouse\":{\"what\":\"press\",\"column\":3,\"row\":4}}\n");
        let hello = FromMoth::Hello { protocol: PROTOCOL, version: "0.1.0".into() };
        assert_eq!(line(&hello), b"{\"hello\":{\"protocol\":1,\"version\":\"0.1.0\"}}\n");
        let description = include_str!("../../../../docs/attach.md");
        for word in [
            "\"attach\"",
            "\"key\"",
            "\"paste\"",
            "\"mouse\"",
            "\"size\"",
            "\"leave\"",
            "\"hello\"",
            "\"refused\"",
            "\"draw\"",
            "\"copy\"",
            "\"ring\"",
            "\"left\"",
            "\"setups\"",
            "\"over\"",
            "\"follow\"",
        ] {
            assert!(description.contains(word), "docs/attach.md describes {word}");
        }
    }

    proptest! {
        #[test]
        fn any_name_is_a_key_or_none(name in ".{0,12}") {
            if let Some(event) = FromScreen::Key(name).event() {
                prop_assert!(FromScreen::of(&event).is_some());
            }
        }
    }
}
