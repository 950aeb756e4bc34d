//! `moth host`: another machine of the same streamer tells its load.

use std::io::Write;
use std::time::{Duration, Instant};

use axum::Router;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Response;
use axum::routing::get;
use axum::serve::Listener;
use moth_core::machine_load::MachineLoad;
use moth_host::{Machine, MachineLook, Places};
use tokio::sync::watch;

use crate::cli::HostOptions;
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::outlets::endpoint::{listen, text};
use crate::outlets::metrics;
use crate::system::signals::stop_requested;

/// How often the load is read. Ours.
const EACH: Duration = Duration::from_secs(1);

type Newest = (watch::Receiver<MachineLoad>, String);

/// Serves this machine's load until it is asked to stop.
///
/// # Errors
/// If the port cannot be opened.
pub fn run(options: &HostOptions) -> Outcome {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(Failure::system("the program's scheduler could not be started"))?;
    let name = options.name.clone().unwrap_or_else(host_name);
    let machine = Machine::new(Places::real(options.recordings.clone()));
    runtime.block_on(async {
        let (told, newest) = watch::channel(MachineLoad::default());
        let app = Router::new().route("/metrics", get(metrics_text)).with_state((newest, name));
        let listener = listen(options.serve).await?;
        let address = listener.local_addr().unwrap_or(options.serve);
        // On standard output, so that a script can wait for it. Nobody may be reading: that is no failure.
        let _ = writeln!(std::io::stdout(), "this machine's load is at http://{address}/metrics");
        tokio::spawn(read(machine, told));
        tokio::select! {
            served = axum::serve(listener, app) => served.map_err(Failure::system("the port could not be served")),
            stopped = stop_requested() => stopped.map_err(Failure::system("signals cannot be listened for")),
        }
    })
}

async fn read(mut machine: Machine, told: watch::Sender<MachineLoad>) {
    let began = Instant::now();
    let mut tick = tokio::time::interval(EACH);
    loop {
        tick.tick().await;
        // Whoever asks may be looking for who is at fault: what is dear to read is read every second time.
        let closely = began.elapsed().as_secs().is_multiple_of(2);
        let look = MachineLook { at: began.elapsed(), closely, ..MachineLook::default() };
        let looked = tokio::task::spawn_blocking(move || {
            let load = machine.read(look);
            (machine, load)
        });
        let Ok((again, load)) = looked.await else { return };
        machine = again;
        told.send_replace(load);
    }
}

async fn metrics_text(State((newest, name)): State<Newest>, headers: HeaderMap) -> Response {
    let load = newest.borrow().clone();
    text(&headers, metrics::of_load(&load, &name))
}

/// The machine's own name.
fn host_name() -> String {
    let read = std::fs::read_to_string("/proc/sys/kernel/hostname").ok().or_else(|| std::env::var("HOSTNAME").ok());
    let name = read.map(|name| name.trim().to_owned()).filter(|name| !name.is_empty());
    name.unwrap_or_else(|| "another machine".into())
}
