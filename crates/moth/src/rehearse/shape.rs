//! The line of a stand-in server, shaped like the newest measurement.

use moth_core::rate::Bitrate;
use moth_plan::line::read;
use moth_plan::surroundings::Surroundings;
use moth_stage::LineShape;
use moth_store::results::History;

use crate::kit::Kit;
use crate::out;

/// Where a test did not tell: what is usual on a cable at home, in milliseconds.
const ROUND_TRIP_MS: f64 = 20.0;
const JITTER_MS: f64 = 1.0;
/// What a router's buffer holds where it was not measured, in milliseconds.
const BUFFER_MS: f64 = 100.0;

/// The newest test of the line, or of the server in use: its shape, and after what it is in words. `None` if there is none.
pub(super) fn newest(history: &History, kit: &Kit) -> Option<(LineShape, String)> {
    let server = kit.server_in_use(history);
    let line = history.newest_uplink().and_then(|(kept, runs)| {
        let reading = read(runs, &Surroundings::default(), 0.0)?;
        let per_second: Vec<Bitrate> = runs.iter().flat_map(|run| run.carried.per_second.iter().copied()).collect();
        let shape = LineShape {
            per_second,
            round_trip_ms: reading.idle_rtt_ms.unwrap_or(ROUND_TRIP_MS),
            jitter_ms: runs.iter().find_map(|run| run.carried.jitter_ms).unwrap_or(JITTER_MS),
            buffer_ms: reading.bufferbloat_ms.unwrap_or(BUFFER_MS),
        };
        let least = if reading.at_least { "at least " } else { "" };
        let words = format!("your line, measured on {}: {least}{}", out::date(kept.date), reading.sustained);
        Some((kept.date, shape, words))
    });
    let routes = history.newest_routes(&kit.service_name).and_then(|(kept, servers)| {
        let found = servers.iter().find(|result| Some(&result.server) == server.as_ref())?;
        let best = found.best()?;
        let idle = found.round_trip_ms().unwrap_or(ROUND_TRIP_MS);
        let full = found.above.as_ref().and_then(|above| above.rtt_ms);
        let shape = LineShape {
            per_second: best.per_second.clone(),
            round_trip_ms: idle,
            jitter_ms: best.jitter_ms.unwrap_or(JITTER_MS),
            buffer_ms: full.map_or(BUFFER_MS, |full| (full - idle).max(0.0)),
        };
        let least = if best.is_at_least() { "at least " } else { "" };
        let words =
            format!("the way to {}, measured on {}: {least}{}", found.server, out::date(kept.date), best.sustained);
        Some((kept.date, shape, words))
    });
    let newest = match (line, routes) {
        (Some(line), Some(routes)) => Some(if line.0 >= routes.0 { line } else { routes }),
        (one, other) => one.or(other),
    };
    newest.map(|(_, shape, words)| (shape, words)).filter(|(shape, _)| !shape.per_second.is_empty())
}
