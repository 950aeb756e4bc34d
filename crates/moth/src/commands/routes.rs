//! `moth routes`: compares the servers of a service.

use std::fmt::Write;
use std::io;
use std::sync::Arc;

use jiff::Timestamp;
use moth_core::rate::Bitrate;
use moth_plan::measurement::ServerResult;
use moth_plan::ranking::{Grade, Ranking, RoutesFinding, Wanted, rank};
use moth_plan::setup::ServerChoice;
use moth_plan::surroundings::Surroundings;
use moth_plan::text::percent;
use moth_relay::measure::ServerPhase;
use moth_relay::tcp::TcpDialer;
use moth_store::config::Change;
use moth_store::results::{History, Kept, Tested};
use serde::Serialize;

use crate::cli::{RoutesOptions, SetupInUseOptions};
use crate::drawings::bars::{Part, Scale, series};
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::measuring::servers_in_turn::{self, RoutesTest, TestState};
use crate::measuring::surroundings;
use crate::measuring::tested;
use crate::setup_in_use::SetupInUse;
use crate::setup_in_use::consent::{self, Dose};
use crate::system::out;
use crate::system::signals;

/// Runs the command; gives whether anything could be measured.
///
/// # Errors
/// [`Failure`] if the configuration, the key or the consent is not there.
pub fn run(options: &RoutesOptions, setup_options: &SetupInUseOptions) -> Result<bool, Failure> {
    let mut in_use = SetupInUse::open(setup_options)?;
    options.draw.check()?;
    if options.history {
        history(&in_use, options.measure.json)?;
        let all = in_use.history()?;
        let newest =
            all.newest_routes(&in_use.service_name).and_then(|(kept, _)| tested::servers(kept, &in_use, false));
        options.draw.write(newest, &in_use)?;
        return Ok(true);
    }
    let targets = in_use.targets(&options.server, options.region.as_deref())?;
    let wanted = Wanted { planned: options.planned.unwrap_or(in_use.setup.total()), ..in_use.wanted() };
    let plan = in_use.measure_plan(wanted.planned, options.measure.seconds, options.measure.up_to);
    // A missing key is said before anybody is asked for consent.
    let key = in_use.unseen(in_use.key(options.measure.key_file.as_deref())?)?;
    let dose = Dose {
        servers: targets.len(),
        length: plan.length * u32::try_from(targets.len()).unwrap_or(1),
        up_to: plan.up_to,
    };
    consent::ask((&options.measure).into(), &in_use.service, dose.words(&in_use.service))?;

    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(Failure::system("the program's scheduler could not be started"))?;
    let (test, around) = runtime.block_on(async {
        let cancel = signals::cancel_when_asked();
        let around = surroundings::to(targets.first()).await;
        let mut progress = out::Progress::new();
        let mut told = 0;
        let look = |test: &RoutesTest| {
            for result in &test.done[told..] {
                progress.line(&one_line(result, wanted));
            }
            told = test.done.len();
            progress.now(&now(test));
        };
        let dialer = Arc::new(TcpDialer::default());
        (servers_in_turn::run(dialer, targets, key, plan, wanted, cancel, look).await, around)
    });
    let line = surroundings::line_name(options.measure.line.as_deref(), &around);
    let kept = Kept {
        date: Timestamp::now(),
        line,
        service: Some(in_use.service_name.clone()),
        planned: wanted.planned,
        what: Tested::Routes { servers: test.done.clone() },
    };
    let before = in_use.history().unwrap_or_default();
    let measured = test.done.iter().any(|result| result.best().is_some());
    let report =
        Report { in_use: &in_use, test: &test, ranking: test.ranking(), kept: &kept, before: &before, around: &around };
    let said = match () {
        () if options.measure.json => out::json(&report.json()),
        () if options.csv => report.csv(),
        () => out::text(&report.text()),
    };
    let best = report.ranking.places.first().filter(|place| place.holds.is_some()).map(|place| place.server.clone());
    if measured {
        // A result that cannot be kept was told all the same.
        in_use.keep(&kept)?;
    }
    said?;
    let drawn = tested::servers(&kept, &in_use, false).filter(|_| measured);
    options.draw.write(drawn, &in_use)?;
    if options.pick
        && let Some(best) = best
    {
        in_use.change(&Change::Server(ServerChoice::Named(best.clone())))?;
        let mut progress = out::Progress::new();
        progress.line(&format!(
            "{best} is now the server of {} in {}",
            in_use.setup_name,
            in_use.file.path().display()
        ));
    }
    Ok(measured)
}

