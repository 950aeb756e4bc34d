//! Colours, none of which carries anything alone: beside each stands a word, a mark or a hatching.

use moth_core::State;
use moth_core::suspects::Fault;

/// Red, green and blue.
pub(crate) type Colour = (u8, u8, u8);

/// On white, or on black.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Theme {
    /// For paper and letters.
    #[default]
    Light,
    /// Like the screens.
    Dark,
}

impl Theme {
    fn of(self, light: Colour, dark: Colour) -> Colour {
        match self {
            Self::Light => light,
            Self::Dark => dark,
        }
    }

    pub(crate) fn ground(self) -> Colour {
        self.of((255, 255, 255), (18, 20, 26))
    }

    pub(crate) fn ink(self) -> Colour {
        self.of((24, 26, 32), (232, 230, 224))
    }

    /// For what is beside the matter: its contrast with the ground is over 4.5 (WCAG 2, relative luminance).
    pub(crate) fn faint(self) -> Colour {
        self.of((98, 100, 108), (150, 150, 156))
    }

    pub(crate) fn rule(self) -> Colour {
        self.of((214, 212, 206), (54, 58, 68))
    }

    /// A quantity's area, and its outline.
    pub(crate) fn quantity(self) -> (Colour, Colour) {
        (self.of((206, 216, 226), (52, 72, 92)), self.of((58, 92, 124), (134, 170, 202)))
    }

    /// The colours of the screens, which are legible on both grounds.
    pub(crate) fn fault(self, fault: Fault) -> Colour {
        match fault {
            Fault::None => self.faint(),
            Fault::Network => (201, 84, 26),
            Fault::Encoder => (134, 97, 214),
            Fault::Rendering => (18, 136, 138),
        }
    }

    /// What is tight, and what is bad; a word is beside each.
    pub(crate) fn warning(self) -> Colour {
        (168, 118, 20)
    }

    pub(crate) fn bad(self) -> Colour {
        self.fault(Fault::Network)
    }

    /// Programs, told apart by their lightness as well.
    pub(crate) fn program(self, n: usize) -> Colour {
        let (light, dark) = [
            ((58, 92, 124), (134, 170, 202)),
            ((201, 84, 26), (214, 112, 60)),
            ((134, 97, 214), (158, 128, 226)),
            ((18, 136, 138), (64, 170, 172)),
        ][n % 4];
        self.of(light, dark)
    }

    /// What no program is known of.
    pub(crate) fn rest(self) -> Colour {
        self.of((222, 222, 218), (58, 62, 72))
    }

    pub(crate) fn state(self, state: State) -> Colour {
        match state {
            State::Steady => self.quantity().1,
            State::Strained => (168, 118, 20),
            State::Losing => self.fault(Fault::Network),
            State::Dark => self.ink(),
        }
    }
}
