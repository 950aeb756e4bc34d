//! The interface's state, apart from drawing and terminal: which screen is shown, what lies over it, and what keys come to. A key
//! goes to what lies over the screen, else to the frame, else to the screen.

use std::cell::Cell;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex};

use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use jiff::{SignedDuration, Timestamp, Zoned};
use moth_core::suspects::{Cause, Fault};
use moth_core::{Snapshot, State};

use super::dialogs::{Dialog, changing, exporting, keys};
use super::hits::Hit;
use super::logbook_view::LogbookView;
use super::model::Model;
use super::preparation::Preparation;
use super::reaction::Reaction;
use super::rehearsing::RehearsalPlan;
use super::screen::Screen;
use super::screens;
use super::style::palette::Palette;
use super::wish::Wish;
use crate::live::plan::Banner;
use crate::logbook::plan::LogPlan;
use crate::logbook::scribe::Keeping;
use crate::measuring::tester::TestNews;
use crate::recordings::player::{ReplayOrder, ReplayState};
use crate::rehearsal::run::Run;
use moth_evening::chronicle::Chronicle;

/// Whether the mouse does anything by it.
pub(super) fn is_meant(mouse: &MouseEvent) -> bool {
    use MouseEventKind::{Down, ScrollDown, ScrollUp};
    matches!(mouse.kind, Down(MouseButton::Left) | ScrollUp | ScrollDown)
}

/// The interface's state.
#[derive(Debug)]
pub struct App {
    pub(super) model: Model,
    pub(super) palette: Palette,
    pub(super) screen: &'static Screen,
    pub(super) dialog: Option<Dialog>,
    /// The lantern is shown in the place of the screen.
    pub(super) is_lantern: bool,
    /// The mouse is taken.
    pub(super) has_mouse: bool,
    /// The terminal was too small for anything else when it was drawn on last.
    pub(super) is_small: Cell<bool>,
    /// Something to tell until the next key.
    pub(super) notice: Option<String>,
    /// Warnings that nobody has read yet, each for as long as no key was pressed on it.
    pub(super) warnings: VecDeque<String>,
}

impl App {
    /// An interface that has shown nothing yet.
    #[must_use]
    pub fn new(banner: Banner, is_demo: bool, palette: Palette) -> Self {
        Self {
            model: Model::new(banner, is_demo),
            palette,
            screen: screens::ALL[0],
            dialog: None,
            is_lantern: false,
            has_mouse: true,
            is_small: Cell::default(),
            notice: None,
            warnings: VecDeque::new(),
        }
    }

    /// With what is done before going live.
    #[must_use]
    pub fn with(mut self, preparation: Option<Preparation>) -> Self {
        self.model.preparation = preparation.map(Box::new);
        self
    }

    /// With what is written down of the broadcast.
    #[must_use]
    pub(crate) fn writing(mut self, chronicle: Arc<Mutex<Chronicle>>) -> Self {
        self.model.chronicle = chronicle;
        self
    }

    /// With the logbook that it is kept in.
    #[must_use]
    pub(crate) fn keeping_in(mut self, log: Option<LogPlan>) -> Self {
        self.model.logbook = LogbookView::of(log);
        self
    }

    /// How the keeping goes by now.
    pub(super) fn keeping_is(&mut self, keeping: Keeping) {
        let is_new = self.model.logbook.keeping.nr != keeping.nr;
        self.model.logbook.keeping = keeping;
        // What has just begun to be kept belongs into the list.
        if is_new && self.screen.name == screens::logbook::SCREEN.name && self.model.kept().is_none() {
            self.model.logbook.look();
        }
    }

    /// Of a recorded broadcast, which began then.
    #[must_use]
    pub(crate) fn replaying(mut self, state: ReplayState, began: Option<Zoned>, is_made_up: bool) -> Self {
        (self.model.replay, self.model.began, self.model.is_made_up) = (Some(state), began, is_made_up);
        self
    }

