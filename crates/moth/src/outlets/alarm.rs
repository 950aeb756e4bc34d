//! When to tell somebody who is not looking: a new verdict, a worse one, and all-clear; not more often than is wanted.

use std::time::Duration;

use moth_core::Snapshot;
use moth_core::moment::Moment;
use moth_core::suspects::{Cause, Fault};
use serde::Serialize;

/// A verdict must stand this long before anybody is told: what passes by itself is not worth a bell. Ours.
const STANDS: Duration = Duration::from_secs(1);
/// Trouble must be over this long before all is clear. Ours.
const CLEAR: Duration = Duration::from_secs(4);
/// A verdict is worse when it costs this many times the frames it cost when it was told. Ours.
const WORSE: f64 = 2.0;
/// So few frames, twice over, are not yet worse. Ours.
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

/// Something to tell.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Tell {
    /// What is new.
    pub news: News,
    /// Which of the verdict's suspects it is of: 0 is the verdict itself, others cost less at the same time.
    pub suspect: usize,
    /// Since when that stands.
    pub since: Moment,
}

/// A stage's trouble, and what was told of it.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Trouble {
    fault: Fault,
    cause: Option<Cause>,
    /// Since when this cause stands.
    since: Moment,
    /// When it was last there.
    seen_at: Moment,
    /// With which cause and harm it was told.
    told: Option<(Option<Cause>, f64)>,
}

/// Decides when to tell.
#[derive(Debug)]
pub struct Alarm {
    /// After something was told, nothing more is for this long, but for another stage's trouble.
    quiet: Duration,
    /// Each stage's.
    troubles: Vec<Trouble>,
    told_at: Option<Moment>,
    calm_since: Option<Moment>,
}

impl Alarm {
    /// One that keeps quiet for so long after each telling.
    #[must_use]
    pub fn new(quiet: Duration) -> Self {
        Self { quiet, troubles: Vec::new(), told_at: None, calm_since: None }
    }

    /// What to tell of a snapshot, if anything; what else there is to tell, at the next.
    pub fn look(&mut self, snapshot: &Snapshot) -> Option<Tell> {
        let (now, verdict) = (snapshot.at, &snapshot.verdict);
        let is_calm = verdict.fault == Fault::None;
        self.calm_since = if is_calm { self.calm_since.or(Some(now)) } else { None };
        let is_quiet = self.told_at.is_some_and(|at| now.since(at) < self.quiet);
        let is_told = self.troubles.iter().any(|trouble| trouble.told.is_some());
        if is_calm {
            let clear = self.calm_since.is_some_and(|since| now.since(since) >= CLEAR);
            // A broadcast that ended is not one that is well again.
            if !is_told || !clear || is_quiet || snapshot.on_air_since.is_none() {
                return None;
            }
            self.troubles.clear();
            self.told_at = Some(now);
            return Some(Tell { news: News::AllClear, suspect: 0, since: verdict.since });
        }
        let harm = verdict.suspects.first().map_or(0.0, |suspect| suspect.harm_frames);
        let first = (verdict.fault, verdict.cause, harm, Some(verdict.since));
        let others = verdict.suspects.iter().skip(1).map(|s| (s.fault, s.cause, s.harm_frames, None));
        let found: Vec<_> = std::iter::once(first).chain(others).collect();
        for (fault, cause, _, since) in &found {
            self.see(now, *fault, *cause, *since);
        }
        // What is over while another stage's trouble stands may be told again, when that is not too soon.
        self.troubles.retain(|trouble| now.since(trouble.seen_at) < CLEAR.max(self.quiet));
        let tell = found.iter().enumerate().find_map(|(suspect, (fault, cause, harm, _))| {
            let trouble = self.troubles.iter().find(|trouble| trouble.fault == *fault)?;
            let news = match trouble.told {
                _ if now.since(trouble.since) < STANDS => None,
                // The same trouble: worth a word only if it is much worse.
                Some((told, before)) if told == *cause => {
                    (*harm > before.max(LEAST) * WORSE && !is_quiet).then_some(News::Worse)
                }
                // Another stage's trouble is new whatever was told just now.
                None if is_told => Some(News::New),
                _ => (!is_quiet).then_some(News::New),
            };
            news.map(|news| (Tell { news, suspect, since: trouble.since }, *fault, *cause, *harm))
        });
        let (tell, fault, cause, harm) = tell?;
        if let Some(trouble) = self.troubles.iter_mut().find(|trouble| trouble.fault == fault) {
            trouble.told = Some((cause, harm));
        }
        self.told_at = Some(now);
        Some(tell)
    }

    /// Notes that a stage is in trouble; `since` when, if that is known better.
    fn see(&mut self, now: Moment, fault: Fault, cause: Option<Cause>, since: Option<Moment>) {
        if let Some(trouble) = self.troubles.iter_mut().find(|trouble| trouble.fault == fault) {
            let is_same = trouble.cause == cause && now.since(trouble.seen_at) < CLEAR;
            trouble.since = since.unwrap_or(if is_same { trouble.since } else { now });
            (trouble.cause, trouble.seen_at) = (cause, now);
        } else {
            let since = since.unwrap_or(now);
            self.troubles.push(Trouble { fault, cause, since, seen_at: now, told: None });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::suspects::Suspect;
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
                let tell = alarm.look(&snapshot(f64::from(s), fault, cause, f64::from(from)))?;
                Some((s, tell.news))
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

    /// A snapshot in which these stages lose frames at the same time, the worst first.
    fn at_once(second: f64, faults: &[(Fault, f64)]) -> Snapshot {
        let mut snapshot = snapshot(second, faults[0].0, SHORT, 0.0);
        snapshot.verdict.suspects = faults
            .iter()
            .map(|(fault, harm_frames)| Suspect { harm_frames: *harm_frames, ..Suspect::unknown(*fault) })
            .collect();
        snapshot.verdict.cause = None;
        snapshot
    }

    #[test]
    fn the_second_of_two_faults_at_once_is_told_too_and_their_changing_places_is_no_news() {
        let mut alarm = Alarm::new(Duration::from_secs(60));
        let mut told = Vec::new();
        for tenth in 0..600_u32 {
            let second = f64::from(tenth) / 10.0;
            // Now the one costs more, now the other.
            let mut faults = vec![(Fault::Network, 5.0), (Fault::Encoder, 4.0 + f64::from(tenth / 50 % 2) * 2.0)];
            faults.sort_by(|a, b| b.1.total_cmp(&a.1));
            faults.truncate(if second < 10.0 { 1 } else { 2 });
            if let Some(tell) = alarm.look(&at_once(second, &faults)) {
                told.push((second.round() as u32, tell.news, faults[tell.suspect].0));
            }
        }
        let faults: Vec<_> = told.iter().map(|(_, news, fault)| (*news, *fault)).collect();
        assert_eq!(faults, [(News::New, Fault::Network), (News::New, Fault::Encoder)], "{told:?}");
    }
}
