//! How things look: colours, numbers and paragraphs.

pub(super) mod format;
pub mod palette;
pub(super) mod paragraphs;
