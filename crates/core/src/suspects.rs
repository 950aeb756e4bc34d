//! What might be at fault, and the evidence for and against each.
//!
//! [`cause`]: what may be at fault; [`weighing`]: how evidence is weighed. A file a stage ([`network`], [`encoder`],
//! [`rendering`]; [`away`] where there is no server at all) says whether the stage loses frames, and weighs its causes.

mod away;
pub mod cause;
mod encoder;
mod network;
mod other_server;
mod rendering;
pub mod suspect;
mod weighing;

pub use cause::{Cause, Fault};
pub use suspect::{Evidence, Suspect, Weighed};
pub use weighing::Held;

use crate::facts::Facts;

/// The fault that stands first stays so unless another costs this many times its frames. Ours.
const STAYS_FIRST: f64 = 1.7;

/// Every suspect these facts give rise to, the most harmful first.
#[must_use]
pub fn suspects(facts: &Facts, held: &Held) -> Vec<Suspect> {
    if !facts.broadcasting {
        return Vec::new();
    }
    let mut found: Vec<Suspect> =
        [network::suspect(facts, held), encoder::suspect(facts, held), rendering::suspect(facts, held)]
            .into_iter()
            .flatten()
            .collect();
    // What stands first gives way only to what is clearly worse, or two of a size would take turns.
    let first = held.standing.first().map(|(fault, _)| *fault);
    let harm = |s: &Suspect| if Some(s.fault) == first { s.harm_frames * STAYS_FIRST } else { s.harm_frames };
    found.sort_by(|a, b| harm(b).total_cmp(&harm(a)));
    found
}

/// What is known of every cause's part in a loss at this moment, whether or not there is one: for who asks before
/// anything is wrong.
#[must_use]
pub fn weighed(facts: &Facts) -> Vec<(Fault, Vec<Weighed>)> {
    let held = Held::default();
    vec![
        (Fault::Network, network::weighed(facts, &held)),
        (Fault::Encoder, encoder::weighed(facts, &held)),
        (Fault::Rendering, rendering::weighed(facts, &held)),
    ]
}
