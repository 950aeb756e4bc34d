//! What keys do in each dialog.

use crossterm::event::{KeyCode, KeyEvent};
use moth_destination::StreamKey;

use super::choice::Kind;
use super::{Dialog, Typed, changing, events, exporting};
use crate::terminal::model::Model;
use crate::terminal::reaction::Reaction;
use crate::terminal::screens::{logbook, plan, rehearse};
use crate::terminal::wish::Wish;

/// What a key does in a dialog, which stays open if the reaction has it; `None` if the key closes it and still means what it
/// says elsewhere.
pub(in crate::terminal) fn key(dialog: Dialog, model: &mut Model, key: KeyEvent) -> Option<Reaction> {
    let code = key.code;
    Some(match dialog {
        Dialog::Confirm(proposal) => {
            ask(code, Dialog::Confirm(proposal.clone()), || Reaction::wish(Wish::Act(proposal.action)))
        }
        Dialog::ConfirmQuit if model.is_apart && code == KeyCode::Char('l') => Reaction::wish(Wish::Leave),
        Dialog::ConfirmQuit => ask(code, Dialog::ConfirmQuit, || Reaction::wish(Wish::Quit)),
        Dialog::Consent(order, words) => ask(code, Dialog::Consent(order.clone(), words), || model.order(*order)),
        Dialog::ConsentRehearsal(words) => {
            ask(code, Dialog::ConsentRehearsal(words), || rehearse::begin_prepared(model))
        }
        Dialog::ForgetKey => ask(code, Dialog::ForgetKey, || forget_key(model)),
        Dialog::EnterKey(typed) => type_key(model, typed, key),
        Dialog::EnterUpload(typed) => plan::type_upload(model, typed, key),
        Dialog::EnterToDo(typed) => rehearse::type_to_do(model, typed, key),
        Dialog::EnterLog(what, typed) => logbook::type_in(model, what, typed, key),
        Dialog::RemoveKept(nr, words) => ask(code, Dialog::RemoveKept(nr, words), || logbook::remove(model, nr)),
        Dialog::Events(at) => events::key(model, at, code),
        Dialog::Choose(choice) => changing::choose_key(model, choice, key),
        Dialog::Export(chosen) => exporting::key(model, chosen, key),
        Dialog::Changes(at) => match code {
            KeyCode::Up => Reaction::open(Dialog::Changes(at.saturating_sub(1))),
            KeyCode::Down => Reaction::open(Dialog::Changes((at + 1).min(Kind::ALL.len() - 1))),
            KeyCode::Enter => Kind::ALL.get(at).map_or_else(Reaction::none, |kind| changing::choose(model, *kind)),
            KeyCode::Char(letter) => match Kind::ALL.into_iter().find(|kind| kind.key() == letter) {
                Some(kind) => changing::choose(model, kind),
                None => Reaction::none(),
            },
            _ => Reaction::none(),
        },
        // It is about to be done by hand: from now on it is looked for.
        Dialog::ByHand(proposal) if code == KeyCode::Enter && model.takes_changes() => {
            Reaction::wish(Wish::Act(proposal.action))
        }
        // What is longer than its room is gone along.
        Dialog::Help | Dialog::Evidence(_) if scroll(model, code) => Reaction::open(dialog),
        // Any key closes what only tells something; q still means what it says.
        Dialog::Help | Dialog::Evidence(_) | Dialog::Over(_) | Dialog::ByHand(_) if code != KeyCode::Char('q') => {
            Reaction::none()
        }
        Dialog::Help | Dialog::Evidence(_) | Dialog::Over(_) | Dialog::ByHand(_) => return None,
    })
}

/// Whether a key goes along a text, of which all may be seen already.
fn scroll(model: &Model, code: KeyCode) -> bool {
    let scroll = &model.dialog_scroll;
    match code {
        KeyCode::Up => scroll.by(-1),
        KeyCode::Down => scroll.by(1),
        KeyCode::Home => scroll.by(isize::MIN),
        KeyCode::End => scroll.by(isize::MAX),
        KeyCode::PageUp | KeyCode::PageDown => drop(scroll.key(code)),
        _ => return false,
    }
    true
}

/// A question: y does it, n and Esc leave it, and any other key leaves the question.
fn ask(code: KeyCode, question: Dialog, yes: impl FnOnce() -> Reaction) -> Reaction {
    match code {
        KeyCode::Char('y') => yes(),
        KeyCode::Char('n') | KeyCode::Esc => Reaction::none(),
        _ => Reaction::open(question),
    }
}

fn type_key(model: &Model, mut typed: Typed, key: KeyEvent) -> Reaction {
    match key.code {
        KeyCode::Esc => return Reaction::none(),
        KeyCode::Enter => {
            let Some(preparation) = &model.preparation else { return Reaction::none() };
            let in_use = &preparation.in_use;
            let kept = StreamKey::new(&typed.0)
                .map_err(|error| error.to_string())
                .and_then(|key| in_use.keys.replace(&in_use.service_name, &key).map_err(|error| error.to_string()));
            let name = &in_use.service.name;
            return Reaction::tell(match kept {
                Ok(()) => format!("the stream key of {name} is replaced; it is used when the moth is started again"),
                Err(error) => error,
            });
        }
        _ => typed.take_in(key),
    }
    Reaction::open(Dialog::EnterKey(typed))
}

fn forget_key(model: &Model) -> Reaction {
    let Some(preparation) = &model.preparation else { return Reaction::none() };
    let in_use = &preparation.in_use;
    let name = &in_use.service.name;
    Reaction::tell(match in_use.keys.forget(&in_use.service_name) {
        Ok(true) => format!("the stream key of {name} is forgotten"),
        Ok(false) => format!("no stream key of {name} was kept"),
        Err(error) => error.to_string(),
    })
}
