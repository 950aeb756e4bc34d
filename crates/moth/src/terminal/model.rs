//! What the screens show and what their keys change, apart from the frame around them.

use std::cell::RefCell;
use std::sync::{Arc, Mutex};

use jiff::{Timestamp, Zoned};
use moth_core::Snapshot;
use moth_core::proposal::Proposal;
use moth_drawing::climb::Climb;
use moth_drawing::evening::Evening;

use super::hits::Hits;
use super::logbook_view::LogbookView;
use super::parts::machine_lanes::Cores;
use super::parts::scroll::Scroll;
use super::parts::time_view::TimeView;
use super::preparation::Preparation;
use super::reaction::Reaction;
use super::rehearsing::{CHOICES, Rehearsing};
use super::wish::Wish;
use crate::live::plan::Banner;
use crate::logbook::opened::{Opened, unknown_at};
use crate::measuring::tested;
use crate::measuring::tester::{TestNews, TestOrder};
use crate::recordings::player::ReplayState;
use crate::rehearsal::run::Run;
use crate::rehearsal::{drawn, told};
use moth_evening::chronicle::{Chronicle, lock};

/// What the screens show and change.
#[derive(Debug)]
pub(super) struct Model {
    pub banner: Banner,
    pub is_demo: bool,
    pub snapshot: Option<Arc<Snapshot>>,
    /// Which seconds are looked at.
    pub view: TimeView,
    /// How busy each core was.
    pub cores: Cores,
    /// Which suspects are looked at.
    pub suspects: SuspectView,
    /// What is done before going live; `None` without a setup.
    pub preparation: Option<Box<Preparation>>,
    /// Where a replay is; `None` if this is none.
    pub replay: Option<ReplayState>,
    /// What is rehearsed, and what could be.
    pub rehearsing: Rehearsing,
    /// What is written down of the broadcast.
    pub chronicle: Arc<Mutex<Chronicle>>,
    /// When it began; `None` if that is not known.
    pub began: Option<Zoned>,
    /// Everything that is shown is a stand-in's.
    pub is_made_up: bool,
    /// Past broadcasts.
    pub logbook: LogbookView,
    /// The broadcast goes on when the screen is left.
    pub is_apart: bool,
    /// This screen began it.
    pub began_it: bool,
    /// The list of setups led here, and is where one may go back to.
    pub leads_back: bool,
    /// What answers to the mouse.
    pub hits: Hits,
    /// The text of a screen, and that of what lies over it.
    pub scroll: Scroll,
    pub dialog_scroll: Scroll,
    /// Where one looked in the broadcast that goes on, while another is opened.
    set_aside: Option<TimeView>,
    /// What was looked back at last: it is drawn again and again.
    looked: RefCell<Option<LookedAt>>,
}

/// A moment that was looked back at.
#[derive(Debug)]
struct LookedAt {
    /// The number of the past broadcast, if it is one of the logbook.
    nr: Option<i64>,
    second: usize,
    moment: Snapshot,
}

/// Which suspects are looked at.
#[derive(Debug, Default)]
pub(super) struct SuspectView {
    /// Of which stage; `None` is the one at fault.
    pub stage: Option<moth_core::suspects::Fault>,
    /// The suspect whose evidence is shown, by its place.
    pub row: usize,
}

impl Model {
    pub(super) fn new(banner: Banner, is_demo: bool) -> Self {
        Self {
            banner,
            is_demo,
            snapshot: None,
            view: TimeView::default(),
            cores: Cores::default(),
            suspects: SuspectView::default(),
            preparation: None,
            replay: None,
            rehearsing: Rehearsing::default(),
            chronicle: Arc::default(),
            began: None,
            is_made_up: false,
            logbook: LogbookView::default(),
            is_apart: false,
            began_it: false,
            leads_back: false,
            hits: Hits::default(),
            scroll: Scroll::default(),
            dialog_scroll: Scroll::default(),
            set_aside: None,
            looked: RefCell::default(),
        }
    }

    /// Whether somebody is on air.
    pub(super) fn is_on_air(&self) -> bool {
        self.snapshot.as_ref().is_some_and(|snapshot| snapshot.on_air_since.is_some())
    }

    /// Whether what is known is of a rehearsal that ended, and nothing comes after it.
    pub(super) fn is_over(&self) -> bool {
        self.rehearsing.is_all && !self.rehearsing.is_running()
    }

    /// Whether changes can be made: in a replay, what was done is done.
    pub(super) fn takes_changes(&self) -> bool {
        self.replay.is_none() && self.kept().is_none()
    }

    /// The past broadcast that is shown in the place of the one that goes on.
    pub(super) fn kept(&self) -> Option<&Opened> {
        self.logbook.opened.as_deref()
    }

    /// What the screens show: a past broadcast if one is opened, else the one that goes on.
    pub(super) fn shown(&self) -> Option<&Arc<Snapshot>> {
        self.kept().map(|opened| &opened.snapshot).or(self.snapshot.as_ref())
    }

    /// Opens the past broadcast under the cursor.
    pub(super) fn open_kept(&mut self) -> Reaction {
        if self.logbook.open() {
            self.set_aside = Some(std::mem::take(&mut self.view));
            self.hold_cursor();
        }
        Reaction::none()
    }

    /// Closes it: the one that goes on is looked at as before.
    pub(super) fn close_kept(&mut self) {
        (self.logbook.opened, self.logbook.compared) = (None, None);
        if let Some(view) = self.set_aside.take() {
            self.view = view;
        }
        self.logbook.look();
    }

