//! Being asked to stop by the system.

use std::io;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// Waits until the process is asked to stop: Ctrl-C, or a signal that means the same.
#[cfg(unix)]
pub(crate) async fn stop_requested() -> io::Result<()> {
    use tokio::signal::unix::{SignalKind, signal};
    let mut interrupt = signal(SignalKind::interrupt())?;
    let mut terminate = signal(SignalKind::terminate())?;
    let mut hangup = signal(SignalKind::hangup())?;
    let mut quit = signal(SignalKind::quit())?;
    tokio::select! {
        _ = interrupt.recv() => {}
        _ = terminate.recv() => {}
        _ = hangup.recv() => {}
        _ = quit.recv() => {}
    }
    Ok(())
}

/// Waits until the process is asked to stop.
#[cfg(not(unix))]
pub(crate) async fn stop_requested() -> io::Result<()> {
    tokio::signal::ctrl_c().await
}

/// Says when the program goes on after it was stopped, and its terminal may have been used by others meanwhile. Being asked to stop
/// (SIGTSTP) is declined from here on: a broadcast hangs on it.
#[cfg(unix)]
pub(crate) fn notice_going_on() -> io::Result<Arc<AtomicBool>> {
    use signal_hook::consts::signal::{SIGCONT, SIGTSTP};
    let (went_on, declined) = (Arc::<AtomicBool>::default(), Arc::default());
    signal_hook::flag::register(SIGCONT, went_on.clone())?;
    signal_hook::flag::register(SIGTSTP, declined)?;
    Ok(went_on)
}

/// Never is it stopped here.
#[cfg(not(unix))]
pub(crate) fn notice_going_on() -> io::Result<Arc<AtomicBool>> {
    Ok(Arc::default())
}

/// Says when the system asks the process to stop; from here on that is all that follows.
#[cfg(unix)]
pub(crate) fn notice_stopping() -> io::Result<Arc<AtomicBool>> {
    use signal_hook::consts::signal::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
    let asked = Arc::<AtomicBool>::default();
    for signal in [SIGINT, SIGTERM, SIGHUP, SIGQUIT] {
        signal_hook::flag::register(signal, asked.clone())?;
    }
    Ok(asked)
}

/// Ctrl-C is a key here, and nothing else asks.
#[cfg(not(unix))]
pub(crate) fn notice_stopping() -> io::Result<Arc<AtomicBool>> {
    Ok(Arc::default())
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
