//! `moth service`: what keeps a moth running from login on.

use crate::failure::{Failure, Outcome};
use crate::system::out;

/// Prints a user's service file for systemd.
///
/// # Errors
/// [`Failure`] if this program's own place cannot be found.
pub(crate) fn run() -> Outcome {
    let program = std::env::current_exe().map_err(Failure::system("this program's own place could not be found"))?;
    out::text(&format!(
        "\
# A moth that waits for your broadcaster from login on, with the setup in use; `moth attach` opens a screen on it.
# Put it in place and begin it:
#   moth service > ~/.config/systemd/user/vigilant-moth.service
#   systemctl --user enable --now vigilant-moth
# The stream key is the one that `moth key set` keeps; none is in this file.
[Unit]
Description=Vigilant Moth, between the broadcaster and the ingest server
# Killed five times in ten minutes, it stays away.
StartLimitIntervalSec=600
StartLimitBurst=5

[Service]
ExecStart=\"{}\" watch --no-screen
# Killed, it comes back, and the broadcaster's own reconnect finds it.
Restart=on-failure
RestartSec=1

[Install]
WantedBy=default.target
",
        program.display()
    ))
}
