//! A broadcast as tables: CSV (RFC 4180) and JSON Lines, with units in the columns' names.

use jiff::Zoned;
use jiff::tz::TimeZone;
use moth_core::State;
use moth_core::history::Second;
use moth_core::suspects::Cause;
use moth_core::trial::Trial;
use moth_core::wire::Heard;
use moth_plan::measurement::Carried;
use serde::Serialize;

use crate::evening::{Evening, Stood};

/// Why a table cannot be made: a fault of ours.
#[derive(Debug, thiserror::Error)]
#[error("the table could not be made: {0}")]
pub struct TableError(String);

/// A second, as `docs/tables.md` describes it.
#[derive(Debug, Default, Serialize)]
struct SecondRow {
    time_utc: Option<String>,
    local_offset: Option<String>,
    t_s: usize,
    state: Option<State>,
    fault: Option<&'static str>,
    cause: Option<&'static str>,
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
    sound: Option<Heard>,
}

#[derive(Debug, Default, Serialize)]
struct VerdictRow<'a> {
    from_utc: Option<String>,
    local_offset: Option<String>,
    from_s: f64,
    until_s: f64,
    fault: &'static str,
    cause: Option<&'static str>,
    confidence: f64,
    sentence: &'a str,
}

#[derive(Debug, Default, Serialize)]
struct ChangeRow<'a> {
    time_utc: Option<String>,
    local_offset: Option<String>,
    t_s: f64,
    what: &'a str,
    outcome: Option<&'static str>,
    lost_before_percent: Option<f64>,
    lost_since_percent: Option<f64>,
}

/// A test of a server, or a run of the line's.
#[derive(Debug, Default, Serialize)]
struct TestRow<'a> {
    time_utc: Option<String>,
    local_offset: Option<String>,
    of: &'static str,
    line: &'a str,
    service: Option<&'a str>,
    server: &'a str,
    run: Option<usize>,
    offered_kbps: Option<f64>,
    sustained_kbps: Option<f64>,
    p5_kbps: Option<f64>,
    worst_kbps: Option<f64>,
    rtt_ms: Option<f64>,
    full_rtt_ms: Option<f64>,
    jitter_ms: Option<f64>,
    stalls: Option<usize>,
    retransmits: Option<u64>,
    failure: Option<&'a str>,
}

#[derive(Serialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
enum TableLine<'a> {
    Second(SecondRow),
    Verdict(VerdictRow<'a>),
    Change(ChangeRow<'a>),
    Test(TestRow<'a>),
}

/// A table as CSV.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Table {
    /// What its rows are: `seconds`, `verdicts`, `changes` or `tests`.
    pub name: &'static str,
    /// The whole file.
    pub csv: Vec<u8>,
}

/// Four tables: the seconds, each with the verdict that stood and the changes in it; the verdicts, changes and tests.
///
/// # Errors
/// [`TableError`].
pub fn csv(evening: &Evening) -> Result<[Table; 4], TableError> {
    Ok([
        Table { name: "seconds", csv: rows_as_csv(second_rows(evening))? },
        Table { name: "verdicts", csv: rows_as_csv(verdict_rows(evening))? },
        Table { name: "changes", csv: rows_as_csv(change_rows(evening))? },
        Table { name: "tests", csv: rows_as_csv(test_rows(evening).into_iter())? },
    ])
}

fn rows_as_csv<R: Serialize + Default>(rows: impl Iterator<Item = R>) -> Result<Vec<u8>, TableError> {
    let fail = |error: csv::Error| TableError(error.to_string());
    let mut table = csv::Writer::from_writer(Vec::new());
    let mut is_empty = true;
    for row in rows {
        table.serialize(row).map_err(fail)?;
        is_empty = false;
    }
    if is_empty {
        // The names of the columns are written with the first row: without any, those of a row that is taken away again.
        table.serialize(R::default()).map_err(fail)?;
    }
    let mut csv = table.into_inner().map_err(|error| TableError(error.to_string()))?;
    if is_empty && let Some(end) = csv.iter().position(|byte| *byte == b'\n') {
        csv.truncate(end + 1);
    }
    Ok(csv)
}

/// Every second, then every verdict, every change and every test, a line each.
///
/// # Errors
/// [`TableError`].
pub fn json_lines(evening: &Evening) -> Result<Vec<u8>, TableError> {
    let lines = second_rows(evening).map(TableLine::Second).chain(verdict_rows(evening).map(TableLine::Verdict));
    let lines = lines.chain(change_rows(evening).map(TableLine::Change));
    let mut text = Vec::new();
    for line in lines.chain(test_rows(evening).into_iter().map(TableLine::Test)) {
        serde_json::to_writer(&mut text, &line).map_err(|error| TableError(error.to_string()))?;
        text.push(b'\n');
    }
    Ok(text)
}

fn verdict_rows(evening: &Evening) -> impl Iterator<Item = VerdictRow<'_>> {
    evening.verdicts.iter().map(|stood| {
        let (from_utc, local_offset) = when(evening, stood.from_s);
        VerdictRow {
            from_utc,
            local_offset,
            from_s: stood.from_s,
            until_s: stood.until_s,
            fault: stood.fault.word(),
            cause: stood.cause.map(Cause::slug),
            confidence: stood.confidence,
            sentence: &stood.sentence,
        }
    })
}

