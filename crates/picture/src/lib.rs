//! Looks at a broadcast's pictures: how much each differs from the one before.
//!
//! What a frame weighs does not tell a repeat from a calm picture; the pictures do. They are decoded (by OpenH264, in C++:
//! whoever looks does so in a process that may end), compared, and forgotten. Nothing of them leaves this crate but numbers.
//!
//! ```
//! use moth_picture::Eye;
//!
//! // A header of another codec: its pictures cannot be read. 0x1c is HEVC's keyframe in FLV, 0 says that a header follows.
//! assert!(Eye::default().take(0, &[0x1c, 0, 0, 0, 0]).is_err());
//! // Before a header, nothing is known of any picture.
//! assert!(matches!(Eye::default().take(0, &[0x17, 1, 0, 0, 0]), Ok(None)));
//! ```

mod difference;
mod eye;

pub use eye::{Blind, Eye};
