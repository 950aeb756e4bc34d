//! A change of servers while on air, from the wish to its answer: how far it is, and what each thing that happens makes of it.
//!
//! Without I/O: `A` is a connection being made, `L` one that is open.

use std::future::{Future, pending};

use moth_destination::LinkError;

/// What came of a wish for a server: whoever wished waits for one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Answer {
    /// Which server was wished for, by its place among them.
    pub to: usize,
    /// Why it was not done; `None` if it was.
    pub failed: Option<String>,
}

impl Answer {
    fn done(to: usize) -> Self {
        Self { to, failed: None }
    }

    fn refused(to: usize, why: impl Into<String>) -> Self {
        Self { to, failed: Some(why.into()) }
    }
}

/// How far a change of servers is.
#[derive(Debug, Default)]
pub(crate) enum Handover<A, L> {
    /// None is under way: the broadcast stays where it is.
    #[default]
    Staying,
    /// A connection is being made beside the old one.
    Opening {
        /// The server it is to.
        to: usize,
        /// The connection.
        attempt: A,
    },
    /// It is open, and waits for a keyframe to begin with.
    Open {
        /// The server it is to.
        to: usize,
        /// The connection.
        line: L,
    },
    /// The old connection is to be closed first, as soon as there is a keyframe for the new one to begin with.
    Leaving {
        /// The server to go to then.
        to: usize,
    },
    /// The old connection is being closed, or is closed, and the new one is not open yet.
    Between {
        /// The server it is to be to.
        to: usize,
    },
}

/// What is to be done now that there is a keyframe for a new connection to begin with.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Turn<L> {
    /// This connection takes over from the old one.
    Over(usize, L),
    /// The old connection is to be closed, and one to this server made.
    Close(usize),
}

impl<A, L> Handover<A, L> {
    /// Where the broadcast is to go; `None` if it stays.
    pub(crate) fn to(&self) -> Option<usize> {
        match self {
            Self::Staying => None,
            Self::Opening { to, .. } | Self::Open { to, .. } | Self::Leaving { to } | Self::Between { to } => Some(*to),
        }
    }

    /// Another server is wished for while the broadcast is `here`. The newest wish counts, also one to stay; `open` begins a
    /// connection beside the old one, where a service takes two at once.
    pub(crate) fn wished(&mut self, to: usize, here: usize, open: Option<impl FnOnce() -> A>) -> Vec<Answer> {
        if self.to() == Some(to) {
            return vec![Answer::refused(to, "it is on its way there already")];
        }
        let older = self.refused("another server was chosen before the broadcast got there");
        let stays = (to == here).then(|| Answer::refused(to, "the broadcast is already there"));
        if stays.is_none() {
            *self = match open {
                Some(open) => Self::Opening { to, attempt: open() },
                None => Self::Leaving { to },
            };
        }
        older.into_iter().chain(stays).collect()
    }

    /// Ready with what comes of the connection that is being made; never, while none is.
    pub(crate) async fn attempted(&mut self) -> Result<L, LinkError>
    where
        A: Future<Output = Result<L, LinkError>> + Unpin,
    {
        match self {
            Self::Opening { attempt, .. } => attempt.await,
            _ => pending().await,
        }
    }

    /// The connection that was being made is open, or could not be made.
    pub(crate) fn opened(&mut self, outcome: Result<L, LinkError>) -> Option<Answer> {
        match (outcome, std::mem::take(self)) {
            (Ok(line), Self::Opening { to, .. }) => {
                *self = Self::Open { to, line };
                None
            }
            (Err(error), Self::Opening { to, .. }) => Some(Answer::refused(to, error.why)),
            (_, other) => {
                *self = other;
                None
            }
        }
    }

