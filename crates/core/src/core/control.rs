//! What is done to the broadcast: changes, how each is proved, what would put it back, and what is done without being asked
//! each time.

mod awaited;

use std::collections::VecDeque;
use std::time::Duration;

use serde::Serialize;

pub use awaited::Awaited;

use super::broadcast::{Broadcast, Unheeded};
use super::diary::Diary;
use super::link::Link;
use super::relayed::Relayed;
use crate::action::Action;
use crate::facts::{Facts, Path, RATES};
use crate::failover::{self, Failover};
use crate::keeper::{BitrateLook, Keeper, KeeperView, Mode};
use crate::moment::Moment;
use crate::played_back::PlayedBack;
use crate::proposal::Proposal;
use crate::rate::{Bitrate, grouped};
use crate::reading::{Automatics, StreamFacts};
use crate::state::State;
use crate::suspects::Cause;
use crate::trial::{APART_S, Aim, LONGEST_S, SETTLE_S, Trial};
use crate::window::Gauge;

/// The fastest burst of so long is what the keeper is told: behind each of a few keyframes there was one. Ours.
const BURSTS: Duration = Duration::from_secs(8);
/// What the kernel delivers now is its mean over this long: five of its figures. Ours.
const DELIVERING: Duration = Duration::from_secs(1);
/// What the kernel measured is read over so long: as long as the keeper reads over what is acknowledged. Ours.
const DELIVERED: Duration = Duration::from_millis(2500);
/// The most trials kept; a whole evening has a few dozen. Ours.
const TRIALS: usize = 200;
/// So many trials are told in a snapshot: as many are put back one after another as anybody does. Ours.
const TRIALS_TOLD: usize = 8;

/// A change that was made.
#[derive(Debug, Clone)]
struct Change {
    /// What puts it back.
    back: Action,
    /// The keeper made it.
    by_keeper: bool,
}

/// What came of something that was asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// When it came.
    pub at: Moment,
    /// What was asked for.
    pub action: Action,
    /// Why it was not done; `None` if it was.
    pub failed: Option<String>,
}

/// A change of servers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Moved {
    /// When.
    #[serde(skip)]
    pub at: Moment,
    /// The server it left.
    pub from: String,
    /// The server it came to.
    pub to: String,
    /// Milliseconds between the last picture handed to the one and the first handed to the other.
    pub gap_ms: u64,
    /// Milliseconds of the stream's own time that neither got.
    pub missing_ms: u64,
}

/// What is done to the broadcast.
#[derive(Debug, Clone, Default)]
pub(super) struct Control {
    /// What is there to be put back, the newest last.
    undo: Vec<Change>,
    trials: Vec<Trial>,
    keeper: Keeper,
    failover: Failover,
    /// Whether the broadcast is played back once it is at a server, and at which it was already.
    plays_back: bool,
    played_at: Option<String>,
    /// What is wanted without being asked for, and not yet taken up.
    wishes: VecDeque<Action>,
    awaited: Option<Awaited>,
    answered: Option<Answer>,
    moved: Option<Moved>,
}

/// A broadcast that has been at a server for so long has begun there. Ours: a group of pictures or two.
const THERE: Duration = Duration::from_secs(5);

/// Who made a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum By {
    User,
    Keeper,
    Failover,
}

impl By {
    /// As it stands behind what was done.
    fn words(self) -> &'static str {
        match self {
            Self::User => "",
            Self::Keeper => " (the keeper)",
            Self::Failover => " (by itself)",
        }
    }
}

impl Control {
    /// The next thing that is wanted without being asked for.
    pub(super) fn take_wish(&mut self) -> Option<Action> {
        self.wishes.pop_front()
    }

    /// What may be done without being asked each time.
    pub(super) fn arrange(&mut self, automatics: &Automatics) {
        self.keeper.set_bounds(automatics.bounds);
        self.keeper.set_mode(automatics.keeper);
        self.plays_back = automatics.play_back;
        self.failover.arrange(automatics.failover, automatics.failovers_an_hour, automatics.tested.clone());
    }

