//! Runs a climb on a broadcast: has each rung set, waits until what is seen is the rung's own, hands its seconds on, and puts
//! everything back. It is asked at every look, and says what is to be done; doing it is others' business.

use std::time::Duration;

use moth_core::action::Action;
use moth_core::frame_rate::FrameRate;
use moth_core::moment::Moment;
use moth_core::reading::StreamFacts;
use moth_core::trial::SETTLE_S;
use moth_core::{Bitrate, Snapshot, State};
use serde::{Deserialize, Serialize};

use crate::climb::{Climb, Next, Purpose, Times, Tried};
use crate::figures::{Figures, Known};
use crate::ladder::{Kind, Ladder, Value};
use crate::presence::{AWAY_WITHIN, Away, Beginning};
use crate::tried::{Length, Seen};

/// So long it may take until a change is made, and seen. Ours.
const MADE_WITHIN: Duration = Duration::from_secs(25);
/// So long the user's own hand may take for a change: a little longer than the core looks for it on the wire. Ours.
const BY_HAND_WITHIN: Duration = Duration::from_secs(130);
/// So long it may take until what the rung before left behind is gone: what waits in the moth is thrown away, what waits in the line
/// is not, and pictures begin at the next keyframe. What does not settle by then is the rung's own. Ours.
const SETTLED_WITHIN: Duration = Duration::from_secs(10);
/// What a rung left behind is waited for so long at least: a second must have passed in which it is seen. Ours.
const AT_LEAST: Duration = Duration::from_millis(1100);
/// A broadcaster says within this what it takes. Ours.
const TOLD_WITHIN: Duration = Duration::from_secs(8);
/// Of what was set at least this share must be sent, or the rung was never stood on. Ours.
const LOADED: f64 = 0.8;

/// What is to be done now.
#[derive(Debug, Clone, PartialEq)]
pub enum Does {
    /// The broadcaster, or whoever has it in hand, is to do this.
    Act(Action),
    /// Drop every frame that waits: it is of the rung before.
    Drop,
    /// Nothing: look again.
    Wait,
    /// Nothing any more.
    Over(End),
}

/// How it ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// Enough is known.
    Done,
    /// The time that was given is over.
    TimeOver,
    /// It was ended by hand.
    Cancelled,
    /// The broadcaster went away.
    BroadcasterGone,
    /// No server took the broadcast.
    NoServer,
    /// Not even the lightest rung could be set.
    NotSet,
    /// The program itself was ended in the middle of it.
    CutOff,
}

/// Why no heavier rung than those tried can be had.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Ceiling {
    /// The lightest rung that cannot be had, by its place.
    pub rung: usize,
    /// Why not, in a sentence.
    pub why: String,
}

/// Where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Stand {
    /// A broadcaster, or a server that takes it, is waited for.
    Waiting,
    /// A rung is being set.
    Setting,
    /// The user is asked to set it, and the wire is watched.
    Asking,
    /// What was before must drain away first.
    Settling,
    /// It is being tried.
    Trying,
    /// What was before is put back.
    PuttingBack,
    /// It is over.
    Over,
}

#[derive(Debug, Clone, PartialEq)]
enum Phase {
    Begin,
    /// This was asked for, on the way to the rung that is next.
    Setting(Asked),
    Settling {
        since: Moment,
        has_dropped: bool,
    },
    /// Its seconds count from that one on.
    Trying {
        from: usize,
    },
    /// This was asked for, on the way back; `None` before the first.
    PuttingBack(Option<Asked>),
    Over,
}

/// Something was asked for.
#[derive(Debug, Clone, PartialEq)]
struct Asked {
    action: Action,
    at: Moment,
    /// It was asked for on the way to a rung that is not wanted any more.
    is_stale: bool,
}

/// A climb that is being run.
#[derive(Debug, Clone, PartialEq)]
pub struct Runner {
    ladder: Ladder,
    climb: Climb,
    phase: Phase,
    next: Next,
    /// What was before: what the broadcaster says when it comes, or the setup's.
    start: Value,
    /// What one before this left it at, and what had been there.
    left_before: Option<(Value, Value)>,
    /// The broadcaster ends with the program, and begins anew with what was before.
    is_own: bool,
    /// What is in force.
    at: Value,
    /// What was seen of the rung that is tried.
    seen: Seen,
    ceiling: Option<Ceiling>,
    end: Option<End>,
    /// Why it ended, where that is not plain.
    why: Option<String>,
    away: Away,
    /// How the losses that were counted are known.
    known: Known,
    /// What could not be put back.
    left_at: Option<Value>,
    by_hand: bool,
    /// It ends then, with what was found.
    ends_at: Option<Moment>,
}