    /// With what it takes to rehearse.
    #[must_use]
    pub(crate) fn rehearsing_through(mut self, plan: RehearsalPlan) -> Self {
        self.model.rehearsing.plan = plan;
        self.model.recall_rehearsals();
        self
    }

    /// A rehearsal is what it begins with.
    pub(crate) fn begin_with_the_rehearsal(&mut self) {
        self.screen = &screens::rehearse::SCREEN;
        self.model.rehearsing.is_all = true;
    }

    /// Takes how far a rehearsal is; gives whether that must be seen at once.
    pub(crate) fn follow_rehearsal(&mut self, run: Option<Arc<Run>>) -> bool {
        self.model.follow_rehearsal(run)
    }

    /// Takes news of a test.
    pub fn learn(&mut self, news: TestNews, now: Timestamp) {
        if let Some(notice) = self.model.learn(news, now) {
            self.notice = Some(notice);
        }
    }

    /// Takes a new snapshot.
    pub fn show(&mut self, snapshot: Option<Arc<Snapshot>>) {
        self.model.show(snapshot);
        let is_rehearsal = self.model.rehearsing.is_running() || self.model.rehearsing.is_all;
        let Some(snapshot) = self.model.snapshot.clone().filter(|_| !is_rehearsal) else { return };
        let told = self.model.logbook.follow(&snapshot);
        // Whoever comes back ends what is told of the end.
        if snapshot.on_air_since.is_some() && matches!(self.dialog, Some(Dialog::Over(_))) {
            self.dialog = None;
        }
        if let (Some(lines), None) = (told, &self.dialog) {
            self.dialog = Some(Dialog::Over(lines));
        }
    }

    /// Where a replay is by now.
    pub(super) fn replay_is(&mut self, state: ReplayState) {
        self.model.replay = Some(state);
    }

    pub(super) fn is_replay(&self) -> bool {
        self.model.replay.is_some()
    }

    /// Notes when the broadcast began, if that is not known, from how long it has lasted.
    pub(super) fn note_beginning(&mut self, now: &Zoned) {
        let Some(snapshot) = self.model.snapshot.as_ref().filter(|_| self.model.replay.is_none()) else { return };
        if self.model.began.is_none() {
            let lasted = SignedDuration::try_from_secs_f64(snapshot.at.seconds()).ok();
            self.model.began = lasted.and_then(|lasted| now.checked_sub(lasted).ok());
        }
    }

    /// What must be seen at once when it changes: the connection's state and the verdict, and where a replay is.
    pub(super) fn standing(&self) -> Option<(Option<State>, Fault, Option<Cause>, bool)> {
        let snapshot = self.model.snapshot.as_ref()?;
        let verdict = &snapshot.verdict;
        Some((snapshot.state, verdict.fault, verdict.cause, snapshot.on_air_since.is_some()))
    }

    /// A warning of the program: shown until a key is pressed, one after another.
    pub fn warn(&mut self, warning: String) {
        // The same is said again only once it was read.
        if !self.warnings.contains(&warning) && self.notice.as_ref() != Some(&warning) {
            self.warnings.push_back(warning);
        }
    }

