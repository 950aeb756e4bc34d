//! The screens. Each is a file of its own, which says all there is to say of it in a [`Screen`]; a new one is added to [`ALL`].

pub(super) mod logbook;
pub(super) mod machine;
pub(super) mod plan;
pub(super) mod rehearse;
pub(super) mod routes;
pub(super) mod watch;
pub(super) mod why;

use super::screen::Screen;

/// All screens, in the order of their keys.
pub(super) const ALL: &[&Screen] = &[
    &watch::SCREEN,
    &why::SCREEN,
    &routes::SCREEN,
    &plan::SCREEN,
    &rehearse::SCREEN,
    &machine::SCREEN,
    &logbook::SCREEN,
];
