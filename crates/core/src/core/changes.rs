//! Changes: what was done, how it is proved, what would put it back, and what is done without being asked each time.

use std::time::Duration;

use serde::Serialize;

use super::Core;
use crate::facts::{Facts, RATES};
use crate::failover;
use crate::figure::{Figure, Origin};
use crate::frame_rate::FrameRate;
use crate::keeper::{Look, Mode};
use crate::moment::Moment;
use crate::proposal::{Action, Proposal};
use crate::rate::{Bitrate, grouped};
use crate::reading::{Automatics, StreamFacts};
use crate::snapshot::KeeperView;
use crate::suspects::Cause;
use crate::trial::{APART_S, Aim, LONGEST_S, SETTLE_S, Trial};

/// The fastest burst of so long is what the keeper is told: behind each of a few keyframes there was one.
const BURSTS: Duration = Duration::from_secs(8);
/// And what the kernel measured over so long: as long as what is acknowledged is read over.
const DELIVERED: Duration = Duration::from_millis(2500);
/// The most trials kept; a whole evening has a few dozen.
const TRIALS: usize = 200;
/// What was told and is not seen on the wire for this long is no longer looked for.
const LOOKED_FOR: Duration = Duration::from_secs(120);
/// A bitrate on the wire this near to what was told is that one: an encoder's own wavering over a keyframe interval.
const NEAR: f64 = 0.12;
/// And this share of the way there must be gone: nothing that was done may be near as well.
const MOST: f64 = 0.6;

/// A change that was made.
#[derive(Debug, Clone)]
pub(super) struct Change {
    /// What puts it back.
    pub back: Action,
    /// The keeper made it.
    pub by_keeper: bool,
}

/// Something the user was told to change by hand, looked for on the wire.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Awaited {
    /// What.
    pub action: Action,
    /// Since when.
    pub since: Moment,
    /// What is seen of it, in a sentence with its numbers.
    pub sentence: String,
    /// Video on the wire when it was told, in kb/s.
    #[serde(skip)]
    from_kbps: f64,
    /// What puts it back: the broadcaster states the new value before the wire shows it.
    #[serde(skip)]
    back: Option<Action>,
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

impl Core {
    /// The next thing the core wants done by itself, if there is one. What comes of it is to come back as a reading.
    pub fn take_wish(&mut self) -> Option<Action> {
        self.wishes.pop_front()
    }

    pub(super) fn arrange(&mut self, automatics: &Automatics) {
        self.keeper.set_bounds(automatics.bounds);
        self.keeper.set_mode(automatics.keeper);
        self.failover.arrange(automatics.failover, automatics.failovers_an_hour, automatics.tested.clone());
    }

    pub(super) fn keeper_view(&self) -> KeeperView {
        KeeperView {
            mode: self.keeper.mode(),
            rests: self.keeper.rests(),
            says: self.keeper.says().to_owned(),
            estimate_kbps: Figure::maybe(self.keeper.estimate().map(Bitrate::kbps), Origin::Inferred),
        }
    }

    /// An action was carried out, or was not.
    pub(super) fn acted(&mut self, action: &Action, failed: Option<&str>, back: Option<&Action>) {
        let (now, what) = (self.now, action.words());
        self.answered = Some(Answer { at: now, action: action.clone(), failed: failed.map(str::to_owned) });
        let by_keeper = matches!(action, Action::SetBitrate { video } if self.keeper.wanted(*video));
        let by_failover = matches!(action, Action::SwitchServer { server } if self.failover.wanted(server));
        let who = match (by_keeper, by_failover) {
            (true, _) => " (the keeper)",
            (_, true) => " (by itself)",
            _ => "",
        };
        if by_failover {
            let here = self.link.server.clone();
            self.failover.settled(now, &here);
        }
        if let Some(why) = failed {
            if by_keeper {
                self.keeper.was_not_made(why);
            }
            self.mark(format!("{what}{who}: not done, {why}"), false);
            return;
        }
        // Only the change that was looked for ends the looking.
        let same = |awaited: &Awaited| std::mem::discriminant(&awaited.action) == std::mem::discriminant(action);
        if self.awaited.as_ref().is_some_and(same) {
            self.awaited = None;
        }
        self.mark(format!("{what}{who}"), true);
        let before = self.stream;
        let known_back = self.carry_out(action);
        let back = back.cloned().or(known_back);
        if let Action::SetBitrate { video } = action {
            match (by_keeper, &back) {
                (true, Some(Action::SetBitrate { video: from })) => self.keeper.was_made(now, *from, *video),
                _ => self.keeper.overruled(),
            }
        }
        let puts_back = back.is_some() && self.changes.last().is_some_and(|last| last.back == *action);
        if puts_back {
            // The change that puts the last one back is not a change to be put back in turn.
            self.changes.pop();
        }
        // A keeper that has climbed to where it began is tried all the same; an undo is not.
        if let (true, false, Some(trial)) = (puts_back, by_keeper, self.trials.last_mut()) {
            trial.put_back(&self.history);
        } else if action.is_tried() {
            self.open_trial(action, &before, back.as_ref());
        }
        if puts_back {
            return;
        }
        let Some(back) = back else { return };
        match self.changes.last() {
            // What the keeper did in several steps is put back in one.
            Some(last) if last.by_keeper && by_keeper => {}
            _ => self.changes.push(Change { back, by_keeper }),
        }
    }

