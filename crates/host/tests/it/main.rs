//! This machine, as its kernel describes it.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod machine;
