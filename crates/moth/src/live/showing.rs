//! A broadcast to show, and all that goes with it.

use std::path::PathBuf;
use std::time::Duration;

use super::plan::Plan;
use crate::logbook::plan::LogPlan;
use crate::outlets::OutletPlan;
use crate::recordings::writer::Recording;

/// A broadcast to show, and all that goes with it.
pub struct Showing {
    /// What is put on.
    pub plan: Plan,
    /// How many times as fast as the machine's clock its own runs. Only a demo has another than 1.
    pub speed: u32,
    /// It ends after this long.
    pub run_for: Option<Duration>,
    /// Where everything that is seen is written, if anywhere.
    pub recording: Option<Recording>,
    /// Where it is kept, if anywhere.
    pub log: Option<LogPlan>,
    /// The mouse does what keys do.
    pub mouse: bool,
    /// The list of setups led to it, and is where one may go back to.
    pub leads_back: bool,
    /// How often it was begun before by the same screen: its process was killed.
    pub time: u32,
    /// Who else is told.
    pub outlets: OutletPlan,
    /// Where `moth tell` reaches it; the usual place, if not given.
    pub socket: Option<PathBuf>,
}
