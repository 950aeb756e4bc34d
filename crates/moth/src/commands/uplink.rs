//! `moth uplink`: measures the line.

use std::fmt::Write;
use std::time::Duration;

use jiff::Timestamp;
use moth_core::rate::{Bitrate, grouped};
use moth_destination::StreamKey;
use moth_plan::line::{LineReading, LineRun, read};
use moth_plan::surroundings::Surroundings;
use moth_relay::measure::{LinePhase, LineProgress, Target, run_line};
use moth_relay::tcp::TcpDialer;
use moth_store::results::{Kept, Tested};
use serde::Serialize;

use crate::cli::{SetupInUseOptions, UplinkOptions};
use crate::drawings::bars::series;
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::measuring::surroundings;
use crate::measuring::tested;
use crate::setup_in_use::SetupInUse;
use crate::setup_in_use::consent::{self, Dose};
use crate::system::out;
use crate::system::signals;

/// Offered to a line of which nothing is known: more than most uploads, and little enough that a minute of it is no
/// gigabyte. Ours.
pub(crate) const UP_TO: Bitrate = Bitrate::from_kbps(100_000);
/// Between two runs. Ours.
const PAUSE: Duration = Duration::from_secs(2);

/// Measures, tells, and keeps the result.
///
/// # Errors
/// [`Failure`] if the configuration, the key or the consent is not there, or nothing could be measured.
pub fn run(options: &UplinkOptions, setup_options: &SetupInUseOptions) -> Outcome {
    let in_use = SetupInUse::open(setup_options)?;
    options.draw.check()?;
    let (target, key) = target(options, &in_use)?;
    let up_to = options.measure.up_to.unwrap_or(UP_TO);
    let plan = in_use.measure_plan(in_use.setup.total(), options.measure.seconds, Some(up_to));
    if options.to.is_none() {
        let dose = Dose { servers: 1, length: plan.length * options.runs, up_to };
        consent::ask((&options.measure).into(), &in_use.service, dose.words(&in_use.service))?;
    }
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(Failure::system("the program's scheduler could not be started"))?;
    let (runs, failed, around) = runtime.block_on(async {
        let mut cancel = signals::cancel_when_asked();
        let around = surroundings::to(Some(&target)).await;
        let mut progress = out::Progress::new();
        let dialer = TcpDialer::filling();
        let (mut runs, mut failed): (Vec<LineRun>, Option<String>) = (Vec::new(), None);
        for i in 0..options.runs {
            if *cancel.borrow() {
                break;
            }
            if i > 0 {
                tokio::time::sleep(PAUSE).await;
            }
            let look = |now: &LineProgress| progress.now(&said(now, i, options));
            match run_line(&dialer, &target.server, key.clone(), &plan, &mut cancel, look).await {
                Ok(run) => runs.push(run),
                Err(error) => {
                    failed = Some(error.why);
                    break;
                }
            }
        }
        (runs, failed, around)
    });
    let headroom = in_use.setup.headroom;
    let Some(reading) = read(&runs, &around, headroom) else {
        let why = failed.unwrap_or_else(|| "ended by hand before there was anything to tell".into());
        return Err(Failure::Server { server: target.server.name, why });
    };
    let kept = Kept {
        date: Timestamp::now(),
        line: surroundings::line_name(options.measure.line.as_deref(), &around),
        service: None,
        planned: in_use.setup.total(),
        what: Tested::Uplink { server: target.server.name.clone(), runs: runs.clone(), around: around.clone() },
    };
    let said = if options.measure.json {
        let json = Json {
            date: kept.date,
            line: &kept.line,
            server: &target.server.name,
            seconds: options.measure.seconds,
            up_to_bps: up_to.bps(),
            reading: &reading,
            runs: &runs,
            around: &around,
            ended_early: failed,
        };
        out::json(&json)
    } else {
        out::text(&report(&reading, &runs, &around, &kept, &target.server.name, failed.as_deref()))
    };
    in_use.keep(&kept)?;
    said?;
    options.draw.write(tested::line(&kept, &in_use, false), &in_use)
}