    /// Takes an event of the terminal.
    pub fn take(&mut self, event: &Event) -> Option<Wish> {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.key(*key),
            Event::Paste(text) => self.paste(text),
            Event::Mouse(mouse) => self.mouse(*mouse),
            _ => None,
        }
    }

    /// The mouse does what keys do: it turns to screens, presses the keys at the foot, goes along lanes and lists. A question is
    /// answered by keys alone.
    fn mouse(&mut self, mouse: MouseEvent) -> Option<Wish> {
        let press = |app: &mut Self, code: KeyCode| app.key(KeyEvent::new(code, KeyModifiers::NONE));
        // On Watch there is nothing to go up and down in but time.
        let is_time = self.dialog.is_none() && !self.is_lantern && self.screen.name == screens::watch::SCREEN.name;
        match mouse.kind {
            // The wheel goes along what is chosen from; it closes nothing.
            MouseEventKind::ScrollUp | MouseEventKind::ScrollDown
                if self.dialog.as_ref().is_some_and(|dialog| !dialog.is_list()) =>
            {
                None
            }
            MouseEventKind::ScrollUp if is_time => press(self, KeyCode::Left),
            MouseEventKind::ScrollDown if is_time => press(self, KeyCode::Right),
            MouseEventKind::ScrollUp => press(self, KeyCode::Up),
            MouseEventKind::ScrollDown => press(self, KeyCode::Down),
            MouseEventKind::Down(MouseButton::Left) if self.dialog.is_none() => {
                self.note_places();
                let (hit, across, down) = self.model.hits.at(mouse.column, mouse.row)?;
                match hit {
                    Hit::Key(code) => press(self, code),
                    Hit::Screen(place) => {
                        let reaction = self.turn_to(screens::ALL.get(place)?);
                        self.react(reaction)
                    }
                    Hit::Time { first, per, wide } => {
                        let newest = self.model.shown()?.history.len().saturating_sub(1);
                        let second = first + usize::from(across) / wide.max(1) * per;
                        self.model.view.cursor = (second < newest).then_some(second);
                        self.model.hold_cursor();
                        None
                    }
                    Hit::Row { first } => {
                        let to = (first + usize::from(down)).min(self.model.logbook.list.len().saturating_sub(1));
                        let by = to as isize - self.model.logbook.at as isize;
                        self.model.logbook.move_cursor(by);
                        None
                    }
                }
            }
            _ => None,
        }
    }

    /// Where time and rows were drawn last, if they are what is shown.
    fn note_places(&self) {
        if self.is_lantern || self.is_small.get() {
            return;
        }
        let name = self.screen.name;
        if name == screens::watch::SCREEN.name || name == screens::why::SCREEN.name {
            let view = &self.model.view;
            let (per, wide) = (view.seconds_per_column(), view.columns_per_second());
            let hit = Hit::Time { first: view.shown().0, per, wide };
            self.model.hits.note(self.model.view.place(), hit);
        }
        if name == screens::logbook::SCREEN.name && self.model.logbook.is_list() {
            let (place, first) = self.model.logbook.rows.get();
            self.model.hits.note(place, Hit::Row { first });
        }
    }

    /// What is pasted is text, and no keys: it goes where text is typed, as one line, and nowhere else.
    fn paste(&mut self, text: &str) -> Option<Wish> {
        if !self.dialog.as_ref().is_some_and(Dialog::takes_text) {
            return None;
        }
        text.trim().chars().map(|c| if c.is_control() { ' ' } else { c }).fold(None, |wish, c| {
            let typed = self.key(KeyEvent::new(KeyCode::Char(c), KeyModifiers::NONE));
            wish.or(typed)
        })
    }

    fn key(&mut self, key: KeyEvent) -> Option<Wish> {
        // A key that goes to what lies over the screen is no sign that what is said below it was read.
        if self.notice.take().is_none() && self.dialog.is_none() {
            self.warnings.pop_front();
        }
        if key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL) {
            // The second Ctrl-C is meant.
            let is_second = self.dialog == Some(Dialog::ConfirmQuit);
            // Of a screen apart it is the screen that is left.
            let last = if self.model.is_apart { Wish::Leave } else { Wish::Quit };
            let reaction = if is_second { Reaction::wish(last) } else { self.quit() };
            return self.react(reaction);
        }
        let reaction = match self.dialog.take() {
            Some(dialog) => keys::key(dialog, &mut self.model, key),
            None => None,
        };
        let reaction = reaction.unwrap_or_else(|| self.plain_key(key.code));
        self.model.hold_cursor();
        self.react(reaction)
    }

    /// What a key comes to.
    fn react(&mut self, reaction: Reaction) -> Option<Wish> {
        let Reaction { notice, dialog, wish, screen } = reaction;
        self.notice = notice.or(self.notice.take());
        self.dialog = dialog.or(self.dialog.take());
        if self.dialog.is_none() {
            self.model.dialog_scroll.reset();
        }
        let named = |name| screens::ALL.iter().find(|screen| Some(screen.name) == name);
        self.screen = named(screen).unwrap_or(&self.screen);
        wish
    }

    /// A key while nothing lies over the screen: the frame's own, else the screen's.
    fn plain_key(&mut self, code: KeyCode) -> Reaction {
        if self.is_replay()
            && let Some(order) = ReplayOrder::of(code)
        {
            return Reaction::wish(Wish::Replay(order));
        }
        if self.is_lantern || self.is_small.get() {
            return self.lantern_key(code);
        }
        if code == KeyCode::Char('0') {
            self.is_lantern = true;
            return Reaction::none();
        }
        // From a past broadcast's screens one goes back to where it was opened.
        if code == KeyCode::Esc && self.model.kept().is_some() && self.screen.name != screens::logbook::SCREEN.name {
            return Reaction { screen: Some(screens::logbook::SCREEN.name), ..Reaction::none() };
        }
        // What is taken away from the list is the broadcast under its cursor: it is opened for that.
        let is_list = self.screen.name == screens::logbook::SCREEN.name && self.model.logbook.is_list();
        if is_list && matches!(code, KeyCode::Char('e' | 'E')) {
            self.model.open_kept();
            if self.model.kept().is_none() {
                return Reaction::tell("no broadcast is under the cursor");
            }
        }
        let step = |by: usize| {
            let at = screens::ALL.iter().position(|screen| *screen == self.screen).unwrap_or(0);
            screens::ALL[(at + by) % screens::ALL.len()]
        };
        // Where a screen's text is longer than its room, pages of it are turned.
        if self.model.scroll.key(code) {
            return Reaction::none();
        }
        match code {
            KeyCode::Char('q') => self.quit(),
            KeyCode::Char('?') | KeyCode::F(1) => Reaction::open(Dialog::Help),
            KeyCode::Char('e') => exporting::begin(&self.model, self.screen),
            KeyCode::Char('E') => exporting::begin_report(&self.model),
            KeyCode::Tab => self.turn_to(step(1)),
            KeyCode::BackTab => self.turn_to(step(screens::ALL.len() - 1)),
            KeyCode::Char(digit @ '1'..='9') => match screens::ALL.get(usize::from(digit as u8 - b'1')) {
                Some(screen) => self.turn_to(screen),
                None => (self.screen.key)(&mut self.model, code),
            },
            code => (self.screen.key)(&mut self.model, code),
        }
    }

    /// A key while the lantern is shown: those that it shows, and those that lead elsewhere.
    fn lantern_key(&mut self, code: KeyCode) -> Reaction {
        match code {
            KeyCode::Char('q') => self.quit(),
            KeyCode::Enter if self.model.takes_changes() => changing::propose(&self.model, |_| true),
            // With no room for a screen there is none to turn to.
            _ if self.is_small.get() => Reaction::none(),
            KeyCode::Char('0') | KeyCode::Esc => {
                self.is_lantern = false;
                Reaction::none()
            }
            KeyCode::Char(digit @ '1'..='9') => {
                self.is_lantern = false;
                let screen = screens::ALL.get(usize::from(digit as u8 - b'1'));
                screen.map_or_else(Reaction::none, |screen| self.turn_to(screen))
            }
            _ => Reaction::none(),
        }
    }

    fn turn_to(&mut self, screen: &'static Screen) -> Reaction {
        self.model.scroll.reset();
        Reaction { screen: Some(screen.name), ..(screen.turned_to)(&mut self.model) }
    }

    fn quit(&self) -> Reaction {
        // Nobody sees a rehearsal, and everything is put back before it is left.
        let is_rehearsal = self.model.rehearsing.is_running() || self.model.rehearsing.is_all;
        if self.model.is_on_air() && !self.model.is_demo && !is_rehearsal {
            return Reaction::open(Dialog::ConfirmQuit);
        }
        // Who came to look on does not end what somebody else began, or what waits for a broadcaster.
        if self.model.is_apart && !self.model.began_it {
            return Reaction::wish(Wish::Leave);
        }
        Reaction::wish(Wish::Quit)
    }
}
