//! From looks at a busy connection to what it carried.

use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_core::reading::ConnectionFigures;
use moth_destination::LinkError;
use serde::{Deserialize, Serialize};

use crate::headroom::Headroom;

/// Nothing acknowledged for this long, with something waiting, is a stall: a quarter of the 2 s for which a broadcast's
/// frames wait before they are dropped. Ours.
pub const STALL: Duration = Duration::from_millis(500);

/// A second that lacks less than this at its end is a whole one: 2 % of it. Ours.
const LATE: Duration = Duration::from_millis(20);

/// One look at a connection that is being filled.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct ConnectionLook {
    /// Since the connection began to be filled.
    pub at: Duration,
    /// Bytes acknowledged so far (written, where the platform cannot tell).
    pub acknowledged_bytes: u64,
    /// Whether bytes were waiting to be acknowledged.
    pub is_busy: bool,
    /// What the platform tells of the connection.
    pub figures: ConnectionFigures,
}

/// A time in which nothing got through.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Stall {
    /// When it began, in seconds since the connection began to be filled.
    pub at_s: f64,
    /// How long it lasted, in milliseconds.
    pub ms: f64,
}

/// What a connection carried over some seconds. Rates are of payload: what the network's own headers take is left out.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Carried {
    /// What was offered to it; if it carried all of that, it may carry more.
    #[serde(rename = "offered_bps")]
    pub offered: Bitrate,
    /// Each whole second.
    #[serde(rename = "per_second_bps")]
    pub per_second: Vec<Bitrate>,
    /// The median second: what it sustains.
    #[serde(rename = "sustained_bps")]
    pub sustained: Bitrate,
    /// The 5th percentile of the seconds: its worst moments.
    #[serde(rename = "p5_bps")]
    pub p5: Bitrate,
    /// The worst second.
    #[serde(rename = "worst_bps")]
    pub worst: Bitrate,
    /// Times in which nothing got through.
    pub stalls: Vec<Stall>,
    /// Shortest round trip, in milliseconds: the way there and back, with nothing waiting.
    pub min_rtt_ms: Option<f64>,
    /// Smoothed round trip: the median of the looks, in milliseconds.
    pub rtt_ms: Option<f64>,
    /// Jitter: the median of the round trip's mean deviation, in milliseconds.
    pub jitter_ms: Option<f64>,
    /// Segments sent again.
    pub retransmits: Option<u64>,
    /// Share of the busy time held up by the server's window, from 0 to 1.
    pub receiver_limited: Option<f64>,
}

impl Carried {
    /// What it carried between two times, from looks in order of time. `None` if that is less than a second of looks.
    #[must_use]
    pub fn between(looks: &[ConnectionLook], from: Duration, to: Duration, offered: Bitrate) -> Option<Self> {
        let within: Vec<&ConnectionLook> = looks.iter().filter(|look| look.at >= from && look.at <= to).collect();
        let (first, last) = (within.first()?, within.last()?);
        // A look comes a moment late, the first one too.
        let seconds = (last.at - first.at + LATE).as_secs();
        if seconds == 0 {
            return None;
        }
        let bytes: Vec<f64> = (0..=seconds).map(|s| bytes_at(&within, first.at + Duration::from_secs(s))).collect();
        let second = Duration::from_secs(1);
        let per_second: Vec<Bitrate> = bytes.windows(2).map(|w| Bitrate::of(w[1] - w[0], second)).collect();
        let mut sorted = per_second.clone();
        sorted.sort_unstable();
        let at = |share: f64| {
            Bitrate::from_bps(quantile(&sorted.iter().map(|r| r.bps() as f64).collect::<Vec<_>>(), share) as u64)
        };
        let values = |value: fn(&ConnectionLook) -> Option<f64>| {
            let mut values: Vec<f64> = within.iter().filter_map(|look| value(look)).collect();
            values.sort_unstable_by(f64::total_cmp);
            (!values.is_empty()).then(|| quantile(&values, 0.5))
        };
        let grown = |value: fn(&ConnectionLook) -> Option<u64>| Some(value(last)?.saturating_sub(value(first)?));
        let busy = grown(|look| look.figures.busy_us).filter(|busy| *busy > 0);
        Some(Self {
            offered,
            sustained: at(0.5),
            p5: at(0.05),
            worst: sorted[0],
            per_second,
            stalls: stalls(&within),
            min_rtt_ms: within.iter().filter_map(|look| look.figures.min_rtt_ms).reduce(f64::min),
            rtt_ms: values(|look| look.figures.rtt_ms),
            jitter_ms: values(|look| look.figures.rtt_var_ms),
            retransmits: grown(|look| look.figures.retransmits),
            receiver_limited: busy
                .and_then(|busy| Some((grown(|look| look.figures.receiver_limited_us)? as f64 / busy as f64).min(1.0))),
        })
    }

    /// Whether it carried all that was offered, so that it may carry more.
    #[must_use]
    pub fn is_at_least(&self) -> bool {
        // The seconds of the looks and those of the filler do not begin together.
        self.sustained.bps() as f64 >= self.offered.bps() as f64 * 0.97
    }

