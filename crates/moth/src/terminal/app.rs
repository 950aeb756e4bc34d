//! What the screen shows and what keys do: the interface's state, apart from drawing and terminal.

use std::cell::Cell;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex};

use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use jiff::{SignedDuration, Timestamp, Zoned};
use moth_core::action::Action;
use moth_core::proposal::Proposal;
use moth_core::suspects::{Cause, Fault};
use moth_core::{Snapshot, State};
use moth_destination::StreamKey;
use moth_plan::picture::Motion;
use moth_store::config::Change;

use super::before::{Before, Running};
use super::choice::{Choice, Kind};
use super::export::Export;
use super::palette::Palette;
use super::rehearsal::{RehearsalOrder, Rehearsing};
use super::why;
use crate::drawings::chronicle::Chronicle;
use crate::drawings::job::Job;
use crate::live::plan::Banner;
use crate::measuring::tester::{TestNews, TestOrder};
use crate::recordings::player::{ReplayOrder, ReplayState};

/// Seconds that one column of the lanes may stand for.
const ZOOMS: [usize; 5] = [1, 2, 5, 15, 60];

/// A screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tab {
    /// The broadcast.
    Watch,
    /// The evidence behind the verdict.
    Why,
    /// Servers and the line to them.
    Routes,
    /// Budget and picture.
    Plan,
    /// How much this rig bears, found off air.
    Rehearse,
    /// The machine's condition.
    Machine,
}

impl Tab {
    /// All of them, in the order of their keys.
    pub const ALL: [Self; 6] = [Self::Watch, Self::Why, Self::Routes, Self::Plan, Self::Rehearse, Self::Machine];

    pub(super) fn name(self) -> &'static str {
        match self {
            Self::Watch => "Watch",
            Self::Why => "Why",
            Self::Routes => "Routes",
            Self::Plan => "Plan",
            Self::Rehearse => "Rehearse",
            Self::Machine => "Machine",
        }
    }
}

/// Something the user wants from outside the screen.
#[derive(Debug, Clone, PartialEq)]
pub enum Wish {
    /// To leave.
    Quit,
    /// Something done to the broadcast.
    Act(Action),
    /// Something found out, or the end of it.
    Test(TestOrder),
    /// Another moment, or another speed, of a replay.
    Replay(ReplayOrder),
    /// Something drawn and written to a file.
    Export(Box<Job>),
    /// Something done about a rehearsal.
    Rehearse(RehearsalOrder),
}

/// What lies over the screen and takes the keys.
#[derive(Debug, Clone, PartialEq)]
pub enum Dialog {
    /// The keys that work here, and the words.
    Help,
    /// A dangerous action that wants a yes.
    Confirm(Box<Proposal>),
    /// Something only the user can do, with what to type where.
    ByHand(Box<Proposal>),
    /// All that can be changed.
    Changes,
    /// A change is being chosen.
    Choose(Choice),
    /// Leaving would end a real broadcast.
    ConfirmQuit,
    /// Filler would be published: what, and how much.
    Consent(Box<TestOrder>, String),
    /// A stream key is being typed or pasted. It is never shown.
    EnterKey(Typed),
    /// A rehearsal would be published: what, and how much.
    ConsentRehearsal(String),
    /// Something more to do in a soak is being typed.
    EnterToDo(String),
    /// The stream key would be forgotten.
    ForgetKey,
    /// Something is taken away as a file: what, and how.
    Export(Export),
}

/// Something typed that is shown nowhere, not even by its length.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Typed(String);

impl std::fmt::Debug for Typed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("[typed]")
    }
}

