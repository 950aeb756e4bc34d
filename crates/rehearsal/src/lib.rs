//! A rehearsal off air: one thing is raised rung by rung until frames are lost, and the highest rung that bears it for longer is
//! found. [`tried`] judges the seconds of one try, [`climb`] decides which rung is tried next and when it is over. What is tried,
//! and how, is others' business; nothing here knows a broadcaster, a clock or a network.

pub mod climb;
pub mod runner;
pub mod tried;