    /// Whether the server's window held it up most of the time: it reads slowly. Measured: 92–99 % for a server that
    /// reads slowly, 5–25 % for a line too small.
    #[must_use]
    pub fn is_receiver_limited(&self) -> bool {
        self.receiver_limited.is_some_and(|share| share > 0.6)
    }

    /// What may be put on it for good: the median second less headroom, and no more than its worst moments.
    #[must_use]
    pub fn holds(&self, headroom: Headroom) -> Bitrate {
        holds(self.sustained, self.p5, headroom)
    }
}

/// What may be put on something for good that sustains so much, and so much in its worst moments.
#[must_use]
pub fn holds(sustained: Bitrate, p5: Bitrate, headroom: Headroom) -> Bitrate {
    headroom.leaves_of(sustained).min(p5)
}

/// Bytes acknowledged at a time, read off the straight line between the two looks around it.
fn bytes_at(looks: &[&ConnectionLook], at: Duration) -> f64 {
    let after = looks.iter().position(|look| look.at >= at).unwrap_or(looks.len() - 1);
    let (b, a) = (looks[after], looks[after.saturating_sub(1)]);
    let span = (b.at.saturating_sub(a.at)).as_secs_f64();
    if span <= 0.0 {
        return b.acknowledged_bytes as f64;
    }
    let share = ((at.saturating_sub(a.at)).as_secs_f64() / span).min(1.0);
    a.acknowledged_bytes as f64 + (b.acknowledged_bytes as f64 - a.acknowledged_bytes as f64) * share
}

fn stalls(looks: &[&ConnectionLook]) -> Vec<Stall> {
    let mut found = Vec::new();
    let mut since: Option<Duration> = None;
    let mut before: Option<&ConnectionLook> = None;
    for look in looks.iter().copied() {
        let stuck =
            before.is_some_and(|b| b.acknowledged_bytes == look.acknowledged_bytes && b.is_busy && look.is_busy);
        match (stuck, since) {
            (true, None) => since = before.map(|b| b.at),
            (false, Some(from)) => {
                // Somewhere between the two looks it went on.
                let until = before.map_or(look.at, |b| b.at);
                note(&mut found, from, until);
                since = None;
            }
            _ => {}
        }
        before = Some(look);
    }
    if let (Some(from), Some(last)) = (since, before) {
        note(&mut found, from, last.at);
    }
    found
}

fn note(found: &mut Vec<Stall>, from: Duration, until: Duration) {
    let length = until.saturating_sub(from);
    if length >= STALL {
        found.push(Stall { at_s: from.as_secs_f64(), ms: length.as_secs_f64() * 1000.0 });
    }
}

/// A quantile of sorted values, between neighbours in proportion (type 7 of Hyndman and Fan, 1996). Zero for none.
#[must_use]
pub fn quantile(sorted: &[f64], share: f64) -> f64 {
    let Some(last) = sorted.len().checked_sub(1) else { return 0.0 };
    let at = share.clamp(0.0, 1.0) * last as f64;
    let (low, high) = (at.floor() as usize, at.ceil() as usize);
    sorted[low] + (sorted[high] - sorted[low]) * (at - low as f64)
}

/// What one server's test gave.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ServerResult {
    /// The server's name.
    pub server: String,
    /// Where it is.
    pub address: String,
    /// Its region, if the service says.
    pub region: Option<String>,
    /// Name lookup, TCP and TLS together, in milliseconds.
    pub connect_ms: Option<f64>,
    /// From there until the server took the broadcast, in milliseconds.
    pub handshake_ms: Option<f64>,
    /// What it carried at the planned bitrate.
    pub planned: Option<Carried>,
    /// What it carried with more offered.
    pub above: Option<Carried>,
    /// Why it ended early.
    pub failure: Option<LinkError>,
    /// It was ended by hand: what there is, is kept.
    pub cancelled: bool,
}

impl ServerResult {
    /// The figures that say most: with more offered, else at the planned bitrate.
    #[must_use]
    pub fn best(&self) -> Option<&Carried> {
        self.above.as_ref().or(self.planned.as_ref())
    }

    /// The way there and back, in milliseconds.
    #[must_use]
    pub fn round_trip_ms(&self) -> Option<f64> {
        [&self.planned, &self.above].into_iter().flatten().find_map(|carried| carried.min_rtt_ms.or(carried.rtt_ms))
    }

