//! What the line can do, in plain words.

use moth_core::rate::Bitrate;
use serde::{Deserialize, Serialize};

use crate::headroom::Headroom;
use crate::measurement::{Carried, holds, quantile};
use crate::surroundings::{Medium, Surroundings};
use crate::text::{link_rate, percent};

/// One measurement of the line.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LineRun {
    /// Round trips of TCP handshakes while nothing else was sent, in milliseconds.
    pub idle_ms: Vec<f64>,
    /// The same while the line was full.
    pub full_ms: Vec<f64>,
    /// Round trips of the connection that filled it, in milliseconds.
    pub own_ms: Vec<f64>,
    /// What it carried.
    pub carried: Carried,
}

/// How deep the buffer in front of the narrowest place is, by how far the round trip climbs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Buffer {
    /// The round trip hardly climbs.
    Shallow,
    /// It climbs so that it can be noticed.
    Middling,
    /// It climbs past what a conversation bears.
    Deep,
}

/// Borders between [`Buffer`]s, in milliseconds of added round trip. 200 ms is half of the 400 ms of one-way delay
/// that ITU-T G.114 (2003) calls the limit for any planning; 50 ms is our own.
const BUFFER_MS: (f64, f64) = (50.0, 200.0);

impl Buffer {
    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Shallow => "shallow",
            Self::Middling => "middling",
            Self::Deep => "deep",
        }
    }
}

/// What the runs say.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct LineReading {
    /// The median second over all runs.
    #[serde(rename = "sustained_bps")]
    pub sustained: Bitrate,
    /// The 5th percentile of the seconds of all runs.
    #[serde(rename = "p5_bps")]
    pub p5: Bitrate,
    /// The worst second of all runs.
    #[serde(rename = "worst_bps")]
    pub worst: Bitrate,
    /// It carried all that was offered: the line may have more.
    pub at_least: bool,
    /// How far the runs lie apart: highest less lowest median, as a share of the median; `None` for one run.
    pub spread: Option<f64>,
    /// Stalls in all runs.
    pub stalls: usize,
    /// Segments sent again in all runs.
    pub retransmits: Option<u64>,
    /// Round trip of the idle line: median, in milliseconds.
    pub idle_rtt_ms: Option<f64>,
    /// Round trip of the full line: trimmed mean, in milliseconds.
    pub full_rtt_ms: Option<f64>,
    /// How far it climbs, in milliseconds.
    pub bufferbloat_ms: Option<f64>,
    /// Round trips per minute under working conditions.
    pub rpm: Option<u64>,
    /// How deep the buffer is.
    pub buffer: Option<Buffer>,
    /// What can be put on it for good, audio included.
    #[serde(rename = "usable_bps")]
    pub usable: Bitrate,
    /// What it can carry, in a sentence.
    pub carries: String,
    /// What holds it back, a sentence each.
    pub held_back: Vec<String>,
    /// What to try first.
    pub first: String,
}

/// The mean of the values up to the 95th percentile: the draft's TM95, which leaves out single late ones.
#[must_use]
pub fn trimmed_mean(values: &[f64]) -> Option<f64> {
    let mut sorted: Vec<f64> = values.to_vec();
    sorted.sort_unstable_by(f64::total_cmp);
    let limit = quantile(&sorted, 0.95);
    let kept: Vec<f64> = sorted.into_iter().filter(|v| *v <= limit).collect();
    (!kept.is_empty()).then(|| kept.iter().sum::<f64>() / kept.len() as f64)
}

/// Round trips per minute under working conditions, after *Responsiveness under Working Conditions*
/// (draft-ietf-ippm-responsiveness, section 4): the mean of what new connections and the connection that fills the line
/// see, each 60 000 ms over its trimmed mean. Different from the draft, new connections are TCP handshakes only, without
/// TLS and HTTP, and the line is filled by one connection, as a broadcast does.
#[must_use]
pub fn round_trips_per_minute(new_ms: &[f64], own_ms: &[f64]) -> Option<u64> {
    let rate = |values: &[f64]| trimmed_mean(values).filter(|ms| *ms > 0.0).map(|ms| 60_000.0 / ms);
    let found = match (rate(new_ms), rate(own_ms)) {
        (Some(new), Some(own)) => f64::midpoint(new, own),
        (one, other) => one.or(other)?,
    };
    Some(found.round() as u64)
}