    /// Notes what is so from now on; gives what would put it back.
    fn carry_out(&mut self, action: &Action) -> Option<Action> {
        let back = self.take_effect(action);
        self.mean_from_now_on(action);
        back
    }

    fn take_effect(&mut self, action: &Action) -> Option<Action> {
        match action {
            Action::SetBitrate { video } => {
                let before = self.bitrate_set();
                self.stream.video_bitrate = Some(*video);
                self.bitrate_was_set(*video);
                before.map(|video| Action::SetBitrate { video })
            }
            Action::SwitchServer { .. } => Some(Action::SwitchServer { server: self.link.server.clone() }),
            Action::SetSize { width, height } => {
                let before = self.stream.width.replace(*width).zip(self.stream.height.replace(*height));
                before.map(|(width, height)| Action::SetSize { width, height })
            }
            Action::SetRate { fps } => {
                let before = self.stream.fps.replace(fps.fps());
                before.map(|fps| Action::SetRate { fps: FrameRate::from_fps(fps) })
            }
            Action::LighterPreset => Some(Action::HeavierPreset),
            Action::HeavierPreset => Some(Action::LighterPreset),
            Action::SetKeeper { mode } => {
                self.keeper.set_mode(*mode);
                None
            }
            Action::SetFailover { on } => {
                self.failover.set_consent(*on);
                None
            }
            // Whoever did it knows what it was before.
            Action::SetPriority { .. } | Action::ByHand { .. } => None,
        }
    }

    /// What was changed on purpose is meant to be as it is now: nobody is told that the setup means something else.
    fn mean_from_now_on(&mut self, action: &Action) {
        let meant = &mut self.intended;
        match action {
            Action::SetBitrate { video } if meant.video_bitrate.is_some() => {
                meant.video_bitrate = Some(*video);
                self.bitrate_set_at = Some(self.now);
            }
            Action::SetSize { width, height } if meant.width.is_some() && meant.height.is_some() => {
                (meant.width, meant.height) = (Some(*width), Some(*height));
            }
            Action::SetRate { fps } if meant.fps.is_some() => meant.fps = Some(fps.fps()),
            _ => {}
        }
    }