    /// The connection or the broadcast is another.
    pub(super) fn begin_again(&mut self) {
        self.keeper.begin_again();
    }

    /// Another broadcast.
    pub(super) fn broadcast_changed(&mut self) {
        self.played_at = None;
    }

    /// The broadcast was played back.
    pub(super) fn played_back(&mut self, at: Moment, found: &PlayedBack) {
        let failed = (!found.plays()).then(|| found.sentence());
        self.answered = Some(Answer { at, action: Action::PlayBack, failed });
    }

    /// Wants the broadcast played back, where that is wished for: once at each server, when it has been there for a while.
    pub(super) fn look_after_playing_back(&mut self, now: Moment, broadcast: &Broadcast, link: &Link) {
        let is_there = broadcast.is_on_air() && link.up && link.up_since.is_some_and(|since| now.since(since) >= THERE);
        if self.plays_back && is_there && self.played_at.as_ref() != Some(&link.server) {
            self.played_at = Some(link.server.clone());
            self.wishes.push_back(Action::PlayBack);
        }
    }

    /// An action was carried out, or was not; `back` puts it back, where whoever did it knows.
    pub(super) fn acted(
        &mut self,
        now: Moment,
        (action, failed, back): (&Action, Option<&str>, Option<&Action>),
        (broadcast, link, diary): (&mut Broadcast, &Link, &mut Diary),
    ) {
        let what = action.words();
        self.answered = Some(Answer { at: now, action: action.clone(), failed: failed.map(str::to_owned) });
        let by = self.by_whom(action);
        if by == By::Failover {
            self.failover.settled(now, &link.server);
        }
        if let Some(why) = failed {
            if by == By::Keeper {
                self.keeper.was_not_made(why);
            }
            return diary.mark(now, format!("{what}{}: not done, {why}", by.words()), false);
        }
        // Only the change that was looked for ends the looking.
        let same = |awaited: &Awaited| std::mem::discriminant(&awaited.action) == std::mem::discriminant(action);
        self.awaited.take_if(|awaited| same(awaited));
        diary.mark(now, format!("{what}{}", by.words()), true);
        let before = broadcast.stream;
        let known_back = broadcast.takes_effect(now, action).or_else(|| self.takes_effect(action, link));
        let back = back.cloned().or(known_back);
        if let Action::SetBitrate { video } = action {
            match (by, &back) {
                (By::Keeper, Some(Action::SetBitrate { video: from })) => self.keeper.was_made(now, *from, *video),
                _ => self.keeper.overruled(),
            }
        }
        let puts_back = back.is_some() && self.undo.last().is_some_and(|last| last.back == *action);
        if puts_back {
            // The change that puts the last one back is not a change to be put back in turn.
            self.undo.pop();
        }
        // A keeper that has climbed to where it began is tried all the same; an undo is not.
        if let (true, false, Some(trial)) = (puts_back, by == By::Keeper, self.trials.last_mut()) {
            trial.put_back(diary.history());
        } else if action.is_tried() {
            self.open_trial(now, (action, back.as_ref()), [&before, &broadcast.stream], diary);
        }
        if puts_back {
            return;
        }
        let Some(back) = back else { return };
        let by_keeper = by == By::Keeper;
        match self.undo.last() {
            // What the keeper did in several steps is put back in one.
            Some(last) if last.by_keeper && by_keeper => {}
            _ => self.undo.push(Change { back, by_keeper }),
        }
    }

    fn by_whom(&self, action: &Action) -> By {
        match action {
            Action::SetBitrate { video } if self.keeper.wanted(*video) => By::Keeper,
            Action::SwitchServer { server } if self.failover.wanted(server) => By::Failover,
            _ => By::User,
        }
    }