    /// There is a keyframe for a new connection to begin with: what is to be done, if anything is.
    pub(crate) fn at_keyframe(&mut self) -> Option<Turn<L>> {
        match std::mem::take(self) {
            Self::Open { to, line } => {
                *self = Self::Between { to };
                Some(Turn::Over(to, line))
            }
            Self::Leaving { to } => {
                *self = Self::Between { to };
                Some(Turn::Close(to))
            }
            other => {
                *self = other;
                None
            }
        }
    }

    /// The old connection is lost. A new one that is open takes over; else, the answer says that the broadcast goes on at the
    /// server that was wished for.
    pub(crate) fn lost(&mut self) -> (Option<Turn<L>>, Option<Answer>) {
        match std::mem::take(self) {
            Self::Open { to, line } => {
                *self = Self::Between { to };
                (Some(Turn::Over(to, line)), None)
            }
            Self::Opening { to, .. } | Self::Leaving { to } | Self::Between { to } => (None, Some(Answer::done(to))),
            Self::Staying => (None, None),
        }
    }

    /// The broadcast is at another server.
    pub(crate) fn arrived(&mut self, at: usize) -> Answer {
        *self = Self::Staying;
        Answer::done(at)
    }

    /// It comes to nothing, whatever it was.
    pub(crate) fn refused(&mut self, why: &str) -> Option<Answer> {
        let to = self.to()?;
        *self = Self::Staying;
        Some(Answer::refused(to, why))
    }
}

#[cfg(test)]
mod tests {
    use moth_destination::FailureKind;

    use super::*;

    type Plain = Handover<&'static str, &'static str>;

    fn refused(to: usize, why: &str) -> Answer {
        Answer { to, failed: Some(why.to_owned()) }
    }

    fn done(to: usize) -> Answer {
        Answer { to, failed: None }
    }

    fn name(state: &Plain) -> String {
        let name = match state {
            Handover::Staying => "staying",
            Handover::Opening { .. } => "opening",
            Handover::Open { .. } => "open",
            Handover::Leaving { .. } => "leaving",
            Handover::Between { .. } => "between",
        };
        state.to().map_or(name.to_owned(), |to| format!("{name} {to}"))
    }

    /// Every state there is, on the way to server 1; the broadcast is at server 0.
    fn all() -> [Plain; 5] {
        [
            Handover::Staying,
            Handover::Opening { to: 1, attempt: "dialling" },
            Handover::Open { to: 1, line: "line" },
            Handover::Leaving { to: 1 },
            Handover::Between { to: 1 },
        ]
    }

    /// What each state, in the order of [`all`], becomes by something, and what comes out.
    fn each<T>(happens: impl Fn(&mut Plain) -> T) -> Vec<(String, T)> {
        all()
            .into_iter()
            .map(|mut state| {
                let out = happens(&mut state);
                (name(&state), out)
            })
            .collect()
    }

    fn became<T: Clone>(what: Vec<(String, T)>) -> (Vec<String>, Vec<T>) {
        what.into_iter().unzip()
    }

    #[test]
    fn a_wish_for_another_server_begins_with_a_connection_beside_the_old_one() {
        let (states, answers) = became(each(|state| state.wished(2, 0, Some(|| "dialling"))));
        assert_eq!(states, ["opening 2"; 5]);
        let older = vec![refused(1, "another server was chosen before the broadcast got there")];
        assert_eq!(answers, [vec![], older.clone(), older.clone(), older.clone(), older]);
    }

