//! Looks at a broadcast's pictures: how much each differs from the one before.
//!
//! What a frame weighs does not tell a repeat from a calm picture; the pictures do. They are decoded (by OpenH264, in C++:
//! whoever looks does so in a process that may end), compared, and forgotten. Nothing of them leaves this crate but numbers.

mod difference;
mod eye;

pub use eye::{Blind, Eye};
