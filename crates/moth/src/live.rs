//! A broadcast that is being watched, real or demo.
//!
//! - [`plan`]: what is put on, checked and ready to begin; [`production`]: it, under way, and who carries out actions in it.
//! - [`conductor`]: gives readings to the core, and its snapshots to whoever shows them.
//! - [`encoder_command`]: a broadcaster that the moth runs itself; [`onlooker`]: who looks at the pictures; [`machine_reader`] and
//!   [`second_machine`]: who reads the load.
//! - [`showing`]: a broadcast to show, and all that goes with it.

#[cfg(unix)]
pub(crate) mod apart;
pub mod conductor;
pub(crate) mod demo_clock;
pub mod encoder_command;
mod helpers;
pub mod machine_reader;
pub mod onlooker;
pub mod plan;
pub mod production;
pub mod second_machine;
pub mod showing;
