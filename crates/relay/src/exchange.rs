//! Where frames wait, and where it is decided which of them are not sent.
//!
//! Every frame handed over is *offered*; it is *queued* while it waits here or is sent and not yet
//! acknowledged, and ends *delivered* or *dropped*. When more waits than the limits allow, whole frames
//! are dropped so that what is still sent decodes, and no more of them than that takes: what waited too
//! long and what needs it. Frames nothing depends on make room first; keyframes and audio last.

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use moth_core::account::{Account, Accounts};
use moth_core::moment::Moment;
use moth_core::reading::QueueLevel;
use moth_core::viewers::Freezes;

use crate::gaps::Gaps;
use crate::packet::{HeaderSlot, Packet, Role};
use crate::playback::frame::Frame;

/// How much may wait.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// When a frame that depends on others has waited this long, in milliseconds, frames are dropped.
    /// Keyframes and sound may wait twice as long, and so may the others for a moment after the bitrate was lowered;
    /// nothing longer.
    pub queue_ms: u64,
    /// Never more than this many bytes wait, and never more than 8 192 messages.
    pub queue_bytes: usize,
}

impl Default for Limits {
    /// 2 s: long enough for the wireless dips of a second that pass by themselves, short enough that
    /// viewers do not notice the delay. 16 MiB: 2 s at 64 Mb/s.
    fn default() -> Self {
        Self { queue_ms: 2000, queue_bytes: 16 << 20 }
    }
}

/// For so long after the bitrate was lowered, what waits is not dropped: a step down is heeded within a second or two, and its end comes out
/// of a queue of two seconds some seconds later. Ours.
const PATIENT: Duration = Duration::from_secs(10);
/// And for so long if the queue is shorter then than it was meanwhile, as it drains: two seconds of queue have grown to three, and the margin
/// of a step down takes up to 45 s to drain them. Ours, measured with a real encoder over a token bucket (`docs/keeper.md`). One that grows
/// all the same shows that the step was too small.
const DRAINS: Duration = Duration::from_secs(60);
/// What has waited longer than this is not worth handing to a connection that is being left, in milliseconds. Ours.
const FRESH_MS: u128 = 500;

/// Never more than so many messages wait, whatever their size: eight tracks of 120 pictures a second and their sound fill 4 s with
/// fewer. Work per message grows with what waits, so that this bounds it. Ours.
const MOST_WAITING: usize = 8192;
/// Of what waits, never more than so many packets are no frames: the oldest goes, as the newest says what holds now. Ours.
const MOST_OTHERS: usize = 256;

/// Frames that are noted, at most: half a minute of 240 pictures and 100 frames of sound a second. Ours.
const MOST_NOTED: usize = 16_384;

/// Headers that are kept: no broadcast has so many tracks. Ours.
const MOST_HEADERS: usize = 64;

#[derive(Debug)]
struct Waiting {
    came: Moment,
    packet: Packet,
}

/// After the bitrate was lowered.
#[derive(Debug, Clone, Copy)]
struct Patience {
    since: Moment,
    /// The longest that a frame had waited in the first [`PATIENT`], in milliseconds.
    longest_ms: u64,
}

impl Patience {
    /// Whether it lasts, where the oldest frame has waited so long.
    fn lasts(self, now: Moment, waits_ms: u64) -> bool {
        let long = now.since(self.since);
        long < PATIENT || long < DRAINS && waits_ms < self.longest_ms
    }
}