    /// Stalls in all phases.
    #[must_use]
    pub fn stalls(&self) -> usize {
        [&self.planned, &self.above].into_iter().flatten().map(|carried| carried.stalls.len()).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Looks each 100 ms at a connection carrying so many bytes in each of them.
    fn looks(steps: impl IntoIterator<Item = u64>) -> Vec<ConnectionLook> {
        let mut bytes = 0;
        let step = |(i, step): (usize, u64)| {
            bytes += step;
            ConnectionLook {
                at: Duration::from_millis(i as u64 * 100),
                acknowledged_bytes: bytes,
                is_busy: true,
                ..ConnectionLook::default()
            }
        };
        std::iter::once(0).chain(steps).enumerate().map(step).collect()
    }

    fn carried(looks: &[ConnectionLook]) -> Carried {
        Carried::between(looks, Duration::ZERO, Duration::from_secs(1000), Bitrate::from_kbps(9000)).unwrap()
    }

    #[test]
    fn a_steady_connection_is_the_same_in_every_second() {
        let found = carried(&looks([75_000; 100]));
        assert_eq!(found.per_second, vec![Bitrate::from_kbps(6000); 10]);
        assert_eq!(
            (found.sustained, found.p5, found.worst),
            (found.per_second[0], found.per_second[0], found.per_second[0])
        );
        assert!(found.stalls.is_empty() && !found.is_at_least());
        assert_eq!(found.holds(Headroom::of_percent(25.0)), Bitrate::from_kbps(4500));
    }

    #[test]
    fn a_second_is_not_lost_because_its_last_look_came_a_moment_early() {
        let mut late = looks([75_000; 50]);
        late[0].at = Duration::from_millis(3);
        assert_eq!(carried(&late).per_second.len(), 5);
        late[0].at = Duration::from_millis(60);
        assert_eq!(carried(&late).per_second.len(), 4);
    }

    #[test]
    fn the_worst_moments_are_seen_though_the_median_is_fine() {
        let steps = (0..300).map(|i| if (150..158).contains(&i) { 0 } else { 75_000 });
        let found = carried(&looks(steps));
        assert_eq!(found.sustained, Bitrate::from_kbps(6000));
        assert_eq!(found.worst, Bitrate::from_kbps(1200));
        assert_eq!(found.stalls.len(), 1);
        assert!(
            (found.stalls[0].at_s - 15.0).abs() < 0.11 && (found.stalls[0].ms - 800.0).abs() < 1.0,
            "{:?}",
            found.stalls
        );
        let two_bad = (0..300).map(|i| if i % 150 < 20 { 20_000 } else { 75_000 });
        assert!(
            carried(&looks(two_bad)).holds(Headroom::of_percent(25.0)) < Bitrate::from_kbps(2000),
            "what stalls twice a minute is not enough"
        );
    }

    #[test]
    fn idle_is_no_stall_and_a_short_wait_is_none_either() {
        let mut idle = looks((0..50).map(|i| if i < 20 { 0 } else { 1000 }));
        idle.iter_mut().for_each(|look| look.is_busy = false);
        assert!(carried(&idle).stalls.is_empty());
        let short = looks((0..50).map(|i| if (10..14).contains(&i) { 0 } else { 1000 }));
        assert!(carried(&short).stalls.is_empty());
        let to_the_end = looks((0..50).map(|i| if i >= 40 { 0 } else { 1000 }));
        assert_eq!(carried(&to_the_end).stalls.len(), 1, "also one that lasts to the end");
    }

    #[test]
    fn shares_are_of_the_busy_time_within_the_window() {
        let mut with = looks([75_000; 30]);
        for (i, look) in with.iter_mut().enumerate() {
            look.figures.busy_us = Some(i as u64 * 100_000);
            look.figures.receiver_limited_us = Some(i as u64 * 95_000);
            look.figures.retransmits = Some(i as u64);
            look.figures.rtt_ms = Some(20.0 + i as f64);
            look.figures.min_rtt_ms = Some(19.0 - i as f64 / 10.0);
        }
        let found =
            Carried::between(&with, Duration::from_secs(1), Duration::from_secs(3), Bitrate::from_kbps(6100)).unwrap();
        assert_eq!((found.receiver_limited, found.retransmits, found.rtt_ms), (Some(0.95), Some(20), Some(40.0)));
        assert_eq!(found.min_rtt_ms, Some(16.0), "the shortest of the window");
        assert!(found.is_receiver_limited() && found.is_at_least());
        assert_eq!(Carried::between(&with, Duration::ZERO, Duration::from_millis(900), Bitrate::ZERO), None);
    }

    proptest! {
        #[test]
        fn figures_are_in_order_and_nothing_is_made_up(steps in proptest::collection::vec(0_u64..200_000, 10..400)) {
            let found = carried(&looks(steps.clone()));
            prop_assert!(found.worst <= found.p5 && found.p5 <= found.sustained);
            let whole = found.per_second.len() * 10;
            let bytes: u64 = steps[..whole].iter().sum();
            let bits: u64 = found.per_second.iter().map(|r| r.bps()).sum();
            prop_assert!(bits.abs_diff(bytes * 8) <= found.per_second.len() as u64);
        }

        #[test]
        fn a_quantile_lies_between_its_neighbours(mut values in proptest::collection::vec(0.0..1e9, 1..50), share in 0.0..=1.0) {
            values.sort_unstable_by(f64::total_cmp);
            let found = quantile(&values, share);
            prop_assert!(values[0] <= found && found <= values[values.len() - 1]);
        }
    }
}