    /// In a past broadcast there is no now: the cursor stays on it.
    pub(super) fn hold_cursor(&mut self) {
        if let Some(opened) = &self.logbook.opened {
            let last = opened.seconds.iter().rposition(|second| second.state.is_some()).unwrap_or(0);
            self.view.cursor = Some(self.view.cursor.unwrap_or(last).min(last));
        }
    }

    /// How everything stood at the second under the cursor, among all that is known by now; `None` if one looks at now, or if it was
    /// not kept.
    pub(super) fn looked_back_at(&self, now: &Snapshot) -> Option<Snapshot> {
        let second = self.view.cursor?;
        let nr = self.kept().map(|opened| opened.listed.nr);
        if let Some(looked) = self.looked.borrow().as_ref().filter(|looked| (looked.nr, looked.second) == (nr, second))
        {
            return Some(looked.moment.clone().among(now));
        }
        let moment = match self.kept() {
            Some(opened) => opened.moment(second).unwrap_or_else(|| unknown_at(&opened.snapshot, second)),
            None => {
                // The broadcast writes there: it is not to wait until a moment is inflated.
                let found = lock(&self.chronicle).moment(second);
                match found {
                    Some(found) => found.read()?,
                    // What goes on after a kill has only the lanes of what was before.
                    None if now.at.seconds() > second as f64 + 3.0 => unknown_at(now, second),
                    None => return None,
                }
            }
        };
        *self.looked.borrow_mut() = Some(LookedAt { nr, second, moment: moment.clone() });
        Some(moment.among(now))
    }

    /// The second of which is told how everything stood; `None` for now.
    pub(super) fn second_looked_at(&self, past: Option<&Snapshot>) -> Option<usize> {
        // Of an old broadcast only some moments are left: it is theirs that is told.
        let told = (past?.at.seconds() as usize).saturating_sub(1);
        self.view.cursor.map(|cursor| cursor.min(told))
    }

    /// What can be done now, best first.
    pub(super) fn proposals(&self) -> Vec<&Proposal> {
        let now = self.snapshot.as_ref().filter(|_| self.kept().is_none());
        now.map_or_else(Vec::new, |s| s.verdict.all_proposals())
    }

    /// Takes a new snapshot.
    pub(super) fn show(&mut self, snapshot: Option<Arc<Snapshot>>) {
        let at = |snapshot: &Option<Arc<Snapshot>>| snapshot.as_ref().map(|snapshot| snapshot.at);
        if self.replay.is_none() && snapshot.is_some() && at(&snapshot) < at(&self.snapshot) {
            // Another broadcast began in the place of the one before.
            (self.began, self.view.cursor) = (None, None);
            self.looked.take();
        }
        if let Some(snapshot) = &snapshot {
            self.cores.take(snapshot);
        }
        self.snapshot = snapshot.or(self.snapshot.take());
    }

    /// Takes news of a test; gives what the user should be told.
    pub(super) fn learn(&mut self, news: TestNews, now: Timestamp) -> Option<String> {
        self.preparation.as_mut().and_then(|preparation| preparation.take(news, now))
    }

    /// Something is to be found out, and the user agreed.
    pub(super) fn order(&mut self, order: TestOrder) -> Reaction {
        let Some(preparation) = self.preparation.as_mut() else { return Reaction::none() };
        preparation.begun(&order);
        Reaction::wish(Wish::Test(order))
    }

    /// The climb that is over and shown, or the newest that was kept of what is chosen.
    pub(super) fn over_climb(&self) -> Option<Climb> {
        if let Some(run) = self.rehearsing.shown() {
            return drawn::climb(run.over.as_ref()?, told::caveat(&run.about));
        }
        let setup = &self.preparation.as_ref()?.in_use.setup_name;
        let choice = CHOICES.get(self.rehearsing.at).copied().flatten();
        let kept = self.rehearsing.last(choice, setup)?;
        let caveat = kept.simulated.as_ref().map(|shape| format!("The line was simulated, after {shape}."));
        drawn::climb(kept, caveat)
    }

    /// The broadcast until now, as plain data.
    pub(super) fn evening(&self, snapshot: &Snapshot) -> Evening {
        if let Some(opened) = self.kept() {
            return opened.evening(self.view.cursor.map(|second| second as f64 + 1.0));
        }
        let source = match (&self.banner.demo, &self.banner.replay) {
            (Some(name), _) => format!("the demo {name}, all made up"),
            (None, Some(file)) if self.is_made_up => format!("{file}, all made up"),
            (None, Some(file)) => file.clone(),
            (None, None) => format!("a broadcast to {}", snapshot.server),
        };
        let mut evening = lock(&self.chronicle).evening(snapshot, snapshot, source, self.began.clone());
        evening.is_made_up = self.is_made_up || self.banner.demo.is_some();
        if let Some(preparation) = &self.preparation {
            tested::join(&mut evening, &preparation.in_use, &preparation.history, preparation.is_stand_in());
        }
        evening
    }

    /// Reads again what was rehearsed before.
    pub(super) fn recall_rehearsals(&mut self) {
        if let Some(preparation) = &self.preparation {
            self.rehearsing.history = preparation.in_use.rehearsals.read().unwrap_or_default();
        }
    }

    /// Takes how far a rehearsal is; gives whether that must be seen at once.
    pub(super) fn follow_rehearsal(&mut self, run: Option<Arc<Run>>) -> bool {
        let was_running = self.rehearsing.is_running();
        self.rehearsing.run = run;
        let is_over = was_running && !self.rehearsing.is_running();
        if is_over {
            self.recall_rehearsals();
        }
        is_over
    }
}