    #[test]
    fn where_a_service_takes_one_connection_the_old_one_is_left_first() {
        let (states, _) = became(each(|state| state.wished(2, 0, None::<fn() -> &'static str>)));
        assert_eq!(states, ["leaving 2"; 5]);
    }

    #[test]
    fn a_wish_for_where_it_goes_already_changes_nothing() {
        let (states, answers) = became(each(|state| state.wished(1, 0, Some(|| "dialling anew"))));
        assert_eq!(states, ["opening 1", "opening 1", "open 1", "leaving 1", "between 1"]);
        let there = vec![refused(1, "it is on its way there already")];
        assert_eq!(answers, [vec![], there.clone(), there.clone(), there.clone(), there]);
        let mut opening: Plain = Handover::Opening { to: 1, attempt: "dialling" };
        let _ = opening.wished(1, 0, Some(|| "dialling anew"));
        assert!(matches!(opening, Handover::Opening { attempt: "dialling", .. }), "the connection goes on being made");
    }

    #[test]
    fn a_wish_to_stay_ends_what_was_under_way() {
        let (states, answers) = became(each(|state| state.wished(0, 0, Some(|| "dialling"))));
        assert_eq!(states, ["staying"; 5]);
        let here = refused(0, "the broadcast is already there");
        let both = vec![refused(1, "another server was chosen before the broadcast got there"), here.clone()];
        assert_eq!(answers, [vec![here], both.clone(), both.clone(), both.clone(), both]);
    }

    #[test]
    fn a_connection_that_opens_waits_for_a_keyframe() {
        let (states, answers) = became(each(|state| state.opened(Ok("line"))));
        assert_eq!(states, ["staying", "open 1", "open 1", "leaving 1", "between 1"]);
        assert!(answers.iter().all(Option::is_none));
    }

    #[test]
    fn one_that_cannot_be_made_is_told_and_the_broadcast_stays() {
        let (states, answers) =
            became(each(|state| state.opened(Err(LinkError::new(FailureKind::Silent, "no answer within 5 s")))));
        assert_eq!(states, ["staying", "staying", "open 1", "leaving 1", "between 1"]);
        assert_eq!(answers, [None, Some(refused(1, "no answer within 5 s")), None, None, None]);
    }

    #[test]
    fn a_keyframe_lets_the_new_connection_take_over_or_the_old_one_be_closed() {
        let mut turns = Vec::new();
        for mut state in all() {
            let turn = state.at_keyframe();
            turns.push((name(&state), turn));
        }
        let expected = [
            ("staying", None),
            ("opening 1", None),
            ("between 1", Some(Turn::Over(1, "line"))),
            ("between 1", Some(Turn::Close(1))),
            ("between 1", None),
        ];
        assert_eq!(turns, expected.map(|(state, turn)| (state.to_owned(), turn)));
    }

    #[test]
    fn a_lost_connection_makes_the_wish_come_true_one_way_or_the_other() {
        let mut seen = Vec::new();
        for mut state in all() {
            let (turn, answer) = state.lost();
            seen.push((name(&state), turn, answer));
        }
        let expected = [
            ("staying", None, None),
            ("staying", None, Some(done(1))),
            ("between 1", Some(Turn::Over(1, "line")), None),
            ("staying", None, Some(done(1))),
            ("staying", None, Some(done(1))),
        ];
        assert_eq!(seen, expected.map(|(state, turn, answer)| (state.to_owned(), turn, answer)));
    }

    #[test]
    fn who_wished_is_answered_once_however_it_ends() {
        let (states, answers) = became(each(|state| state.arrived(1)));
        assert_eq!(states, ["staying"; 5]);
        assert!(answers.iter().all(|answer| *answer == done(1)));
        let (states, answers) = became(each(|state| state.refused("the broadcast ended first")));
        assert_eq!(states, ["staying"; 5]);
        let ended = Some(refused(1, "the broadcast ended first"));
        assert_eq!(answers, [None, ended.clone(), ended.clone(), ended.clone(), ended]);
    }

    #[tokio::test]
    async fn only_a_connection_that_is_being_made_is_waited_for() {
        let mut handover = Handover::Opening { to: 1, attempt: std::future::ready(Ok::<_, LinkError>("line")) };
        assert_eq!(handover.attempted().await, Ok("line"));
        let mut staying: Handover<std::future::Ready<Result<&str, LinkError>>, &str> = Handover::Staying;
        assert!(futures::FutureExt::now_or_never(staying.attempted()).is_none());
    }
}
