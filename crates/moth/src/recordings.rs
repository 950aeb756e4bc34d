//! Broadcasts in files: written as they pass, judged afterwards, and gone through again.

pub mod judged;
pub mod player;
pub mod writer;
