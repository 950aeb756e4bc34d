//! A broadcast in a row of a list: how long, what was lost by kind, whose fault it was, and where in it.

use moth_core::State;
use moth_core::history::Second;
use moth_core::suspects::{Cause, Fault};
use moth_core::trial::{Outcome, Trial};
use serde::{Deserialize, Serialize};

use crate::evening::{Lost, Stood};

/// The broadcast's length is told in so many slices. Ours: as many as fit into a row beside the words, at 80 columns.
pub const SLICES: usize = 24;

/// A broadcast, digested.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Digest {
    /// Seconds in which somebody broadcast.
    pub on_air_s: u32,
    /// What was lost.
    pub lost: Lost,
    /// How long the picture stood still for viewers, in milliseconds.
    pub frozen_ms: u64,
    /// How long at the longest, in milliseconds.
    pub longest_frozen_ms: u32,
    /// Seconds in each state: steady, strained, losing, dark.
    pub in_state_s: [u32; 4],
    /// What was offered, video and audio, in kb/s on the mean.
    pub asked_kbps: Option<f32>,
    /// What was acknowledged, in kb/s on the mean.
    pub sent_kbps: Option<f32>,
    /// Round trip, in milliseconds at the median.
    pub rtt_ms: Option<f32>,
    /// What was at fault, that which stood longest first.
    pub blamed: Vec<Blamed>,
    /// Changes that were proved or refuted.
    pub trials: u32,
    /// Changes that were proved to help.
    pub helped: u32,
    /// The broadcast from its first second on air to its last, in [`SLICES`] slices.
    pub slices: Vec<Slice>,
}

/// A cause that was at fault.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Blamed {
    /// The stage.
    pub fault: Fault,
    /// The cause, if one was found.
    pub cause: Option<Cause>,
    /// How often.
    pub times: u32,
    /// For how long in all, in seconds.
    pub seconds: f64,
    /// How sure that was at most, from 0 to 1.
    pub confidence: f64,
}

/// A part of a broadcast's length.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Slice {
    /// What was lost.
    pub lost: Lost,
    /// Seconds without a server.
    pub dark_s: u32,
    /// Somebody broadcast.
    pub is_on_air: bool,
}

impl Slice {
    /// Of some seconds.
    #[must_use]
    pub fn of(seconds: &[Second]) -> Self {
        Self {
            lost: Lost::of(seconds),
            dark_s: seconds.iter().filter(|second| second.state == Some(State::Dark)).count() as u32,
            is_on_air: seconds.iter().any(|second| second.state.is_some()),
        }
    }

    /// The stage that lost most; none if nothing was lost.
    #[must_use]
    pub fn worst(&self) -> Fault {
        let stages = [Fault::Network, Fault::Encoder, Fault::Rendering];
        let worst = stages.into_iter().max_by_key(|stage| self.lost.by(*stage)).unwrap_or(Fault::None);
        match (self.lost.by(worst), self.dark_s) {
            (0, 0) => Fault::None,
            (0, _) => Fault::Network,
            _ => worst,
        }
    }

    /// How bad it was for viewers, from 0 (nothing) to 4 (a twentieth lost, or no server). Ours: a tenth of a percent is a frame in 17 s
    /// at 60/s, which hardly anybody sees; one in a hundred is seen; one in twenty is why people leave.
    #[must_use]
    pub fn badness(&self) -> u8 {
        let share = self.lost.percent(self.lost.all());
        match share {
            _ if self.dark_s > 0 => 4,
            _ if self.lost.all() == 0 => 0,
            share if share < 0.1 => 1,
            share if share < 1.0 => 2,
            share if share < 5.0 => 3,
            _ => 4,
        }
    }
}

impl Digest {
    /// Of a broadcast's seconds, verdicts and trials.
    #[must_use]
    pub fn of(seconds: &[Second], verdicts: &[Stood], trials: &[Trial]) -> Self {
        let is_on_air = |second: &Second| second.state.is_some();
        // At its end somebody was on air for a part of a second: the frames of that part count.
        let has_frames = |second: &Second| is_on_air(second) || second.due.is_some();
        let first = seconds.iter().position(has_frames).unwrap_or(seconds.len());
        let end = seconds.iter().rposition(has_frames).map_or(first, |last| last + 1);
        let on_air = &seconds[first..end];
        let states = [State::Steady, State::Strained, State::Losing, State::Dark];
        let in_state = |state| on_air.iter().filter(|second| second.state == Some(state)).count() as u32;
        let mean = |of: fn(&Second) -> Option<f32>| {
            let known = on_air.iter().filter_map(of).filter(|value| value.is_finite());
            let (sum, count) = known.fold((0.0, 0_u32), |(sum, count), value| (sum + f64::from(value), count + 1));
            (count > 0).then(|| (sum / f64::from(count)) as f32)
        };
        let mut trips: Vec<f32> = on_air.iter().filter_map(|second| second.rtt_ms).collect();
        let middle = trips.len() / 2;
        let rtt_ms = (!trips.is_empty()).then(|| *trips.select_nth_unstable_by(middle, f32::total_cmp).1);
        let ended = trials.iter().filter(|trial| trial.is_over);
        Self {
            on_air_s: on_air.iter().filter(|second| is_on_air(second)).count() as u32,
            lost: Lost::of(on_air),
            frozen_ms: on_air.iter().filter_map(|second| second.frozen_ms).map(u64::from).sum(),
            longest_frozen_ms: on_air.iter().filter_map(|second| second.frozen_ms).max().unwrap_or(0),
            in_state_s: states.map(in_state),
            asked_kbps: mean(|second| second.asked_kbps),
            sent_kbps: mean(|second| second.sent_kbps),
            rtt_ms,
            blamed: blamed(verdicts),
            trials: ended.clone().count() as u32,
            helped: ended.filter(|trial| trial.outcome == Outcome::Helped).count() as u32,
            slices: sliced(on_air),
        }
    }

