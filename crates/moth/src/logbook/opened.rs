//! A broadcast that is over, opened: to be told in ten lines, gone through on the screen, and drawn.

use std::sync::Arc;

use jiff::Timestamp;
use moth_core::figure::Origin;
use moth_core::history::Second;
use moth_core::{Core, Moment, Settings, Snapshot};
use moth_drawing::evening::Evening;
use moth_drawing::names::Kind as NameKind;
use moth_evening::chronicle::Chronicle;
use moth_logbook::about::Wanted;
use moth_logbook::{Listed, Logbook};
use moth_store::results::Kept as KeptTest;

use crate::failure::Failure;
use crate::logbook::told;

/// A broadcast of the logbook.
#[derive(Debug)]
pub struct Opened {
    /// What the list shows of it.
    pub listed: Listed,
    /// Somebody broadcasts, and it is being kept.
    pub goes_on: bool,
    /// Somebody broadcast when it was kept last, which was a while ago: the moth was killed.
    pub broke_off: bool,
    /// How it stood when somebody broadcast last, with all its seconds and marks.
    pub snapshot: Arc<Snapshot>,
    chronicle: Chronicle,
    logbook: Logbook,
    /// The broadcast in ten lines, once it was told.
    pub lines: Vec<String>,
    /// Verdicts and changes, in their order.
    pub stations: Vec<Station>,
    /// Seconds from the beginning of its clock.
    pub seconds: Vec<Second>,
    /// Tests that belong to it, as JSON.
    tests: Vec<String>,
}

/// Something to jump to.
#[derive(Debug, Clone, PartialEq)]
pub struct Station {
    /// When, in seconds on its clock.
    pub at_s: f64,
    /// Until when; the same for what has no length.
    pub until_s: f64,
    /// What.
    pub what: What,
    /// In words.
    pub words: String,
}

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// A verdict stood.
    Verdict(moth_core::suspects::Fault),
    /// Something was changed.
    Change,
    /// Something else was marked.
    Mark,
}

/// What there is to show of a second of which it was not kept how everything stood: its figures, and that nothing else is known.
#[must_use]
pub fn unknown_at(shown: &Snapshot, second: usize) -> Snapshot {
    let at = Moment::from_ms((second as u64 + 1) * 1000);
    let mut unknown = Core::new(Settings { servers: shown.servers.clone() }).snapshot(at);
    unknown.on_air_since = shown.on_air_since.filter(|since| *since <= at);
    unknown.verdict.sentence = "How everything stood then was not kept; the lanes are.".into();
    unknown.among(shown)
}

impl Opened {
    /// Opens a broadcast of a logbook.
    ///
    /// # Errors
    /// [`Failure`] if there is none of this number, or something of it is damaged.
    pub fn open(logbook: Logbook, nr: i64) -> Result<Self, Failure> {
        let (mut listed, kept) = (logbook.listed(nr)?, logbook.kept(nr)?);
        if !listed.is_ended {
            listed.digest = kept.digest();
        }
        let is_kept = logbook.goes_on(&listed, Timestamp::now())?;
        let was_on_air = kept.seconds.last().is_some_and(|second| second.state.is_some());
        let (goes_on, broke_off) = (was_on_air && is_kept, was_on_air && !is_kept && !listed.is_ended);
        let history = kept.history();
        let marks = kept.chronicle.marks().to_vec();
        let last = logbook.last_on_air(nr, &kept.seconds)?.unwrap_or_else(|| {
            // Of how everything stood nothing was kept: what is known are its seconds.
            let mut core = Core::new(Settings { servers: Vec::new() });
            core.snapshot(Moment::from_ms(kept.seconds.len() as u64 * 1000))
        });
        let snapshot = Arc::new(Snapshot { history, marks, ..last });
        Ok(Self {
            listed,
            goes_on,
            broke_off,
            snapshot,
            stations: stations(&kept.chronicle),
            chronicle: kept.chronicle,
            logbook,
            lines: Vec::new(),
            seconds: kept.seconds,
            tests: kept.tests,
        })
    }

    /// The same, told in ten lines.
    ///
    /// # Errors
    /// [`Failure`] if those before it cannot be read.
    pub fn told(mut self) -> Result<Self, Failure> {
        self.lines = told::lines(&self)?;
        Ok(self)
    }

