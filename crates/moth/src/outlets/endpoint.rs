//! A local HTTP endpoint: the snapshot as JSON, and as OpenMetrics text.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use axum::Router;
use axum::extract::{FromRequestParts, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use moth_core::Snapshot;
use tokio::net::TcpListener;
use tokio::sync::watch;

use crate::failure::Failure;
use crate::outlets::few::Few;
use crate::outlets::json_line::JsonLine;
use crate::outlets::metrics;
use crate::outlets::openmetrics::{MEDIA_TYPE, OLDER_MEDIA_TYPE, older};

/// Who reads at a time. Ours.
const MOST_CLIENTS: usize = 8;

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
        .with_state(Served { newest, beyond });
    let listener = listen(address).await?;
    tokio::spawn(async move { axum::serve(listener, app).await });
    Ok(())
}

/// Opens a port.
///
/// # Errors
/// If it cannot be opened.
pub async fn listen(address: SocketAddr) -> Result<Few, Failure> {
    let listener = TcpListener::bind(address).await.map_err(|error| Failure::Port { address, error })?;
    Ok(Few::new(listener, MOST_CLIENTS))
}

/// What is served, and whether to other machines.
#[derive(Clone)]
struct Served {
    newest: Newest,
    beyond: bool,
}

/// A request that was made for this machine: a web page whose name was pointed here, or one of another origin, is none.
struct Meant;

impl FromRequestParts<Served> for Meant {
    type Rejection = (StatusCode, &'static str);

    async fn from_request_parts(parts: &mut Parts, served: &Served) -> Result<Self, Self::Rejection> {
        let named = |name| parts.headers.get(name).map(|value| value.to_str().unwrap_or("?"));
        let origin = named(header::ORIGIN).map(|origin| origin.split_once("://").map_or(origin, |(_, host)| host));
        if served.beyond || [named(header::HOST), origin].into_iter().flatten().all(is_here) {
            Ok(Self)
        } else {
            Err((StatusCode::FORBIDDEN, "this is served to this machine alone, by its address or as localhost\n"))
        }
    }
}

/// Whether a host, perhaps with a port, is an address or `localhost`: a name may be pointed anywhere by whoever owns it.
fn is_here(host: &str) -> bool {
    let is_address = host.parse::<SocketAddr>().is_ok()
        || host.parse::<IpAddr>().is_ok()
        || host.strip_prefix('[').and_then(|h| h.strip_suffix(']')).is_some_and(|h| h.parse::<IpAddr>().is_ok());
    is_address || host.split_once(':').map_or(host, |(name, _)| name).eq_ignore_ascii_case("localhost")
}

async fn snapshot(State(Served { newest, .. }): State<Served>, _: Meant) -> Response {
    let snapshot = newest.borrow().clone();
    match snapshot.and_then(|s| serde_json::to_vec(&JsonLine::from(s.as_ref())).ok()) {
        Some(json) => ([(header::CONTENT_TYPE, "application/json")], json).into_response(),
        None => (StatusCode::SERVICE_UNAVAILABLE, "nothing was seen yet\n").into_response(),
    }
}

async fn metrics_text(State(Served { newest, .. }): State<Served>, _: Meant, headers: HeaderMap) -> Response {
    let snapshot = newest.borrow().clone();
    match snapshot {
        Some(snapshot) => text(&headers, metrics::of_snapshot(&snapshot)),
        None => (StatusCode::SERVICE_UNAVAILABLE, "nothing was seen yet\n").into_response(),
    }
}

/// Metrics, as an answer: in the newer format for who asks for it.
pub(crate) fn text(headers: &HeaderMap, text: String) -> Response {
    let accepts = headers.get_all(header::ACCEPT).into_iter().filter_map(|value| value.to_str().ok());
    let is_newer =
        accepts.flat_map(|value| value.split(',')).any(|kind| kind.trim().starts_with("application/openmetrics-text"));
    let (kind, text) = if is_newer { (MEDIA_TYPE, text) } else { (OLDER_MEDIA_TYPE, older(&text)) };
    ([(header::CONTENT_TYPE, kind)], text).into_response()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_addresses_and_localhost_are_here() {
        for host in ["127.0.0.1", "127.0.0.1:9000", "[::1]:9000", "[::1]", "localhost", "LOCALHOST:80"] {
            assert!(is_here(host), "{host}");
        }
        for host in [
            "pages.farrowgate.invalid",
            "pages.farrowgate.invalid:9000",
            "localhost.farrowgate.invalid",
            "",
            "null",
            "?",
        ] {
            assert!(!is_here(host), "{host}");
        }
    }
}
