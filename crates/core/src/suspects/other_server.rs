//! What another server would help against.

use super::cause::Cause::{self, LineShort, UploadBeyond};
use crate::facts::Facts;
use crate::proposal::{Proposal, to_server};

/// To move to the next server; with less hope if the trouble is before any of them.
pub(super) fn switch_server(facts: &Facts, cause: Option<Cause>) -> Option<Proposal> {
    let server = facts.other_server.clone()?;
    let proposal = to_server(&server);
    Some(match cause {
        Some(LineShort | UploadBeyond) => {
            Proposal { expected: "helps only if the trouble lies beyond your own line".into(), ..proposal }
        }
        _ => proposal,
    })
}