fn now(test: &RoutesTest) -> String {
    let Some(current) = &test.current else { return String::new() };
    let what = match current.phase {
        ServerPhase::Connecting => "connecting".to_owned(),
        ServerPhase::Planned => "at the planned bitrate".to_owned(),
        ServerPhase::Above => "with more".to_owned(),
        ServerPhase::Done => "done".to_owned(),
    };
    let rate = current.now.map_or_else(String::new, |rate| format!(", {rate}"));
    format!(
        "[{}/{}] {} {what}{rate}, {} of {} s; {} of all",
        test.done.len() + 1,
        test.servers.len(),
        current.server,
        current.elapsed.as_secs(),
        test.plan.length.as_secs(),
        percent(test.progress())
    )
}

fn one_line(result: &ServerResult, wanted: Wanted) -> String {
    let ranking = rank(std::slice::from_ref(result), wanted);
    let place = ranking.places.first();
    format!("{}: {}", result.server, place.map_or("", |place| place.sentence.as_str()))
}

struct Report<'a> {
    in_use: &'a SetupInUse,
    test: &'a RoutesTest,
    ranking: Ranking,
    kept: &'a Kept,
    before: &'a History,
    around: &'a Surroundings,
}

/// `moth routes --json`; `docs/before-live.md` describes it.
#[derive(Debug, Serialize)]
struct Json<'a> {
    date: Timestamp,
    line: &'a str,
    service: &'a str,
    planned_bps: u64,
    headroom_percent: f64,
    seconds: u64,
    up_to_bps: u64,
    cancelled: bool,
    finding: RoutesFinding,
    sentence: &'a str,
    ranking: Vec<JsonPlace<'a>>,
    around: &'a Surroundings,
}

#[derive(Debug, Serialize)]
struct JsonPlace<'a> {
    place: usize,
    server: &'a str,
    grade: Grade,
    holds_bps: Option<u64>,
    at_least: bool,
    spare_percent: Option<f64>,
    sentence: &'a str,
    before: Option<Before>,
    result: &'a ServerResult,
}

/// The last test of the same server over the same line.
#[derive(Debug, Serialize)]
struct Before {
    date: Timestamp,
    sustained_bps: Option<u64>,
}

impl Report<'_> {
    fn result(&self, place: &moth_plan::ranking::Place) -> &ServerResult {
        &self.test.done[place.result]
    }

    fn json(&self) -> Json<'_> {
        let places = self.ranking.places.iter().enumerate();
        Json {
            date: self.kept.date,
            line: &self.kept.line,
            service: &self.in_use.service.name,
            planned_bps: self.test.wanted.planned.bps(),
            headroom_percent: self.test.wanted.headroom.percent(),
            seconds: self.test.plan.length.as_secs(),
            up_to_bps: self.test.plan.up_to.bps(),
            cancelled: self.test.state == TestState::Cancelled,
            finding: self.ranking.finding,
            sentence: &self.ranking.sentence,
            ranking: places
                .map(|(i, place)| JsonPlace {
                    place: i + 1,
                    server: &place.server,
                    grade: place.grade,
                    holds_bps: place.holds.map(Bitrate::bps),
                    at_least: place.at_least,
                    spare_percent: place.spare.map(|spare| spare * 100.0),
                    sentence: &place.sentence,
                    before: self.before.before(&place.server, &self.kept.line, self.kept.date).map(|(date, result)| {
                        Before { date, sustained_bps: result.best().map(|best| best.sustained.bps()) }
                    }),
                    result: self.result(place),
                })
                .collect(),
            around: self.around,
        }
    }

    fn csv(&self) -> Outcome {
        let mut table = csv::Writer::from_writer(io::stdout().lock());
        let written = (|| {
            table.write_record([
                "place",
                "server",
                "region",
                "address",
                "grade",
                "holds_kbps",
                "sustained_kbps",
                "p5_kbps",
                "worst_kbps",
                "at_least",
                "stalls",
                "connect_ms",
                "handshake_ms",
                "rtt_ms",
                "jitter_ms",
                "full_rtt_ms",
                "retransmits",
                "receiver_limited_percent",
                "why",
            ])?;
            for (i, place) in self.ranking.places.iter().enumerate() {
                let result = self.result(place);
                let (best, planned) = (result.best(), result.planned.as_ref());
                let kbps = |rate: Option<Bitrate>| rate.map_or_else(String::new, |rate| format!("{:.0}", rate.kbps()));
                let number = |value: Option<f64>| value.map_or_else(String::new, |value| format!("{value:.1}"));
                table.write_record([
                    (i + 1).to_string(),
                    place.server.clone(),
                    result.region.clone().unwrap_or_default(),
                    result.address.clone(),
                    place.grade.word().to_owned(),
                    kbps(place.holds),
                    kbps(best.map(|b| b.sustained)),
                    kbps(best.map(|b| b.p5)),
                    kbps(best.map(|b| b.worst)),
                    place.at_least.to_string(),
                    result.stalls().to_string(),
                    number(result.connect_ms),
                    number(result.handshake_ms),
                    number(result.round_trip_ms()),
                    number(planned.and_then(|p| p.jitter_ms)),
                    number(result.above.as_ref().and_then(|a| a.rtt_ms)),
                    best.and_then(|b| b.retransmits).map_or_else(String::new, |n| n.to_string()),
                    number(best.and_then(|b| b.receiver_limited).map(|share| share * 100.0)),
                    place.sentence.clone(),
                ])?;
            }
            table.flush()
        })();
        out::finish(written)
    }

    fn text(&self) -> String {
        let wanted = self.test.wanted;
        let mut text = String::new();
        let _ = writeln!(
            text,
            "\n{}: {} planned, {} to stay free. Over {}, {}.",
            self.in_use.service.name,
            wanted.planned,
            wanted.headroom,
            self.kept.line,
            out::date(self.kept.date)
        );
        if self.test.state == TestState::Cancelled {
            let _ = writeln!(
                text,
                "Ended by hand: {} of {} servers were tested.",
                self.test.done.len(),
                self.test.servers.len()
            );
        }
        text.push_str(&comparison(&self.test.done, &self.ranking, wanted));
        let _ = writeln!(text, "\n{}", self.ranking.sentence);
        for place in &self.ranking.places {
            if let Some((date, result)) = self.before.before(&place.server, &self.kept.line, self.kept.date)
                && let (Some(then), Some(now)) = (result.best(), self.result(place).best())
            {
                let change = now.sustained.bps() as f64 / (then.sustained.bps() as f64).max(1.0) - 1.0;
                let _ = writeln!(
                    text,
                    "{}: {} now, {} on {} ({:+.0} %)",
                    place.server,
                    now.sustained,
                    then.sustained,
                    out::date(date),
                    change * 100.0
                );
            }
        }
        text
    }
}

