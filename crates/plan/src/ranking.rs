//! Servers in the order of what they can hold for the planned bitrate, and whose fault it is when they cannot.

use moth_core::rate::Bitrate;
use serde::Serialize;

use moth_destination::FailureKind;

use crate::headroom::Headroom;
use crate::measurement::{Carried, ServerResult};
use crate::text::percent;

/// What is asked of a server.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Wanted {
    /// Video and audio together.
    pub planned: Bitrate,
    /// How much of the line is to stay free.
    pub headroom: Headroom,
}

/// How well a server does, best first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Grade {
    /// It holds the planned bitrate with headroom, worst moments counted.
    Holds,
    /// It carries the planned bitrate, with less to spare than wanted, or with a stall.
    Tight,
    /// It does not carry it.
    Short,
    /// It could not be tested.
    Failed,
}

impl Grade {
    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Holds => "holds",
            Self::Tight => "tight",
            Self::Short => "short",
            Self::Failed => "failed",
        }
    }
}

/// One server's place.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Place {
    /// Which of the results it is.
    pub result: usize,
    /// The server's name.
    pub server: String,
    /// How well it does.
    pub grade: Grade,
    /// What it can hold for good; `None` if it could not be tested.
    #[serde(rename = "holds_bps")]
    pub holds: Option<Bitrate>,
    /// It carried all that was offered: it may hold more.
    pub at_least: bool,
    /// What it holds over what is planned, as a share of that; negative is missing.
    pub spare: Option<f64>,
    /// Why it is in this place.
    pub sentence: String,
}

/// The servers in order, and what they say together.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Ranking {
    /// The best first.
    pub places: Vec<Place>,
    /// Whether it is the line, or single servers.
    pub finding: RoutesFinding,
    /// The finding in a sentence.
    pub sentence: String,
}

/// What the results say together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum RoutesFinding {
    /// Nothing was tested.
    Nothing,
    /// Every server holds.
    AllWell,
    /// One server alone was tested and does not hold: it may be the server or the line.
    OneTested,
    /// All are bad in the same way: the line.
    Line,
    /// None could be reached: the connection as a whole.
    Unreachable,
    /// Some are bad while others are well: those servers, or the routes to them.
    Servers,
    /// All are bad, each in its own way.
    Mixed,
}

/// Two results differ if they are further apart than this share: runs of one line differ by a few percent. Ours.
const SAME: f64 = 0.2;
/// What one server holds differs by up to this share from one run to the next. Ours.
const NOISE: f64 = 0.05;

/// Ranks what was tested.
#[must_use]
pub fn rank(results: &[ServerResult], wanted: Wanted) -> Ranking {
    let mut places: Vec<Place> = results.iter().enumerate().map(|(i, result)| place(i, result, wanted)).collect();
    places.sort_by(|a, b| a.grade.cmp(&b.grade).then(b.holds.cmp(&a.holds)));
    // Those that hold the same but for what one run differs from the next are told apart by their round trip.
    let alike = |a: &Place, b: &Place| a.grade == b.grade && is_alike(a.holds, b.holds);
    let mut first = 0;
    while first < places.len() {
        let others = places[first..].iter().take_while(|place| alike(&places[first], place)).count();
        places[first..first + others].sort_by(|a, b| trip(a, results).total_cmp(&trip(b, results)));
        first += others;
    }
    let (finding, sentence) = find(&places, results, wanted);
    Ranking { places, finding, sentence }
}

fn is_alike(more: Option<Bitrate>, less: Option<Bitrate>) -> bool {
    let bps = |rate: Option<Bitrate>| rate.map_or(0.0, |rate| rate.bps() as f64);
    bps(less) >= bps(more) * (1.0 - NOISE)
}

/// A server's round trip, in milliseconds.
fn trip(place: &Place, results: &[ServerResult]) -> f64 {
    results[place.result].round_trip_ms().unwrap_or(f64::INFINITY)
}

