//! What the screens for before going live share: the setup in use, and what was found out with it.

use std::sync::Arc;

use jiff::Timestamp;
use moth_core::rate::Bitrate;
use moth_drawing::measured::{LineTest, ServersTest};
use moth_plan::check::{Asked, Check};
use moth_plan::line::{LineReading, LineRun, read};
use moth_plan::ranking::{Place, Ranking, rank};
use moth_plan::setup::ServerChoice;
use moth_plan::surroundings::Surroundings;
use moth_relay::measure::{LineProgress, Target};
use moth_store::config::Change;
use moth_store::results::{History, Kept, Tested};

use crate::commands::uplink::UP_TO;
use crate::failure::Failure;
use crate::measuring::servers_in_turn::{RoutesTest, TestState};
use crate::measuring::surroundings;
use crate::measuring::tested;
use crate::measuring::tester::{Handshakes, TestNews, TestOrder};
use crate::setup_in_use::SetupInUse;
use crate::setup_in_use::advice::Advice;
use crate::setup_in_use::basis::Basis;
use crate::setup_in_use::consent::Dose;

/// How long a server may be tested, in seconds. Ours.
const LENGTHS: [u64; 3] = [10, 30, 60];

/// What is running.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum TestUnderWay {
    Nothing,
    Routes,
    Line,
    Machine,
    Asking,
}

/// The state of the screens for before going live.
#[derive(Debug)]
pub struct Preparation {
    pub(super) in_use: SetupInUse,
    /// The temporary folder of a demo's setup in use.
    folder: Option<Arc<tempfile::TempDir>>,
    /// Which servers are to be tested.
    pub(super) chosen: Vec<bool>,
    /// The server under the cursor, in the order shown.
    pub(super) cursor: usize,
    length: usize,
    pub(super) test: Option<Arc<RoutesTest>>,
    /// When the results shown were measured, and over which line.
    pub(super) tested: Option<(Timestamp, String)>,
    pub(super) around: Option<Surroundings>,
    pub(super) line: Option<LineProgress>,
    runs: Vec<LineRun>,
    /// The server the runs are to, if they were made in this sitting; those recalled from before are not added to.
    sitting: Option<String>,
    pub(super) reading: Option<LineReading>,
    pub(super) history: History,
    pub(super) running: TestUnderWay,
    pub(super) check: Option<Arc<Check>>,
    /// When the machine was looked at.
    pub(super) checked: Option<Timestamp>,
    /// What the upload sustains, as the user says; nothing is kept of it.
    pub(super) said_upload: Option<Bitrate>,
    /// How soon each server answered when it was asked last.
    pub(super) asked: Option<Handshakes>,
    /// Row and column under the cursor of the picture map; the recommended one until it is moved.
    pub(super) cell: Option<(usize, usize)>,
}

impl Preparation {
    /// With what was found out before.
    #[must_use]
    pub fn new(in_use: SetupInUse, folder: Option<Arc<tempfile::TempDir>>) -> Self {
        let history = in_use.history().unwrap_or_default();
        let mut preparation = Self {
            chosen: vec![true; in_use.service.servers.len()],
            in_use,
            folder,
            cursor: 0,
            length: 0,
            test: None,
            tested: None,
            around: None,
            line: None,
            runs: Vec::new(),
            sitting: None,
            reading: None,
            history,
            running: TestUnderWay::Nothing,
            check: None,
            checked: None,
            said_upload: None,
            asked: None,
            cell: None,
        };
        preparation.recall();
        preparation
    }

    /// Whether everything behind it is a stand-in.
    pub(super) fn is_stand_in(&self) -> bool {
        self.folder.is_some()
    }

    /// Shows the newest of what is kept.
    fn recall(&mut self) {
        let headroom = self.in_use.setup.headroom;
        if let Some((kept, servers)) = self.history.newest_routes(&self.in_use.service_name) {
            let wanted = self.in_use.wanted();
            self.test = Some(Arc::new(RoutesTest {
                wanted,
                plan: self.in_use.measure_plan(wanted.planned, self.seconds(), None),
                servers: servers.iter().map(|s| s.server.clone()).collect(),
                done: servers.to_vec(),
                current: None,
                state: TestState::Finished,
            }));
            self.tested = Some((kept.date, kept.line.clone()));
        }
        if let Some((kept, runs)) = self.history.newest_uplink()
            && let Tested::Uplink { around, .. } = &kept.what
        {
            self.reading = read(runs, around, headroom);
            self.around = Some(around.clone());
            self.runs = runs.to_vec();
        }
    }

    /// Seconds for each server.
    pub(super) fn seconds(&self) -> u64 {
        LENGTHS[self.length % LENGTHS.len()]
    }

    pub(super) fn next_length(&mut self) {
        self.length = (self.length + 1) % LENGTHS.len();
    }