/// The queue and the accounts.
#[derive(Debug)]
pub struct Exchange {
    limits: Limits,
    queue: VecDeque<Waiting>,
    queued_bytes: usize,
    /// Headers and notes among what waits.
    waiting_others: usize,
    accounts: Accounts,
    /// The headers in force at the front of the queue, each track's own.
    headers: BTreeMap<(HeaderSlot, u8), Packet>,
    /// Headers to send before the next item of the queue.
    due: VecDeque<(HeaderSlot, u8)>,
    due_time_ms: u32,
    /// A new connection must begin at a keyframe.
    begin_at_keyframe: bool,
    /// A frame others depend on was dropped, or none came yet: dependent frames are dropped on arrival.
    gap: bool,
    /// No keyframe came yet since the broadcaster began: it began, or came back, in the middle of a group.
    is_unopened: bool,
    before_keyframe: u64,
    has_video: bool,
    gaps: Gaps,
    patience: Option<Patience>,
    last_sent: Option<Sent>,
    /// What was handed over since somebody wants to know it again.
    noted: Option<Vec<Frame>>,
}

/// The last picture that was handed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sent {
    /// When.
    pub at: Moment,
    /// Its timestamp, in milliseconds modulo 2³².
    pub time_ms: u32,
    /// How far after the picture before it, in milliseconds.
    pub interval_ms: u32,
}

impl Exchange {
    /// An empty exchange.
    #[must_use]
    pub fn new(limits: Limits) -> Self {
        Self {
            limits,
            queue: VecDeque::new(),
            queued_bytes: 0,
            waiting_others: 0,
            accounts: Accounts::default(),
            headers: BTreeMap::new(),
            due: VecDeque::new(),
            due_time_ms: 0,
            begin_at_keyframe: false,
            gap: true,
            is_unopened: true,
            before_keyframe: 0,
            has_video: false,
            gaps: Gaps::default(),
            patience: None,
            last_sent: None,
            noted: None,
        }
    }

    /// The bitrate was just lowered: what waits was made before that and gets through in a while. For ten seconds, and for a minute if it
    /// then grows shorter, dependent frames may wait twice as long as the limit, as keyframes and sound always may.
    pub fn be_patient(&mut self, now: Moment) {
        self.patience = Some(Patience { since: now, longest_ms: 0 });
    }

    /// Drops every frame that waits; what follows begins at a keyframe. Headers stay.
    pub fn drop_what_waits(&mut self) {
        while let Some(index) = self.position(Role::is_frame) {
            self.remove_frame(index);
        }
        self.gap = true;
    }

    /// Gaps in the pictures that were sent, as viewers see them, and milliseconds since the last picture if that is one.
    #[must_use]
    pub fn freezes(&self, now: Moment) -> (Freezes, Option<u64>) {
        (self.gaps.freezes(), self.gaps.open_ms(now))
    }

    /// Where every frame is.
    #[must_use]
    pub fn accounts(&self) -> Accounts {
        self.accounts
    }

    /// What waits here; frames already given to a connection are not among it.
    #[must_use]
    pub fn level(&self, now: Moment) -> QueueLevel {
        QueueLevel {
            ms: self.age_ms(now) as f64,
            bytes: self.queued_bytes as u64,
            limit_ms: self.limits.queue_ms as f64,
            before_keyframe: self.before_keyframe,
        }
    }