    /// Everything lost, in percent of the frames due; `None` if none was due.
    #[must_use]
    pub fn lost_percent(&self) -> Option<f64> {
        (self.lost.due > 0).then(|| self.lost.percent(self.lost.all()))
    }
}

fn sliced(on_air: &[Second]) -> Vec<Slice> {
    if on_air.is_empty() {
        return Vec::new();
    }
    let edge = |n: usize| on_air.len() * n / SLICES;
    let slice = |n: usize| {
        // With fewer seconds than slices one second is told more than once.
        Slice::of(&on_air[edge(n)..edge(n + 1).max(edge(n) + 1)])
    };
    (0..SLICES).map(slice).collect()
}

fn blamed(verdicts: &[Stood]) -> Vec<Blamed> {
    let mut all: Vec<Blamed> = Vec::new();
    for stood in verdicts {
        let known = all.iter().position(|known| (known.fault, known.cause) == (stood.fault, stood.cause));
        let at = known.unwrap_or_else(|| {
            all.push(Blamed { fault: stood.fault, cause: stood.cause, times: 0, seconds: 0.0, confidence: 0.0 });
            all.len() - 1
        });
        let one = &mut all[at];
        one.times += 1;
        one.seconds += (stood.until_s - stood.from_s).max(0.0);
        one.confidence = one.confidence.max(stood.confidence);
    }
    all.sort_by(|a, b| b.seconds.total_cmp(&a.seconds));
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn second(dropped: u32) -> Second {
        Second { state: Some(State::Steady), due: Some(60), dropped: Some(dropped), ..Second::default() }
    }

    #[test]
    fn a_stall_of_one_second_in_a_long_evening_is_seen_in_its_slice_and_waiting_is_not_on_air() {
        let mut seconds = vec![Second::default(); 600];
        seconds.extend((0..12 * 3600).map(|n| second(if n == 30_000 { 50 } else { 0 })));
        seconds.extend([Second::default(); 300]);
        let digest = Digest::of(&seconds, &[], &[]);
        assert_eq!((digest.on_air_s, digest.lost.dropped, digest.lost.due), (43_200, 50, 43_200 * 60));
        let bad: Vec<usize> = (0..SLICES).filter(|n| digest.slices[*n].badness() > 0).collect();
        assert_eq!(bad, [30_000 * SLICES / 43_200]);
        assert_eq!(digest.slices[bad[0]].worst(), Fault::Network);
    }

    #[test]
    fn a_broadcast_of_a_moment_and_none_at_all_have_a_digest() {
        assert_eq!(Digest::of(&[], &[], &[]), Digest::default());
        let digest = Digest::of(&[second(0), Second { state: Some(State::Dark), ..Second::default() }], &[], &[]);
        assert_eq!((digest.slices.len(), digest.in_state_s), (SLICES, [1, 0, 0, 1]));
        assert_eq!((digest.slices[0].badness(), digest.slices[SLICES - 1].badness()), (0, 4));
        assert_eq!(digest.lost_percent(), Some(0.0));
        assert_eq!(Digest::default().lost_percent(), None);
    }

    #[test]
    fn what_stood_longest_comes_first_and_the_same_is_counted_together() {
        let stood = |cause, from_s: f64, until_s, confidence| Stood {
            from_s,
            until_s,
            fault: Fault::Network,
            cause,
            surest_s: from_s,
            sentence: String::new(),
            confidence,
            weighed: Vec::new(),
            evidence: Vec::new(),
            would_change: String::new(),
            also: Vec::new(),
        };
        let verdicts = [
            stood(None, 0.0, 10.0, 0.9),
            stood(Some(Cause::UploadBeyond), 20.0, 40.0, 0.7),
            stood(None, 50.0, 55.0, 0.95),
        ];
        let told: Vec<_> = blamed(&verdicts).iter().map(|b| (b.cause, b.times, b.seconds, b.confidence)).collect();
        assert_eq!(told, [(Some(Cause::UploadBeyond), 1, 20.0, 0.7), (None, 2, 15.0, 0.95)]);
    }
}
