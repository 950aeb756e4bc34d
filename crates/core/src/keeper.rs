//! The keeper: the automatic bitrate, off unless asked for.
//!
//! It rests on what the sending itself tells, and probes with nothing but the broadcast:
//!
//! - *Too much is asked* when the queue grows, which is the over-use of the Google congestion control
//!   (draft-ietf-rmcat-gcc-02, section 5.4) taken at our own queue; and it is a spike for as long as the queue could
//!   absorb one. A line that is short for longer than the queue is long has become smaller.
//! - *Down* goes once, to what was acknowledged meanwhile less a margin: of the rate that arrives 0.85 there (section 5.5), and
//!   0.82 here (`MARGIN` in [`moves`] says why). The margin is also what drains the queue.
//! - *What the line could carry* is read off the stretches in which more was waiting than could be sent, mostly behind
//!   keyframes: the dispersion of packet trains (C. Dovrolis, P. Ramanathan, D. Moore, *IEEE/ACM Transactions on
//!   Networking* 12, 2004), with what an application does not fill left out as in delivery rate estimation
//!   (draft-cheng-iccrg-delivery-rate-estimation-02, section 2.2).
//! - *Up* goes by careful steps, and where one failed it is tried again only after a while that doubles.
//!
//! Encoder and rendering faults do not fill the queue, so it does nothing about them. How well it does is counted in
//! `docs/keeper.md`.
//!
//! [`watching`]: how the queue moves and what is carried. [`moves`]: when to go down, and when up.

mod moves;
mod view;
mod watching;

use std::collections::VecDeque;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::moment::Moment;
use crate::rate::Bitrate;
pub use view::KeeperView;

/// What a keeper may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Mode {
    /// Nothing.
    #[default]
    Off,
    /// Say what it would do.
    Advise,
    /// Do it.
    Act,
}

impl Mode {
    /// The word shown, which is also the one in files.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Advise => "advise",
            Self::Act => "act",
        }
    }
}

/// The keeper's bounds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Bounds {
    /// It never goes below this video bitrate.
    pub floor: Option<Bitrate>,
    /// Nor above this one; what the broadcaster was set to when it began, if not given.
    pub ceiling: Option<Bitrate>,
}

/// Changes within a minute, at most. Ours.
const MOST_A_MINUTE: usize = 2;
const MINUTE: Duration = Duration::from_secs(60);
/// A change takes this long to be seen on the wire, at most; until then nothing is concluded. Ours.
const TAKES: Duration = Duration::from_secs(10);

/// What the keeper looks at, ten times a second.
#[derive(Debug, Clone, Copy)]
pub struct BitrateLook {
    /// When.
    pub now: Moment,
    /// How long the oldest frame in the queue has waited, in milliseconds.
    pub queue_ms: f64,
    /// Over this many milliseconds frames are dropped.
    pub limit_ms: f64,
    /// Bytes acknowledged (else written) so far.
    pub sent_bytes: f64,
    /// Whether frames wait that the connection could not take.
    pub is_busy: bool,
    /// Whether a server takes the broadcast.
    pub link_up: bool,
    /// Video frames dropped so far.
    pub dropped: u64,
    /// Video offered lately.
    pub asked_video: Bitrate,
    /// Audio offered lately.
    pub audio: Bitrate,
    /// What the broadcaster's video is set to, as far as it is known.
    pub set_to: Option<Bitrate>,
    /// It is only seen on the wire: nobody said it.
    pub is_only_seen: bool,
    /// A new bitrate restarts the encoder.
    pub restarts: bool,
    /// What the kernel measured of its own sending lately, at most: it leaves out where acknowledgements stop and jump.
    pub delivered: Option<Bitrate>,
    /// And what it measures now, on the mean: where more waits than can be sent, that is the line.
    pub delivering: Option<Bitrate>,
    /// The fastest that bursts were carried lately, as the kernel tells.
    pub bursts: Option<Bitrate>,
}

/// A change the keeper wants.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Move {
    /// From this video bitrate.
    pub from: Bitrate,
    /// To this one.
    pub to: Bitrate,
    /// Why, in a sentence with its numbers.
    pub why: String,
}

#[derive(Debug, Clone, Copy)]
struct Point {
    at: Moment,
    sent: f64,
    queue_ms: f64,
    is_busy: bool,
    dropped: u64,
}

/// A change that was made.
#[derive(Debug, Clone, Copy)]
struct Made {
    at: Moment,
    from: Bitrate,
    to: Bitrate,
    /// What was carried when it was wanted, in bits per second.
    carried: f64,
}

/// A level that did not hold.
#[derive(Debug, Clone, Copy)]
struct Failed {
    level: Bitrate,
    until: Moment,
    times: u32,
}