    /// Notes what is done otherwise from now on; gives what would put it back.
    fn takes_effect(&mut self, action: &Action, link: &Link) -> Option<Action> {
        match action {
            Action::SwitchServer { .. } => return Some(Action::SwitchServer { server: link.server.clone() }),
            Action::SetKeeper { mode } => self.keeper.set_mode(*mode),
            Action::SetFailover { on } => self.failover.set_consent(*on),
            // What concerns the broadcast, it knows; of the rest, whoever did it knows what it was before.
            Action::SetBitrate { .. }
            | Action::SetSize { .. }
            | Action::SetRate { .. }
            | Action::LighterPreset
            | Action::HeavierPreset
            | Action::SetPriority { .. }
            | Action::PlayBack
            | Action::ByHand { .. } => {}
        }
        None
    }

    fn open_trial(
        &mut self,
        now: Moment,
        (action, back): (&Action, Option<&Action>),
        streams: [&StreamFacts; 2],
        diary: &Diary,
    ) {
        let is_more = match (action, back) {
            (Action::SetBitrate { video }, Some(Action::SetBitrate { video: from })) => video > from,
            _ => false,
        };
        let aim = if is_more { Aim::MorePicture } else { Aim::FewerLost };
        let mut trial = Trial::open(action.clone(), aim, diary.fault(), now, diary.history(), streams);
        if let Some(last) = self.trials.last_mut()
            && !last.put_back
            && last.age(now) < Duration::from_secs((LONGEST_S + SETTLE_S) as u64)
        {
            // What follows now may be the work of either.
            trial.beside_another = !last.is_over && last.age(now) < Duration::from_secs(APART_S);
            last.overtaken(&trial.title);
        }
        self.trials.push(trial);
        if self.trials.len() > TRIALS {
            self.trials.remove(0);
        }
    }

    /// A second has passed.
    pub(super) fn follow_trials(&mut self, now: Moment, next: &[Proposal], diary: &mut Diary) {
        let Some(trial) = self.trials.last_mut() else { return };
        if trial.follow(diary.history(), next) {
            diary.mark(now, format!("{}: {}", trial.outcome.words(true), trial.title), false);
        }
    }

    /// The user was told what to change: what can be seen on the wire is looked for there, the rest is believed.
    pub(super) fn told(
        &mut self,
        now: Moment,
        action: &Action,
        (broadcast, link, diary): (&mut Broadcast, &Link, &mut Diary),
    ) {
        if !Awaited::is_seen(action) {
            return self.acted(now, (action, None, None), (broadcast, link, diary));
        }
        diary.mark(now, format!("{}: looked for on the wire", action.words()), false);
        self.awaited = Some(Awaited::begin(now, action, broadcast));
    }

    /// Whether what the user was told is done, half done, or not done.
    pub(super) fn follow_awaited(
        &mut self,
        now: Moment,
        (broadcast, link, diary): (&mut Broadcast, &Link, &mut Diary),
    ) {
        let Some(awaited) = &mut self.awaited else { return };
        let is_done = awaited.look(now, broadcast);
        let (action, lasts) = (awaited.action.clone(), now.since(awaited.since));
        if is_done {
            let back = awaited.back.take();
            self.awaited = None;
            diary.mark(now, format!("seen on the wire: {}", action.words()), false);
            self.acted(now, (&action, None, back.as_ref()), (broadcast, link, diary));
        } else if lasts > awaited::LOOKED_FOR && awaited::is_settled(now, broadcast) {
            let sentence = std::mem::take(&mut awaited.sentence);
            self.awaited = None;
            diary.mark(now, format!("{}: not done. {sentence}", action.words()), false);
            self.answered = Some(Answer { at: now, action, failed: Some(sentence) });
        }
    }

    /// The wire shows that a change was not made.
    pub(super) fn was_not_heeded(&mut self, now: Moment, unheeded: &Unheeded, diary: &mut Diary) {
        let action = Action::SetBitrate { video: unheeded.to };
        let why = &unheeded.why;
        diary.mark(now, format!("{}: {why}", action.words()), false);
        self.keeper.was_not_heeded(unheeded.to, why);
        if let Some(trial) = self.trials.last_mut().filter(|trial| trial.action == action) {
            trial.was_not_made(why);
        }
    }