impl Typed {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// The interface's state.
#[derive(Debug)]
pub struct App {
    pub(super) banner: Banner,
    pub(super) is_demo: bool,
    pub(super) palette: Palette,
    pub(super) snapshot: Option<Arc<Snapshot>>,
    pub(super) dialog: Option<Dialog>,
    /// The second under the cursor; `None` is now.
    pub(super) cursor: Option<usize>,
    pub(super) tab: Tab,
    /// What is done before going live; `None` without a setup.
    pub(super) before: Option<Box<Before>>,
    /// Something to tell until the next key.
    pub(super) notice: Option<String>,
    /// Warnings that nobody has read yet, each for as long as no key was pressed on it.
    pub(super) warnings: VecDeque<String>,
    /// Where a replay is; `None` if this is none.
    pub(crate) replay: Option<ReplayState>,
    /// What is rehearsed, and what could be.
    pub(super) rehearsing: Rehearsing,
    /// What is written down of the broadcast.
    pub(super) chronicle: Arc<Mutex<Chronicle>>,
    /// When it began; `None` if that is not known.
    pub(crate) began: Option<Zoned>,
    /// Everything that is shown is a stand-in's.
    pub(crate) is_made_up: bool,
    /// The seconds that the lanes showed when they were drawn last: from, until.
    pub(super) shown: Cell<(usize, usize)>,
    zoom: usize,
    /// The stage whose suspects are shown; `None` is the one at fault.
    why_stage: Option<Fault>,
    /// The suspect whose evidence is shown, by its place.
    pub(super) why_row: usize,
}

impl App {
    /// An interface that has shown nothing yet.
    #[must_use]
    pub fn new(banner: Banner, is_demo: bool, palette: Palette) -> Self {
        Self {
            banner,
            is_demo,
            palette,
            snapshot: None,
            dialog: None,
            cursor: None,
            tab: Tab::Watch,
            before: None,
            notice: None,
            warnings: VecDeque::new(),
            replay: None,
            rehearsing: Rehearsing::default(),
            chronicle: Arc::default(),
            began: None,
            is_made_up: false,
            shown: Cell::default(),
            zoom: 0,
            why_stage: None,
            why_row: 0,
        }
    }

    /// With what is done before going live.
    #[must_use]
    pub fn with(mut self, before: Option<Before>) -> Self {
        self.before = before.map(Box::new);
        self
    }

    /// With what is written down of the broadcast.
    #[must_use]
    pub(crate) fn writing(self, chronicle: Arc<Mutex<Chronicle>>) -> Self {
        Self { chronicle, ..self }
    }

    /// Takes news of a test.
    pub fn learn(&mut self, news: TestNews, now: Timestamp) {
        if let Some(notice) = self.before.as_mut().and_then(|before| before.take(news, now)) {
            self.notice = Some(notice);
        }
    }

    /// How long the broadcast, or the wait for it, has lasted.
    pub(super) fn now(&self) -> Option<SignedDuration> {
        let snapshot = self.snapshot.as_ref()?;
        SignedDuration::try_from_secs_f64(snapshot.at.seconds()).ok()
    }

    /// Takes a new snapshot.
    pub fn show(&mut self, snapshot: Option<Arc<Snapshot>>) {
        let at = |snapshot: &Option<Arc<Snapshot>>| snapshot.as_ref().map(|snapshot| snapshot.at);
        if self.replay.is_none() && snapshot.is_some() && at(&snapshot) < at(&self.snapshot) {
            // Another broadcast began in the place of the one before.
            (self.began, self.cursor) = (None, None);
        }
        self.snapshot = snapshot.or(self.snapshot.take());
    }

    /// What must be seen at once when it changes: the connection's state and the verdict, and where a replay is.
    pub(super) fn standing(&self) -> Option<(Option<State>, Fault, Option<Cause>, bool)> {
        let snapshot = self.snapshot.as_ref()?;
        let verdict = &snapshot.verdict;
        Some((snapshot.state, verdict.fault, verdict.cause, snapshot.on_air_since.is_some()))
    }

    /// Seconds per column.
    pub(super) fn seconds_per_column(&self) -> usize {
        ZOOMS[self.zoom]
    }

    /// What can be done now, best first.
    pub(super) fn proposals(&self) -> Vec<&Proposal> {
        self.snapshot.as_ref().map_or_else(Vec::new, |s| s.verdict.all_proposals())
    }

    /// Takes an event of the terminal.
    pub fn take(&mut self, event: &Event) -> Option<Wish> {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.key(*key),
            _ => None,
        }
    }

