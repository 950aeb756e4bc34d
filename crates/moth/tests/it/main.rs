//! The built program among real programs: encoders, servers, terminals and shaped lines.
#![cfg(target_os = "linux")]
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod apart;
mod armour;
mod before_live;
mod causes;
mod changes;
mod children;
mod command_line;
mod common;
mod contributing;
mod drawings;
mod examples;
mod interoperability;
mod live_bitrate;
mod logbook;
mod monitoring;
mod playback;
#[allow(dead_code)]
#[path = "../../../drawing/tests/it/common/mod.rs"]
mod read_back;
mod real_programs;
mod rehearse;
mod tell;
mod tls;
mod tmux;
