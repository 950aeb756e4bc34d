//! Screens apart from the broadcast: a moth keeps it on air by itself, and screens come and go.
//!
//! - [`words`]: what a screen and a moth say to each other, as `docs/attach.md` has it.
//! - [`far_seat`]: a screen drawn for a terminal that is far.
//! - [`client`]: that terminal.
//! - [`reception`]: what happens with whoever comes; [`guests`]: how many there are.

#[cfg(unix)]
pub(crate) mod client;
#[cfg(unix)]
pub(crate) mod far_seat;
pub(crate) mod guests;
#[cfg(unix)]
pub(crate) mod reception;
pub(crate) mod words;