fn place(index: usize, result: &ServerResult, wanted: Wanted) -> Place {
    let server = result.server.clone();
    let blank = |grade, sentence| Place {
        result: index,
        server: server.clone(),
        grade,
        holds: None,
        at_least: false,
        spare: None,
        sentence,
    };
    if let Some(failure) = &result.failure {
        let sentence = match result.best() {
            Some(carried) => format!("{}; until then it carried {}", failure.why, carried.sustained),
            None => failure.why.clone(),
        };
        return blank(Grade::Failed, sentence);
    }
    let Some(carried) = result.best() else {
        return blank(Grade::Failed, "the test was ended before it told anything".into());
    };
    let holds = carried.holds(wanted.headroom);
    let stalls = result.stalls();
    let spare = holds.bps() as f64 / (wanted.planned.bps() as f64).max(1.0) - 1.0;
    let carries =
        result.planned.as_ref().is_none_or(|p| p.sustained.bps() as f64 >= wanted.planned.bps() as f64 * 0.97)
            && carried.sustained >= wanted.planned.scaled(0.97);
    let grade = match (carries, stalls) {
        (false, _) | (_, 2..) => Grade::Short,
        (true, 0) if spare >= 0.0 => Grade::Holds,
        _ => Grade::Tight,
    };
    let sentence = sentence(grade, result, carried, wanted, spare);
    Place {
        result: index,
        server,
        grade,
        holds: Some(holds),
        at_least: carried.is_at_least(),
        spare: Some(spare),
        sentence,
    }
}

fn sentence(grade: Grade, result: &ServerResult, carried: &Carried, wanted: Wanted, spare: f64) -> String {
    let planned = wanted.planned;
    let at_least = if carried.is_at_least() { "at least " } else { "" };
    let trip = result.round_trip_ms().map_or_else(String::new, |ms| format!(", round trip {ms:.0} ms"));
    let figures = format!("sustains {at_least}{}, {} in its worst moments{trip}", carried.sustained, carried.p5);
    let stalled = match result.stalls() {
        0 => String::new(),
        1 => ", one stall".into(),
        more => format!(", {more} stalls"),
    };
    match grade {
        Grade::Holds => format!("holds {planned} with {at_least}{} to spare: {figures}", percent(spare)),
        Grade::Tight => {
            let why = match result.stalls() {
                0 => format!("carries {planned}, but leaves less free than the {} you want", wanted.headroom),
                _ => format!("carries {planned}, but stalls"),
            };
            format!("{why}: {figures}{stalled}")
        }
        Grade::Short | Grade::Failed => {
            let missing = if carried.sustained < planned {
                format!("carries {} of {planned}", carried.sustained)
            } else {
                format!("carries {planned} only with {} stalls", result.stalls())
            };
            let why = if carried.is_receiver_limited() {
                format!(
                    "; the server reads slowly (its window held the connection up {} of the time): not the line",
                    percent(carried.receiver_limited.unwrap_or(0.0))
                )
            } else {
                match (carried.rtt_ms, result.round_trip_ms()) {
                    (Some(full), Some(idle)) => {
                        format!(
                            "; the round trip goes from {idle:.0} to {full:.0} ms when it is full: the line or the route"
                        )
                    }
                    _ => String::new(),
                }
            };
            format!("{missing}{why}{stalled}")
        }
    }
}

fn names(places: &[&Place]) -> String {
    let names: Vec<&str> = places.iter().map(|place| place.server.as_str()).collect();
    match names.split_last() {
        None => String::new(),
        Some((last, [])) => (*last).to_owned(),
        Some((last, rest)) => format!("{} and {last}", rest.join(", ")),
    }
}

