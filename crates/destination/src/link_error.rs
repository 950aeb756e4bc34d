//! Why a connection to a server ended or did not come about, in words for people.

use std::io;

use serde::{Deserialize, Serialize};

/// Why a server could not be tested.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FailureKind {
    /// Its name is not in the DNS, or the DNS does not answer.
    NameNotFound,
    /// Nothing listens on the port.
    PortClosed,
    /// It does not answer in time.
    Silent,
    /// TLS could not be set up: the certificate, mostly.
    Tls,
    /// It answered and said no: the key, the application, or a broadcast under the same key.
    Refused,
    /// The connection broke in the middle.
    Broken,
    /// What answers does not speak the protocol.
    NotRtmp,
    /// Anything else.
    Other,
}

/// Why a connection ended or did not come about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{why}")]
pub struct LinkError {
    /// Of which kind.
    pub kind: FailureKind,
    /// In plain words; never holds the key.
    pub why: String,
}

impl LinkError {
    /// An error from its parts.
    pub fn new(kind: FailureKind, why: impl Into<String>) -> Self {
        Self { kind, why: why.into() }
    }

    /// Whether the server answered and said no.
    #[must_use]
    pub fn is_refusal(&self) -> bool {
        self.kind == FailureKind::Refused
    }
}

impl From<io::Error> for LinkError {
    fn from(error: io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::ConnectionRefused => {
                Self::new(FailureKind::PortClosed, "nothing listens there (connection refused)")
            }
            io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe => {
                Self::new(FailureKind::Broken, "the server cut the connection")
            }
            io::ErrorKind::UnexpectedEof => Self::new(FailureKind::Broken, "the server closed the connection"),
            io::ErrorKind::TimedOut => Self::new(FailureKind::Silent, error.to_string()),
            _ => Self::new(FailureKind::Other, error.to_string()),
        }
    }
}
