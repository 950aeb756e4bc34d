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

    pub(crate) fn state(self, state: State) -> Colour {
        match state {
            State::Steady => self.quantity().1,
            State::Strained => (168, 118, 20),
            State::Losing => self.fault(Fault::Network),
            State::Dark => self.ink(),
        }
    }
}
