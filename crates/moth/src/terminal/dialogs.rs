//! What lies over the screen and takes the keys: help, questions, and what to do by hand.
//!
//! [`drawn`]: how each looks; [`keys`]: what keys do in each. [`events`]: what happened. [`choice`] and [`changing`]: changing the broadcast; [`export`]:
//! taking something away.

pub(super) mod changing;
pub mod choice;
pub(super) mod drawn;
pub(super) mod events;
pub mod export;
pub(super) mod exporting;
pub(super) mod keys;

use choice::Choice;
use crossterm::event::{Event, KeyEvent};
use export::Export;
use moth_core::proposal::Proposal;
use moth_destination::StreamKey;
use moth_destination::key::KeyError;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

use crate::measuring::tester::TestOrder;
use crate::terminal::screens::logbook::Typing;

/// What lies over the screen and takes the keys.
#[derive(Debug, Clone, PartialEq)]
pub enum Dialog {
    /// The keys that work here, and the words.
    Help,
    /// All evidence on a suspect.
    Evidence(Vec<String>),
    /// A dangerous action that wants a yes.
    Confirm(Box<Proposal>),
    /// Something only the user can do, with what to type where.
    ByHand(Box<Proposal>),
    /// All that can be changed; the one under the cursor, by its place.
    Changes(usize),
    /// Everything that happened; what is under the cursor, by its place.
    Events(usize),
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
    /// What the upload sustains is being typed.
    EnterUpload(String),
    /// Something more to do in a soak is being typed.
    EnterToDo(String),
    /// The stream key would be forgotten.
    ForgetKey,
    /// Words to look for in the logbook, a title or a note are being typed.
    EnterLog(Typing, String),
    /// A past broadcast would be removed: its number, and what it is.
    RemoveKept(i64, String),
    /// The broadcast is over: what became of it, in a few lines.
    Over(Vec<String>),
    /// Something is taken away as a file: what, and how.
    Export(Export),
}

impl Dialog {
    /// Whether one goes up and down in it.
    pub(super) fn is_list(&self) -> bool {
        matches!(
            self,
            Self::Help | Self::Evidence(_) | Self::Changes(_) | Self::Events(_) | Self::Choose(_) | Self::Export(_)
        )
    }

    /// Whether text is typed in it.
    pub(super) fn takes_text(&self) -> bool {
        match self {
            Self::EnterKey(_) | Self::EnterUpload(_) | Self::EnterToDo(_) | Self::EnterLog(..) => true,
            Self::Choose(choice) => choice.is_typed(),
            _ => false,
        }
    }
}

/// What a key does to a text that is being typed, which grows no longer than so many characters.
///
/// One types at its end; Ctrl-W takes a word away and Ctrl-U all of it.
pub(super) fn type_into(text: &mut String, key: KeyEvent, longest: usize) {
    let mut input = Input::new(text.clone());
    input.handle_event(&Event::Key(key));
    if input.value().chars().count() <= longest.max(text.chars().count()) {
        *text = input.value().to_owned();
    }
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

    /// The stream key that was typed; `None` if nothing was.
    pub(super) fn key(&self) -> Option<Result<StreamKey, KeyError>> {
        (!self.is_empty()).then(|| StreamKey::new(&self.0))
    }

    pub(super) fn take_in(&mut self, key: KeyEvent) {
        // A key that is too long is told once it is entered.
        type_into(&mut self.0, key, usize::MAX);
    }

    pub(super) fn paste(&mut self, text: &str) {
        self.0.push_str(text.trim());
    }
}
