//! Why a connection ended or did not come about, in words for people.

use std::io;

use moth_plan::measurement::{FailureKind, TestFailure};
use moth_rtmp::session::SessionError;

/// Why a connection ended or did not come about.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
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
    pub(crate) fn is_refusal(&self) -> bool {
        self.kind == FailureKind::Refused
    }
}

impl From<LinkError> for TestFailure {
    fn from(error: LinkError) -> Self {
        Self { kind: error.kind, why: error.why }
    }
}

impl From<SessionError> for LinkError {
    fn from(error: SessionError) -> Self {
        let kind = match error {
            SessionError::Refused { .. } => FailureKind::Refused,
            SessionError::Handshake(_) | SessionError::Chunk(_) | SessionError::Command(_) => FailureKind::NotRtmp,
            SessionError::Protocol(_) => FailureKind::Broken,
        };
        Self::new(kind, error.to_string())
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
