//! What the evaluation makes of input that nobody expects.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod strange_numbers;
