//! What the broadcaster's video is set to: what it says, what was done, and, above both, what the wire shows.

use std::time::Duration;

use super::Broadcast;
use crate::figure::Origin;
use crate::moment::Moment;
use crate::notice::{Notice, NoticeKind};
use crate::rate::Bitrate;

/// The wire is read over so long: a few keyframe intervals. Ours.
const READ_OVER: Duration = Duration::from_secs(8);
/// A change takes so long to be seen on the wire, at most, beside what it is read over. Ours.
const TAKES: Duration = Duration::from_secs(10);
/// Over so many times what it is set to, no encoder sends for so long that is set to a constant bitrate, as services ask for one.
/// Our own setting: x264's, measured, wavers by 0.02-0.08 from second to second.
const BEYOND: f64 = 1.25;
/// An encoder that has not gone this share of the way down has not heeded what it was asked for. Ours.
const HEEDED: f64 = 0.25;
/// A change by less than this share cannot be seen, as encoders waver by as much. Ours.
const SEEN: f64 = 0.12;
/// What is read off the wire is told in steps of this. Ours.
const STEP: Bitrate = Bitrate::from_kbps(50);

/// What is known of the bitrate that is set.
#[derive(Debug, Clone, Default)]
pub(in crate::core) struct BitrateKnown {
    /// What the broadcaster stated last.
    stated: Option<Bitrate>,
    /// What was done last since then, from what was on the wire, and when.
    done: Option<Done>,
    /// The most that came over [`READ_OVER`] since it last changed.
    most: Option<Bitrate>,
}

#[derive(Debug, Clone, Copy)]
struct Done {
    at: Moment,
    to: Bitrate,
    from_wire: Bitrate,
    is_judged: bool,
    /// The wire shows that it was not done.
    is_unheeded: bool,
}

/// A change that was said to be done, and is not seen.
#[derive(Debug, Clone)]
pub(in crate::core) struct Unheeded {
    /// What was to be done.
    pub to: Bitrate,
    /// How it is seen, in plain words.
    pub why: String,
}

impl Broadcast {
    /// What the broadcaster's video is set to, as far as it is known: what was said or done last, unless more than that comes; and
    /// where nothing was said, what comes.
    pub(in crate::core) fn bitrate_set(&self) -> Option<Bitrate> {
        match (self.bitrate_said(), self.bitrate.most) {
            (Some(said), Some(most)) if most > said.scaled(BEYOND) => Some(most),
            (Some(said), _) => Some(said),
            (None, most) => most,
        }
    }

    /// Nobody said or did anything: the bitrate is only seen.
    pub(in crate::core) fn bitrate_is_only_seen(&self) -> bool {
        self.bitrate_said().is_none()
    }

    fn bitrate_said(&self) -> Option<Bitrate> {
        self.stream.video_bitrate.or(self.intended.video_bitrate)
    }

    /// The broadcaster states a bitrate: gives it if that is news. Some repeat what they stated at the beginning, whatever was
    /// changed since.
    pub(super) fn bitrate_stated(&mut self, stated: Option<Bitrate>) -> Option<Bitrate> {
        let stated = stated?;
        let is_repeated = self.bitrate.stated.replace(stated) == Some(stated) && self.bitrate.done.is_some();
        (!is_repeated).then_some(stated)
    }

    /// A bitrate was set, as whoever did it says.
    pub(super) fn bitrate_was_set(&mut self, now: Moment, to: Bitrate) {
        let from_wire = self.video_over(now, READ_OVER);
        let done = Done { at: now, to, from_wire, is_judged: false, is_unheeded: false };
        self.bitrate = BitrateKnown { stated: self.bitrate.stated, done: Some(done), most: None };
    }

    /// A second has passed: what the wire shows. Gives a change of which that shows, for the first time, that it was not made.
    pub(in crate::core) fn follow_bitrate(&mut self, now: Moment) -> Option<Unheeded> {
        let read_since = |since: Moment| now.since(since) >= READ_OVER;
        if !self.since.is_some_and(read_since) || !self.resumed_at.is_none_or(read_since) {
            return None;
        }
        let seen = self.video_over(now, READ_OVER);
        let Some(mut done) = self.bitrate.done else {
            self.bitrate.saw(seen);
            return None;
        };
        if now.since(done.at) < TAKES + READ_OVER {
            return None;
        }
        self.bitrate.saw(seen);
        let went = (done.from_wire.kbps() - seen.kbps()) / (done.from_wire.kbps() - done.to.kbps()).max(1.0);
        let is_lower = done.to < done.from_wire.scaled(1.0 - SEEN);
        let is_news = is_lower && went < HEEDED && !done.is_judged;
        // Late is better than never.
        done.is_unheeded = is_news || done.is_unheeded && went < HEEDED;
        self.bitrate.done = Some(Done { is_judged: true, ..done });
        is_news.then(|| Unheeded {
            to: done.to,
            why: format!("it was said to be done, and {seen} of video come all the same"),
        })
    }

    /// The notice that a change was said to be made and is not seen on the wire.
    pub(in crate::core) fn unheeded(&self, now: Moment) -> Option<Notice> {
        let to = self.bitrate.done.filter(|done| done.is_unheeded)?.to;
        let seen = self.video_over(now, READ_OVER);
        (seen > to.scaled(1.0 + SEEN)).then(|| Notice {
            kind: NoticeKind::Unheeded,
            text: format!("{to} was said to be set, and {seen} of video come: set it at the broadcaster by hand."),
            origin: Origin::Measured,
        })
    }
}

impl BitrateKnown {
    fn saw(&mut self, seen: Bitrate) {
        let rounded = Bitrate::from_bps(seen.bps() + STEP.bps() / 2).rounded_down_to(STEP);
        // An easy scene comes at less than is set: the most counts.
        self.most = self.most.max((rounded > Bitrate::ZERO).then_some(rounded));
    }
}
