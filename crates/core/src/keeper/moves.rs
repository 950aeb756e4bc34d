//! When the keeper goes down, and when up.

use std::time::Duration;

use super::{BitrateLook, Failed, Keeper, MINUTE, MOST_A_MINUTE, Made, Move, TAKES};
use crate::moment::Moment;
use crate::rate::Bitrate;

/// Without a floor of the user's, this: less is no picture. Ours.
const FLOOR: Bitrate = Bitrate::from_kbps(500);
/// What arrives is multiplied by this for a new bitrate. draft-ietf-rmcat-gcc-02, section 5.5, has 0.85; ours is chosen on the traces of
/// `docs/keeper.md`: what waits has a minute to drain, and from 0.92 on it does not.
const MARGIN: f64 = 0.88;
/// What arrives is multiplied by this for a new bitrate where the line is falling: one long step is better than three. Ours.
const MARGIN_FALLING: f64 = 0.55;
/// A line falls if it is short again within so long of a step down. Ours.
const FALLING: Duration = Duration::from_secs(40);
/// A line falls if it carries less than this share of what it carried at the step down before. Ours.
const FALLS: f64 = 0.9;
/// What arrives is multiplied by this where a new bitrate restarts the broadcaster: each change costs viewers a second or two. Ours, as
/// weighed in `docs/keeper.md`.
const MARGIN_RESTART: f64 = 0.82;
/// Below this share of its limit, a queue is not worth a change. Ours.
const WORTH: f64 = 0.25;
/// Over this share, there is no time to wait. Ours.
const FULL: f64 = 0.9;
/// For so long it must have flowed without a stall before its rate means something. Ours.
const MEASURED: Duration = Duration::from_millis(1500);
/// What buffers took in may be so much of what was acknowledged, and no more: the kernel's figure wavers, too. Ours: 8 % over a token bucket
/// with a buffer of 200 ms.
const BUFFERED: f64 = 0.85;
/// A rate is read over this long at most. Ours.
const RATE_OVER: Duration = Duration::from_millis(2500);
/// It climbs after so long without a queue, and not within a minute of another change: should the climb fail, the step
/// back is the second. Ours.
const QUIET: Duration = Duration::from_secs(20);
/// A dip is over when bursts were carried so fast for so long that what was carried before it fits. Ours.
const OVER: Duration = Duration::from_secs(3);
/// If they were not for so long before: longer than from one keyframe to the next. Ours.
const TELLS: Duration = Duration::from_secs(3);
/// What waited at last was carried over so long. Ours.
const DRAINED_OVER: Duration = Duration::from_secs(1);
/// And then it climbs after so long without a queue. Ours.
const QUIET_OVER: Duration = Duration::from_secs(6);
/// Where a new bitrate restarts the broadcaster, it climbs after so long without a queue. Ours.
const QUIET_RESTART: Duration = Duration::from_secs(60);
/// And only to so many times what is set: less is not worth a restart. Ours.
const GAIN_RESTART: f64 = 1.25;
/// After a step down that a spike had caused, it goes back after so long without a queue. Ours.
const QUIET_AFTER_SPIKE: Duration = Duration::from_secs(4);
/// A climb that fails within this long is one that did not hold: a line that is a little too small takes as long to
/// fill a queue. Ours.
const HELD: Duration = Duration::from_secs(90);
/// One that fails at once is seen sooner than a spike would be. Ours.
const AT_ONCE: Duration = Duration::from_secs(25);
/// What arrives is multiplied by this after such a climb: the queue is short, as it was looked for. Ours.
const MARGIN_CLIMBED: f64 = 0.92;
/// The first step up where bursts promise nothing, as a multiple of what is set. Ours.
const STEP: f64 = 1.12;
/// Steps grow with each that holds, up to this multiple. Ours.
const STEP_MOST: f64 = 1.7;
/// A step up is at least so much. Ours.
const STEP_LEAST: Bitrate = Bitrate::from_kbps(100);
/// Far below what was carried before is under this share of it. Ours.
const FAR: f64 = 0.6;
/// A step up goes to this share of what bursts were carried at, as far as that may be believed. Ours.
const OF_HINT: f64 = 0.8;
/// Bursts that promised what did not hold for so long are not believed any more: a token bucket lets them through. What held longer was
/// true then. Ours.
const HOLDS: Duration = Duration::from_secs(12);
/// They are not believed for this long; what failed is tried again after longer and longer all the same. Ours.
const DISBELIEF: Duration = Duration::from_secs(120);
/// Where a climb failed it is tried again after so long, which doubles each time. Ours.
const RETRY: Duration = Duration::from_secs(60);
/// It doubles up to so long. Ours.
const RETRY_MOST: Duration = Duration::from_secs(480);