impl Runner {
    /// Up this ladder. `start` is what the setup has, and is put back in the end; if the broadcaster says otherwise when it comes, that
    /// is.
    #[must_use]
    pub fn new(ladder: Ladder, times: Times, start: Value) -> Self {
        let climb = Climb::new(ladder.rungs().len(), times);
        let next = climb.next();
        Self {
            ladder,
            climb,
            phase: Phase::Begin,
            next,
            at: start.clone(),
            start,
            left_before: None,
            is_own: false,
            seen: Seen::default(),
            ceiling: None,
            end: None,
            why: None,
            away: Away::default(),
            known: Known::default(),
            left_at: None,
            by_hand: false,
            ends_at: None,
        }
    }

    /// One before this left the broadcaster at `left_at`, where `start` had been. If it is still there, that is put back.
    #[must_use]
    pub fn after_one_that_left(mut self, left_at: Value, start: Value) -> Self {
        self.left_before = Some((left_at, start));
        self
    }

    /// The broadcaster is run by this program: it ends with it, and begins anew with what was before.
    #[must_use]
    pub fn running_the_broadcaster(self) -> Self {
        Self { is_own: true, ..self }
    }

    /// It is to end after so long, with what was found by then.
    #[must_use]
    pub fn within(mut self, long: Option<Duration>) -> Self {
        self.ends_at = long.map(Moment::after);
        self
    }

    /// The climb so far.
    #[must_use]
    pub fn climb(&self) -> &Climb {
        &self.climb
    }

    /// What is climbed.
    #[must_use]
    pub fn ladder(&self) -> &Ladder {
        &self.ladder
    }

    /// The rung that is set or tried, with why and for how long; `None` once it is over.
    #[must_use]
    pub fn now(&self) -> Option<(&Value, usize, Length, Purpose)> {
        let Next::Try { rung, length, purpose } = self.next else { return None };
        if self.end.is_some() {
            return None;
        }
        Some((self.ladder.rungs().get(rung)?, rung, length, purpose))
    }

    /// Where it stands.
    #[must_use]
    pub fn stand(&self) -> Stand {
        match &self.phase {
            Phase::Begin => Stand::Waiting,
            Phase::Setting(_) if self.by_hand => Stand::Asking,
            Phase::Setting(_) => Stand::Setting,
            Phase::Settling { .. } => Stand::Settling,
            Phase::Trying { .. } => Stand::Trying,
            Phase::PuttingBack(_) => Stand::PuttingBack,
            Phase::Over => Stand::Over,
        }
    }

    /// Seconds of the running try that count, and how many of its frames were lost.
    #[must_use]
    pub fn seen(&self) -> &Seen {
        &self.seen
    }

    /// How the losses that were counted are known.
    #[must_use]
    pub fn known(&self) -> Known {
        self.known
    }

    /// What was in force before.
    #[must_use]
    pub fn start(&self) -> &Value {
        &self.start
    }

    /// Why no heavier rung can be had, if that is so.
    #[must_use]
    pub fn ceiling(&self) -> Option<&Ceiling> {
        self.ceiling.as_ref()
    }

    /// How it ended, once it has.
    #[must_use]
    pub fn end(&self) -> Option<End> {
        self.end
    }

    /// Why, where that is not plain.
    #[must_use]
    pub fn why(&self) -> Option<&str> {
        self.why.as_deref()
    }

    /// What the broadcaster was left at, if what was before could not be put back, or was not yet.
    #[must_use]
    pub fn left_at(&self) -> Option<Value> {
        if self.phase == Phase::Over { self.left_at.clone() } else { self.would_be_left() }
    }

    /// What the broadcaster would be left at if nothing more could be done.
    fn would_be_left(&self) -> Option<Value> {
        let asked = match &self.phase {
            Phase::Setting(asked) => self.at.after(&asked.action),
            _ => self.at.clone(),
        };
        (!self.is_own && self.start.step_from(&asked).is_some()).then_some(asked)
    }

