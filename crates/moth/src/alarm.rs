//! When to tell somebody who is not looking: a new verdict, a worse one, and all-clear; not more often than is wanted.

use std::time::Duration;

use moth_core::Snapshot;
use moth_core::moment::Moment;
use moth_core::suspects::{Cause, Fault};
use serde::Serialize;

/// A verdict must stand this long before anybody is told: what passes by itself is not worth a bell.
const STANDS: Duration = Duration::from_secs(1);
/// Trouble must be over this long before all is clear.
const CLEAR: Duration = Duration::from_secs(4);
/// A verdict is worse when it costs this many times the frames it cost when it was told.
const WORSE: f64 = 2.0;
/// So few frames, twice over, are not yet worse.
const LEAST: f64 = 3.0;

/// What there is to tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum News {
    /// A verdict that was not told before.
    New,
    /// The verdict that was told costs much more now.
    Worse,
    /// What was told is over.
    AllClear,
}

/// What was told last.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Told {
    fault: Fault,
    cause: Option<Cause>,
    harm: f64,
    at: Moment,
}

/// Decides when to tell.
#[derive(Debug)]
pub struct Alarm {
    /// After something was told, nothing more is for this long, but for another stage's trouble.
    quiet: Duration,
    told: Option<Told>,
    calm_since: Option<Moment>,
}

impl Alarm {
    /// One that keeps quiet for so long after each telling.
    #[must_use]
    pub fn new(quiet: Duration) -> Self {
        Self { quiet, told: None, calm_since: None }
    }

    /// What to tell of a snapshot, if anything.
    pub fn look(&mut self, snapshot: &Snapshot) -> Option<News> {
        let (now, verdict) = (snapshot.at, &snapshot.verdict);
        let is_calm = verdict.fault == Fault::None;
        self.calm_since = if is_calm { self.calm_since.or(Some(now)) } else { None };
        let is_quiet = self.told.is_some_and(|told| now.since(told.at) < self.quiet);
        let standing = self.told.filter(|told| told.fault != Fault::None);
        if is_calm {
            let clear = self.calm_since.is_some_and(|since| now.since(since) >= CLEAR);
            // A broadcast that ended is not one that is well again.
            if standing.is_none() || !clear || is_quiet || snapshot.on_air_since.is_none() {
                return None;
            }
            self.told = Some(Told { fault: Fault::None, cause: None, harm: 0.0, at: now });
            return Some(News::AllClear);
        }
        if now.since(verdict.since) < STANDS {
            return None;
        }
        let harm = verdict.suspects.first().map_or(0.0, |s| s.harm_frames);
        let news = match standing {
            // The same trouble: worth a word only if it is much worse.
            Some(told) if (told.fault, told.cause) == (verdict.fault, verdict.cause) => {
                (harm > told.harm.max(LEAST) * WORSE && !is_quiet).then_some(News::Worse)
            }
            // Another stage's trouble is new whatever was told just now.
            Some(told) if told.fault != verdict.fault => Some(News::New),
            Some(_) | None => (!is_quiet).then_some(News::New),
        };
        if news.is_some() {
            self.told = Some(Told { fault: verdict.fault, cause: verdict.cause, harm, at: now });
        }
        news
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::{Core, Settings};

    /// A snapshot with a verdict of one's own.
    fn snapshot(second: f64, fault: Fault, cause: Option<Cause>, since: f64) -> Snapshot {
        let at = Moment::after(Duration::from_secs_f64(second));
        let mut snapshot = Core::new(Settings::default()).snapshot(at);
        snapshot.on_air_since = Some(Moment::START);
        snapshot.verdict.fault = fault;
        snapshot.verdict.cause = cause;
        snapshot.verdict.since = Moment::after(Duration::from_secs_f64(since));
        snapshot
    }

    const SHORT: Option<Cause> = Some(Cause::LineShort);

    fn told(alarm: &mut Alarm, from: u32, to: u32, fault: Fault, cause: Option<Cause>) -> Vec<(u32, News)> {
        (from..to)
            .filter_map(|s| {
                let news = alarm.look(&snapshot(f64::from(s), fault, cause, f64::from(from)))?;
                Some((s, news))
            })
            .collect()
    }

    #[test]
    fn a_standing_verdict_is_told_once_and_its_end_once() {
        let mut alarm = Alarm::new(Duration::from_secs(10));
        assert_eq!(told(&mut alarm, 0, 20, Fault::None, None), []);
        assert_eq!(told(&mut alarm, 20, 60, Fault::Network, SHORT), [(21, News::New)]);
        assert_eq!(told(&mut alarm, 60, 90, Fault::None, None), [(64, News::AllClear)]);
    }

    #[test]
    fn trouble_that_comes_and_goes_rings_no_more_often_than_is_wanted() {
        let mut alarm = Alarm::new(Duration::from_secs(60));
        let mut count = 0;
        for spell in 0..20 {
            count += told(&mut alarm, spell * 12, spell * 12 + 6, Fault::Network, SHORT).len();
            count += told(&mut alarm, spell * 12 + 6, spell * 12 + 12, Fault::None, None).len();
        }
        assert!((2..=5).contains(&count), "{count} in four minutes");
    }

    #[test]
    fn another_stages_trouble_breaks_the_quiet() {
        let mut alarm = Alarm::new(Duration::from_secs(600));
        told(&mut alarm, 0, 10, Fault::Network, SHORT);
        assert_eq!(told(&mut alarm, 10, 20, Fault::Encoder, Some(Cause::Heat)), [(11, News::New)]);
        assert_eq!(told(&mut alarm, 20, 30, Fault::Encoder, Some(Cause::PresetHeavy)), [], "the same stage may wait");
    }
}
