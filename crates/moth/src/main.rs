//! The `moth` command: Vigilant Moth for people who broadcast live.

use std::process::ExitCode;

fn main() -> ExitCode {
    moth::run(std::env::args_os())
}