fn median(values: &[f64]) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_unstable_by(f64::total_cmp);
    (!sorted.is_empty()).then(|| quantile(&sorted, 0.5))
}

/// Reads the runs, with what was around them. `None` if there is none.
#[must_use]
pub fn read(runs: &[LineRun], around: &Surroundings, headroom: Headroom) -> Option<LineReading> {
    let all = |values: fn(&LineRun) -> &[f64]| -> Vec<f64> {
        runs.iter().flat_map(|run| values(run).iter().copied()).collect()
    };
    let mut seconds: Vec<f64> =
        runs.iter().flat_map(|run| run.carried.per_second.iter().map(|rate| rate.bps() as f64)).collect();
    seconds.sort_unstable_by(f64::total_cmp);
    let worst = Bitrate::from_bps(*seconds.first()? as u64);
    let at = |share| Bitrate::from_bps(quantile(&seconds, share) as u64);
    let (sustained, p5) = (at(0.5), at(0.05));
    let medians: Vec<f64> = runs.iter().map(|run| run.carried.sustained.bps() as f64).collect();
    let spread = (runs.len() > 1).then(|| {
        let (low, high) = medians.iter().fold((f64::MAX, 0.0_f64), |(low, high), m| (low.min(*m), high.max(*m)));
        (high - low) / (sustained.bps() as f64).max(1.0)
    });
    let (idle, full, own) = (all(|r| &r.idle_ms), all(|r| &r.full_ms), all(|r| &r.own_ms));
    let idle_rtt_ms = median(&idle);
    let full_rtt_ms = trimmed_mean(if full.is_empty() { &own } else { &full });
    let bufferbloat_ms = idle_rtt_ms.zip(full_rtt_ms).map(|(idle, full)| (full - idle).max(0.0));
    let buffer = bufferbloat_ms.map(|ms| match ms {
        _ if ms < BUFFER_MS.0 => Buffer::Shallow,
        _ if ms < BUFFER_MS.1 => Buffer::Middling,
        _ => Buffer::Deep,
    });
    let at_least = runs.iter().all(|run| run.carried.is_at_least());
    let stalls = runs.iter().map(|run| run.carried.stalls.len()).sum();
    let retransmits = runs.iter().map(|run| run.carried.retransmits).sum();
    let usable = holds(sustained, p5, headroom);
    let mut reading = LineReading {
        sustained,
        p5,
        worst,
        at_least,
        spread,
        stalls,
        retransmits,
        idle_rtt_ms,
        full_rtt_ms,
        bufferbloat_ms,
        rpm: round_trips_per_minute(&full, &own),
        buffer,
        usable,
        carries: String::new(),
        held_back: Vec::new(),
        first: String::new(),
    };
    reading.carries = carries(&reading, headroom);
    (reading.held_back, reading.first) = held_back(&reading, runs, around);
    Some(reading)
}

fn carries(reading: &LineReading, headroom: Headroom) -> String {
    let at_least = if reading.at_least { "at least " } else { "" };
    format!(
        "This line sustains {at_least}{}, {} in its worst moments. Leaving {} free, a broadcast may take {at_least}{}, sound included.",
        reading.sustained,
        reading.p5,
        headroom,
        reading.usable.rounded_down_to(Bitrate::from_kbps(10)),
    )
}

