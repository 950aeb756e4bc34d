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

/// Something that Ctrl-C ends early, with what there is; a second one ends the program.
pub(crate) fn cancel_when_asked() -> tokio::sync::watch::Receiver<bool> {
    let (cancel, cancelled) = tokio::sync::watch::channel(false);
    tokio::spawn(async move {
        for second in [false, true] {
            if let Err(error) = stop_requested().await {
                tracing::warn!(%error, "signals cannot be listened for");
                std::future::pending::<()>().await;
            }
            if second {
                std::process::exit(130);
            }
            cancel.send_replace(true);
        }
    });
    cancelled
}
