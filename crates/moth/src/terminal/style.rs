//! How things look: colours, numbers and paragraphs.

pub(crate) mod format;
pub mod palette;
pub(super) mod paragraphs;