/// `moth uplink --json`; `docs/before-live.md` describes it.
#[derive(Debug, Serialize)]
struct Json<'a> {
    date: Timestamp,
    line: &'a str,
    server: &'a str,
    seconds: u64,
    up_to_bps: u64,
    reading: &'a LineReading,
    runs: &'a [LineRun],
    around: &'a Surroundings,
    ended_early: Option<String>,
}

fn target(options: &UplinkOptions, in_use: &SetupInUse) -> Result<(Target, StreamKey), Failure> {
    let file = options.measure.key_file.as_deref();
    if let Some(text) = &options.to {
        let (server, key) = in_use.host_of_ones_own("--to", text, file)?;
        return Ok((Target { server, region: None }, key));
    }
    let history = in_use.history()?;
    let name = options.server.clone().or_else(|| in_use.server_in_use(&history));
    let targets = in_use.targets(name.as_slice(), None)?;
    let target = targets.into_iter().next().ok_or(Failure::NothingMeasured)?;
    Ok((target, in_use.unseen(in_use.key(file)?)?))
}

fn said(now: &LineProgress, run: u32, options: &UplinkOptions) -> String {
    let of = if options.runs > 1 { format!("[{}/{}] ", run + 1, options.runs) } else { String::new() };
    let trip = now.rtt_ms.map_or_else(String::new, |ms| format!(", round trip {ms:.0} ms"));
    match now.phase {
        LinePhase::Idle => format!("{of}the idle line{trip}"),
        LinePhase::Connecting => format!("{of}connecting"),
        LinePhase::Full => {
            let rate = now.now.map_or_else(String::new, |rate| format!(", {rate}"));
            format!("{of}the full line{rate}{trip}, {} of {} s", now.elapsed.as_secs(), options.measure.seconds)
        }
    }
}

fn report(
    reading: &LineReading,
    runs: &[LineRun],
    around: &Surroundings,
    kept: &Kept,
    server: &str,
    failed: Option<&str>,
) -> String {
    let mut text = format!("\n{}, to {server}, {}\n", surroundings::words(around, &kept.line), out::date(kept.date));
    let most = runs.iter().flat_map(|run| &run.carried.per_second).max().copied().unwrap_or(Bitrate::ZERO);
    for (i, run) in runs.iter().enumerate() {
        let carried = &run.carried;
        let _ = writeln!(
            text,
            "  run {}  {:>12} sustained, {:>12} in the worst second, {} stall{}  {}",
            i + 1,
            carried.sustained.to_string(),
            carried.worst.to_string(),
            carried.stalls.len(),
            if carried.stalls.len() == 1 { "" } else { "s" },
            series(&carried.per_second, most, 30)
        );
    }
    let spread = reading.spread.map_or_else(String::new, |spread| format!(", the runs {:.0} % apart", spread * 100.0));
    let retransmits = reading.retransmits.map_or_else(|| "not available".to_owned(), grouped);
    let _ = writeln!(text, "  segments sent again: {retransmits}{spread}");
    if let (Some(idle), Some(full), Some(bloat), Some(buffer)) =
        (reading.idle_rtt_ms, reading.full_rtt_ms, reading.bufferbloat_ms, reading.buffer)
    {
        let rpm =
            reading.rpm.map_or_else(String::new, |rpm| format!("; {} round trips per minute under load", grouped(rpm)));
        let _ = writeln!(
            text,
            "  round trip {idle:.0} ms idle, {full:.0} ms full: {bloat:.0} ms of bufferbloat, a {} buffer{rpm}",
            buffer.word()
        );
    }
    let _ = writeln!(text, "\n{}", reading.carries);
    for what in &reading.held_back {
        let _ = writeln!(text, "- {what}");
    }
    let _ = writeln!(text, "Try first: {}", reading.first);
    if let Some(why) = failed {
        let _ = writeln!(text, "It ended early: {why}");
    }
    text
}