    /// How it is known what was skipped, and what was lagged; `None` if it is not.
    #[must_use]
    pub fn origins(&self) -> [(&'static str, Option<Origin>); 2] {
        [("skipped", self.snapshot.skipped.origin), ("lagged", self.snapshot.lagged.origin)]
    }

    /// What is written down of it.
    #[must_use]
    pub fn chronicle(&self) -> &Chronicle {
        &self.chronicle
    }

    /// The broadcasts before it with the same setup, the newest first.
    ///
    /// # Errors
    /// [`Failure`] if the logbook cannot be read.
    pub fn before(&self, most: usize) -> Result<Vec<Listed>, Failure> {
        let about = &self.listed.about;
        let wanted = Wanted {
            before: Some(self.listed.on_air_at().timestamp()),
            setup: Some(about.setup.clone()),
            ..Wanted::default()
        };
        let all = self.logbook.list(&wanted)?;
        let is_like = |one: &Listed| {
            one.digest.on_air_s >= told::LEAST_S
                && (one.about.kind, one.about.is_made_up, &one.about.service)
                    == (about.kind, about.is_made_up, &about.service)
        };
        Ok(all.into_iter().filter(is_like).take(most).collect())
    }

    /// How everything stood at the end of a second, by its place on the clock; `None` if that was not kept.
    #[must_use]
    pub fn moment(&self, second: usize) -> Option<Snapshot> {
        // The first look in the second that follows.
        let until = Moment::from_ms((second as u64 + 2) * 1000 - 1);
        let found = match self.listed.thinned {
            0 => self.logbook.moment(self.listed.nr, until),
            _ => self.logbook.thinned_moment(self.listed.nr, until),
        };
        let found = found.inspect_err(|error| tracing::warn!("{error}")).ok()??;
        Some(found.among(&self.snapshot))
    }

    /// What could be done, in words, when a verdict was surest; `None` if that is not known.
    #[must_use]
    pub fn proposed_at(&self, at_s: f64) -> Option<String> {
        let then = self.moment((at_s.max(1.0) as usize) - 1)?;
        then.verdict.proposals.first().map(|proposal| proposal.title.clone())
    }

    /// It as plain data, to be drawn, with how it stood at a time or at its end. Its clock begins with it.
    #[must_use]
    pub fn evening(&self, standing_at_s: Option<f64>) -> Evening {
        let then = standing_at_s.and_then(|at_s| self.moment((at_s.max(1.0) as usize) - 1));
        let standing = then.as_ref().unwrap_or(&self.snapshot);
        let about = &self.listed.about;
        let mut source = format!("broadcast {} of the logbook", self.listed.nr);
        if !self.listed.title.is_empty() {
            source.push_str(&format!(", {}", self.listed.title));
        }
        if about.is_made_up {
            source.push_str(", all made up");
        }
        let mut evening = self.chronicle.evening(&self.snapshot, standing, source, Some(about.began.clone()));
        evening.is_made_up = about.is_made_up;
        evening.names.add(NameKind::Setup, &about.setup);
        evening.names.add(NameKind::Service, &about.service);
        evening
    }

    /// Tests of servers and of the line that were made on its day.
    #[must_use]
    pub fn tests(&self) -> Vec<KeptTest> {
        // What an older moth wrote otherwise is left out.
        self.tests.iter().filter_map(|test| serde_json::from_str(test).ok()).collect()
    }

    /// A compressed readings file of it, if its readings were kept.
    ///
    /// # Errors
    /// [`Failure`] if the logbook cannot be read.
    pub fn readings(&self) -> Result<Option<Vec<u8>>, Failure> {
        Ok(self.logbook.readings(self.listed.nr)?)
    }
}

/// Verdicts, changes and what else was marked, in their order. What a verdict or its end marked is told by the verdict.
fn stations(chronicle: &Chronicle) -> Vec<Station> {
    let verdict = |stood: &moth_drawing::evening::Stood| Station {
        at_s: stood.from_s,
        until_s: stood.until_s,
        what: What::Verdict(stood.fault),
        words: format!("{}: {}", stood.fault.word(), stood.cause_words()),
    };
    let mut all: Vec<Station> = chronicle.verdicts().iter().map(verdict).collect();
    let begins = |at_s: f64| chronicle.verdicts().iter().any(|stood| (stood.from_s - at_s).abs() < 1.5);
    let ends = |at_s: f64| chronicle.verdicts().iter().any(|stood| (stood.until_s - at_s).abs() < 1.5);
    for mark in chronicle.marks() {
        let at_s = mark.at.seconds();
        let is_a_verdicts =
            begins(at_s) && mark.text.contains(": ") || ends(at_s) && mark.text.ends_with("trouble over");
        if !mark.is_change && is_a_verdicts {
            continue;
        }
        let trials = chronicle.trials().iter().filter(|_| mark.is_change);
        let trial = { trials }.find(|trial| (trial.since.seconds() - at_s).abs() < 0.001);
        let came = trial.map_or_else(String::new, |trial| format!(" ({})", trial.words()));
        all.push(Station {
            at_s,
            until_s: at_s,
            what: if mark.is_change { What::Change } else { What::Mark },
            words: format!("{}{came}", mark.text),
        });
    }
    all.sort_by(|a, b| a.at_s.total_cmp(&b.at_s));
    all
}