    /// Lets the keeper look.
    pub(super) fn look_after_bitrate(
        &mut self,
        now: Moment,
        (broadcast, relayed, link): (&Broadcast, &Relayed, &Link),
        diary: &mut Diary,
    ) {
        if self.keeper.mode() == Mode::Off || !broadcast.is_on_air() {
            return;
        }
        let fastest = |gauge: &Gauge, span| gauge.highest(now, span).map(|kbps| Bitrate::from_bps((kbps * 1e3) as u64));
        let look = BitrateLook {
            now,
            queue_ms: relayed.queue.ms,
            limit_ms: relayed.queue.limit_ms,
            sent_bytes: relayed.sent_bytes.total(),
            is_busy: relayed.queue.bytes > 0,
            link_up: link.up,
            dropped: relayed.accounts.video.dropped,
            asked_video: broadcast.video_over(now, RATES),
            audio: broadcast.audio_now(now),
            set_to: broadcast.bitrate_set(),
            is_only_seen: broadcast.bitrate_is_only_seen(),
            restarts: broadcast.stream.restarts,
            delivered: fastest(&link.delivery_kbps, DELIVERED),
            delivering: link.delivery_kbps.mean(now, DELIVERING).map(|kbps| Bitrate::from_bps((kbps * 1e3) as u64)),
            bursts: fastest(&link.delivery_kbps, BURSTS),
        };
        let Some(wanted) = self.keeper.look(&look) else { return };
        if self.keeper.mode() == Mode::Act {
            diary.mark(now, format!("keeper, to {}: {}", wanted.to, wanted.why), false);
            self.wishes.push_back(Action::SetBitrate { video: wanted.to });
        } else {
            diary.mark(now, format!("keeper advises {}: {}", wanted.to, wanted.why), false);
        }
    }

    /// Lets the failover look.
    pub(super) fn look_after_server(
        &mut self,
        now: Moment,
        (facts, cause, state): (&Facts, Option<Cause>, Option<State>),
        servers: &[String],
        diary: &mut Diary,
    ) {
        let silent = |path: &Path| path.unanswered > 1.0 && path.rtt_ms.is_none();
        let look = failover::ServerLook {
            now,
            state,
            cause,
            server: &facts.server,
            servers,
            asked: facts.asked,
            others_silent: silent(&facts.other) || silent(&facts.gateway),
        };
        if let Some((server, why)) = self.failover.look(&look) {
            diary.mark(now, format!("to {server} by itself: {why}"), false);
            self.wishes.push_back(Action::SwitchServer { server });
        }
    }

    /// The broadcast moved from one server to another.
    pub(super) fn moved(&mut self, moved: Moved, diary: &mut Diary) {
        let Moved { at, from, to, gap_ms, missing_ms } = &moved;
        let (gap, missing) = (grouped(*gap_ms), grouped(*missing_ms));
        diary.mark(
            *at,
            format!("{from} to {to}: {gap} ms between pictures, {missing} ms of the stream missing"),
            false,
        );
        self.moved = Some(moved);
    }

    /// What undoing the last change would do.
    pub(super) fn undo(&self) -> Option<Action> {
        self.undo.last().map(|change| change.back.clone())
    }

    /// The newest trials, the newest last.
    pub(super) fn trials(&self) -> &[Trial] {
        &self.trials[self.trials.len().saturating_sub(TRIALS_TOLD)..]
    }

    pub(super) fn keeper(&self) -> KeeperView {
        self.keeper.view()
    }

    /// Whether servers are changed by themselves.
    pub(super) fn failover(&self) -> bool {
        self.failover.consent()
    }

    pub(super) fn awaited(&self) -> Option<&Awaited> {
        self.awaited.as_ref()
    }

    pub(super) fn answered(&self) -> Option<&Answer> {
        self.answered.as_ref()
    }

    pub(super) fn last_moved(&self) -> Option<&Moved> {
        self.moved.as_ref()
    }
}
