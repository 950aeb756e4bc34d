//! From nothing to a watched broadcast: services and setups are entered, changed, renamed and removed, and one is chosen to go live
//! with. Everything may be left out, and entered later; what is entered is in the file at once.
//!
//! [`draft`]: what is entered; [`drawn`]: how it looks.

mod draft;
mod drawn;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use moth_store::config::{Config, ConfigFile};
use moth_store::keys::Keys;
use tui_input::backend::crossterm::EventHandler;

use crate::cli::SetupInUseOptions;
use crate::failure::Failure;
use crate::setup_in_use::{KeyStatus, SetupInUse, places};
use crate::terminal::style::palette::Palette;
use draft::{Draft, LONGEST, Read, Slot};

pub(crate) use drawn::draw;

/// What is entered together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Page {
    /// The setups there are.
    Setups,
    Service,
    Servers,
    Key,
    Sends,
    PublishTo,
}

/// The steps from nothing to a broadcast.
const STEPS: [Page; 5] = [Page::Service, Page::Servers, Page::Key, Page::Sends, Page::PublishTo];

impl Page {
    fn slots(self) -> &'static [Slot] {
        match self {
            Self::Setups | Self::PublishTo => &[],
            Self::Service => &[Slot::Name, Slot::Limit],
            Self::Servers => &[Slot::Server],
            Self::Key => &[Slot::Key],
            Self::Sends => &[Slot::Bitrate, Slot::Size, Slot::Rate, Slot::Audio],
        }
    }

    fn step(self) -> Option<usize> {
        STEPS.iter().position(|step| *step == self)
    }
}

/// What is asked about a setup of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Asked {
    Nothing,
    /// Whether it is to be removed.
    Remove(String),
    /// What it is to be called.
    Rename(String),
}

/// What a key comes to that is done outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Wanted {
    /// Leave.
    Quit,
    /// Watch with this setup.
    GoLive(String),
    /// Copy to the clipboard.
    Copy(String),
}

/// The screen of the first minute.
#[derive(Debug)]
pub(crate) struct FirstMinute {
    options: SetupInUseOptions,
    file: ConfigFile,
    keys: Keys,
    config: Config,
    publish_to: String,
    palette: Palette,
    page: Page,
    /// The setup under the cursor, by its place.
    at: usize,
    /// What is being typed, by its place on the page.
    field: usize,
    /// The server under the cursor; `None` while one is typed.
    server: Option<usize>,
    draft: Draft,
    /// Only this page was asked for: behind it is the list again.
    is_alone: bool,
    asked: Asked,
    /// Something to tell until the next key.
    told: Option<String>,
}

impl FirstMinute {
    /// The list of setups, or the first step if there is none.
    ///
    /// # Errors
    /// [`Failure`] if the configuration cannot be read.
    pub(crate) fn open(options: &SetupInUseOptions, publish_to: &str, palette: Palette) -> Result<Self, Failure> {
        let places = places(options)?;
        let file = ConfigFile::at(places.config);
        let config = file.read()?;
        let mut first = Self {
            options: options.clone(),
            keys: Keys::below(&places.data),
            file,
            config,
            publish_to: publish_to.to_owned(),
            palette,
            page: Page::Setups,
            at: 0,
            field: 0,
            server: None,
            draft: Draft::default(),
            is_alone: false,
            asked: Asked::Nothing,
            told: None,
        };
        first.list();
        if first.config.setups.is_empty() {
            first.turn_to(Page::Service);
        }
        Ok(first)
    }

    /// Something to tell until the next key.
    pub(crate) fn tell(&mut self, what: String) {
        self.told = Some(what);
    }

