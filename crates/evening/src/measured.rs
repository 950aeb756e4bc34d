//! Tests that were made, as plain data.

use jiff::Zoned;
use moth_plan::headroom::Headroom;
use moth_plan::line::LineRun;
use moth_plan::measurement::ServerResult;
use moth_plan::ranking::Wanted;
use moth_plan::surroundings::Surroundings;

/// Servers that were tested one after another.
#[derive(Debug, Clone, PartialEq)]
pub struct ServersTest {
    /// When the test ended; `None` if that is not known.
    pub date: Option<Zoned>,
    /// The service they belong to.
    pub service: String,
    /// Over which line.
    pub line: String,
    /// What was asked of them.
    pub wanted: Wanted,
    /// One each.
    pub results: Vec<ServerResult>,
    /// Line and servers are made up.
    pub is_made_up: bool,
}

/// The line, filled once or several times.
#[derive(Debug, Clone, PartialEq)]
pub struct LineTest {
    /// When the test ended; `None` if that is not known.
    pub date: Option<Zoned>,
    /// Which line.
    pub line: String,
    /// Against which server.
    pub server: String,
    /// One each time.
    pub runs: Vec<LineRun>,
    /// What was around.
    pub around: Surroundings,
    /// How much of it is to stay free.
    pub headroom: Headroom,
    /// Line and server are made up.
    pub is_made_up: bool,
}
