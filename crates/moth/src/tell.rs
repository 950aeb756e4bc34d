//! What a running moth is told: the words, the socket, and what came of it.
//!
//! - [`words`]: what can be told, and what it comes to.
//! - [`post`]: where a running moth is told; [`told`]: what it does about it.
//! - [`ask`]: which moths run, and what they answer; [`about`]: what one says of itself.

pub(crate) mod about;
#[cfg(unix)]
pub mod ask;
#[cfg(unix)]
pub mod post;
pub mod told;
pub mod words;

use std::sync::Weak;

use serde::{Deserialize, Serialize};
use tokio::sync::{mpsc, oneshot};

use crate::failure::Failure;
use crate::terminal::hub::Hub;

/// What is asked of a running moth, as a line of JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Telling {
    /// The words, as they were given.
    pub tell: Vec<String>,
}

/// What came of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Came {
    /// It was done.
    Done,
    /// It could not be done.
    NotDone,
    /// It is for the user's own hand, and is looked for on the wire.
    ByHand,
    /// The words mean nothing, or nothing possible.
    NotUnderstood,
}

/// What a running moth answers, as a line of JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answer {
    /// What came of it.
    pub came: Came,
    /// In words.
    pub says: String,
    /// What would put it back, in the words to tell.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undo: Option<String>,
}

impl Answer {
    pub(crate) fn new(came: Came, says: impl Into<String>) -> Self {
        Self { came, says: says.into(), undo: None }
    }
}

/// Something told, and where the answer goes.
pub type ToldWords = (Vec<String>, oneshot::Sender<Answer>);

/// Lets a running moth be told things, from now on, on this runtime. A second moth in the same place cannot be, which
/// is said and does no harm.
///
/// # Errors
/// [`Failure::Told`] if a socket that was named cannot be opened.
pub(crate) fn listen(
    socket: Option<&std::path::Path>,
    hub: Option<Weak<Hub>>,
) -> Result<mpsc::UnboundedReceiver<ToldWords>, Failure> {
    let (tell, told) = mpsc::unbounded_channel();
    #[cfg(unix)]
    match post::Post::open(socket) {
        Ok(post) => {
            tokio::spawn(post.run(tell, hub.unwrap_or_default()));
        }
        Err(error) if socket.is_none() => tracing::warn!(%error, "`moth tell` cannot reach this one"),
        Err(error) => {
            return Err(Failure::Told(format!("the socket given with --socket cannot be opened: {error}")));
        }
    }
    #[cfg(not(unix))]
    drop((tell, socket, hub));
    Ok(told)
}
