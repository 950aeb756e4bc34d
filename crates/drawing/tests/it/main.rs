//! Drawings: what they show, and that they can be read back.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod common;
mod every_drawing;
mod geometry;
mod lanes;
mod report;
mod tables;
mod trial;
mod values_survive;
// The core is told a broadcast as its own tests tell it one.
#[allow(dead_code)]
#[path = "../../../core/tests/it/show/mod.rs"]
mod show;