fn find(places: &[Place], results: &[ServerResult], wanted: Wanted) -> (RoutesFinding, String) {
    let planned = wanted.planned;
    // A key or application that is refused says nothing about the line or the route.
    let refused = |p: &Place| results[p.result].failure.as_ref().is_some_and(|f| f.kind == FailureKind::Refused);
    let told: Vec<&Place> =
        places.iter().filter(|p| !(p.grade == Grade::Failed && (refused(p) || results[p.result].cancelled))).collect();
    let well: Vec<&Place> = told.iter().copied().filter(|p| p.grade <= Grade::Tight).collect();
    let bad: Vec<&Place> = told.iter().copied().filter(|p| p.grade > Grade::Tight).collect();
    let short: Vec<&Place> = bad.iter().copied().filter(|p| p.grade == Grade::Short).collect();
    let carried = |p: &Place| results[p.result].best().map(|c| c.sustained);
    let (Some(first), best) = (told.first(), well.first().and_then(|p| carried(p))) else {
        return (RoutesFinding::Nothing, "nothing could be measured yet".into());
    };
    if let (Some(best), true) = (best, bad.is_empty()) {
        let sentence = if told.len() == 1 {
            format!("The line carries {planned} to {}, and {best} when more is offered.", first.server)
        } else {
            format!("The line carries {planned} to all {} servers tested; {best} to {}.", told.len(), first.server)
        };
        return (RoutesFinding::AllWell, sentence);
    }
    if let Some(best) = best {
        let slow: Vec<&Place> = bad
            .iter()
            .copied()
            .filter(|p| results[p.result].best().is_some_and(Carried::is_receiver_limited))
            .collect();
        let what = match (bad.len(), slow.len()) {
            (1, 1) => format!("{} alone is bad, and it is the server: it reads slowly", names(&bad)),
            (1, _) => format!("{} alone is bad: that server or the route to it", names(&bad)),
            _ => format!("{} are bad: those servers or the routes to them", names(&bad)),
        };
        return (
            RoutesFinding::Servers,
            format!("{what}. It is not the line, which carries {best} to {}.", first.server),
        );
    }
    if told.len() == 1 {
        let sentence = format!("{} is bad; test a second server to tell it from the line.", first.server);
        return (RoutesFinding::OneTested, sentence);
    }
    if short.is_empty() {
        let unknown =
            bad.iter().all(|p| results[p.result].failure.as_ref().is_some_and(|f| f.kind == FailureKind::NameNotFound));
        let what = if unknown {
            "No server's name could be found: the DNS, or the connection as a whole."
        } else {
            "No server could be reached: look at your own connection and firewall first."
        };
        return (RoutesFinding::Unreachable, what.into());
    }
    let rates: Vec<f64> = short.iter().filter_map(|p| carried(p)).map(|rate| rate.bps() as f64).collect();
    let mean = rates.iter().sum::<f64>() / rates.len() as f64;
    let alike = rates.iter().all(|rate| (rate / mean - 1.0).abs() <= SAME);
    let by_servers = short.iter().any(|p| results[p.result].best().is_some_and(Carried::is_receiver_limited));
    if short.len() >= 2 && alike && !by_servers {
        let about = Bitrate::from_bps(mean as u64).rounded_down_to(Bitrate::from_kbps(10));
        return (
            RoutesFinding::Line,
            format!(
                "All {} servers stop at about {about}: it is the line, not the servers. Plan for less, or see what else uses it.",
                short.len()
            ),
        );
    }
    (
        RoutesFinding::Mixed,
        format!("No server carries {planned}, each in its own way: plan for less, and test again later."),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_destination::LinkError;

    const WANTED: Wanted = Wanted { planned: Bitrate::from_kbps(6000), headroom: Headroom::of_percent(25.0) };

    fn carrying(kbps: u64, offered_kbps: u64) -> Carried {
        let rate = Bitrate::from_kbps(kbps.min(offered_kbps));
        Carried {
            offered: Bitrate::from_kbps(offered_kbps),
            per_second: vec![rate; 10],
            sustained: rate,
            p5: rate,
            worst: rate,
            stalls: Vec::new(),
            min_rtt_ms: Some(20.0),
            rtt_ms: Some(26.0),
            jitter_ms: Some(1.0),
            retransmits: Some(0),
            receiver_limited: Some(0.05),
        }
    }

    fn server(name: &str, kbps: u64) -> ServerResult {
        ServerResult {
            server: name.into(),
            address: "rtmp://x.example/live".into(),
            region: None,
            connect_ms: Some(20.0),
            handshake_ms: Some(60.0),
            planned: Some(carrying(kbps, 6000)),
            above: Some(carrying(kbps, 12_000)),
            failure: None,
            cancelled: false,
        }
    }

    fn failed(name: &str, kind: FailureKind) -> ServerResult {
        let failure = Some(LinkError { kind, why: "it is away".into() });
        ServerResult { planned: None, above: None, failure, ..server(name, 0) }
    }

    fn order_of(results: &[ServerResult]) -> Vec<(String, Grade)> {
        rank(results, WANTED).places.into_iter().map(|p| (p.server, p.grade)).collect()
    }

    #[test]
    fn who_holds_most_comes_first_and_who_fails_last() {
        let results = [failed("D", FailureKind::Silent), server("C", 4000), server("B", 7000), server("A", 11_000)];
        let expected = [("A", Grade::Holds), ("B", Grade::Tight), ("C", Grade::Short), ("D", Grade::Failed)];
        assert_eq!(order_of(&results), expected.map(|(name, grade)| (name.to_owned(), grade)));
        let ranking = rank(&results, WANTED);
        assert!(ranking.places[0].sentence.contains("38 % to spare"), "{}", ranking.places[0].sentence);
        assert!(ranking.places[1].sentence.contains("less free than the 25 %"), "{}", ranking.places[1].sentence);
        assert_eq!(ranking.finding, RoutesFinding::Servers);
    }

    #[test]
    fn the_worst_moments_count() {
        let mut wavering = server("fast", 12_000);
        wavering.above.as_mut().unwrap().p5 = Bitrate::from_kbps(3000);
        assert_eq!(order_of(&[wavering, server("steady", 9000)])[0].0, "steady");
        let mut stalling = server("stalls", 12_000);
        stalling.above.as_mut().unwrap().stalls = vec![crate::measurement::Stall { at_s: 3.0, ms: 900.0 }; 2];
        let ranking = rank(&[stalling, server("steady", 9000)], WANTED);
        assert_eq!((ranking.places[1].server.as_str(), ranking.places[1].grade), ("stalls", Grade::Short));
        assert!(ranking.places[1].sentence.contains("2 stalls"));
    }

    #[test]
    fn equals_are_told_apart_by_round_trip() {
        let mut far = server("A far", 20_000);
        far.planned.as_mut().unwrap().min_rtt_ms = Some(90.0);
        assert_eq!(order_of(&[far, server("B near", 20_000)])[0].0, "B near");
        let mut near = server("C nearest", 10_900);
        near.planned.as_mut().unwrap().min_rtt_ms = Some(5.0);
        assert_eq!(order_of(&[server("D", 11_000), near])[0].0, "C nearest", "1 % is what runs differ by anyway");
        assert!(rank(&[server("x", 20_000)], WANTED).places[0].sentence.contains("at least"));
    }

    #[test]
    fn all_bad_in_the_same_way_is_the_line() {
        let ranking = rank(&[server("A", 3000), server("B", 3200), server("C", 2900)], WANTED);
        assert_eq!(ranking.finding, RoutesFinding::Line);
        assert!(
            ranking.sentence.contains("about 3 030 kb/s") && ranking.sentence.contains("not the servers"),
            "{}",
            ranking.sentence
        );
        assert_eq!(rank(&[server("A", 3000), server("B", 5000)], WANTED).finding, RoutesFinding::Mixed);
        assert_eq!(rank(&[server("A", 3000)], WANTED).finding, RoutesFinding::OneTested);
    }

    #[test]
    fn one_bad_is_that_server_or_its_route_and_a_slow_reader_is_the_server() {
        let ranking = rank(&[server("A", 12_000), server("B", 3000), server("C", 12_000)], WANTED);
        assert_eq!(ranking.finding, RoutesFinding::Servers);
        assert!(ranking.sentence.contains("B alone is bad: that server or the route"), "{}", ranking.sentence);
        let mut slow = server("B", 3000);
        slow.above.as_mut().unwrap().receiver_limited = Some(0.96);
        let ranking = rank(&[server("A", 12_000), slow], WANTED);
        assert!(ranking.sentence.contains("it is the server: it reads slowly"), "{}", ranking.sentence);
        assert!(ranking.places[1].sentence.contains("reads slowly") && ranking.places[1].sentence.contains("96 %"));
    }

    #[test]
    fn nothing_reached_is_the_connection_and_a_refusal_is_neither() {
        let silent = |name| failed(name, FailureKind::Silent);
        assert_eq!(rank(&[silent("A"), silent("B")], WANTED).finding, RoutesFinding::Unreachable);
        let unknown = |name| failed(name, FailureKind::NameNotFound);
        assert!(rank(&[unknown("A"), unknown("B")], WANTED).sentence.contains("DNS"));
        let ranking = rank(&[server("A", 12_000), failed("B", FailureKind::Refused)], WANTED);
        assert_eq!(ranking.finding, RoutesFinding::AllWell);
        assert_eq!(rank(&[], WANTED).finding, RoutesFinding::Nothing);
    }
}