/// The drawn comparison: a band for each server on one scale, its seconds, and why it is in its place.
fn comparison(results: &[ServerResult], ranking: &Ranking, wanted: Wanted) -> String {
    let need = wanted.headroom.needed_for(wanted.planned);
    let rates = results.iter().filter_map(|r| r.best()).map(|carried| carried.sustained);
    let scale = Scale::over(rates.chain([need]), 56);
    let names = results.iter().map(|r| r.server.chars().count()).max().unwrap_or(0);
    let mut text = format!(
        "{} worst moments  {} median second  {} planned  {} planned with headroom\n\n{:names$}     {}\n",
        Part::Firm.mark(),
        Part::Median.mark(),
        Part::Planned.mark(),
        Part::Wanted.mark(),
        "",
        scale.ruler()
    );
    for (i, place) in ranking.places.iter().enumerate() {
        let result = &results[place.result];
        let (p5, sustained) = result.best().map_or((Bitrate::ZERO, Bitrate::ZERO), |best| (best.p5, best.sustained));
        let band: String = scale.band(p5, sustained, wanted.planned, need).into_iter().map(Part::mark).collect();
        let seconds = result.best().map_or_else(String::new, |best| series(&best.per_second, scale.to, 20));
        let _ = writeln!(text, "{:>2} {:names$}  {band}  {:6}  {seconds}", i + 1, place.server, place.grade.word());
        let _ = writeln!(text, "   {:names$}  {}", "", place.sentence);
    }
    text
}

fn history(in_use: &SetupInUse, json: bool) -> Outcome {
    let history = in_use.history()?;
    let kept: Vec<&Kept> =
        history.kept.iter().filter(|kept| kept.service.as_deref() == Some(in_use.service_name.as_str())).collect();
    if json {
        return out::json(&kept);
    }
    let tests = if kept.len() == 1 { "1 test".to_owned() } else { format!("{} tests", kept.len()) };
    let mut text = format!("{}: {tests} kept in {}\n", in_use.service.name, in_use.results.path().display());
    if history.unread > 0 {
        let _ = writeln!(text, "{} lines of it could not be read and were left alone", history.unread);
    }
    for kept in kept {
        let Tested::Routes { servers } = &kept.what else { continue };
        let _ = writeln!(text, "{}, over {}, {} planned", out::date(kept.date), kept.line, kept.planned);
        let ranking = rank(servers, Wanted { planned: kept.planned, ..in_use.wanted() });
        for place in &ranking.places {
            let _ = writeln!(text, "   {:6} {}: {}", place.grade.word(), place.server, place.sentence);
        }
    }
    out::text(&text)
}