impl Keeper {
    fn changes_lately(&self, now: Moment) -> usize {
        self.made.iter().filter(|made| now.since(made.at) < MINUTE).count()
    }

    /// Whether the line has become smaller, and for how long it has flowed since anything stalled; not for a spike that
    /// the queue can absorb.
    fn is_short(&self, look: &BitrateLook, climbed: Option<Made>) -> Option<Duration> {
        let now = look.now;
        let flowing = self.flows_since.map(|since| now.since(since)).filter(|long| *long >= MEASURED)?;
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
        (drops || !falls && (lasts || is_full)).then_some(flowing)
    }

    pub(super) fn down(&mut self, look: &BitrateLook, set_to: Bitrate) -> Option<Move> {
        let now = look.now;
        let (last_up, last_down) = self.last_moves();
        let climbed = last_up.filter(|made| now.since(made.at) < HELD && made.to == set_to);
        let flowing = self.is_short(look, climbed)?;
        let short_for = self.short_since.map_or(RATE_OVER, |since| now.since(since));
        let over = RATE_OVER.min(flowing.saturating_sub(Duration::from_millis(300))).min(short_for);
        // Where losses are recovered, acknowledgements stop and jump: a short stretch of them says too little. The kernel's own
        // rate leaves that out, and is the most that can be carried; without it, the slower stretch counts.
        let carried = match look.delivered {
            Some(delivered) => self.carried(now, over)?.min(delivered.bps() as f64),
            None => self.carried(now, over)?.min(self.carried(now, MEASURED.min(over))?),
        };
        // What was acknowledged when a line became smaller is in part what its buffers took in before they were full.
        let delivering = look.delivering.map_or(f64::MAX, |rate| rate.bps() as f64);
        let carried = carried.min(delivering.max(BUFFERED * carried));
        let asked = (set_to.bps().min(look.asked_video.bps()) + look.audio.bps()) as f64;
        if carried >= asked {
            // What waits was asked before; it will be gone.
            return None;
        }
        let last = self.made.back().filter(|made| now.since(made.at) < TAKES);
        if let Some(made) = last.filter(|made| look.asked_video > made.to.scaled(1.15)) {
            self.says = format!("Waiting for the broadcaster to come down to {}.", made.to);
            return None;
        }
        let fails_early = self.is_early && last_up.is_some_and(|made| now.since(made.at) < MINUTE);
        if fails_early {
            self.early_failed_at = Some(now);
        }
        if self.changes_lately(now) >= MOST_A_MINUTE + usize::from(fails_early) {
            self.says = "Two changes within a minute are enough: it waits.".into();
            return None;
        }
        let is_little = climbed.is_some() && carried > 0.8 * asked;
        let margin = match last_down {
            _ if look.restarts => MARGIN_RESTART,
            _ if is_little => MARGIN_CLIMBED,
            // One that was wide again in between has fallen anew, and is not falling.
            Some(made)
                if last_up.is_none_or(|up| up.at < made.at)
                    && now.since(made.at) < FALLING
                    && carried < FALLS * made.carried =>
            {
                MARGIN_FALLING
            }
            _ => MARGIN,
        };
        let floor = self.bounds.floor.unwrap_or(FLOOR).min(set_to);
        let fits = Bitrate::from_bps((carried * margin) as u64).less(look.audio);
        let to = fits.rounded_down_to(Bitrate::from_kbps(50)).max(floor);
        if to >= set_to.scaled(0.98) {
            return None;
        }
        let mut why = format!(
            "The line has carried {} of {} asked for {:.1} s, longer than the queue could absorb.",
            Bitrate::from_bps(carried as u64),
            Bitrate::from_bps(look.asked_video.bps() + look.audio.bps()),
            short_for.as_secs_f64(),
        );
        if let Some(made) = climbed {
            let wait = self.note_failed(now, made);
            if is_little || now.since(made.at) < AT_ONCE {
                why = format!("{} did not hold: back, and tried again in {} s.", made.to, wait.as_secs());
            }
        }
        self.carried_then = carried;
        Some(Move { from: set_to, to, why })
    }

