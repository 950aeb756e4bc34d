//! What screens are joined to: any number of them, each on a seat of its own.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use jiff::{Timestamp, Zoned};
use moth_core::Snapshot;
use moth_core::action::Action;
use moth_evening::chronicle::Chronicle;
use tokio::sync::{broadcast, mpsc, watch as channel};

use super::app::App;
use super::preparation::Preparation;
use super::rehearsing::{RehearsalOrder, RehearsalPlan};
use super::seat::Seat;
use super::style::palette::Palette;
use super::{Left, RehearsalWires, Wires, operate};
use crate::attach::guests::Guests;
use crate::attach::words::Hands;
use crate::failure::Failure;
use crate::live::plan::{Banner, Doors};
use crate::logbook::plan::LogPlan;
use crate::logbook::scribe::Keeping;
use crate::measuring::tester::{TestNews, TestOrder};
use crate::rehearsal::run::Run;
use crate::setup_in_use::SetupInUse;

/// What a screen has not read yet, of each kind; then the oldest goes. Ours.
pub(super) const UNREAD: usize = 64;
/// What became of the broadcast is waited for so long. Ours: longer than closing it takes.
const CLOSES: Duration = Duration::from_secs(8);

/// What every screen is made of.
#[derive(Clone)]
pub(crate) struct About {
    pub banner: Banner,
    pub is_demo: bool,
    /// What is done before going live, with the folder of a demo's; `None` without a setup.
    pub in_use: Option<(SetupInUse, Option<Arc<tempfile::TempDir>>)>,
    /// How broadcasters reach it; `None` in a demo.
    pub doors: Option<Doors>,
    /// Of a demo's.
    pub seed: u64,
    /// The broadcast is recorded.
    pub records: bool,
    /// Where it is kept, if anywhere.
    pub log: Option<LogPlan>,
}

/// What screens are joined to.
pub(crate) struct Hub {
    pub(super) about: About,
    pub(super) snapshots: channel::Receiver<Option<Arc<Snapshot>>>,
    pub(super) chronicle: Arc<Mutex<Chronicle>>,
    pub(super) news: broadcast::Sender<TestNews>,
    pub(super) rings: broadcast::Sender<()>,
    pub(super) said: broadcast::Sender<String>,
    pub(super) order: mpsc::UnboundedSender<Action>,
    pub(super) order_test: mpsc::UnboundedSender<TestOrder>,
    pub(super) order_rehearsal: mpsc::UnboundedSender<RehearsalOrder>,
    pub(super) rehearsal: channel::Receiver<Option<Arc<Run>>>,
    pub(super) keeping: Option<channel::Receiver<Keeping>>,
    pub(super) stop: channel::Sender<bool>,
    /// What became of the broadcast, once it is closed.
    pub(super) ended: channel::Sender<Option<Vec<String>>>,
    /// The screens that are far.
    pub(crate) guests: Guests,
}

impl Hub {
    /// A screen that has shown nothing yet.
    pub(super) fn app(&self, palette: Palette) -> App {
        let About { banner, is_demo, in_use, doors, seed, records, log } = self.about.clone();
        let before = in_use.map(|(in_use, folder)| Preparation::new(in_use, folder));
        App::new(banner, is_demo, palette)
            .with(before)
            .rehearsing_through(RehearsalPlan { doors, seed, records })
            .keeping_in(log)
            .writing(self.chronicle.clone())
    }

    /// The setup's name, where broadcasters publish to, and whether it is a demo.
    pub(crate) fn names(&self) -> (Option<String>, Option<String>, bool) {
        let in_use = self.about.in_use.as_ref().map(|(in_use, _)| in_use);
        let setup = in_use.filter(|in_use| !in_use.is_named()).map(|in_use| in_use.setup_name.clone());
        (setup.filter(|_| !self.about.is_demo), self.about.banner.publish_to.clone(), self.about.is_demo)
    }

    /// All of it is to end.
    pub(crate) fn end(&self) {
        self.stop.send_replace(true);
    }

    /// How everything stands, at each look.
    pub(crate) fn snapshots(&self) -> channel::Receiver<Option<Arc<Snapshot>>> {
        self.snapshots.clone()
    }

    /// Joins one more screen.
    pub(super) fn wires(&self) -> Wires<'static> {
        Wires {
            snapshots: self.snapshots.clone(),
            test_news: self.news.subscribe(),
            rings: self.rings.subscribe(),
            said: Some(self.said.subscribe()),
            order: self.order.clone(),
            order_test: self.order_test.clone(),
            rehearsal: Some(RehearsalWires { order: self.order_rehearsal.clone(), newest: self.rehearsal.clone() }),
            warnings: None,
            keeping: self.keeping.clone(),
            replay: None,
        }
    }

    /// Shows it on a seat that comes and goes, until it is left or the broadcast is over.
    ///
    /// # Errors
    /// [`Failure`] if the seat cannot be used.
    pub(crate) fn show_on(&self, seat: &mut impl Seat, palette: Palette, hands: Hands) -> Result<Left, Failure> {
        let mut app = self.app(palette);
        (app.has_mouse, app.model.is_apart, app.model.began_it) = (hands.mouse, true, hands.began);
        let mut wires = self.wires();
        app.model.leads_back = hands.setups;
        // What stands now is seen at once.
        app.show(wires.snapshots.borrow_and_update().clone());
        app.note_beginning(&Zoned::now());
        let left = operate(app, wires, seat)?;
        if left != Left::TheScreen {
            // Nobody listens any more if it has ended by itself.
            self.stop.send_replace(true);
        }
        Ok(left)
    }

    /// What became of the broadcast, in lines; none if it does not close soon.
    pub(crate) fn wait_for_the_end(&self) -> Vec<String> {
        let mut ended = self.ended.subscribe();
        let until = Timestamp::now() + jiff::SignedDuration::try_from(CLOSES).unwrap_or_default();
        while Timestamp::now() < until {
            if let Some(lines) = ended.borrow_and_update().clone() {
                return lines;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Vec::new()
    }
}
