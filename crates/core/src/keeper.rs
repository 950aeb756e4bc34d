//! The keeper: the automatic bitrate, off unless asked for.
//!
//! It rests on what the sending itself tells, and probes with nothing but the broadcast:
//!
//! - *Too much is asked* when the queue grows, which is the over-use of the Google congestion control
//!   (draft-ietf-rmcat-gcc-02, section 5.4) taken at our own queue; and it is a spike for as long as the queue could
//!   absorb one. A line that is short for longer than the queue is long has become smaller.
//! - *Down* goes once, to what was acknowledged meanwhile less a margin: 0.85 of the rate that arrives, as there
//!   (section 5.5). The margin is also what drains the queue.
//! - *What the line could carry* is read off the stretches in which more was waiting than could be sent, mostly behind
//!   keyframes: the dispersion of packet trains (C. Dovrolis, P. Ramanathan, D. Moore, *IEEE/ACM Transactions on
//!   Networking* 12, 2004), with what an application does not fill left out as in delivery rate estimation
//!   (draft-cheng-iccrg-delivery-rate-estimation-02, section 2.2).
//! - *Up* goes by careful steps, and where one failed it is tried again only after a while that doubles.
//!
//! Encoder and rendering faults do not fill the queue, so it does nothing about them. How well it does is counted in
//! `docs/keeper.md`.

use std::collections::VecDeque;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::moment::Moment;
use crate::rate::Bitrate;

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

/// Without a floor of the user's, this: less is no picture.
const FLOOR: Bitrate = Bitrate::from_kbps(500);
/// What arrives is multiplied by this for a new bitrate; see above.
const MARGIN: f64 = 0.85;
/// The same if the last step down is this fresh: the line is falling, and one long step is better than three.
const MARGIN_FALLING: f64 = 0.6;
const FALLING: Duration = Duration::from_secs(40);
/// The same for a broadcaster that is restarted for it: each change costs viewers a second or two.
const MARGIN_RESTART: f64 = 0.75;
/// A queue below this is empty, in milliseconds: a keyframe alone makes one of this size on a line that suffices.
const CALM_MS: f64 = 60.0;
/// A queue that rose by this has begun to grow, in milliseconds.
const RISES_MS: f64 = 150.0;
/// Below this share of its limit, a queue is not worth a change.
const WORTH: f64 = 0.3;
/// Over this share, there is no time to wait.
const FULL: f64 = 0.9;
/// What carries less than this share of what is asked is a stall: nothing can be read off it.
const FLOWS: f64 = 0.1;
/// And for so long it must have flowed before its rate means something.
const MEASURED: Duration = Duration::from_millis(1500);
/// A rate is read over this long at most.
const RATE_OVER: Duration = Duration::from_millis(2500);
/// Changes within a minute, at most.
const MOST_A_MINUTE: usize = 2;
const MINUTE: Duration = Duration::from_secs(60);
/// A change takes this long to be seen on the wire, at most; until then nothing is concluded.
const TAKES: Duration = Duration::from_secs(10);
/// It climbs after so long without a queue, and not within a minute of another change: should the climb fail, the step
/// back is the second.
const QUIET: Duration = Duration::from_secs(20);
/// What waits after a step down shows what the line carries, over this long.
const SPIKE_OVER: Duration = Duration::from_millis(700);
/// After a step down that a spike had caused, it goes back after so long without a queue.
const QUIET_AFTER_SPIKE: Duration = Duration::from_secs(4);
/// The same for a broadcaster that is restarted for it, and the gain that is worth it.
const QUIET_RESTART: Duration = Duration::from_secs(120);
const GAIN_RESTART: f64 = 1.25;
/// A climb that fails within this long is one that did not hold: a line that is a little too small takes as long to
/// fill a queue.
const HELD: Duration = Duration::from_secs(90);
/// One that fails at once is seen sooner than a spike would be, and what bursts promised is not believed any more.
const AT_ONCE: Duration = Duration::from_secs(25);
/// What arrives is multiplied by this after such a climb: the queue is short, as it was looked for.
const MARGIN_CLIMBED: f64 = 0.92;
/// A step up without a hint; after one that held the next is longer, up to the other.
const STEP: f64 = 1.12;
const STEP_MOST: f64 = 1.7;
/// Far below what was carried before is under this share of it.
const FAR: f64 = 0.6;
/// And at least so much.
const STEP_LEAST: Bitrate = Bitrate::from_kbps(100);
/// A step up goes to this share of what bursts were carried at, as far as that may be believed.
const OF_HINT: f64 = 0.8;
/// Bursts that promised what did not hold are not believed for this long: a token bucket lets them through.
const DISBELIEF: Duration = Duration::from_secs(600);
/// Where a climb failed it is tried again after this, which doubles up to the other.
const RETRY: Duration = Duration::from_secs(60);
const RETRY_MOST: Duration = Duration::from_secs(480);
/// The estimate is the median of the stretches in this long, if there are so many.
const ESTIMATE_OVER: Duration = Duration::from_secs(12);
const STRETCHES: usize = 5;

