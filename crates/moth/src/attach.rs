//! Screens apart from the broadcast: a moth keeps it on air by itself, and screens come and go.
//!
//! - [`words`]: what a screen and a moth say to each other, as `docs/attach.md` has it.
//! - [`far_seat`]: a screen drawn for a terminal that is far.
//! - [`client`]: that terminal.
//! - [`guests`]: which screens come in, and how many.

#[cfg(unix)]
pub(crate) mod client;
#[cfg(unix)]
pub(crate) mod far_seat;
pub(crate) mod guests;
pub(crate) mod words;
