//! Colours, none of which carries anything alone: every state also has a word and a mark.

use moth_core::State;
use moth_core::suspects::Fault;
use moth_core::wire::Heard;
use moth_plan::check::Weight;
use moth_plan::picture::Appearance;
use moth_plan::ranking::Grade;
use ratatui::style::{Color, Modifier, Style};

/// Which colours the terminal takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Palette {
    /// None: only bold, dim and reversed.
    Plain,
    /// The eight of the terminal's own.
    Eight,
    /// 24 bits.
    Full,
}

impl Palette {
    /// What the environment asks for: `NO_COLOR` (no-color.org), `COLORTERM`.
    #[must_use]
    pub fn from_environment() -> Self {
        let set = |name: &str| std::env::var_os(name).filter(|v| !v.is_empty());
        if set("NO_COLOR").is_some() {
            Self::Plain
        } else if set("COLORTERM").is_some_and(|v| v == "truecolor" || v == "24bit") {
            Self::Full
        } else {
            Self::Eight
        }
    }

    /// Middle tones: each has a contrast of at least 3.9 against black and against white (WCAG 2, relative
    /// luminance), as the background is the user's.
    fn tone(self, full: (u8, u8, u8), eight: Color) -> Style {
        match self {
            Self::Plain => Style::new(),
            Self::Eight => Style::new().fg(eight),
            Self::Full => Style::new().fg(Color::Rgb(full.0, full.1, full.2)),
        }
    }

    /// The colour of a stage's losses.
    #[must_use]
    pub fn fault(self, fault: Fault) -> Style {
        match fault {
            Fault::None => Style::new(),
            Fault::Network => self.tone((201, 84, 26), Color::Red),
            Fault::Encoder => self.tone((134, 97, 214), Color::Magenta),
            Fault::Rendering => self.tone((18, 136, 138), Color::Cyan),
        }
    }

    /// The colour of a connection state.
    #[must_use]
    pub fn state(self, state: Option<State>) -> Style {
        match state {
            None => self.faint(),
            Some(State::Steady) => Style::new(),
            Some(State::Strained) => self.fault(Fault::Network),
            Some(State::Losing | State::Dark) => self.fault(Fault::Network).add_modifier(Modifier::BOLD),
        }
    }

    /// The colour of how the sound is: it costs no frame, so none of a fault.
    #[must_use]
    pub fn sound(self, heard: Heard) -> Style {
        match heard {
            Heard::Present => self.quantity(),
            Heard::Silent => self.faint(),
            Heard::Missing | Heard::Drifting => self.strong(),
        }
    }

    /// The colour of a server's grade.
    #[must_use]
    pub fn grade(self, grade: Grade) -> Style {
        match grade {
            Grade::Holds => self.quantity(),
            Grade::Tight => self.fault(Fault::Encoder),
            Grade::Short | Grade::Failed => self.fault(Fault::Network),
        }
    }

    /// The colour of how a picture looks for its bits.
    #[must_use]
    pub fn look(self, look: Appearance) -> Style {
        match look {
            Appearance::Spare => self.faint(),
            Appearance::Good => self.quantity(),
            Appearance::Soft => self.fault(Fault::Encoder),
            Appearance::Blocky => self.fault(Fault::Network),
        }
    }

    /// The colour of a finding about the machine.
    #[must_use]
    pub fn weight(self, weight: Weight) -> Style {
        match weight {
            Weight::Fine => self.faint(),
            Weight::Watch => self.fault(Fault::Encoder),
            Weight::Hurts => self.alarm(),
        }
    }

    /// What must not be overlooked.
    #[must_use]
    pub fn alarm(self) -> Style {
        self.fault(Fault::Network).add_modifier(Modifier::BOLD)
    }

    /// Measured quantities in lanes and gauges.
    #[must_use]
    pub fn quantity(self) -> Style {
        self.tone((92, 124, 160), Color::Blue)
    }

    /// Labels, units, what is only for reference.
    #[must_use]
    pub fn faint(self) -> Style {
        match self {
            Self::Plain => Style::new().add_modifier(Modifier::DIM),
            // Dim is unreadable on some light backgrounds; bright black is made for this.
            Self::Eight => Style::new().fg(Color::DarkGray),
            Self::Full => Style::new().fg(Color::Rgb(122, 122, 128)),
        }
    }

    /// Titles.
    #[must_use]
    pub fn strong(self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// Keys one may press.
    #[must_use]
    pub fn key(self) -> Style {
        Style::new().add_modifier(Modifier::REVERSED)
    }
}

/// The mark of a connection state: what the path between two stages is drawn with.
#[must_use]
pub fn state_mark(state: Option<State>) -> char {
    match state {
        None => '·',
        Some(State::Steady) => '─',
        Some(State::Strained) => '≈',
        Some(State::Losing) => '▾',
        Some(State::Dark) => '×',
    }
}

/// The mark of how the sound is.
#[must_use]
pub fn sound_mark(heard: Heard) -> char {
    match heard {
        Heard::Present => '─',
        Heard::Silent => '○',
        Heard::Drifting => '≈',
        Heard::Missing => '×',
    }
}

/// The mark of a server's grade.
#[must_use]
pub fn grade_mark(grade: Grade) -> char {
    match grade {
        Grade::Holds => '═',
        Grade::Tight => '≈',
        Grade::Short => '▾',
        Grade::Failed => '×',
    }
}

/// The mark of how a picture looks.
#[must_use]
pub fn look_mark(look: Appearance) -> char {
    match look {
        Appearance::Spare => '+',
        Appearance::Good => '═',
        Appearance::Soft => '≈',
        Appearance::Blocky => '▾',
    }
}

/// The mark of a finding about the machine.
#[must_use]
pub fn weight_mark(weight: Weight) -> char {
    match weight {
        Weight::Fine => '═',
        Weight::Watch => '≈',
        Weight::Hurts => '▾',
    }
}