/// What the keeper looks at, ten times a second.
#[derive(Debug, Clone, Copy)]
pub struct Look {
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
    /// A new bitrate restarts the encoder.
    pub restarts: bool,
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
    /// Spikes that cost a change, and when the last was.
    spikes: u32,
    spiked_at: Option<Moment>,
    /// The last step up went by what bursts promised; and when such a promise failed.
    by_hint: bool,
    hint_failed_at: Option<Moment>,
    says: String,
}

impl Keeper {
    /// Another mode, from the user: a keeper that rests begins again.
    pub fn set_mode(&mut self, mode: Mode) {
        *self = Self { mode, bounds: self.bounds, ..Self::default() };
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
        match (self.mode, self.rests) {
            (Mode::Off, _) => "",
            (_, true) => "It rests: the bitrate was changed by hand, and that counts more.",
            _ => &self.says,
        }
    }

    /// What it holds to be the most the line carries, read off stretches in which more waited than could be sent.
    #[must_use]
    pub fn estimate(&self) -> Option<Bitrate> {
        let last = self.points.back()?;
        let from = last.at.before(ESTIMATE_OVER);
        let mut rates: Vec<f64> = Vec::new();
        for (a, b) in self.points.iter().zip(self.points.iter().skip(1)) {
            let seconds = b.at.since(a.at).as_secs_f64();
            if a.at >= from && a.is_busy && b.is_busy && seconds > 0.02 {
                rates.push((b.sent - a.sent) * 8.0 / seconds);
            }
        }
        if rates.len() < STRETCHES {
            return None;
        }
        rates.sort_by(f64::total_cmp);
        Some(Bitrate::from_bps(rates[rates.len() / 2].max(0.0) as u64))
    }

    /// Somebody else changed the bitrate: from now on that counts more.
    pub fn overruled(&mut self) {
        self.pending = None;
        self.rests = self.mode != Mode::Off;
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
        self.made.push_back(Made { at: now, from, to });
        self.forget_growth(now);
    }