/// What holds the line back, and what to try first: what is most likely and cheapest to mend comes first.
fn held_back(reading: &LineReading, runs: &[LineRun], around: &Surroundings) -> (Vec<String>, String) {
    let mut found: Vec<(String, &str)> = Vec::new();
    if runs.iter().any(|run| run.carried.is_receiver_limited()) {
        found.push((
            "The other end read slowly: its window held the connection up most of the time, so this is its figure, not the line's.".into(),
            "Measure against another server.",
        ));
    }
    let mut uploads = around.uploads.iter().flatten();
    if let Some(upload) = uploads.find(|upload| upload.rate.bps() as f64 >= reading.sustained.bps() as f64 * 0.05) {
        let who = upload.program.as_deref().unwrap_or("a program of another user");
        found.push((
            format!("{who} was already uploading {} when the test began.", upload.rate),
            "Stop that upload and measure again.",
        ));
    }
    let interface = around.interface.as_ref();
    let known: u64 = around.uploads.iter().flatten().map(|upload| upload.rate.bps()).sum();
    let unknown = around.sending.map_or(Bitrate::ZERO, |all| all.less(Bitrate::from_bps(known)));
    // Headers and acknowledgements of downloads are a few percent; what this machine says to itself uses no line.
    if interface.is_some_and(|i| i.medium != Some(Medium::Loopback))
        && unknown.bps() as f64 >= reading.sustained.bps() as f64 * 0.1
    {
        found.push((
            format!("Before the test began, {unknown} went out that is in no program's TCP connection: QUIC or other UDP, most likely."),
            "Find out what sends over UDP (a browser, a call, a game) and pause it.",
        ));
    }
    if interface.is_some_and(|i| i.medium == Some(Medium::Wireless)) {
        let signal =
            interface.and_then(|i| i.signal_dbm).map_or_else(String::new, |dbm| format!(", its signal {dbm:.0} dBm"));
        found.push((
            format!("The connection is wireless{signal}: its worst moments are the air's as much as the line's."),
            "Measure again by cable.",
        ));
    }
    if let Some(interface) = interface.filter(|i| {
        i.rate.is_some_and(|rate| rate > Bitrate::ZERO && reading.sustained.bps() as f64 >= rate.bps() as f64 * 0.85)
    }) && let Some(rate) = interface.rate
    {
        found.push((
            format!("{} itself runs at {}, which is all but used up.", interface.name, link_rate(rate)),
            "ConnectionLook at the cable and the port it is in: a damaged pair makes a gigabit port run at a tenth.",
        ));
    }
    if reading.stalls > 0 {
        found.push((
            format!("Nothing got through at all {} time{}, each half a second or longer.", reading.stalls, if reading.stalls == 1 { "" } else { "s" }),
            "Measure for 60 s at another hour; stalls that stay are a matter for the provider, and this report is the evidence.",
        ));
    }
    if reading.buffer == Some(Buffer::Deep) {
        found.push((
            format!(
                "The round trip climbs by {:.0} ms when the line is full: a deep buffer. A broadcast near the line's rate makes everything else in the household wait.",
                reading.bufferbloat_ms.unwrap_or(0.0)
            ),
            "Turn on queue management (fq_codel, CAKE) in the router, a little below the line's rate.",
        ));
    }
    if let Some(spread) = reading.spread.filter(|spread| *spread > 0.15) {
        found.push((
            format!("The runs lie {} apart: the line is not the same from one minute to the next.", percent(spread)),
            "Plan with the lowest run, and measure at the hour you broadcast.",
        ));
    }
    if interface.is_some_and(|i| i.errors.unwrap_or(0) > 0) {
        let (name, errors) = interface.map_or(("", 0), |i| (i.name.as_str(), i.errors.unwrap_or(0)));
        found.push((format!("{name} has counted {errors} errors since it came up."), "Try another cable or port."));
    }
    let first = found.first().map_or_else(
        || {
            if reading.at_least {
                "Offer it more: it carried all it was given, and nothing held it back.".to_owned()
            } else {
                "Use the bitrate above, or ask the provider for more upload: nothing on this machine holds it back, this is the line.".to_owned()
            }
        },
        |(_, first)| (*first).to_owned(),
    );
    (found.into_iter().map(|(what, _)| what).collect(), first)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::surroundings::{Interface, Upload};

    fn run(kbps: u64, full_ms: f64) -> LineRun {
        let rate = Bitrate::from_kbps(kbps);
        LineRun {
            idle_ms: vec![9.0, 10.0, 11.0],
            full_ms: vec![full_ms; 20],
            own_ms: vec![full_ms; 20],
            carried: Carried {
                offered: Bitrate::from_kbps(100_000),
                per_second: vec![rate; 10],
                sustained: rate,
                p5: rate,
                worst: rate,
                stalls: Vec::new(),
                min_rtt_ms: Some(10.0),
                rtt_ms: Some(full_ms),
                jitter_ms: None,
                retransmits: Some(3),
                receiver_limited: Some(0.1),
            },
        }
    }

    fn reading(runs: &[LineRun]) -> LineReading {
        read(runs, &Surroundings::default(), Headroom::of_percent(25.0)).unwrap()
    }

    #[test]
    fn a_deep_buffer_is_told_from_a_shallow_one() {
        let (shallow, deep) = (reading(&[run(8000, 30.0)]), reading(&[run(8000, 510.0)]));
        assert_eq!(
            (shallow.buffer, shallow.bufferbloat_ms, shallow.rpm),
            (Some(Buffer::Shallow), Some(20.0), Some(2000))
        );
        assert_eq!((deep.buffer, deep.bufferbloat_ms, deep.rpm), (Some(Buffer::Deep), Some(500.0), Some(118)));
        assert!(shallow.held_back.is_empty() && deep.first.contains("queue management"));
        assert_eq!(shallow.usable, Bitrate::from_kbps(6000));
    }

    #[test]
    fn runs_are_put_together_with_their_spread() {
        let found = reading(&[run(8000, 30.0), run(6000, 30.0), run(7000, 30.0)]);
        assert_eq!(
            (found.sustained, found.worst, found.retransmits),
            (Bitrate::from_kbps(7000), Bitrate::from_kbps(6000), Some(9))
        );
        assert!(found.spread.is_some_and(|s| (s - 0.286).abs() < 0.001) && found.held_back[0].contains("29 % apart"));
        assert_eq!(reading(&[run(8000, 30.0)]).spread, None);
        assert!(read(&[], &Surroundings::default(), Headroom::of_percent(25.0)).is_none());
    }

    #[test]
    fn what_holds_it_back_is_named_and_the_likeliest_is_tried_first() {
        let around = Surroundings {
            interface: Some(Interface {
                name: "wl0".into(),
                medium: Some(Medium::Wireless),
                signal_dbm: Some(-71.0),
                errors: Some(4),
                ..Interface::default()
            }),
            uploads: Some(vec![Upload { program: Some("archive-sync".into()), rate: Bitrate::from_kbps(2000) }]),
            sending: Some(Bitrate::from_kbps(2100)),
        };
        let found = read(&[run(5000, 400.0)], &around, Headroom::of_percent(25.0)).unwrap();
        assert_eq!(found.held_back.len(), 4, "headers are no other upload");
        let udp = Surroundings { sending: Some(Bitrate::from_kbps(4000)), ..around.clone() };
        let told = read(&[run(5000, 400.0)], &udp, Headroom::of_percent(25.0)).unwrap().held_back;
        assert!(told[1].contains("2 000 kb/s went out") && told[1].contains("UDP"), "{told:?}");
        assert!(found.held_back[0].contains("archive-sync was already uploading 2 000 kb/s"));
        assert!(found.held_back[1].contains("wireless, its signal -71 dBm"));
        assert_eq!(found.first, "Stop that upload and measure again.");
        let mut slow = run(5000, 30.0);
        slow.carried.receiver_limited = Some(0.95);
        assert!(reading(&[slow]).first.contains("another server"));
        assert!(reading(&[run(5000, 30.0)]).first.contains("this is the line"));
    }

    #[test]
    fn a_single_late_answer_does_not_make_a_line_slow() {
        let mut values = vec![10.0; 40];
        values.push(3000.0);
        assert_eq!(trimmed_mean(&values), Some(10.0));
        assert_eq!(trimmed_mean(&[]), None);
        assert_eq!(round_trips_per_minute(&[], &[20.0]), Some(3000));
        assert_eq!(round_trips_per_minute(&[], &[]), None);
    }
}