    fn open_trial(&mut self, action: &Action, before: &StreamFacts, back: Option<&Action>) {
        let is_more = match (action, back) {
            (Action::SetBitrate { video }, Some(Action::SetBitrate { video: from })) => video > from,
            _ => false,
        };
        let aim = if is_more { Aim::MorePicture } else { Aim::FewerLost };
        let standing = self.judged.map_or(crate::suspects::Fault::None, |(fault, _)| fault);
        let (now, streams) = (self.now, [before, &self.stream]);
        let mut trial = Trial::open(action.clone(), aim, standing, now, &self.history, streams);
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
    pub(super) fn follow_trials(&mut self, next: &[Proposal]) {
        let Some(trial) = self.trials.last_mut() else { return };
        if trial.follow(&self.history, next) {
            let text = format!("{}: {}", trial.outcome.words(true), trial.title);
            self.mark(text, false);
        }
    }

    /// The user was told what to change: what can be seen on the wire is looked for there, the rest is believed.
    pub(super) fn told(&mut self, action: &Action) {
        let is_seen = matches!(action, Action::SetBitrate { .. } | Action::SetSize { .. } | Action::SetRate { .. });
        if !is_seen {
            return self.acted(action, None, None);
        }
        let from_kbps = self.video_now().kbps();
        self.mark(format!("{}: looked for on the wire", action.words()), false);
        let sentence = "Nothing of it is seen on the wire yet.".into();
        let back = match action {
            Action::SetBitrate { .. } => self.bitrate_set().map(|video| Action::SetBitrate { video }),
            Action::SetSize { .. } => {
                self.stream.width.zip(self.stream.height).map(|(width, height)| Action::SetSize { width, height })
            }
            Action::SetRate { .. } => self.stream.fps.map(|fps| Action::SetRate { fps: FrameRate::from_fps(fps) }),
            _ => None,
        };
        self.awaited = Some(Awaited { action: action.clone(), since: self.now, sentence, from_kbps, back });
    }

    fn video_now(&self) -> Bitrate {
        Bitrate::of(self.counted.video_bytes.within(self.now, 2 * RATES), 2 * RATES)
    }

    /// Whether what the user was told is done, half done, or not done.
    pub(super) fn follow_awaited(&mut self) {
        let Some(mut awaited) = self.awaited.take() else { return };
        let lasts = self.now.since(awaited.since);
        if self.on_air_since.is_none_or(|since| self.now.since(since) < 2 * RATES) {
            awaited.sentence = "The broadcaster is away; it is looked for when it comes back.".into();
            self.awaited = Some(awaited);
            return;
        }
        let (is_done, sentence) = match &awaited.action {
            Action::SetBitrate { video } => {
                let (now, to, from) = (self.video_now().kbps(), video.kbps(), awaited.from_kbps);
                let went = if (to - from).abs() > 1.0 { (now - from) / (to - from) } else { 1.0 };
                let numbers = format!("{now:.0} kb/s of video on the wire over 4 s, {to:.0} wanted");
                // Of a step smaller than what wavers, most must be seen, or the broadcaster must say it.
                let says_so =
                    self.stream.video_bitrate == Some(*video) && awaited.back.as_ref() != Some(&awaited.action);
                let is_near = (now - to).abs() <= NEAR * to && (went >= MOST || says_so) || went >= 1.0;
                match (is_near, went) {
                    (true, _) => (true, format!("It is done: {numbers}.")),
                    (_, 0.25..) => (false, format!("Only a part of it: {numbers}.")),
                    _ => (false, format!("Not yet: {numbers}.")),
                }
            }
            Action::SetSize { width, height } => {
                let is = self.stream.width.zip(self.stream.height);
                let seen = is.map_or_else(|| "not known".into(), |(w, h)| format!("{w}x{h}"));
                (is == Some((*width, *height)), format!("The broadcaster says {seen}, {width}x{height} is wanted."))
            }
            Action::SetRate { fps } => {
                let seen = self.wire.interval_ms().map(|ms| 1000.0 / ms);
                let is_near = seen.is_some_and(|seen| (seen - fps.fps()).abs() < 1.0);
                (is_near, format!("{:.0} frames/s on the wire, {fps} wanted.", seen.unwrap_or_default()))
            }
            _ => (true, String::new()),
        };
        let action = awaited.action.clone();
        if is_done {
            self.mark(format!("seen on the wire: {}", action.words()), false);
            self.acted(&action, None, awaited.back.as_ref());
        } else if lasts > LOOKED_FOR {
            self.mark(format!("{}: not done. {sentence}", action.words()), false);
            self.answered = Some(Answer { at: self.now, action, failed: Some(sentence) });
        } else {
            self.awaited = Some(Awaited { sentence, ..awaited });
        }
    }

    /// Lets the keeper look.
    pub(super) fn look_after_bitrate(&mut self) {
        if self.keeper.mode() == Mode::Off || self.on_air_since.is_none() {
            return;
        }
        let now = self.now;
        let look = Look {
            now,
            queue_ms: self.queue.ms,
            limit_ms: self.queue.limit_ms,
            sent_bytes: self.counted.sent_bytes.total(),
            is_busy: self.queue.bytes > 0,
            link_up: self.link.up,
            dropped: self.accounts.video.dropped,
            asked_video: Bitrate::of(self.counted.video_bytes.within(now, RATES), RATES),
            audio: Bitrate::of(self.counted.audio_bytes.within(now, RATES), RATES),
            set_to: self.bitrate_set(),
            is_only_seen: self.bitrate_is_only_seen(),
            restarts: self.stream.restarts,
            delivered: self
                .counted
                .delivery_kbps
                .highest(now, DELIVERED)
                .map(|kbps| Bitrate::from_bps((kbps * 1e3) as u64)),
            bursts: self.counted.delivery_kbps.highest(now, BURSTS).map(|kbps| Bitrate::from_bps((kbps * 1e3) as u64)),
        };
        let Some(wanted) = self.keeper.look(&look) else { return };
        if self.keeper.mode() == Mode::Act {
            self.mark(format!("keeper, to {}: {}", wanted.to, wanted.why), false);
            self.wishes.push_back(Action::SetBitrate { video: wanted.to });
        } else {
            self.mark(format!("keeper advises {}: {}", wanted.to, wanted.why), false);
        }
    }

    /// Lets the failover look.
    pub(super) fn look_after_server(&mut self, facts: &Facts, cause: Option<Cause>) {
        let silent = |path: &crate::facts::Path| path.unanswered > 1.0 && path.rtt_ms.is_none();
        let look = failover::Look {
            now: self.now,
            state: self.state(self.now),
            cause,
            server: &self.link.server,
            servers: &self.settings.servers,
            asked: facts.asked,
            others_silent: silent(&facts.other) || silent(&facts.gateway),
        };
        if let Some((server, why)) = self.failover.look(&look) {
            self.mark(format!("to {server} by itself: {why}"), false);
            self.wishes.push_back(Action::SwitchServer { server });
        }
    }

    pub(super) fn moved(&mut self, from: &str, to: &str, gap_ms: u64, missing_ms: u64) {
        self.mark(
            format!(
                "{from} to {to}: {} ms between pictures, {} ms of the stream missing",
                grouped(gap_ms),
                grouped(missing_ms)
            ),
            false,
        );
        self.moved = Some(Moved { at: self.now, from: from.to_owned(), to: to.to_owned(), gap_ms, missing_ms });
    }

    pub(super) fn resumed(&mut self, gap_ms: u64) {
        self.wire.interrupt();
        self.beyond.broadcast_changed();
        self.resumed_at = Some(self.now);
        self.mark(format!("the broadcaster was restarted: {} ms without a picture", grouped(gap_ms)), false);
    }
}
