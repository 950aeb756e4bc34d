//! What the user wants from outside the screen.

use moth_core::action::Action;

use super::rehearsing::RehearsalOrder;
use crate::drawings::job::Job;
use crate::measuring::tester::TestOrder;
use crate::recordings::player::ReplayOrder;

/// Something the user wants from outside the screen.
#[derive(Debug, Clone, PartialEq)]
pub enum Wish {
    /// To leave.
    Quit,
    /// To leave the screen only: the broadcast goes on.
    Leave,
    /// To go back to the list of setups.
    Setups,
    /// Something done to the broadcast.
    Act(Action),
    /// Something found out, or the end of it.
    Test(TestOrder),
    /// Another moment, or another speed, of a replay.
    Replay(ReplayOrder),
    /// Something drawn and written to a file.
    Export(Box<Job>),
    /// A text on the clipboard.
    Copy(String),
    /// Something done about a rehearsal.
    Rehearse(RehearsalOrder),
}