    /// About how many seconds are left, if everything holds that is tried from now on.
    #[must_use]
    pub fn left_s(&self) -> usize {
        if self.end.is_some() { 0 } else { self.climb.left_s(SETTLE_S + 3).saturating_sub(self.seen.seconds()) }
    }

    /// Ends it; what was before is put back at the next looks.
    pub fn cancel(&mut self) {
        if self.end.is_none() {
            self.finish(End::Cancelled, None);
        }
    }

    /// Looks at the broadcast.
    pub fn look(&mut self, snapshot: &Snapshot) -> Does {
        let now = snapshot.at;
        if self.ends_at.is_some_and(|ends_at| now >= ends_at) && self.end.is_none() {
            self.take_what_there_is(snapshot);
            self.finish(End::TimeOver, None);
        }
        if self.is_gone(snapshot) {
            self.left_at = self.would_be_left();
            if self.end.is_none() {
                self.end = Some(End::BroadcasterGone);
            }
            self.phase = Phase::Over;
        }
        match std::mem::replace(&mut self.phase, Phase::Over) {
            Phase::Over => Does::Over(self.end.unwrap_or(End::Done)),
            Phase::Begin => self.begin(snapshot),
            Phase::Setting(asked) => self.follow_setting(snapshot, asked),
            Phase::Settling { since, has_dropped } => self.settle(snapshot, since, has_dropped),
            Phase::Trying { from } => {
                if snapshot.on_air_since.is_none() {
                    // It may be back in a moment; then the try begins anew.
                    self.phase = Phase::Settling { since: now, has_dropped: false };
                    return Does::Wait;
                }
                self.phase = Phase::Trying { from };
                self.follow(snapshot, from)
            }
            Phase::PuttingBack(asked) => self.put_back(snapshot, asked),
        }
    }

    /// Whether the broadcaster has been away for too long.
    fn is_gone(&mut self, snapshot: &Snapshot) -> bool {
        if matches!(self.phase, Phase::Begin | Phase::Over) {
            return false;
        }
        // Many broadcasters must stop before their user can change them.
        let within = if self.by_hand { BY_HAND_WITHIN } else { AWAY_WITHIN };
        self.away.is_longer(snapshot, within)
    }

    fn begin(&mut self, snapshot: &Snapshot) -> Does {
        self.phase = Phase::Begin;
        match Beginning::of(snapshot) {
            Beginning::NotYet => Does::Wait,
            Beginning::NoServer(why) => {
                self.finish(End::NoServer, why);
                Does::Wait
            }
            // By hand a preset would be changed where nobody sees it.
            Beginning::Taken if self.ladder.kind() == Kind::Preset && !snapshot.stream.takes_preset => {
                if snapshot.on_air_since.is_some_and(|since| snapshot.at.since(since) > TOLD_WITHIN) {
                    let why = "a preset is not seen on the wire, and nothing here changes it: let the moth run the encoder's command, or a program on the feed";
                    self.finish(End::NotSet, Some(why.into()));
                }
                Does::Wait
            }
            Beginning::Taken => {
                self.find_the_start(&snapshot.stream);
                self.set(snapshot.at)
            }
        }
    }

    /// What is in force as it begins, and what is put back in the end.
    fn find_the_start(&mut self, stream: &StreamFacts) {
        if !self.is_own
            && let Some(stated) = stated(self.ladder.kind(), stream)
        {
            self.start = stated;
        }
        self.at = self.start.clone();
        let is_still_there = |left_at: &Value| self.start.step_from(left_at).is_none();
        // Of a preset nobody says where it is.
        let is_silent = stated(self.ladder.kind(), stream).is_none();
        match self.left_before.take() {
            Some((left_at, before)) if !self.is_own && (is_silent || is_still_there(&left_at)) => {
                (self.at, self.start) = (left_at, before);
            }
            _ => {}
        }
    }