/// The keeper.
#[derive(Debug, Clone, Default)]
pub struct Keeper {
    mode: Mode,
    bounds: Bounds,
    ceiling: Option<Bitrate>,
    rests: bool,
    points: VecDeque<Point>,
    /// Since when the queue has been growing, and where it was then and is at most.
    short_since: Option<Moment>,
    trough: f64,
    trough_at: Option<Moment>,
    peak: f64,
    flows_since: Option<Moment>,
    quiet_since: Option<Moment>,
    pending: Option<(Moment, Bitrate)>,
    made: VecDeque<Made>,
    failed: Option<Failed>,
    advised: Option<(Moment, Bitrate)>,
    /// The last step down was for a spike: what waited is carried as fast as before.
    was_spike: bool,
    /// Steps up that held, one after another.
    held: i32,
    /// When a spike last cost a change.
    spiked_at: Option<Moment>,
    /// The last step up went by what bursts promised; and when such a promise failed.
    by_hint: bool,
    hint_failed_at: Option<Moment>,
    /// What was carried when a step down was wanted last, in bits per second.
    carried_then: f64,
    /// Since when bursts promise that what was carried before the last step down fits again.
    fits_since: Option<Moment>,
    /// Since when they promise less, without a queue; and whether that was so for long enough that their promise says something.
    unfit_since: Option<Moment>,
    bursts_tell: bool,
    /// The last step up came within a minute of a step down, as the dip was over; and when one such did not hold.
    is_early: bool,
    early_failed_at: Option<Moment>,
    says: String,
}

impl Keeper {
    /// Another mode, from the user: a keeper that rests begins again.
    pub fn set_mode(&mut self, mode: Mode) {
        *self = Self { mode, bounds: self.bounds, ceiling: self.bounds.ceiling, ..Self::default() };
    }

    /// Other bounds, from the user.
    pub fn set_bounds(&mut self, bounds: Bounds) {
        self.bounds = bounds;
        self.ceiling = bounds.ceiling;
    }

    /// What it may do.
    #[must_use]
    pub fn mode(&self) -> Mode {
        self.mode
    }

    /// Whether it rests because somebody else changed the bitrate.
    #[must_use]
    pub fn rests(&self) -> bool {
        self.rests
    }

    /// What it does and why, in a sentence.
    #[must_use]
    pub fn says(&self) -> &str {
        if self.mode == Mode::Off { "" } else { &self.says }
    }

    /// Somebody else changed the bitrate: from now on that counts more.
    pub fn overruled(&mut self) {
        self.pending = None;
        self.rests = self.mode != Mode::Off;
        self.says = "It rests: the bitrate was changed by hand, and that counts more.".into();
    }

    /// A change it wanted was made.
    pub fn was_made(&mut self, now: Moment, from: Bitrate, to: Bitrate) {
        self.pending = None;
        if let Some(last) = self.made.back()
            && last.to > last.from
            && to > from
        {
            self.held += 1;
        } else {
            self.held = 0;
        }
        self.was_spike = false;
        self.made.push_back(Made { at: now, from, to, carried: self.carried_then });
        self.fits_since = None;
        self.unfit_since = None;
        self.bursts_tell = false;
        self.forget_growth(now);
    }

    /// A change it wanted could not be made.
    pub fn was_not_made(&mut self, why: &str) {
        self.pending = None;
        self.rests = true;
        self.says = format!("It rests: a change could not be made, {why}.");
    }

    /// A change was made as the broadcaster says, and is not seen on the wire.
    pub fn was_not_heeded(&mut self, to: Bitrate, why: &str) {
        if self.mode != Mode::Off && self.made.back().is_some_and(|made| made.to == to) {
            self.was_not_made(&format!("to {to}: {why}"));
        }
    }

    /// Whether a change to this bitrate is the one it wanted.
    #[must_use]
    pub fn wanted(&self, to: Bitrate) -> bool {
        self.pending.is_some_and(|(_, wanted)| wanted == to)
    }

    /// The connection or the broadcast is another: what was seen of the old one says nothing.
    pub fn begin_again(&mut self) {
        self.points.clear();
        (self.short_since, self.flows_since, self.quiet_since, self.trough_at) = (None, None, None, None);
        (self.trough, self.peak) = (0.0, 0.0);
        self.failed = None;
    }

    fn forget_growth(&mut self, now: Moment) {
        self.short_since = None;
        self.quiet_since = Some(now);
        let queue = self.points.back().map_or(0.0, |p| p.queue_ms);
        (self.trough, self.peak, self.trough_at) = (queue, queue, Some(now));
    }

    /// Looks, and perhaps wants a change.
    pub fn look(&mut self, look: &BitrateLook) -> Option<Move> {
        if self.mode == Mode::Off {
            return None;
        }
        let now = look.now;
        self.note(look);
        let Some(set_to) = look.set_to else {
            self.says = "The broadcaster does not say its bitrate: for some seconds it is read off the wire.".into();
            return None;
        };
        let mut ceiling = *self.ceiling.get_or_insert(set_to);
        if look.is_only_seen && self.bounds.ceiling.is_none() && set_to > ceiling {
            // An easy scene at the beginning is no ceiling.
            ceiling = set_to;
            self.ceiling = Some(ceiling);
        }
        while self.made.front().is_some_and(|made| now.since(made.at) > 3 * MINUTE) {
            self.made.pop_front();
        }
        if self.pending.is_some_and(|(since, _)| now.since(since) > TAKES + TAKES) {
            self.pending = None;
        }
        if self.rests || self.pending.is_some() || !look.link_up {
            return None;
        }
        let wanted = self.down(look, set_to).or_else(|| self.up(look, set_to, ceiling))?;
        // In a mode that only advises, the same advice is not given again and again.
        if self.mode == Mode::Advise {
            let is_said = |(at, to): (Moment, Bitrate)| now.since(at) < MINUTE && (to < set_to) == (wanted.to < set_to);
            if self.advised.is_some_and(is_said) {
                return None;
            }
            self.advised = Some((now, wanted.to));
            self.forget_growth(now);
        } else {
            self.pending = Some((now, wanted.to));
        }
        self.says.clone_from(&wanted.why);
        Some(wanted)
    }
}