    /// Takes an event of the terminal.
    pub(crate) fn take(&mut self, event: &Event) -> Option<Wanted> {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.key(*key),
            Event::Paste(text) => {
                self.paste(text);
                None
            }
            _ => None,
        }
    }

    fn key(&mut self, key: KeyEvent) -> Option<Wanted> {
        self.told = None;
        if key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL) {
            return Some(Wanted::Quit);
        }
        match std::mem::replace(&mut self.asked, Asked::Nothing) {
            Asked::Remove(name) => self.key_on_removing(name, key.code),
            Asked::Rename(name) => self.key_on_renaming(name, key),
            Asked::Nothing if self.page == Page::Setups => return self.key_in_the_list(key.code),
            Asked::Nothing => return self.key_on_a_page(key),
        }
        None
    }

    // The list.

    fn names(&self) -> Vec<&String> {
        self.config.setups.keys().collect()
    }

    fn under_cursor(&self) -> Option<String> {
        self.names().get(self.at).map(|name| (*name).clone())
    }

    /// Turns to the list; the cursor is on the setup in use.
    fn list(&mut self) {
        let in_use = self.options.setup.as_ref().or(self.config.setup.as_ref());
        self.at = self.config.setups.keys().position(|name| Some(name) == in_use).unwrap_or(0);
        (self.page, self.draft) = (Page::Setups, Draft::default());
    }

    fn key_in_the_list(&mut self, code: KeyCode) -> Option<Wanted> {
        match (code, self.under_cursor()) {
            (KeyCode::Char('q') | KeyCode::Esc, _) => return Some(Wanted::Quit),
            (KeyCode::Char('n'), _) => self.begin(Draft::default(), Page::Service),
            (KeyCode::Up, _) => self.at = self.at.saturating_sub(1),
            (KeyCode::Down, _) => self.at = (self.at + 1).min(self.config.setups.len().saturating_sub(1)),
            (KeyCode::Enter, Some(name)) => return self.go_live(&name),
            (KeyCode::Char('c'), Some(name)) => self.change(&name, Page::Service),
            (KeyCode::Char('k'), Some(name)) => self.change(&name, Page::Key),
            (KeyCode::Char('p'), Some(name)) => self.change(&name, Page::PublishTo),
            (KeyCode::Char('r'), Some(name)) => {
                self.draft.put(Slot::SetupName, &name);
                self.asked = Asked::Rename(name);
            }
            (KeyCode::Char('d'), Some(name)) => self.asked = Asked::Remove(name),
            _ => {}
        }
        None
    }

    fn change(&mut self, name: &str, page: Page) {
        if let Some(draft) = Draft::of(&self.config, name) {
            self.begin(draft, page);
            self.is_alone = page != Page::Service;
        }
    }

    fn begin(&mut self, draft: Draft, page: Page) {
        (self.draft, self.is_alone) = (draft, false);
        self.turn_to(page);
    }

    fn key_on_removing(&mut self, name: String, code: KeyCode) {
        match code {
            KeyCode::Char('y') => match self.file.remove_setup(&name) {
                Ok((config, service)) => {
                    self.config = config;
                    self.told = Some(match service.map(|service| self.keys.forget(&service)) {
                        Some(Err(error)) => error.to_string(),
                        Some(Ok(true)) => format!("{name} is removed, with its service and the stream key"),
                        Some(Ok(false)) => format!("{name} is removed, with its service"),
                        None => format!("{name} is removed; its service stays, as another setup uses it"),
                    });
                    self.list();
                    if self.config.setups.is_empty() {
                        self.turn_to(Page::Service);
                    }
                }
                Err(error) => self.told = Some(error.to_string()),
            },
            KeyCode::Char('n') | KeyCode::Esc => {}
            _ => self.asked = Asked::Remove(name),
        }
    }

    fn key_on_renaming(&mut self, name: String, key: KeyEvent) {
        match key.code {
            KeyCode::Esc => {}
            KeyCode::Enter => {
                let to = self.draft.input(Slot::SetupName).value().trim().to_owned();
                match self.file.rename_setup(&name, &to) {
                    Ok(config) => {
                        self.config = config;
                        if self.options.setup.as_ref() == Some(&name) {
                            self.options.setup = Some(to.clone());
                        }
                        self.at = self.config.setups.keys().position(|name| *name == to).unwrap_or(0);
                    }
                    // What was wrong stays to be corrected.
                    Err(error) => {
                        self.told = Some(error.to_string());
                        self.asked = Asked::Rename(name);
                    }
                }
            }
            _ => {
                self.draft.input_mut(Slot::SetupName).handle_event(&Event::Key(key));
                self.asked = Asked::Rename(name);
            }
        }
    }

    /// The setup with its service, as far as they can be used.
    fn in_use(&self, name: &str) -> Result<SetupInUse, Failure> {
        SetupInUse::open(&SetupInUseOptions { setup: Some(name.to_owned()), ..self.options.clone() })
    }

    /// What a setup still lacks.
    fn lacks(&self, name: &str) -> Vec<&'static str> {
        let Ok(in_use) = self.in_use(name) else { return vec!["a service"] };
        let no_server = in_use.service.servers.is_empty().then_some("a server");
        let no_key = (in_use.key_status() == KeyStatus::Missing).then_some("its stream key");
        no_server.into_iter().chain(no_key).collect()
    }

    fn go_live(&mut self, name: &str) -> Option<Wanted> {
        let lacks = self.lacks(name);
        if lacks.is_empty() {
            return Some(Wanted::GoLive(name.to_owned()));
        }
        let how = if self.page == Page::Setups { "c enters what is missing, k the key" } else { "Esc goes back to it" };
        self.told = Some(format!("{name} still lacks {}: {how}", lacks.join(" and ")));
        None
    }

    // The steps.

    fn turn_to(&mut self, page: Page) {
        (self.page, self.field, self.server) = (page, 0, None);
    }

    fn slot(&self) -> Option<Slot> {
        self.page.slots().get(self.field).copied()
    }

    fn key_on_a_page(&mut self, key: KeyEvent) -> Option<Wanted> {
        let last = self.page.slots().len().saturating_sub(1);
        match key.code {
            KeyCode::Esc => self.back(),
            KeyCode::Tab => self.on(),
            KeyCode::Enter if self.page == Page::PublishTo => {
                let setup = self.draft.setup.clone()?;
                return self.go_live(&setup);
            }
            KeyCode::Char('y') if self.page == Page::PublishTo => return Some(Wanted::Copy(self.publish_to.clone())),
            KeyCode::Char('q') if self.page == Page::PublishTo => return Some(Wanted::Quit),
            KeyCode::Enter => self.enter(last),
            KeyCode::Up if self.page == Page::Servers => {
                let last = self.draft.servers.len().checked_sub(1);
                self.server = self.server.map_or(last, |at| Some(at.saturating_sub(1)));
            }
            KeyCode::Down if self.page == Page::Servers => {
                self.server = self.server.map(|at| at + 1).filter(|at| *at < self.draft.servers.len());
            }
            KeyCode::Delete if self.server.is_some() => self.drop_server(),
            KeyCode::Up => self.field = self.field.saturating_sub(1),
            KeyCode::Down => self.field = (self.field + 1).min(last),
            _ => self.type_in(&Event::Key(key)),
        }
        None
    }

    fn type_in(&mut self, event: &Event) {
        self.server = None;
        match (self.slot(), event) {
            (Some(Slot::Key), Event::Key(key)) => self.draft.key.take_in(*key),
            (Some(slot), event) => drop(self.draft.input_mut(slot).handle_event(event)),
            (None, _) => {}
        }
    }

    fn paste(&mut self, text: &str) {
        let text: String = text.chars().take(LONGEST).collect();
        match self.slot() {
            Some(Slot::Key) => self.draft.key.paste(&text),
            Some(slot) => {
                let (there, is_servers) = (self.draft.input(slot).value().to_owned(), slot == Slot::Server);
                // Addresses may stand below each other; everything else is one line.
                let line = |c: char| if c.is_control() && !(is_servers && c == '\n') { ' ' } else { c };
                let text: String = text.replace("\r\n", "\n").replace('\r', "\n").chars().map(line).collect();
                self.draft.put(slot, &format!("{there}{}", text.trim_matches(' ')));
            }
            None => {}
        }
    }

    fn drop_server(&mut self) {
        let Some(at) = self.server.filter(|at| *at < self.draft.servers.len()) else { return };
        self.draft.servers.remove(at);
        self.server = self.draft.servers.len().checked_sub(1).map(|last| at.min(last));
    }

    /// What is typed is meant: the next one on the page, or the next page.
    fn enter(&mut self, last: usize) {
        let Some(slot) = self.slot() else { return };
        // Why stands below it.
        if matches!(self.draft.read(slot), Read::Wrong(_)) {
            return;
        }
        if slot == Slot::Server && !self.draft.input(slot).value().trim().is_empty() {
            if let Err(why) = self.draft.take_servers() {
                self.told = Some(why);
            }
            return;
        }
        if self.field < last {
            self.field += 1;
        } else {
            self.on();
        }
    }

    /// The next page. What is entered by now is written down; what is wrong is not taken, and stays.
    fn on(&mut self) {
        if self.page == Page::PublishTo {
            return;
        }
        if let Err(why) = self.write_down() {
            self.told = Some(why);
            return;
        }
        if self.is_alone {
            return self.list();
        }
        if let Some(next) = self.page.step().and_then(|step| STEPS.get(step + 1)) {
            self.turn_to(*next);
        }
    }

    fn back(&mut self) {
        if self.is_alone {
            return self.list();
        }
        let before = self.page.step().and_then(|step| step.checked_sub(1)).map(|step| STEPS[step]);
        match before {
            Some(page) => self.turn_to(page),
            None if self.config.setups.is_empty() => self.told = Some("Ctrl-C leaves; nothing is kept yet".into()),
            None => self.list(),
        }
    }

    fn write_down(&mut self) -> Result<(), String> {
        // A name alone is not worth a file.
        if self.page == Page::Service && self.draft.setup.is_none() {
            return Ok(());
        }
        let (service, entry) = self.draft.service_entry(&self.config.services);
        let (setup, sends) = self.draft.setup_entry(&self.config.setups);
        let written = self.file.put((&service, &entry), (&setup, &sends));
        self.config = written.map_err(|error| error.to_string())?;
        if let (Page::Key, Some(key)) = (self.page, self.draft.stream_key()) {
            self.keys.replace(&service, &key).map_err(|error| error.to_string())?;
            self.draft.key = Default::default();
        }
        (self.draft.service, self.draft.setup) = (Some(service), Some(setup));
        Ok(())
    }
}

#[cfg(test)]
mod tests;
