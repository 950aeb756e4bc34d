//! Measures servers and the line by really publishing to them, filler in the place of a broadcast.

mod fill;
pub mod filler;
mod line_run;
mod server_run;

use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_plan::text::Size;
use tokio::sync::watch;

pub use line_run::{LinePhase, LineProgress, run_line};
pub use server_run::{ServerPhase, ServerProgress, Target, test_server};

/// What is published for a measurement.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MeasurePlan {
    /// How long the connection is filled, in whole seconds: 10, 30 or 60.
    pub length: Duration,
    /// Video and audio of the broadcast to come.
    pub planned: Bitrate,
    /// The most that is offered.
    pub up_to: Bitrate,
    /// The picture the filler is made as; services look at it.
    pub size: Size,
    /// Frames per second.
    pub fps: f64,
}

/// Becomes true when a measurement should end early.
pub type Cancel = watch::Receiver<bool>;

/// Waits until it is cancelled; for ever, if nobody can do that any more.
async fn cancelled(cancel: &mut Cancel) {
    if cancel.wait_for(|cancelled| *cancelled).await.is_err() {
        std::future::pending::<()>().await;
    }
}
