//! The feed: what a broadcaster says of itself, line by line, and what it is asked for. `docs/feed.md` describes it.
//!
//! [`Reports`] understands lines and has no I/O; [`Feed`] serves them over TCP.
//!
//! ```
//! use moth_feed::Reports;
//!
//! let mut reports = Reports::default();
//! let heard = reports.line(br#"{"skipped": 3}"#)?;
//! assert!(!heard.is_empty());
//! # Ok::<(), moth_feed::TooStrange>(())
//! ```

mod report;
mod request;
mod server;

pub use report::{Heard, Reports, TooStrange};
pub use request::{Answer, Request};
pub use server::{Feed, FeedHandle};
