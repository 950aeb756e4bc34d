//! What both kinds of client ask a server, and hear from it.

use super::{Command, SessionError, Stage};
use crate::amf0::{Value, object};
use moth_destination::{Address, StreamKey};

/// Where a client's connection stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    Opening,
    Connecting,
    CreatingStream,
    /// The server was asked to take, or to give out, the broadcast on this message stream.
    Asking(u32),
    /// It does.
    Going(u32),
    Over,
}

impl State {
    pub(super) fn stage(self) -> Stage {
        match self {
            Self::Opening => Stage::Handshake,
            Self::Connecting => Stage::Application,
            Self::CreatingStream | Self::Asking(_) => Stage::Broadcast,
            Self::Going(_) | Self::Over => Stage::Taken,
        }
    }
}

/// What a server is told with `connect`.
pub(super) fn properties(address: &Address) -> Value {
    object([
        ("app", address.app().into()),
        ("type", "nonprivate".into()),
        ("flashVer", "FMLE/3.0 (compatible; moth)".into()),
        ("tcUrl", address.tc_url().as_str().into()),
        // Enhanced RTMP: the codecs that may follow in an extended header.
        ("fourCcList", Value::Array(vec!["avc1".into(), "hvc1".into(), "av01".into(), "vp09".into()])),
    ])
}

/// The message stream's number that a server answers `createStream` with.
pub(super) fn stream_number(answer: &Command) -> Result<u32, SessionError> {
    let id = answer.values.get(1).and_then(Value::as_number).filter(|id| (1.0..=f64::from(u32::MAX)).contains(id));
    // In range by the filter.
    id.map(|id| id as u32).ok_or_else(|| SessionError::Protocol("the server gave no stream number".into()))
}

/// A server's no, the key taken out.
pub(super) fn refused(key: &StreamKey, information: Option<&Value>) -> SessionError {
    let text = |name| {
        let text = information.and_then(|i| i.get(name)).and_then(Value::as_text).unwrap_or_default();
        // Control characters first: one in the midst of the key would hide it.
        let printable: String = text.chars().filter(|c| !c.is_control()).collect();
        let clean: String = key.redact(&printable).chars().take(200).collect();
        if clean.is_empty() { format!("no {name} given") } else { clean }
    };
    SessionError::Refused { code: text("code"), description: text("description") }
}
