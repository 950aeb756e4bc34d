//! The line of a stand-in server, shaped like the newest measurement.

use moth_core::rate::Bitrate;
use moth_plan::headroom::Headroom;
use moth_plan::line::read;
use moth_plan::surroundings::Surroundings;
use moth_stage::LineShape;
use moth_store::results::History;

use crate::setup_in_use::SetupInUse;
use crate::system::out;

/// Where a test did not tell, in milliseconds. Our own settings; that they were assumed is said with the line.
const ROUND_TRIP_MS: f64 = 20.0;
const JITTER_MS: f64 = 1.0;
const BUFFER_MS: f64 = 100.0;

/// The newest test of the line, or of the server in use: its shape, and after what it is in words. `None` if there is none.
pub(super) fn newest(history: &History, in_use: &SetupInUse) -> Option<(LineShape, String)> {
    let server = in_use.server_in_use(history);
    let line = history.newest_uplink().and_then(|(kept, runs)| {
        let reading = read(runs, &Surroundings::default(), Headroom::NONE)?;
        let measured = Measured {
            per_second: runs.iter().flat_map(|run| run.carried.per_second.iter().copied()).collect(),
            round_trip_ms: reading.idle_rtt_ms,
            jitter_ms: runs.iter().find_map(|run| run.carried.jitter_ms),
            buffer_ms: reading.bufferbloat_ms,
        };
        Some((kept.date, "your line".to_owned(), reading.at_least, reading.sustained, measured))
    });
    let routes = history.newest_routes(&in_use.service_name).and_then(|(kept, servers)| {
        let found = servers.iter().find(|result| Some(&result.server) == server.as_ref())?;
        let best = found.best()?;
        let idle = found.round_trip_ms();
        let full = found.above.as_ref().and_then(|above| above.rtt_ms);
        let measured = Measured {
            per_second: best.per_second.clone(),
            round_trip_ms: idle,
            jitter_ms: best.jitter_ms,
            buffer_ms: full.zip(idle).map(|(full, idle)| (full - idle).max(0.0)),
        };
        Some((kept.date, format!("the way to {}", found.server), best.is_at_least(), best.sustained, measured))
    });
    let newest = match (line, routes) {
        (Some(line), Some(routes)) => Some(if line.0 >= routes.0 { line } else { routes }),
        (one, other) => one.or(other),
    };
    let (date, what, is_at_least, sustained, measured) = newest.filter(|newest| !newest.4.per_second.is_empty())?;
    let least = if is_at_least { "at least " } else { "" };
    let words = format!("{what}, measured on {}: {least}{sustained}{}", out::date(date), measured.assumed());
    Some((measured.shape(), words))
}

/// What a test told of a line.
struct Measured {
    per_second: Vec<Bitrate>,
    round_trip_ms: Option<f64>,
    jitter_ms: Option<f64>,
    buffer_ms: Option<f64>,
}

impl Measured {
    fn shape(self) -> LineShape {
        LineShape {
            per_second: self.per_second,
            round_trip_ms: self.round_trip_ms.unwrap_or(ROUND_TRIP_MS),
            jitter_ms: self.jitter_ms.unwrap_or(JITTER_MS),
            buffer_ms: self.buffer_ms.unwrap_or(BUFFER_MS),
        }
    }

    /// What it did not tell, in words.
    fn assumed(&self) -> String {
        let all = [("round trip", self.round_trip_ms), ("jitter", self.jitter_ms), ("buffer", self.buffer_ms)];
        let missing: Vec<&str> = all.iter().filter(|(_, value)| value.is_none()).map(|(name, _)| *name).collect();
        if missing.is_empty() { String::new() } else { format!(" ({} assumed)", missing.join(", ")) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_test_did_not_tell_is_said_to_be_assumed() {
        let whole = || Measured {
            per_second: vec![Bitrate::from_kbps(4000)],
            round_trip_ms: Some(31.0),
            jitter_ms: Some(2.0),
            buffer_ms: Some(240.0),
        };
        assert_eq!(whole().assumed(), "");
        assert_eq!((whole().shape().round_trip_ms, whole().shape().buffer_ms), (31.0, 240.0));
        let less = Measured { round_trip_ms: None, buffer_ms: None, ..whole() };
        assert_eq!(less.assumed(), " (round trip, buffer assumed)");
    }
}