    /// Waits until what is seen is the rung's own.
    fn settle(&mut self, snapshot: &Snapshot, since: Moment, has_dropped: bool) -> Does {
        self.phase = Phase::Settling { since, has_dropped: true };
        if !has_dropped {
            return Does::Drop;
        }
        let newest = snapshot.history.len().checked_sub(1).and_then(|last| snapshot.history.get(last));
        let loses_none = newest.is_some_and(|second| second.dropped.unwrap_or(0) == 0);
        let waited = snapshot.at.since(since);
        let is_settled = waited > AT_LEAST && snapshot.state == Some(State::Steady) && loses_none;
        if snapshot.on_air_since.is_some() && (is_settled || waited > SETTLED_WITHIN) {
            self.seen = Seen::default();
            self.phase = Phase::Trying { from: snapshot.history.len() + SETTLE_S };
        }
        Does::Wait
    }

    /// Takes a step towards the rung that is next.
    fn set(&mut self, now: Moment) -> Does {
        let Some(value) = self.now().map(|(value, ..)| value.clone()) else {
            self.finish(End::Done, None);
            return Does::Wait;
        };
        self.seen = Seen::default();
        match value.step_from(&self.at) {
            // It is in force.
            None => {
                self.at = value;
                self.by_hand = false;
                self.phase = Phase::Settling { since: now, has_dropped: false };
                Does::Wait
            }
            Some(action) => {
                self.phase = Phase::Setting(Asked { action: action.clone(), at: now, is_stale: false });
                Does::Act(action)
            }
        }
    }

    fn follow_setting(&mut self, snapshot: &Snapshot, asked: Asked) -> Does {
        match self.answer(snapshot, &asked) {
            None => {
                self.phase = Phase::Setting(asked);
                Does::Wait
            }
            Some(Ok(())) => {
                self.at = self.at.after(&asked.action);
                self.set(snapshot.at)
            }
            Some(Err(why)) => {
                self.by_hand = false;
                self.cannot_be_had(why, snapshot.at)
            }
        }
    }

    /// What came of what was asked for: done, not done and why, or nothing yet.
    fn answer(&mut self, snapshot: &Snapshot, asked: &Asked) -> Option<Result<(), String>> {
        if snapshot.awaited.as_ref().is_some_and(|awaited| awaited.action == asked.action) {
            self.by_hand = true;
        }
        let newest = snapshot.answered.as_ref();
        if let Some(answer) = newest.filter(|answer| answer.at >= asked.at && answer.action == asked.action) {
            return Some(answer.failed.clone().map_or(Ok(()), Err));
        }
        let within = if self.by_hand { BY_HAND_WITHIN } else { MADE_WITHIN };
        (snapshot.at.since(asked.at) > within).then(|| Err(format!("no answer within {} s", within.as_secs())))
    }

    /// The rung that is next cannot be had, and none above it.
    fn cannot_be_had(&mut self, why: String, now: Moment) -> Does {
        let Some((_, rung, ..)) = self.now() else { return Does::Wait };
        self.climb.limit(rung);
        self.next = self.climb.next();
        if rung == 0 {
            self.finish(End::NotSet, Some(why));
            return Does::Wait;
        }
        self.ceiling = Some(Ceiling { rung, why });
        if self.next == Next::Over {
            self.finish(End::Done, None);
            return Does::Wait;
        }
        self.set(now)
    }

    fn follow(&mut self, snapshot: &Snapshot, from: usize) -> Does {
        self.seen.follow(snapshot, from);
        self.known = Known::of(snapshot);
        let grows = queue_grows(snapshot, from, from + self.seen.seconds());
        self.seen.strain(snapshot.state != Some(State::Steady) || grows);
        let Some(tried) = Climb::tried(self.next, &self.seen) else { return Does::Wait };
        let tried = Tried { figures: self.figures(snapshot, from), ..tried };
        if let Some(why) = self.was_never_stood_on(&tried) {
            return self.cannot_be_had(why, snapshot.at);
        }
        self.climb.take(tried);
        self.next = self.climb.next();
        self.set(snapshot.at)
    }

    fn figures(&self, snapshot: &Snapshot, from: usize) -> Figures {
        let stream = &snapshot.stream;
        let pixels = stream.width.zip(stream.height).map(|(width, height)| f64::from(width) * f64::from(height));
        let audio = stream.audio_bitrate.map_or(0.0, Bitrate::kbps);
        Figures::of(&snapshot.history, from, from + self.seen.seconds(), pixels, audio)
    }

