//! The core, told observations at chosen moments.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod changes;
mod contradictions;
mod kept;
mod playing_back;
mod show;
mod trials;
mod verdicts;
mod words;