    /// A climb did not hold; gives how long it is not tried again.
    fn note_failed(&mut self, now: Moment, made: Made) -> Duration {
        let times = self.failed.map_or(0, |failed| failed.times) + 1;
        let wait = RETRY.saturating_mul(1 << (times - 1).min(8)).min(RETRY_MOST);
        self.failed = Some(Failed { level: made.to, until: Moment::after(now.since(Moment::START) + wait), times });
        if self.by_hint && now.since(made.at) < HOLDS {
            self.hint_failed_at = Some(now);
        }
        wait
    }

    fn last_moves(&self) -> (Option<Made>, Option<Made>) {
        let last = |up: bool| self.made.iter().rev().find(|made| (made.to > made.from) == up).copied();
        (last(true), last(false))
    }

    /// Notes whether bursts promise that the dip is over, and whether they could tell. A token bucket lets the beginning of each burst
    /// through, as fast as may be, whatever it carries: what fits from the moment on that nothing waits any more says nothing. It says
    /// something if it did not fit for a while, or if what waited at last was carried as fast.
    fn note_fit(&mut self, now: Moment, fits: bool, back: Option<Made>) {
        if !fits {
            self.fits_since = None;
            let since = *self.unfit_since.get_or_insert(now);
            self.bursts_tell |= now.since(since) >= TELLS;
            return;
        }
        self.unfit_since = None;
        if self.fits_since.is_none() {
            self.fits_since = Some(now);
            let drained = self.carried(now, DRAINED_OVER);
            self.bursts_tell |= drained.zip(back).is_some_and(|(bps, made)| bps >= made.from.bps() as f64);
        }
    }

    pub(super) fn up(&mut self, look: &BitrateLook, set_to: Bitrate, ceiling: Bitrate) -> Option<Move> {
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
            // Should it have been none, the step back may be the third change of the minute.
            self.is_early = true;
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
        // Where bursts have long been carried as fast as what was carried before the dip needs, the dip is over: there is no need
        // to wait until a step back would be within two changes a minute.
        let back = self.last_moves().1.filter(|_| self.changes_lately(now) < MOST_A_MINUTE && !look.restarts);
        let fits = bursts.zip(back).is_some_and(|(fits, made)| fits >= made.from);
        self.note_fit(now, fits, back);
        let is_over = self.fits_since.is_some_and(|since| now.since(since) >= OVER);
        // Where one that came so early did not hold, the next ones do not come early.
        let is_trusted = self.early_failed_at.is_none_or(|at| now.since(at) > DISBELIEF);
        let is_early = is_over && is_trusted && self.bursts_tell;
        let quiet = if is_early { QUIET_OVER } else { quiet };
        let apart = if is_early { quiet } else { MINUTE.max(quiet) };
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
        self.is_early = is_early && last < MINUTE;
        Some(Move { from: set_to, to, why })
    }
}
