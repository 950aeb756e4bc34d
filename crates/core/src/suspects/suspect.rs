//! A suspect: a stage at fault, with what speaks for and against each cause.

use serde::{Deserialize, Serialize};

use super::cause::{Cause, Fault};
use crate::figure::Origin;
use crate::proposal::Proposal;

/// One sign for or against a suspect.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Evidence {
    /// The sign, with its number and unit.
    pub text: String,
    /// How the number is known; `None` where the sign is that something is not known.
    pub origin: Option<Origin>,
    /// Bans: above zero speaks for the suspect, below against it.
    pub bans: f64,
}

/// Something that might be at fault.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Suspect {
    /// The stage it is in.
    pub fault: Fault,
    /// What it is; `None` if the stage is known but nothing tells what in it.
    pub cause: Option<Cause>,
    /// From 0 to 1.
    pub confidence: f64,
    /// Frames it costs in [`crate::facts::NOW`], on the mean of [`crate::facts::HARM`]; suspects are ordered by this.
    pub harm_frames: f64,
    /// One sentence for people, with its numbers.
    pub sentence: String,
    /// Signs for and against, strongest first.
    pub evidence: Vec<Evidence>,
    /// What would make another cause likelier.
    pub would_change: String,
    /// What to do about it, best first.
    pub proposals: Vec<Proposal>,
    /// Every cause that was weighed, the likeliest first.
    pub weighed: Vec<Weighed>,
}

impl Suspect {
    /// A stage that loses frames for a cause that nothing tells.
    #[must_use]
    pub fn unknown(fault: Fault) -> Self {
        Self {
            fault,
            cause: None,
            confidence: 0.0,
            harm_frames: 0.0,
            sentence: String::new(),
            evidence: Vec::new(),
            would_change: String::new(),
            proposals: Vec::new(),
            weighed: Vec::new(),
        }
    }
}

/// A cause that was weighed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Weighed {
    /// Which.
    pub cause: Cause,
    /// Its share of the likelihood of all that were weighed, from 0 to 1.
    pub share: f64,
    /// Signs for and against, strongest first.
    pub evidence: Vec<Evidence>,
}