    /// The servers in the order shown: as they are while a test runs, by their places afterwards, untested ones last.
    pub(super) fn order(&self) -> Vec<usize> {
        let servers = &self.in_use.service.servers;
        let mut order: Vec<usize> = (0..servers.len()).collect();
        if self.running != TestUnderWay::Routes
            && let Some(ranking) = self.ranking()
        {
            let place =
                |i: &usize| ranking.places.iter().position(|p| p.server == servers[*i].name).unwrap_or(usize::MAX);
            order.sort_by_key(place);
        }
        order
    }

    /// The ranking of what is known.
    pub(super) fn ranking(&self) -> Option<Ranking> {
        let test = self.test.as_ref()?;
        let results = test.results();
        (!results.is_empty()).then(|| rank(&results, test.wanted))
    }

    /// The server under the cursor.
    pub(super) fn under_cursor(&self) -> Option<usize> {
        self.order().get(self.cursor).copied()
    }

    pub(super) fn move_cursor(&mut self, by: i64) {
        let last = i64::try_from(self.in_use.service.servers.len()).unwrap_or(1) - 1;
        let to = i64::try_from(self.cursor).unwrap_or(0).saturating_add(by).clamp(0, last.max(0));
        self.cursor = usize::try_from(to).unwrap_or(0);
    }

    /// Chooses the server under the cursor, or leaves it out.
    pub(super) fn toggle(&mut self) {
        if let Some(chosen) = self.under_cursor().and_then(|i| self.chosen.get_mut(i)) {
            *chosen = !*chosen;
        }
    }

    /// All servers, then the regions one after another, then all again.
    pub(super) fn next_region(&mut self) {
        let servers = &self.in_use.service.servers;
        let regions: Vec<String> = self.in_use.service.regions().into_iter().map(str::to_owned).collect();
        let of = |region: &str| -> Vec<bool> { servers.iter().map(|s| s.region.as_deref() == Some(region)).collect() };
        let now = regions.iter().position(|region| of(region) == self.chosen);
        let next = if self.chosen.iter().all(|c| *c) { Some(0) } else { now.map(|i| i + 1) };
        self.chosen = match next.and_then(|i| regions.get(i)) {
            Some(region) => of(region),
            None => vec![true; servers.len()],
        };
    }

    fn targets(&self) -> Vec<Target> {
        let all = self.in_use.targets(&[], None).unwrap_or_default();
        all.into_iter().zip(&self.chosen).filter(|(_, chosen)| **chosen).map(|(target, _)| target).collect()
    }

    /// The test of the chosen servers, and what it would publish, in words.
    pub(super) fn routes_order(&self) -> Option<(TestOrder, String)> {
        let targets = self.targets();
        let wanted = self.in_use.wanted();
        let plan = self.in_use.measure_plan(wanted.planned, self.seconds(), None);
        let servers = targets.len();
        let length = plan.length * u32::try_from(servers).unwrap_or(1);
        let words = Dose { servers, length, up_to: plan.up_to }.words(&self.in_use.service);
        (servers > 0).then_some((TestOrder::Routes { targets, plan, wanted }, words))
    }

    /// The test of the line, against the server under the cursor, and what it would publish.
    pub(super) fn line_order(&self) -> Option<(TestOrder, String)> {
        let index = self.under_cursor()?;
        let target = self.in_use.targets(&[], None).ok()?.into_iter().nth(index)?;
        let plan = self.in_use.measure_plan(self.in_use.setup.total(), self.seconds(), Some(UP_TO));
        let words = Dose { servers: 1, length: plan.length, up_to: plan.up_to }.words(&self.in_use.service);
        Some((TestOrder::Line { target, plan }, words))
    }

    /// One handshake with each server.
    pub(super) fn ask_order(&self) -> TestOrder {
        let targets = self.in_use.targets(&[], None).unwrap_or_default();
        TestOrder::Ask { servers: targets.into_iter().map(|target| target.server).collect() }
    }

    /// The check of the machine.
    pub(super) fn machine_order(&self) -> TestOrder {
        let targets = self.in_use.targets(&[], None).unwrap_or_default();
        TestOrder::Machine {
            hosts: targets.iter().map(|t| (t.server.address.host().to_owned(), t.server.address.port())).collect(),
            recordings: self.in_use.recordings(None),
            asked: Asked { planned: self.in_use.setup.total() },
        }
    }

    /// Something was ordered: what runs now.
    pub(super) fn begun(&mut self, order: &TestOrder) {
        self.running = match order {
            TestOrder::Routes { .. } => TestUnderWay::Routes,
            TestOrder::Line { .. } => TestUnderWay::Line,
            TestOrder::Machine { .. } => TestUnderWay::Machine,
            TestOrder::Ask { .. } => TestUnderWay::Asking,
            TestOrder::Cancel => self.running,
        };
        match order {
            TestOrder::Routes { .. } => (self.test, self.tested) = (None, None),
            TestOrder::Line { target, .. } => {
                self.line = None;
                let server = Some(target.server.name.clone());
                if self.sitting != server {
                    self.runs.clear();
                    self.sitting = server;
                }
            }
            _ => {}
        }
    }

