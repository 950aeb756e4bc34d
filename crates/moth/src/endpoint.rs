//! A local HTTP endpoint: the snapshot as JSON, and as OpenMetrics text.

use std::net::SocketAddr;
use std::sync::Arc;

use axum::Router;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use moth_core::Snapshot;
use tokio::net::TcpListener;
use tokio::sync::watch;

use crate::failure::Failure;
use crate::json_line::JsonLine;
use crate::metrics;

type Newest = watch::Receiver<Option<Arc<Snapshot>>>;

/// What it serves, for who opens it in a browser.
const INDEX: &str =
    "Vigilant Moth\n\n/snapshot  the newest snapshot as JSON\n/metrics   the same as OpenMetrics text\n";

/// Serves for as long as the runtime lives. Call on a tokio runtime.
///
/// # Errors
/// If the address is beyond this machine and that was not asked for, or the port cannot be opened.
pub async fn serve(address: SocketAddr, beyond: bool, newest: Newest) -> Result<(), Failure> {
    if !address.ip().is_loopback() && !beyond {
        return Err(Failure::Beyond(address));
    }
    let app = Router::new()
        .route("/", get(|| async { INDEX }))
        .route("/snapshot", get(snapshot))
        .route("/metrics", get(metrics_text))
        .with_state(newest);
    let listener = listen(address).await?;
    tokio::spawn(async move { axum::serve(listener, app).await });
    Ok(())
}

/// Opens a port.
///
/// # Errors
/// If it cannot be opened.
pub async fn listen(address: SocketAddr) -> Result<TcpListener, Failure> {
    let listener = TcpListener::bind(address).await;
    listener.map_err(|error| Failure::Port { address, error })
}

async fn snapshot(State(newest): State<Newest>) -> Response {
    let snapshot = newest.borrow().clone();
    match snapshot.and_then(|s| serde_json::to_vec(&JsonLine::from(s.as_ref())).ok()) {
        Some(json) => ([(header::CONTENT_TYPE, "application/json")], json).into_response(),
        None => (StatusCode::SERVICE_UNAVAILABLE, "nothing was seen yet\n").into_response(),
    }
}

async fn metrics_text(State(newest): State<Newest>) -> Response {
    let snapshot = newest.borrow().clone();
    match snapshot {
        Some(snapshot) => text(metrics::of_snapshot(&snapshot)),
        None => (StatusCode::SERVICE_UNAVAILABLE, "nothing was seen yet\n").into_response(),
    }
}

/// Metrics, as an answer.
pub(crate) fn text(text: String) -> Response {
    ([(header::CONTENT_TYPE, metrics::MEDIA_TYPE)], text).into_response()
}
