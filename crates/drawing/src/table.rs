//! A broadcast as tables: CSV (RFC 4180) and JSON Lines, with units in the columns' names.

use jiff::tz::TimeZone;
use moth_core::State;
use moth_core::history::Second;
use serde::Serialize;

use crate::evening::{Evening, Stood};

/// Why a table cannot be made: a fault of ours.
#[derive(Debug, thiserror::Error)]
#[error("the table could not be made: {0}")]
pub struct TableError(String);

/// A second, as `docs/tables.md` describes it.
#[derive(Debug, Serialize)]
struct Row<'a> {
    time_utc: Option<String>,
    local_offset: Option<String>,
    t_s: usize,
    state: Option<State>,
    fault: Option<&'static str>,
    cause: Option<&'a str>,
    change: Option<String>,
    asked_kbps: Option<f32>,
    sent_kbps: Option<f32>,
    queue_ms: Option<f32>,
    rtt_ms: Option<f32>,
    due_frames: Option<u32>,
    dropped_frames: Option<u32>,
    skipped_frames: Option<u32>,
    lagged_frames: Option<u32>,
    frozen_ms: Option<u32>,
    cpu_percent: Option<f32>,
    gpu_percent: Option<f32>,
    gpu_encode_percent: Option<f32>,
    other_cpu_percent: Option<f32>,
    render_ms: Option<f32>,
    encode_ms: Option<f32>,
    behind_ms: Option<f32>,
    uploads_kbps: Option<f32>,
    gateway_ms: Option<f32>,
    other_ms: Option<f32>,
    receiver_limited_percent: Option<f32>,
    frequency_percent: Option<f32>,
    disk_write_ms: Option<f32>,
}

#[derive(Serialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
enum Line<'a> {
    Second(&'a Row<'a>),
    Verdict {
        from_utc: Option<String>,
        local_offset: Option<String>,
        from_s: f64,
        until_s: f64,
        fault: &'static str,
        cause: Option<&'a str>,
        confidence: f64,
        sentence: &'a str,
    },
    Change {
        time_utc: Option<String>,
        local_offset: Option<String>,
        t_s: f64,
        what: &'a str,
    },
}

/// One row a second, with the verdict that stood and the changes in it.
///
/// # Errors
/// [`TableError`].
pub fn csv(evening: &Evening) -> Result<Vec<u8>, TableError> {
    let fail = |error: csv::Error| TableError(error.to_string());
    let mut table = csv::Writer::from_writer(Vec::new());
    for row in rows(evening) {
        table.serialize(row).map_err(fail)?;
    }
    table.into_inner().map_err(|error| TableError(error.to_string()))
}

/// Every second, then every verdict, then every change, a line each.
///
/// # Errors
/// [`TableError`].
pub fn json_lines(evening: &Evening) -> Result<Vec<u8>, TableError> {
    let rows: Vec<Row<'_>> = rows(evening).collect();
    let verdicts = evening.verdicts.iter().map(|stood| {
        let (from_utc, local_offset) = when(evening, stood.from_s);
        Line::Verdict {
            from_utc,
            local_offset,
            from_s: stood.from_s,
            until_s: stood.until_s,
            fault: stood.fault.word(),
            cause: stood.cause.as_deref(),
            confidence: stood.confidence,
            sentence: &stood.sentence,
        }
    });
    let changes = evening.changes.iter().map(|change| {
        let (time_utc, local_offset) = when(evening, change.at_s);
        Line::Change { time_utc, local_offset, t_s: change.at_s, what: &change.what }
    });
    let mut lines = Vec::new();
    for line in rows.iter().map(Line::Second).chain(verdicts).chain(changes) {
        serde_json::to_writer(&mut lines, &line).map_err(|error| TableError(error.to_string()))?;
        lines.push(b'\n');
    }
    Ok(lines)
}

fn rows(evening: &Evening) -> impl Iterator<Item = Row<'_>> {
    evening.seconds.iter().enumerate().map(|(t_s, second)| {
        let (from, until) = (t_s as f64, t_s as f64 + 1.0);
        let stood = evening.verdicts.iter().rfind(|stood| stood.from_s < until && stood.until_s > from);
        let changes = evening.changes.iter().filter(|change| (from..until).contains(&change.at_s));
        let changes: Vec<&str> = changes.map(|change| change.what.as_str()).collect();
        row(evening, t_s, second, stood, Some(changes.join("; ")).filter(|changes| !changes.is_empty()))
    })
}

fn row<'a>(
    evening: &Evening,
    t_s: usize,
    second: &Second,
    stood: Option<&'a Stood>,
    change: Option<String>,
) -> Row<'a> {
    let (time_utc, local_offset) = when(evening, t_s as f64);
    let percent = |share: Option<f32>| share.map(|share| (share * 1000.0).round() / 10.0);
    Row {
        time_utc,
        local_offset,
        t_s,
        state: second.state,
        fault: stood.map(|stood| stood.fault.word()),
        cause: stood.and_then(|stood| stood.cause.as_deref()),
        change,
        asked_kbps: second.asked_kbps,
        sent_kbps: second.sent_kbps,
        queue_ms: second.queue_ms,
        rtt_ms: second.rtt_ms,
        due_frames: second.due,
        dropped_frames: second.dropped,
        skipped_frames: second.skipped,
        lagged_frames: second.lagged,
        frozen_ms: second.frozen_ms,
        cpu_percent: percent(second.cpu),
        gpu_percent: percent(second.gpu),
        gpu_encode_percent: percent(second.gpu_encode),
        other_cpu_percent: percent(second.other_cpu),
        render_ms: second.render_ms,
        encode_ms: second.encode_ms,
        behind_ms: second.behind_ms,
        uploads_kbps: second.uploads_kbps,
        gateway_ms: second.gateway_ms,
        other_ms: second.other_ms,
        receiver_limited_percent: percent(second.receiver_limited),
        frequency_percent: percent(second.frequency),
        disk_write_ms: second.disk_write_ms,
    }
}

/// A time in UTC, and the offset of the place from it.
fn when(evening: &Evening, at_s: f64) -> (Option<String>, Option<String>) {
    let Some(at) = evening.time(at_s) else { return (None, None) };
    let offset = at.strftime("%:z").to_string();
    // Whole seconds are enough, as nothing here is finer.
    let utc = at.with_time_zone(TimeZone::UTC).strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    (Some(utc), Some(offset))
}