    /// Takes news of what runs; gives what the user should be told.
    pub(super) fn take(&mut self, news: TestNews, now: Timestamp) -> Option<String> {
        match news {
            TestNews::Around(around) => self.around = Some(around),
            TestNews::Routes(test) => {
                let ended = test.state != TestState::Running;
                self.test = Some(test.clone());
                if ended {
                    self.running = TestUnderWay::Nothing;
                    self.cursor = 0;
                    return self.keep_routes(&test, now);
                }
            }
            TestNews::Line(progress) => self.line = Some(progress),
            TestNews::LineDone(outcome) => {
                self.running = TestUnderWay::Nothing;
                self.line = None;
                return match outcome {
                    Ok(run) => self.keep_line(&run, now),
                    Err(why) => Some(format!("the line could not be measured: {why}")),
                };
            }
            TestNews::Asked(told) => {
                self.running = TestUnderWay::Nothing;
                let answered = told.iter().filter(|(_, ms)| ms.is_some()).count();
                let notice = format!("{answered} of {} servers answered", told.len());
                self.asked = Some(told);
                return Some(notice);
            }
            TestNews::Machine(outcome) => {
                self.running = TestUnderWay::Nothing;
                match outcome {
                    Ok(check) => (self.check, self.checked) = (Some(check), Some(now)),
                    Err(why) => return Some(why),
                }
            }
        }
        None
    }

    fn line_name(&self) -> String {
        surroundings::line_name(None, self.around.as_ref().unwrap_or(&Surroundings::default()))
    }

    fn keep_routes(&mut self, test: &RoutesTest, now: Timestamp) -> Option<String> {
        if !test.done.iter().any(|result| result.best().is_some()) {
            return None;
        }
        let line = self.line_name();
        self.tested = Some((now, line.clone()));
        self.keep(Kept {
            date: now,
            line,
            service: Some(self.in_use.service_name.clone()),
            planned: test.wanted.planned,
            what: Tested::Routes { servers: test.done.clone() },
        })
    }

    fn keep_line(&mut self, run: &LineRun, now: Timestamp) -> Option<String> {
        // Runs of one sitting belong together: the more of them, the more their spread says.
        self.runs.push(run.clone());
        let around = self.around.clone().unwrap_or_default();
        self.reading = read(&self.runs, &around, self.in_use.setup.headroom);
        let server = self.sitting.clone().unwrap_or_default();
        self.keep(Kept {
            date: now,
            line: self.line_name(),
            service: None,
            planned: self.in_use.setup.total(),
            what: Tested::Uplink { server, runs: self.runs.clone(), around },
        })
    }

    fn keep(&mut self, kept: Kept) -> Option<String> {
        let outcome = self.in_use.keep(&kept);
        self.history.kept.push(kept);
        outcome.err().map(|failure| failure.to_string())
    }

    /// Writes the server under the cursor into the setup; gives its name.
    pub(super) fn pick(&mut self) -> Option<Result<String, Failure>> {
        let name = self.in_use.service.servers.get(self.under_cursor()?)?.name.clone();
        let outcome = self.in_use.change(&Change::Server(ServerChoice::Named(name.clone())));
        Some(outcome.map(|()| name))
    }

    /// The place of a server among those tested.
    pub(super) fn place<'a>(&self, ranking: &'a Ranking, server: &str) -> Option<&'a Place> {
        ranking.places.iter().find(|place| place.server == server)
    }

    /// The plan, if anything was measured.
    pub(super) fn plan(&self) -> Option<Advice> {
        let server = self.in_use.server_in_use(&self.history);
        let measured = || Basis::newest(&self.history, &self.in_use.service_name, server.as_deref());
        // What was said is meant for now, whatever was measured before.
        let basis = self.said_upload.map(Basis::said).or_else(measured)?;
        Some(Advice::new(&self.in_use, self.in_use.setup.clone(), basis))
    }

    /// What is planned, or, as long as nothing is known of the upload, what the setup's own bitrate pays for.
    pub(super) fn plan_or_setup(&self) -> Advice {
        self.plan().unwrap_or_else(|| Advice::of_the_setup(&self.in_use))
    }

    /// The newest test of servers, to be drawn.
    pub(super) fn newest_servers(&self) -> Option<ServersTest> {
        let (kept, _) = self.history.newest_routes(&self.in_use.service_name)?;
        tested::servers(kept, &self.in_use, self.is_stand_in())
    }

    /// The newest test of the line, to be drawn.
    pub(super) fn newest_line(&self) -> Option<LineTest> {
        let (kept, _) = self.history.newest_uplink()?;
        tested::line(kept, &self.in_use, self.is_stand_in())
    }

    /// Writes a change into the setup; gives what the user should be told.
    pub(super) fn change(&mut self, change: &Change) -> Option<String> {
        self.in_use.change(change).err().map(|failure| failure.to_string())
    }
}