    /// A change it wanted could not be made.
    pub fn was_not_made(&mut self, why: &str) {
        self.pending = None;
        self.rests = true;
        self.says = format!("A change could not be made: {why}.");
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
    pub fn look(&mut self, look: &Look) -> Option<Move> {
        if self.mode == Mode::Off {
            return None;
        }
        let now = look.now;
        self.note(look);
        let set_to = look.set_to?;
        let ceiling = *self.ceiling.get_or_insert(set_to);
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

    /// Notes how the queue stands and moves, and whether anything flows.
    fn note(&mut self, look: &Look) {
        let now = look.now;
        let point = Point {
            at: now,
            sent: look.sent_bytes,
            queue_ms: look.queue_ms,
            is_busy: look.is_busy && look.link_up,
            dropped: look.dropped,
        };
        self.points.push_back(point);
        while self.points.front().is_some_and(|p| now.since(p.at) > ESTIMATE_OVER) {
            self.points.pop_front();
        }
        let asked = (look.asked_video.bps() + look.audio.bps()) as f64;
        let flows = self.carried(now, Duration::from_millis(400)).is_some_and(|bps| bps >= FLOWS * asked);
        self.flows_since = if flows { self.flows_since.or(Some(now)) } else { None };

        let queue = look.queue_ms;
        if queue < CALM_MS {
            (self.short_since, self.trough, self.peak, self.trough_at) = (None, queue, queue, Some(now));
        } else if queue <= self.trough + 20.0 {
            (self.trough, self.trough_at) = (queue.min(self.trough), Some(now));
        }
        if queue >= self.trough + RISES_MS && self.short_since.is_none() {
            self.short_since = self.trough_at.or(Some(now));
            self.peak = queue;
        }
        self.peak = self.peak.max(queue);
        // Recovering by itself: what was absorbed was a spike.
        if self.short_since.is_some() && queue < self.peak - RISES_MS.max(0.25 * self.peak) {
            (self.short_since, self.trough, self.peak, self.trough_at) = (None, queue, queue, Some(now));
        }
        self.tell_spike(now, look.audio);
        let is_quiet = queue < RISES_MS;
        self.quiet_since = if is_quiet { self.quiet_since.or(Some(now)) } else { None };
    }

    /// Whether what waits since a step down is carried as fast as was asked before it: then the line is as it was.
    fn tell_spike(&mut self, now: Moment, audio: Bitrate) {
        let Some(made) = self.made.back().copied().filter(|made| made.to < made.from) else { return };
        let since = now.since(made.at);
        if self.was_spike || since > TAKES {
            return;
        }
        let before = (made.from.bps() + audio.bps()) as f64;
        if self.carried(now, SPIKE_OVER).is_some_and(|bps| bps > 1.1 * before) {
            self.was_spike = true;
            self.spikes += 1;
            self.spiked_at = Some(now);
        }
    }

    /// What was acknowledged in the `span` before `now`, in bits per second.
    fn carried(&self, now: Moment, span: Duration) -> Option<f64> {
        let from = now.before(span);
        let then = self.points.iter().rev().find(|p| p.at <= from).or(self.points.front())?;
        let newest = self.points.back()?;
        let seconds = newest.at.since(then.at).as_secs_f64();
        (seconds > 0.0).then(|| (newest.sent - then.sent).max(0.0) * 8.0 / seconds)
    }

    fn at(&self, when: Moment) -> Option<&Point> {
        self.points.iter().rev().find(|p| p.at <= when)
    }

    fn changes_lately(&self, now: Moment) -> usize {
        self.made.iter().filter(|made| now.since(made.at) < MINUTE).count()
    }

    fn down(&mut self, look: &Look, set_to: Bitrate) -> Option<Move> {
        let now = look.now;
        let flowing = self.flows_since.map(|since| now.since(since)).filter(|long| *long >= MEASURED)?;
        let (last_up, last_down) = self.last_moves();
        let climbed = last_up.filter(|made| now.since(made.at) < HELD && made.to == set_to);
        let limit = Duration::from_secs_f64(look.limit_ms / 1000.0);
        // Where spikes cost changes lately, one is waited for longer.
        let spiky = self.spiked_at.is_some_and(|at| now.since(at) < 3 * MINUTE);
        let limit = if spiky { limit.mul_f64(1.5) } else { limit };
        let at_once = climbed.is_some_and(|made| now.since(made.at) < AT_ONCE);
        let (patience, worth) = if at_once { (limit.mul_f64(0.6), 0.5 * WORTH) } else { (limit, WORTH) };
        let lasts = self.short_since.is_some_and(|since| now.since(since) >= patience)
            && look.queue_ms >= worth * look.limit_ms;
        let second_ago = self.at(now.before(Duration::from_secs(1)));
        let falls = second_ago.is_some_and(|p| look.queue_ms < p.queue_ms - 30.0);
        let drops = flowing > 2 * MEASURED && second_ago.is_some_and(|p| look.dropped > p.dropped);
        let is_full = look.queue_ms >= FULL * look.limit_ms && self.short_since.is_some();
        if !(lasts && !falls || is_full && !falls || drops) {
            return None;
        }
        if let Some(made) = self.made.back()
            && now.since(made.at) < TAKES
            && look.asked_video > made.to.scaled(1.15)
        {
            self.says = format!("Waiting for the broadcaster to come down to {}.", made.to);
            return None;
        }
        if self.changes_lately(now) >= MOST_A_MINUTE {
            self.says = "Two changes within a minute are enough: it waits.".into();
            return None;
        }
        let short_for = self.short_since.map_or(RATE_OVER, |since| now.since(since));
        let over = RATE_OVER.min(flowing.saturating_sub(Duration::from_millis(300))).min(short_for);
        let carried = self.carried(now, over)?.min(self.carried(now, MEASURED.min(over))?);
        let asked = (set_to.bps().min(look.asked_video.bps()) + look.audio.bps()) as f64;
        if carried >= asked {
            // What waits was asked before; it will be gone.
            return None;
        }
        let margin = match last_down {
            _ if look.restarts => MARGIN_RESTART,
            Some(made) if now.since(made.at) < FALLING => MARGIN_FALLING,
            _ => MARGIN,
        };
        let floor = self.bounds.floor.unwrap_or(FLOOR).min(set_to);
        let fits = Bitrate::from_bps((carried * margin) as u64).less(look.audio);
        let mut to = fits.rounded_down_to(Bitrate::from_kbps(50)).max(floor);
        let mut why = format!(
            "The line has carried {} of {} asked for {:.1} s, longer than the queue could absorb.",
            Bitrate::from_bps(carried as u64),
            Bitrate::from_bps(look.asked_video.bps() + look.audio.bps()),
            self.short_since.map_or(0.0, |since| now.since(since).as_secs_f64()),
        );
        if let Some(made) = climbed {
            let times = self.failed.map_or(0, |failed| failed.times) + 1;
            let wait = RETRY.saturating_mul(1 << (times - 1).min(8)).min(RETRY_MOST);
            self.failed = Some(Failed { level: made.to, until: Moment::after(now.since(Moment::START) + wait), times });
            if self.by_hint && at_once {
                self.hint_failed_at = Some(now);
            }
            if carried > 0.8 * asked && !look.restarts {
                let fits = Bitrate::from_bps((carried * MARGIN_CLIMBED) as u64).less(look.audio);
                to = fits.rounded_down_to(Bitrate::from_kbps(50)).max(floor);
            }
            if at_once || carried > 0.8 * asked {
                why = format!("{} did not hold: back, and tried again in {} s.", made.to, wait.as_secs());
            }
        }
        (to < set_to.scaled(0.98)).then_some(Move { from: set_to, to, why })
    }

    fn last_moves(&self) -> (Option<Made>, Option<Made>) {
        let last = |up: bool| self.made.iter().rev().find(|made| (made.to > made.from) == up).copied();
        (last(true), last(false))
    }

    fn up(&mut self, look: &Look, set_to: Bitrate, ceiling: Bitrate) -> Option<Move> {
        let now = look.now;
        if set_to >= ceiling {
            self.says = format!("{set_to} is carried; there is nothing to do.");
            return None;
        }
        let since = self.quiet_since?;
        let calm = now.since(since);
        if self.was_spike
            && let Some(made) = self.made.back().copied()
            && !look.restarts
        {
            if calm < QUIET_AFTER_SPIKE || self.changes_lately(now) >= MOST_A_MINUTE {
                return None;
            }
            let to = made.from.min(ceiling);
            let why = format!("It was a spike: what waited was carried faster than {to}. Back to that.");
            return (to > set_to).then_some(Move { from: set_to, to, why });
        }
        let believed = self.hint_failed_at.is_none_or(|at| now.since(at) > DISBELIEF);
        let bursts = look.bursts.filter(|_| believed).map(|rate| rate.scaled(OF_HINT).less(look.audio));
        let by_hint = bursts.is_some_and(|fits| fits > set_to.scaled(STEP));
        let blind = (1.0 + (STEP - 1.0) * 2_f64.powi(self.held.min(8))).min(STEP_MOST);
        // Far below what was carried before, long steps are likely to hold (as RFC 5681, section 3.1, has it for a
        // window below half of that of the last loss).
        let is_far = bursts.is_none() && self.last_moves().1.is_some_and(|made| set_to < made.from.scaled(FAR));
        let blind = if is_far { STEP_MOST.min(1.5) } else { blind };
        let blind = set_to.scaled(blind).max(Bitrate::from_bps(set_to.bps() + STEP_LEAST.bps()));
        let reach = bursts.filter(|_| by_hint).unwrap_or(blind);
        let quiet = if look.restarts { QUIET_RESTART } else { QUIET };
        // Should the climb fail, the step back is the second change of the minute.
        let apart = MINUTE.max(quiet);
        let last = self.made.back().map_or(apart, |made| now.since(made.at));
        if calm < quiet || last < apart {
            let wait = quiet.saturating_sub(calm).max(apart.saturating_sub(last));
            self.says = format!("Calm for {} s; it climbs in {} s if it stays so.", calm.as_secs(), wait.as_secs());
            return None;
        }
        let mut to = reach.min(ceiling);
        if let Some(failed) = self.failed {
            if now < failed.until {
                to = to.min(failed.level.scaled(0.95));
            } else if to > failed.level {
                to = failed.level;
            }
        }
        if to < ceiling {
            to = to.rounded_down_to(Bitrate::from_kbps(50));
        }
        let gain = if look.restarts { GAIN_RESTART } else { 1.02 };
        if to < set_to.scaled(gain) && to < ceiling || to <= set_to {
            self.says = format!("{set_to} is carried; more did not hold or is not worth a change.");
            return None;
        }
        let why = match look.bursts {
            Some(bursts) if bursts > set_to => {
                format!("Calm for {} s, and bursts are carried at {bursts}.", calm.as_secs())
            }
            _ => format!("Calm for {} s: a careful step up.", calm.as_secs()),
        };
        self.by_hint = by_hint;
        Some(Move { from: set_to, to, why })
    }
}
