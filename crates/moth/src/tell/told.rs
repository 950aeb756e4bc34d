//! What a running moth does about what it is told, and who still waits for an answer.

use std::time::Duration;

use moth_core::action::Action;
use moth_core::reading::{Observation, Reading};
use moth_core::{Moment, Snapshot};
use tokio::sync::oneshot;

use super::words::{self, Meaning};
use super::{Answer, Came, ToldWords};
use crate::outlets::one_line::one_line;

/// What nothing came of after this long is answered with that. Ours.
const PATIENCE: Duration = Duration::from_secs(40);
/// A server may take twelve seconds to begin, and as long again to begin with pictures; each is then looked at for ten. Ours.
const PLAYING: Duration = Duration::from_secs(55);

fn patience(action: &Action) -> Duration {
    if *action == Action::PlayBack { PLAYING } else { PATIENCE }
}

struct Waiting {
    action: Action,
    since: Moment,
    reply: oneshot::Sender<Answer>,
}

/// Who waits for an answer.
#[derive(Default)]
pub(crate) struct Tellings {
    waiting: Vec<Waiting>,
}

impl Tellings {
    /// Takes something told. Gives what is to be done.
    pub(crate) fn take(&mut self, (tell, reply): ToldWords, snapshot: &Snapshot) -> Option<Action> {
        let meant = match words::meaning(&tell, Some(snapshot)) {
            Err(what) => Err(Answer::new(Came::NotUnderstood, what)),
            Ok(Meaning::State) => Err(Answer::new(Came::Done, state(snapshot))),
            Ok(Meaning::Line) => Err(Answer::new(Came::Done, one_line(snapshot))),
            Ok(Meaning::Undo) => {
                snapshot.undo.clone().ok_or_else(|| Answer::new(Came::NotDone, "there is nothing to put back"))
            }
            Ok(Meaning::Act(action)) => Ok(action),
        };
        let action = match meant {
            Ok(action) => action,
            Err(answer) => {
                // Who asked may be gone.
                let _ = reply.send(answer);
                return None;
            }
        };
        self.waiting.push(Waiting { action: action.clone(), since: snapshot.at, reply });
        Some(action)
    }

    /// Looks whether a reading answers somebody.
    pub(crate) fn see(&mut self, reading: &Reading) {
        let (action, answer) = match &reading.what {
            Observation::Acted { action, failed: None, .. } => {
                (action, Answer::new(Came::Done, format!("done: {}", action.words())))
            }
            Observation::Acted { action, failed: Some(why), .. } => {
                (action, Answer::new(Came::NotDone, format!("not done: {}: {why}", action.words())))
            }
            Observation::Told { action } => {
                let says = format!(
                    "by hand: this broadcaster cannot be changed from here; make it {} there, it is looked for on the wire",
                    action.words()
                );
                (action, Answer::new(Came::ByHand, says))
            }
            Observation::PlayedBack(found) => {
                let came = if found.plays() { Came::Done } else { Came::NotDone };
                (&Action::PlayBack, Answer::new(came, found.sentence()))
            }
            _ => return,
        };
        for waiting in self.waiting.extract_if(.., |w| w.action == *action) {
            let _ = waiting.reply.send(answer.clone());
        }
    }

    /// Answers those for whom nothing came.
    pub(crate) fn pass_to(&mut self, now: Moment) {
        for waiting in self.waiting.extract_if(.., |w| now.since(w.since) > patience(&w.action)) {
            let says = format!(
                "asked for {}; nothing came of it within {} s",
                waiting.action.words(),
                patience(&waiting.action).as_secs()
            );
            let _ = waiting.reply.send(Answer::new(Came::NotDone, says));
        }
    }
}

/// How the broadcast stands, in a sentence or two.
fn state(snapshot: &Snapshot) -> String {
    let state = snapshot.viewers_state().map_or("no broadcaster", |state| state.word());
    let trial = snapshot.newest_trial().map_or_else(String::new, |trial| {
        format!(" Last change: {}, {}. {}", trial.title, trial.outcome.words(trial.is_over), trial.sentence)
    });
    format!("{state}, at {}. {}{trial}", snapshot.server, snapshot.verdict.sentence)
}
