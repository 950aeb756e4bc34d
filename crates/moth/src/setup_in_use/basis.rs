//! What a plan rests on: what the upload sustains, and where that is known from.

use jiff::Timestamp;
use moth_core::rate::Bitrate;
use moth_plan::headroom::Headroom;
use moth_plan::line;
use moth_plan::surroundings::Surroundings;
use moth_store::results::History;
use serde::Serialize;

use crate::system::out;

/// What a plan rests on.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Basis {
    /// What the upload sustains.
    #[serde(rename = "sustained_bps")]
    pub sustained: Bitrate,
    /// What it carries in its worst moments.
    #[serde(rename = "p5_bps")]
    pub p5: Option<Bitrate>,
    /// It may be more.
    pub at_least: bool,
    /// Where that comes from, in words.
    pub from: String,
    /// When it was measured.
    pub date: Option<Timestamp>,
    /// Nothing is known of the upload: it is the setup's own bitrate that pictures are drawn for.
    #[serde(skip)]
    pub is_setup: bool,
}

impl Basis {
    /// Said by the user, not measured.
    #[must_use]
    pub fn said(sustained: Bitrate) -> Self {
        Self { sustained, p5: None, at_least: false, from: "as you say".into(), date: None, is_setup: false }
    }

    /// The newest of what was measured: the line itself, or the server in use.
    #[must_use]
    pub fn newest(history: &History, service: &str, server: Option<&str>) -> Option<Self> {
        let tested = history.newest_routes(service).and_then(|(kept, servers)| {
            let found = servers.iter().find(|result| Some(result.server.as_str()) == server)?;
            let best = found.best()?;
            let from = format!("measured to {} on {}", found.server, out::date(kept.date));
            Some(Self {
                sustained: best.sustained,
                p5: Some(best.p5),
                at_least: best.is_at_least(),
                from,
                date: Some(kept.date),
                is_setup: false,
            })
        });
        let line = history.newest_uplink().and_then(|(kept, runs)| {
            let reading = line::read(runs, &Surroundings::default(), Headroom::NONE)?;
            let from = format!("measured on {} on {}", kept.line, out::date(kept.date));
            Some(Self {
                sustained: reading.sustained,
                p5: Some(reading.p5),
                at_least: reading.at_least,
                from,
                date: Some(kept.date),
                is_setup: false,
            })
        });
        match (tested, line) {
            (Some(a), Some(b)) => Some(if a.date >= b.date { a } else { b }),
            (one, other) => one.or(other),
        }
    }
}
