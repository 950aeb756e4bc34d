//! Being asked to stop by the system.

use std::io;

/// Waits until the process is asked to stop: Ctrl-C, or a signal that means the same.
#[cfg(unix)]
pub(crate) async fn stop_requested() -> io::Result<()> {
    use tokio::signal::unix::{SignalKind, signal};
    let mut interrupt = signal(SignalKind::interrupt())?;
    let mut terminate = signal(SignalKind::terminate())?;
    let mut hangup = signal(SignalKind::hangup())?;
    tokio::select! {
        _ = interrupt.recv() => {}
        _ = terminate.recv() => {}
        _ = hangup.recv() => {}
    }
    Ok(())
}

/// Waits until the process is asked to stop.
#[cfg(not(unix))]
pub(crate) async fn stop_requested() -> io::Result<()> {
    tokio::signal::ctrl_c().await
}