fn change_rows(evening: &Evening) -> impl Iterator<Item = ChangeRow<'_>> {
    evening.changes.iter().map(|change| {
        let (time_utc, local_offset) = when(evening, change.at_s);
        let trial = evening.trial_of(change);
        let seen = trial.filter(|trial| trial.before.seconds > 0 && trial.after.seconds > 0);
        ChangeRow {
            time_utc,
            local_offset,
            t_s: change.at_s,
            what: &change.what,
            outcome: trial.map(Trial::words),
            lost_before_percent: seen.map(|trial| trial.before.lost_percent()),
            lost_since_percent: seen.map(|trial| trial.after.lost_percent()),
        }
    })
}

fn test_rows(evening: &Evening) -> Vec<TestRow<'_>> {
    let mut rows = Vec::new();
    if let Some(test) = &evening.servers {
        let (time_utc, local_offset) = test.date.as_ref().map_or((None, None), utc);
        rows.extend(test.results.iter().map(|result| {
            let best = result.best();
            TestRow {
                time_utc: time_utc.clone(),
                local_offset: local_offset.clone(),
                of: "server",
                line: &test.line,
                service: Some(&test.service),
                server: &result.server,
                rtt_ms: result.round_trip_ms(),
                full_rtt_ms: result.above.as_ref().and_then(|above| above.rtt_ms),
                jitter_ms: best.and_then(|best| best.jitter_ms),
                stalls: best.map(|_| result.stalls()),
                failure: result.failure.as_ref().map(|failure| failure.why.as_str()),
                ..carried(best)
            }
        }));
    }
    if let Some(test) = &evening.line {
        let (time_utc, local_offset) = test.date.as_ref().map_or((None, None), utc);
        rows.extend(test.runs.iter().enumerate().map(|(n, run)| {
            // Of one run, what is told of all: the median while idle, the trimmed mean while full.
            let reading = moth_plan::line::read(std::slice::from_ref(run), &test.around, test.headroom);
            TestRow {
                time_utc: time_utc.clone(),
                local_offset: local_offset.clone(),
                of: "line",
                line: &test.line,
                server: &test.server,
                run: Some(n + 1),
                rtt_ms: reading.as_ref().and_then(|reading| reading.idle_rtt_ms),
                full_rtt_ms: reading.as_ref().and_then(|reading| reading.full_rtt_ms),
                jitter_ms: run.carried.jitter_ms,
                stalls: Some(run.carried.stalls.len()),
                ..carried(Some(&run.carried))
            }
        }));
    }
    rows
}

fn carried(carried: Option<&Carried>) -> TestRow<'static> {
    TestRow {
        offered_kbps: carried.map(|c| c.offered.kbps()),
        sustained_kbps: carried.map(|c| c.sustained.kbps()),
        p5_kbps: carried.map(|c| c.p5.kbps()),
        worst_kbps: carried.map(|c| c.worst.kbps()),
        retransmits: carried.and_then(|c| c.retransmits),
        ..TestRow::default()
    }
}

fn second_rows(evening: &Evening) -> impl Iterator<Item = SecondRow> {
    evening.seconds.iter().enumerate().map(|(t_s, second)| {
        let (from, until) = (t_s as f64, t_s as f64 + 1.0);
        let stood = evening.verdicts.iter().rfind(|stood| stood.from_s < until && stood.until_s > from);
        let changes = evening.changes.iter().filter(|change| (from..until).contains(&change.at_s));
        let changes: Vec<&str> = changes.map(|change| change.what.as_str()).collect();
        row(evening, t_s, second, stood, Some(changes.join("; ")).filter(|changes| !changes.is_empty()))
    })
}

fn row(evening: &Evening, t_s: usize, second: &Second, stood: Option<&Stood>, change: Option<String>) -> SecondRow {
    let (time_utc, local_offset) = when(evening, t_s as f64);
    let percent = |share: Option<f32>| share.map(|share| (share * 1000.0).round() / 10.0);
    SecondRow {
        time_utc,
        local_offset,
        t_s,
        state: second.state,
        fault: stood.map(|stood| stood.fault.word()),
        cause: stood.and_then(|stood| stood.cause).map(Cause::slug),
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
        sound: second.sound,
    }
}

/// A moment of a broadcast in UTC, and the offset of the place from it.
fn when(evening: &Evening, at_s: f64) -> (Option<String>, Option<String>) {
    evening.time(at_s).as_ref().map_or((None, None), utc)
}

fn utc(at: &Zoned) -> (Option<String>, Option<String>) {
    // Whole seconds are enough, as nothing here is finer.
    let utc = at.with_time_zone(TimeZone::UTC).strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    (Some(utc), Some(at.strftime("%:z").to_string()))
}