    /// Whether nothing waits.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.queue.is_empty() && self.due.is_empty()
    }

    /// Takes a packet from the broadcaster.
    pub fn offer(&mut self, packet: Packet, now: Moment) {
        let role = packet.role;
        if let Some(account) = account(&mut self.accounts, role) {
            account.offer();
        }
        self.has_video |= role.is_video_frame() || role == Role::Header(HeaderSlot::Video);
        match role {
            Role::Keyframe => (self.gap, self.is_unopened) = (false, false),
            role if role.depends() && self.gap => {
                self.before_keyframe += u64::from(self.is_unopened);
                self.give_up(role);
                self.trim(role, now);
                return;
            }
            _ => {}
        }
        self.queued_bytes += packet.payload.len();
        if !role.is_frame() {
            self.waiting_others += 1;
            if self.waiting_others > MOST_OTHERS
                && let Some(oldest) = self.position(|role| !role.is_frame())
            {
                self.remove(oldest);
            }
        }
        self.queue.push_back(Waiting { came: now, packet });
        self.trim(role, now);
    }

    /// The next packet to send, if there is one. It leaves the queue but stays in the accounts as queued.
    pub fn next(&mut self, now: Moment) -> Option<Packet> {
        if self.begin_at_keyframe {
            self.skip_to_keyframe(now)?;
        }
        while let Some((slot, track)) = self.due.pop_front() {
            if let Some(header) = self.headers.get(&(slot, track)).cloned() {
                return Some(Packet { time_ms: self.due_time_ms, ..header });
            }
        }
        let came = self.queue.front()?.came;
        let packet = self.remove(0)?;
        if let Some(noted) = self.noted.as_mut().filter(|noted| noted.len() < MOST_NOTED) {
            noted.extend(Frame::of(&packet, came));
        }
        if packet.role.is_video_frame() {
            let time_ms = packet.time_ms;
            self.gaps.sent(now, time_ms);
            let before = self.last_sent.map_or(time_ms, |sent| sent.time_ms);
            self.last_sent = Some(Sent { at: now, time_ms, interval_ms: time_ms.wrapping_sub(before) });
        }
        Some(packet)
    }

    /// From now on it is noted which frames are handed over.
    pub(crate) fn begin_noting(&mut self) {
        self.noted = Some(Vec::new());
    }

    /// Whether such a frame was handed over since.
    pub(crate) fn has_noted(&self, wanted: impl Fn(&Frame) -> bool) -> bool {
        self.noted.iter().flatten().any(wanted)
    }

    /// The frames that were handed over since; no more are noted.
    pub(crate) fn take_noted(&mut self) -> Vec<Frame> {
        self.noted.take().unwrap_or_default()
    }

    /// The last picture that was handed over.
    #[must_use]
    pub fn last_sent(&self) -> Option<Sent> {
        self.last_sent
    }

    /// What still waits before the first keyframe, if one waits and what is before it is fresh: it belongs to the
    /// connection that is about to be left.
    pub fn next_before_keyframe(&mut self, now: Moment) -> Option<Packet> {
        let waits = self.has_video && !self.begin_at_keyframe && self.could_begin();
        let is_fresh = u128::from(self.age_ms(now)) <= FRESH_MS;
        if waits && is_fresh && self.queue.front().is_some_and(|item| item.packet.role != Role::Keyframe) {
            return self.next(now);
        }
        None
    }

    /// The broadcaster was restarted: what follows does not depend on what was before.
    pub fn interrupted(&mut self) {
        self.gap = true;
        self.is_unopened = true;
    }

    /// A frame that was sent arrived.
    pub fn delivered(&mut self, role: Role) {
        if let Some(account) = account(&mut self.accounts, role) {
            account.deliver();
        }
    }

    /// A frame that was given to a connection, in part or whole, was lost with it.
    pub fn cut_off(&mut self, role: Role) {
        self.give_up(role);
    }

    /// A new connection takes over: it gets the headers, then a keyframe. What waits before that
    /// keyframe is dropped.
    pub fn begin_again(&mut self) {
        self.begin_at_keyframe = true;
    }

    /// Whether a new connection could begin now: a keyframe waits, or there is no video at all.
    #[must_use]
    pub fn could_begin(&self) -> bool {
        !self.has_video || self.queue.iter().any(|item| item.packet.role == Role::Keyframe)
    }

    /// The broadcast is over: nothing of it is sent any more, and its headers are forgotten.
    pub fn clear(&mut self) {
        while self.remove_frame(0).is_some() {}
        self.headers.clear();
        self.due.clear();
        self.begin_at_keyframe = false;
        self.gap = true;
        self.has_video = false;
        self.gaps.end();
        self.last_sent = None;
        self.patience = None;
    }

    /// How long the oldest waiting frame of some roles has waited.
    fn age_of(&self, now: Moment, wanted: impl Fn(Role) -> bool) -> u64 {
        let oldest = self.queue.iter().find(|item| wanted(item.packet.role));
        oldest.map_or(0, |item| u64::try_from(now.since(item.came).as_millis()).unwrap_or(u64::MAX))
    }

    /// Whether something has waited for longer than this. What came first waits longest, so that mostly one look is enough.
    fn any_waits_longer(&self, now: Moment, than_ms: u64) -> bool {
        self.queue.front().is_some_and(|item| now.since(item.came).as_millis() > u128::from(than_ms))
    }

    fn age_ms(&self, now: Moment) -> u64 {
        self.age_of(now, Role::is_frame)
    }

    /// In bytes or in number.
    fn has_too_much(&self) -> bool {
        self.queued_bytes > self.limits.queue_bytes || self.queue.len() > MOST_WAITING
    }

    /// Whether a dependent frame waits for too long. How long a keyframe or sound has waited does not count here:
    /// that could not be mended by dropping others.
    fn waits_too_long(&self, now: Moment) -> bool {
        let is_patient = self.patience.is_some_and(|patience| patience.lasts(now, self.age_of(now, Role::depends)));
        let most_ms = if is_patient { 2 } else { 1 } * self.limits.queue_ms;
        self.any_waits_longer(now, most_ms) && self.age_of(now, Role::depends) > most_ms
    }

    /// Takes an item out of the queue; a header is in force from then on.
    fn remove(&mut self, index: usize) -> Option<Packet> {
        let packet = self.queue.remove(index)?.packet;
        self.queued_bytes -= packet.payload.len();
        self.waiting_others -= usize::from(!packet.role.is_frame());
        if let Role::Header(slot) = packet.role {
            let track = packet.track.unwrap_or_default();
            if self.headers.len() < MOST_HEADERS || self.headers.contains_key(&(slot, track)) {
                self.headers.insert((slot, track), packet.clone());
            }
        }
        Some(packet)
    }

    /// Takes an item out of the queue for good.
    fn remove_frame(&mut self, index: usize) -> Option<()> {
        let packet = self.remove(index)?;
        self.give_up(packet.role);
        Some(())
    }

    fn give_up(&mut self, role: Role) {
        if let Some(account) = account(&mut self.accounts, role) {
            account.drop_one();
        }
    }

    fn position(&self, wanted: impl Fn(Role) -> bool) -> Option<usize> {
        self.queue.iter().position(|item| wanted(item.packet.role))
    }

    /// Brings the queue within its limits again, now that one more came.
    fn trim(&mut self, newest: Role, now: Moment) {
        if self.patience.is_some_and(|patience| now.since(patience.since) < PATIENT) {
            let waits_ms = self.age_of(now, Role::depends);
            self.patience.iter_mut().for_each(|patience| patience.longest_ms = patience.longest_ms.max(waits_ms));
        }
        while self.waits_too_long(now) && self.drop_what_waits_longest() {}
        while self.has_too_much() {
            if let Some(index) = self.position(|role| role == Role::Disposable) {
                self.remove_frame(index);
            } else if !self.drop_group_before_keyframe() {
                break;
            }
        }
        // What is left of dependent frames has no keyframe behind it: to drop the oldest would be to drop them all. For one that
        // came, one that no other needs makes room; with none left, the group ends here, as the rest still decodes and the line
        // goes on being used.
        if !self.gap && newest.depends() && self.waits_too_long(now) {
            match self.position(|role| role == Role::Disposable) {
                Some(index) => drop(self.remove_frame(index)),
                None => drop(self.drop_newest_dependent()),
            }
        }
        while self.has_too_much() && self.drop_newest_dependent() {}
        // Nothing waits twice as long as the limit.
        let most_ms = 2 * self.limits.queue_ms;
        while self.any_waits_longer(now, most_ms) && self.age_ms(now) > most_ms {
            self.drop_oldest_frame();
        }
        // Keyframes and sound are all that is left, and they are too many: the oldest keyframes, then
        // the oldest sound, then whatever there is.
        while self.has_too_much() && self.queue.iter().filter(|item| item.packet.role == Role::Keyframe).count() > 1 {
            let Some(index) = self.position(|role| role == Role::Keyframe) else { break };
            self.remove_frame(index);
        }
        while self.has_too_much() {
            let Some(index) = self.position(|role| role == Role::Audio) else { break };
            self.remove_frame(index);
        }
        while self.has_too_much() && !self.queue.is_empty() {
            self.drop_oldest_frame();
        }
    }

    /// Cuts the last group short by a frame; `false` if it has no frame to lose.
    fn drop_newest_dependent(&mut self) -> bool {
        let Some(last) = self.queue.iter().rposition(|item| item.packet.role.depends()) else { return false };
        self.remove_frame(last);
        self.gap = true;
        true
    }

    /// Drops the oldest frame and what depends on it; a header or note only if there is no frame.
    fn drop_oldest_frame(&mut self) {
        let index = self.position(Role::is_frame).unwrap_or(0);
        let Some(role) = self.queue.get(index).map(|item| item.packet.role) else { return };
        self.remove_frame(index);
        if !matches!(role, Role::Keyframe | Role::Inter) {
            return;
        }
        while let Some(next) = self.queue.iter().skip(index).position(|item| item.packet.role.is_video_frame()) {
            if self.queue[index + next].packet.role == Role::Keyframe {
                return;
            }
            self.remove_frame(index + next);
        }
        self.gap = true;
    }

    /// Drops the dependent frame that has waited longest, and what needs it; `false` if that would be all there is, as no keyframe
    /// is behind it.
    fn drop_what_waits_longest(&mut self) -> bool {
        let Some(first) = self.position(Role::depends) else { return false };
        if self.queue[first].packet.role == Role::Disposable {
            return self.remove_frame(first).is_some();
        }
        self.drop_group_before_keyframe()
    }

    /// Drops the dependent frames before the first keyframe that has any before it.
    fn drop_group_before_keyframe(&mut self) -> bool {
        let Some(first) = self.position(Role::depends) else { return false };
        let end = self.queue.iter().skip(first).position(|item| item.packet.role == Role::Keyframe);
        let Some(mut end) = end.map(|offset| first + offset) else { return false };
        let mut index = first;
        while index < end {
            if self.queue[index].packet.role.depends() {
                self.remove_frame(index);
                end -= 1;
            } else {
                index += 1;
            }
        }
        true
    }

    /// Drops everything before a keyframe and puts the headers in force before it. `None`: no keyframe
    /// waits yet.
    fn skip_to_keyframe(&mut self, now: Moment) -> Option<()> {
        if self.has_video {
            let is_fresh = |item: &Waiting| now.since(item.came).as_millis() <= u128::from(self.limits.queue_ms);
            let keyframes = || self.queue.iter().enumerate().filter(|(_, item)| item.packet.role == Role::Keyframe);
            // The oldest that is not too old keeps most; else the newest.
            let found = keyframes()
                .find(|(_, item)| is_fresh(item))
                .or_else(|| keyframes().next_back())
                .map(|(index, _)| index);
            let Some(index) = found else {
                // Nothing can follow on what waits: it would only wait in vain.
                while let Some(index) = self.position(Role::depends) {
                    self.remove_frame(index);
                }
                self.gap = true;
                return None;
            };
            for _ in 0..index {
                self.remove_frame(0);
            }
        }
        self.due_time_ms = self.queue.front()?.packet.time_ms;
        self.due = self.headers.keys().copied().collect();
        self.begin_at_keyframe = false;
        Some(())
    }
}

/// The account a frame is kept in; headers and notes have none.
fn account(accounts: &mut Accounts, role: Role) -> Option<&mut Account> {
    match role {
        Role::Header(_) | Role::Note => None,
        Role::Audio => Some(&mut accounts.audio),
        Role::Keyframe | Role::Inter | Role::Disposable => Some(&mut accounts.video),
    }
}

#[cfg(test)]
mod tests;
