//! What each verb does: a file a verb.

pub mod check;
pub mod demo;
pub mod host;
pub mod ingest;
pub mod judge;
pub mod key;
pub mod log;
pub mod plan;
pub mod rehearse;
pub mod replay;
pub mod routes;
pub mod setup;
pub mod tell;
pub mod uplink;
pub mod watch;
