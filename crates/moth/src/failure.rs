//! Why the program could not do what it was asked: what happened, to what, and what to do.

use std::path::PathBuf;

use moth_rtmp::{AddressError, key::KeyError};
use moth_stage::EveningError;

/// Something the user can mend.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// An address argument. The text itself is left out: people paste keys into addresses.
    #[error("the address given with {option} cannot be used: {error}")]
    Address {
        /// Which option.
        option: &'static str,
        /// What is wrong.
        error: AddressError,
    },
    /// The server is the moth itself.
    #[error(
        "--to and --listen name the same address: the broadcast would go round in a circle; give the real server with --to"
    )]
    Circle,
    /// TLS on the local side.
    #[error("--listen takes rtmp:// only: between the broadcaster and the moth there is no network to be secured from")]
    SecureListen,
    /// Nothing gave a stream key.
    #[error(
        "no stream key: put it into a file and name that with --key-file, or set the environment variable MOTH_STREAM_KEY"
    )]
    NoKey,
    /// The key file cannot be read.
    #[error("the key file {} cannot be read: {error}", path.display())]
    KeyFile {
        /// Which file.
        path: PathBuf,
        /// What the system says.
        error: std::io::Error,
    },
    /// What was read is not a key.
    #[error("{origin}: {error}")]
    Key {
        /// Where it came from.
        origin: String,
        /// What is wrong.
        error: KeyError,
    },
    /// The local port cannot be opened.
    #[error("cannot listen on {address}: {error}; choose another with --listen rtmp://127.0.0.1:PORT/moth")]
    Listen {
        /// The address.
        address: String,
        /// What the system says.
        error: std::io::Error,
    },
    /// No evening of that name.
    #[error("there is no evening `{0}`; `moth demo --list` names them")]
    NoEvening(String),
    /// An evening's file is wrong.
    #[error("the evening cannot be put on: {0}")]
    Evening(#[from] EveningError),
    /// The log file cannot be opened.
    #[error("the log file {} cannot be opened: {error}", path.display())]
    Log {
        /// Which file.
        path: PathBuf,
        /// What the system says.
        error: std::io::Error,
    },
    /// A full screen was asked for, and there is no terminal.
    #[error("this is not a terminal, so there is no full screen to show; --headless prints JSON lines instead")]
    NoTerminal,
    /// A part of the program ended that never should.
    #[error("the relay ended unexpectedly: this is a fault in the program; please report it with the lines above")]
    Fault,
    /// Something the system would not do.
    #[error("{what}: {error}")]
    System {
        /// What was tried.
        what: &'static str,
        /// What the system says.
        error: std::io::Error,
    },
}

impl Failure {
    /// For `map_err`: what was tried when the system said no.
    pub(crate) fn system(what: &'static str) -> impl FnOnce(std::io::Error) -> Self {
        move |error| Self::System { what, error }
    }
}
