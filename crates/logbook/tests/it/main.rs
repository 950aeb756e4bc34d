//! The logbook: kept, thinned, opened again, and what damages it.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod armour;
mod common;
mod keeping;
mod thinning;
mod versions;
// The core is told a broadcast as its own tests tell it one.
#[allow(dead_code)]
#[path = "../../../core/tests/it/show/mod.rs"]
mod show;