    /// An encoder that sends less than it was set to, because the picture does not need it, shows nothing of what it was set to.
    fn was_never_stood_on(&self, tried: &Tried) -> Option<String> {
        let Some(Value::Bitrate(set)) = self.ladder.rungs().get(tried.rung) else { return None };
        let sent = tried.figures.sent_kbps.filter(|sent| tried.held && *sent < LOADED * set.kbps())?;
        let sent = Bitrate::from_kbps(sent.round() as u64);
        Some(format!(
            "set to {set} the broadcaster sent {sent}: this picture needs no more, show one in which more moves"
        ))
    }

    /// The time is over: a run that confirms and has lost nothing counts for as long as it lasted.
    fn take_what_there_is(&mut self, snapshot: &Snapshot) {
        let (Phase::Trying { from }, Next::Try { rung, length, purpose }) = (&self.phase, self.next) else { return };
        // A short look confirms nothing: it is at least as long as the longest one while searching.
        let least_s = length.least_s.min(self.climb.search().most_s);
        if self.seen.seconds() < least_s || !self.seen.is_clean() {
            return;
        }
        let length = Length { least_s, ..length };
        if let Some(tried) = Climb::tried(Next::Try { rung, length, purpose }, &self.seen) {
            let tried = Tried { figures: self.figures(snapshot, *from), ..tried };
            if self.was_never_stood_on(&tried).is_none() {
                self.climb.take(tried);
            }
        }
    }

    /// It is over, but for what has to be put back.
    fn finish(&mut self, end: End, why: Option<String>) {
        if self.end.is_some() {
            return;
        }
        self.end = Some(end);
        self.why = why;
        // What is asked for is waited for first: only then it is known what there is to be put back.
        let asked = match std::mem::replace(&mut self.phase, Phase::Over) {
            Phase::Setting(asked) => Some(Asked { is_stale: true, ..asked }),
            _ => None,
        };
        self.phase = Phase::PuttingBack(asked);
    }

    fn put_back(&mut self, snapshot: &Snapshot, asked: Option<Asked>) -> Does {
        let end = self.end.unwrap_or(End::Done);
        if let Some(asked) = asked {
            match self.answer(snapshot, &asked) {
                // Who was asked for it by hand may have done it already, and is asked to put it back.
                None if self.by_hand && asked.is_stale => self.at = self.at.after(&asked.action),
                // And then is not waited for, but told so.
                None if self.by_hand => {
                    self.left_at = Some(self.at.clone());
                    return Does::Over(end);
                }
                None => {
                    self.phase = Phase::PuttingBack(Some(asked));
                    return Does::Wait;
                }
                Some(Ok(())) => self.at = self.at.after(&asked.action),
                Some(Err(_)) if asked.is_stale => {}
                Some(Err(why)) => {
                    self.left_at = Some(self.at.clone());
                    self.why.get_or_insert(why);
                    return Does::Over(end);
                }
            }
        }
        match self.start.step_from(&self.at) {
            Some(action) => {
                let asked = Asked { action: action.clone(), at: snapshot.at, is_stale: false };
                self.phase = Phase::PuttingBack(Some(asked));
                Does::Act(action)
            }
            None => Does::Over(end),
        }
    }
}

/// Whether what waits grows, though nothing is lost yet: a rung a hundredth over the line takes minutes to fill the queue. The least of
/// ten seconds is compared, as a keyframe lets every queue rise for a moment. The limit is our own.
fn queue_grows(snapshot: &Snapshot, from: usize, until: usize) -> bool {
    const FEW: usize = 10;
    const GROWN_MS: f32 = 250.0;
    let least = |from: usize| {
        let waits = (from..from + FEW).filter_map(|second| snapshot.history.get(second)?.queue_ms);
        waits.reduce(f32::min)
    };
    if until < from + 2 * FEW {
        return false;
    }
    least(from).zip(least(until - FEW)).is_some_and(|(first, last)| last > first + GROWN_MS)
}

/// What the broadcaster says is in force.
fn stated(kind: Kind, stream: &StreamFacts) -> Option<Value> {
    match kind {
        Kind::Bitrate => stream.video_bitrate.map(Value::Bitrate),
        // A preset has a place in the setup's list only.
        Kind::Preset => None,
        Kind::Picture => {
            let (width, height, fps) = (stream.width?, stream.height?, FrameRate::from_fps(stream.fps?));
            Some(Value::Picture { width, height, fps })
        }
    }
}
