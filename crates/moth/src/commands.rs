//! What each verb does: a file a verb.

#[cfg(unix)]
pub(crate) mod apart;
#[cfg(unix)]
pub(crate) mod attach;
pub mod check;
pub mod demo;
pub mod host;
pub mod ingest;
pub mod judge;
pub mod key;
pub mod log;
#[cfg(unix)]
pub(crate) mod ls;
pub mod plan;
pub mod rehearse;
pub mod replay;
pub mod routes;
pub(crate) mod service;
pub mod setup;
#[cfg(unix)]
pub(crate) mod stop;
pub mod tell;
pub mod uplink;
pub mod watch;