    /// A warning of the program: shown until a key is pressed, one after another.
    pub fn warn(&mut self, warning: String) {
        // The same is said again only once it was read.
        if !self.warnings.contains(&warning) && self.notice.as_ref() != Some(&warning) {
            self.warnings.push_back(warning);
        }
    }

    fn key(&mut self, key: KeyEvent) -> Option<Wish> {
        if self.notice.take().is_none() {
            self.warnings.pop_front();
        }
        if key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL) {
            // The second Ctrl-C is meant.
            return if self.dialog == Some(Dialog::ConfirmQuit) { Some(Wish::Quit) } else { self.quit() };
        }
        match self.dialog.take() {
            Some(Dialog::Confirm(proposal)) => match key.code {
                KeyCode::Char('y') => Some(Wish::Act(proposal.action)),
                KeyCode::Char('n') | KeyCode::Esc => None,
                _ => {
                    self.dialog = Some(Dialog::Confirm(proposal));
                    None
                }
            },
            Some(Dialog::ConfirmQuit) => match key.code {
                KeyCode::Char('y') => Some(Wish::Quit),
                KeyCode::Char('n') | KeyCode::Esc => None,
                _ => {
                    self.dialog = Some(Dialog::ConfirmQuit);
                    None
                }
            },
            Some(Dialog::Consent(order, words)) => match key.code {
                KeyCode::Char('y') => self.order(*order),
                KeyCode::Char('n') | KeyCode::Esc => None,
                _ => {
                    self.dialog = Some(Dialog::Consent(order, words));
                    None
                }
            },
            Some(Dialog::EnterKey(typed)) => {
                self.type_key(typed, key);
                None
            }
            Some(Dialog::ForgetKey) => {
                match key.code {
                    KeyCode::Char('y') => self.forget_key(),
                    KeyCode::Char('n') | KeyCode::Esc => {}
                    _ => self.dialog = Some(Dialog::ForgetKey),
                }
                None
            }
            Some(Dialog::ConsentRehearsal(words)) => match key.code {
                KeyCode::Char('y') => self.begin_prepared(),
                KeyCode::Char('n') | KeyCode::Esc => None,
                _ => {
                    self.dialog = Some(Dialog::ConsentRehearsal(words));
                    None
                }
            },
            Some(Dialog::EnterToDo(typed)) => self.type_to_do(typed, key),
            Some(Dialog::Choose(choice)) => self.choose_key(choice, key),
            Some(Dialog::Export(export)) => self.export_key(export, key),
            Some(Dialog::Changes) => {
                if let KeyCode::Char(letter) = key.code
                    && let Some(kind) = Kind::ALL.into_iter().find(|kind| kind.key() == letter)
                {
                    self.choose(kind);
                }
                None
            }
            // It is about to be done by hand: from now on it is looked for.
            Some(Dialog::ByHand(proposal)) if key.code == KeyCode::Enter && self.replay.is_none() => {
                Some(Wish::Act(proposal.action))
            }
            // Any key closes what only tells something; q still means what it says.
            Some(Dialog::Help | Dialog::ByHand(_)) if key.code != KeyCode::Char('q') => None,
            _ => self.plain_key(key.code),
        }
    }

    fn plain_key(&mut self, code: KeyCode) -> Option<Wish> {
        if self.replay.is_some()
            && let Some(order) = ReplayOrder::of(code)
        {
            return Some(Wish::Replay(order));
        }
        match code {
            KeyCode::Char('q') => return self.quit(),
            KeyCode::Char('?') | KeyCode::F(1) => self.dialog = Some(Dialog::Help),
            KeyCode::Char('e') => {
                self.begin_export();
                return None;
            }
            KeyCode::Char('E') => {
                self.begin_report();
                return None;
            }
            KeyCode::Char(digit @ '1'..='6') => return self.turn_to(Tab::ALL[usize::from(digit as u8 - b'1')]),
            KeyCode::Tab | KeyCode::BackTab => {
                let at = Tab::ALL.iter().position(|tab| *tab == self.tab).unwrap_or(0);
                let step = if code == KeyCode::Tab { 1 } else { Tab::ALL.len() - 1 };
                return self.turn_to(Tab::ALL[(at + step) % Tab::ALL.len()]);
            }
            _ => {}
        }
        match self.tab {
            Tab::Watch => self.watch_key(code),
            Tab::Why => self.why_key(code),
            Tab::Routes => self.routes_key(code),
            Tab::Plan => self.plan_key(code),
            Tab::Rehearse => self.rehearse_key(code),
            Tab::Machine => self.machine_key(code),
        }
    }

    fn turn_to(&mut self, tab: Tab) -> Option<Wish> {
        self.tab = tab;
        // The machine is looked at when one first asks.
        let unseen = self.before.as_ref().is_some_and(|b| b.check.is_none() && b.running == Running::Nothing);
        if tab == Tab::Machine && unseen { self.machine_key(KeyCode::Char('r')) } else { None }
    }

    /// Something is to be found out, and the user agreed.
    fn order(&mut self, order: TestOrder) -> Option<Wish> {
        self.before.as_mut()?.begun(&order);
        Some(Wish::Test(order))
    }

    fn routes_key(&mut self, code: KeyCode) -> Option<Wish> {
        let before = self.before.as_mut()?;
        match code {
            KeyCode::Up => before.move_cursor(-1),
            KeyCode::Down => before.move_cursor(1),
            KeyCode::Esc | KeyCode::Char('c') if matches!(before.running, Running::Routes | Running::Line) => {
                return Some(Wish::Test(TestOrder::Cancel));
            }
            _ if before.running != Running::Nothing => {}
            KeyCode::Char(' ') => before.toggle(),
            KeyCode::Char('r') => before.next_region(),
            KeyCode::Char('t') => before.next_length(),
            KeyCode::Char('p') => return self.pick(),
            KeyCode::Enter | KeyCode::Char('l') => {
                let ordered = if code == KeyCode::Enter { before.routes_order() } else { before.line_order() };
                let Some((order, mut words)) = ordered else {
                    self.notice = Some("choose a server first: Space does".into());
                    return None;
                };
                if before.in_use.service.unseen.is_none() {
                    words.push_str(". Your channel goes live with it");
                }
                if self.snapshot.as_ref().is_some_and(|s| s.on_air_since.is_some()) && !self.is_demo {
                    words.push_str(". You are on air: it takes the line your broadcast needs");
                }
                self.dialog = Some(Dialog::Consent(Box::new(order), words));
            }
            _ => {}
        }
        None
    }

    /// The server under the cursor becomes the setup's; before a broadcast, also the one it begins with.
    fn pick(&mut self) -> Option<Wish> {
        let outcome = self.before.as_mut()?.pick()?;
        let name = match outcome {
            Ok(name) => name,
            Err(failure) => {
                self.notice = Some(failure.to_string());
                return None;
            }
        };
        let on_air = self.snapshot.as_ref().is_some_and(|s| s.on_air_since.is_some());
        let setup = self.before.as_ref().map_or("", |before| before.in_use.setup_name.as_str());
        self.notice = Some(format!("{name} is now the server of the setup {setup}"));
        (!on_air).then_some(Wish::Act(Action::SwitchServer { server: name }))
    }

    fn plan_key(&mut self, code: KeyCode) -> Option<Wish> {
        let before = self.before.as_mut()?;
        let headroom = before.in_use.setup.headroom_percent;
        let change = match code {
            KeyCode::Char('m') => {
                let at = Motion::ALL.iter().position(|m| *m == before.in_use.setup.motion).unwrap_or(0);
                before.cell = None;
                Some(Change::Motion(Motion::ALL[(at + 1) % Motion::ALL.len()]))
            }
            KeyCode::Char('-') => Some(Change::Headroom((headroom - 5.0).max(0.0))),
            KeyCode::Char('+' | '=') => Some(Change::Headroom((headroom + 5.0).min(90.0))),
            KeyCode::Char('w') => {
                self.write_plan();
                None
            }
            KeyCode::Char('k') => {
                self.dialog = Some(Dialog::EnterKey(Typed::default()));
                None
            }
            KeyCode::Char('x') => {
                self.dialog = Some(Dialog::ForgetKey);
                None
            }
            KeyCode::Up => self.move_cell(-1, 0),
            KeyCode::Down => self.move_cell(1, 0),
            KeyCode::Left => self.move_cell(0, -1),
            KeyCode::Right => self.move_cell(0, 1),
            KeyCode::Esc => {
                before.cell = None;
                None
            }
            _ => None,
        };
        if let (Some(change), Some(before)) = (change, self.before.as_mut()) {
            self.notice = before.change(&change);
        }
        None
    }

    fn move_cell(&mut self, rows: i64, columns: i64) -> Option<Change> {
        let before = self.before.as_mut()?;
        let map = before.plan()?.map;
        let (row, column) = before.cell.unwrap_or(map.recommended);
        let step = |at: usize, by: i64, count: usize| {
            let to = i64::try_from(at).unwrap_or(0) + by;
            usize::try_from(to.max(0)).unwrap_or(0).min(count.saturating_sub(1))
        };
        before.cell = Some((step(row, rows, map.sizes.len()), step(column, columns, map.rates.len())));
        None
    }

    /// Writes the plan into the setup: the advised bitrate, and the picture under the cursor.
    fn write_plan(&mut self) {
        let Some(before) = self.before.as_mut() else { return };
        let Some(mut plan) = before.plan() else { return };
        plan.map.recommended = before.cell.unwrap_or(plan.map.recommended);
        let changes = plan.changes();
        let failed = changes.iter().find_map(|change| before.change(change));
        let setup = before.in_use.setup_name.clone();
        self.notice = Some(match (failed, changes.is_empty()) {
            (Some(failed), _) => failed,
            (None, true) => format!("the setup {setup} already is as planned"),
            (None, false) => format!(
                "written to {setup}: {} of video, {} at {} frames/s",
                before.in_use.setup.bitrate, before.in_use.setup.size, before.in_use.setup.rate
            ),
        });
    }

    fn type_key(&mut self, mut typed: Typed, key: KeyEvent) {
        match key.code {
            KeyCode::Esc => return,
            KeyCode::Enter => {
                let Some(before) = &self.before else { return };
                let kept = StreamKey::new(&typed.0).map_err(|error| error.to_string()).and_then(|key| {
                    before.in_use.keys.replace(&before.in_use.service_name, &key).map_err(|error| error.to_string())
                });
                let name = &before.in_use.service.name;
                self.notice = Some(match kept {
                    Ok(()) => {
                        format!("the stream key of {name} is replaced; it is used when the moth is started again")
                    }
                    Err(error) => error,
                });
                return;
            }
            KeyCode::Backspace => {
                typed.0.pop();
            }
            KeyCode::Char(c) if !key.modifiers.contains(KeyModifiers::CONTROL) => typed.0.push(c),
            _ => {}
        }
        self.dialog = Some(Dialog::EnterKey(typed));
    }

    fn forget_key(&mut self) {
        let Some(before) = &self.before else { return };
        let name = &before.in_use.service.name;
        self.notice = Some(match before.in_use.keys.forget(&before.in_use.service_name) {
            Ok(true) => format!("the stream key of {name} is forgotten"),
            Ok(false) => format!("no stream key of {name} was kept"),
            Err(error) => error.to_string(),
        });
    }

    fn machine_key(&mut self, code: KeyCode) -> Option<Wish> {
        let before = self.before.as_mut()?;
        if code != KeyCode::Char('r') || before.running != Running::Nothing {
            return None;
        }
        let order = before.machine_order();
        self.order(order)
    }

    /// The stage whose suspects are shown.
    pub(super) fn why_stage(&self, snapshot: &Snapshot) -> Fault {
        match (self.why_stage, snapshot.verdict.fault) {
            (Some(stage), _) => stage,
            (None, Fault::None) => Fault::Network,
            (None, fault) => fault,
        }
    }

    fn why_key(&mut self, code: KeyCode) -> Option<Wish> {
        let snapshot = self.snapshot.clone()?;
        let stage = self.why_stage(&snapshot);
        let last = why::weighed(&snapshot, stage).1.len().saturating_sub(1);
        match code {
            KeyCode::Up => self.why_row = self.why_row.min(last).saturating_sub(1),
            KeyCode::Down => self.why_row = (self.why_row + 1).min(last),
            KeyCode::Char('f') => {
                let at = why::STAGES.iter().position(|s| *s == stage).unwrap_or(0);
                self.why_stage = Some(why::STAGES[(at + 1) % why::STAGES.len()]);
                self.why_row = 0;
            }
            KeyCode::Char('t') => return self.test_suspects(stage),
            // What can be done, and looking back, are as on Watch.
            other => return self.watch_key(other),
        }
        None
    }

    /// Finds out more: a handshake with each server, or a look at the whole machine.
    fn test_suspects(&mut self, stage: Fault) -> Option<Wish> {
        let Some(before) = self.before.as_mut() else {
            self.notice = Some("this test works with a setup; `moth setup` begins one".into());
            return None;
        };
        if before.running != Running::Nothing {
            self.notice = Some("another test is running".into());
            return None;
        }
        if stage == Fault::Network {
            let order = before.ask_order();
            self.notice = Some("asking each server for one handshake…".into());
            return self.order(order);
        }
        self.tab = Tab::Machine;
        self.machine_key(KeyCode::Char('r'))
    }

    /// The mark before or after the cursor.
    fn seek_mark(&mut self, forth: bool) {
        let Some(snapshot) = &self.snapshot else { return };
        let last = snapshot.history.len().saturating_sub(1);
        let here = self.cursor.unwrap_or(last);
        let marks = || snapshot.marks.iter().map(|mark| mark.at.seconds() as usize);
        self.cursor = if forth {
            marks().find(|at| *at > here && *at < last)
        } else {
            marks().rev().find(|at| *at < here).or(self.cursor)
        };
    }

    fn watch_key(&mut self, code: KeyCode) -> Option<Wish> {
        match code {
            KeyCode::Enter => return self.propose(|_| true),
            KeyCode::Char('a') => self.dialog = Some(Dialog::Changes),
            KeyCode::Char(letter) if Kind::ALL.iter().any(|kind| kind.key() == letter) => {
                return Kind::ALL.into_iter().find(|kind| kind.key() == letter).and_then(|kind| self.take_kind(kind));
            }
            KeyCode::Char('u') => return self.undo(),
            KeyCode::Left => self.move_cursor(-1),
            KeyCode::Right => self.move_cursor(1),
            KeyCode::PageUp => self.move_cursor(-10),
            KeyCode::PageDown => self.move_cursor(10),
            KeyCode::Char('n') => self.seek_mark(true),
            KeyCode::Char('N') => self.seek_mark(false),
            KeyCode::Home => self.cursor = Some(0),
            KeyCode::End | KeyCode::Esc => self.cursor = None,
            KeyCode::Char('-') => self.zoom = (self.zoom + 1).min(ZOOMS.len() - 1),
            KeyCode::Char('+' | '=') => self.zoom = self.zoom.saturating_sub(1),
            _ => {}
        }
        None
    }

    fn quit(&mut self) -> Option<Wish> {
        let on_air = self.snapshot.as_ref().is_some_and(|s| s.on_air_since.is_some());
        if self.rehearsing.is_running() || self.rehearsing.is_all {
            // Nobody sees it, and everything is put back before it is left.
            return Some(Wish::Quit);
        }
        if on_air && !self.is_demo {
            self.dialog = Some(Dialog::ConfirmQuit);
            return None;
        }
        Some(Wish::Quit)
    }

    fn move_cursor(&mut self, columns: i64) {
        let Some(snapshot) = &self.snapshot else { return };
        let last = snapshot.history.len().saturating_sub(1);
        let from = i64::try_from(self.cursor.unwrap_or(last)).unwrap_or(i64::MAX);
        let step = i64::try_from(self.seconds_per_column()).unwrap_or(1) * columns;
        let to = usize::try_from(from.saturating_add(step).max(0)).unwrap_or(0);
        self.cursor = (to < last).then_some(to);
    }
}
