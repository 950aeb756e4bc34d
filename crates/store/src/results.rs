//! What tests of the servers and of the line gave, a JSON line each, with date and line, so that tonight can be compared
//! with last week.

use std::io;
use std::path::Path;

use jiff::Timestamp;
use moth_core::rate::Bitrate;
use moth_plan::line::LineRun;
use moth_plan::measurement::ServerResult;
use moth_plan::surroundings::Surroundings;
use serde::{Deserialize, Serialize};

use crate::lines::JsonLines;

/// One test.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Kept {
    /// When it ended.
    pub date: Timestamp,
    /// Over which line: the interface and how it is joined, or the user's name for it.
    pub line: String,
    /// The service's name.
    pub service: Option<String>,
    /// What was planned, audio included.
    #[serde(rename = "planned_bps")]
    pub planned: Bitrate,
    /// What was tested.
    #[serde(flatten)]
    pub what: Tested,
}

/// What was tested.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "lowercase")]
pub enum Tested {
    /// Servers.
    Routes {
        /// One each.
        servers: Vec<ServerResult>,
    },
    /// The line.
    Uplink {
        /// Against which server.
        server: String,
        /// The runs.
        runs: Vec<LineRun>,
        /// What was around.
        around: Surroundings,
    },
}

/// All that was kept, and how many lines of the file could not be read.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct History {
    /// The oldest first.
    pub kept: Vec<Kept>,
    /// JsonLines that say nothing this program understands; they stay in the file.
    pub unread: usize,
}

impl History {
    /// The newest test of a server over a line before a time.
    #[must_use]
    pub fn before(&self, server: &str, line: &str, date: Timestamp) -> Option<(Timestamp, &ServerResult)> {
        self.kept.iter().rev().filter(|kept| kept.date < date && kept.line == line).find_map(|kept| match &kept.what {
            Tested::Routes { servers } => {
                let found = servers.iter().find(|s| s.server == server && s.best().is_some())?;
                Some((kept.date, found))
            }
            Tested::Uplink { .. } => None,
        })
    }

    /// The servers of the newest test of a service.
    #[must_use]
    pub fn newest_routes(&self, service: &str) -> Option<(&Kept, &[ServerResult])> {
        self.kept.iter().rev().filter(|kept| kept.service.as_deref() == Some(service)).find_map(|kept| {
            match &kept.what {
                Tested::Routes { servers } => Some((kept, servers.as_slice())),
                Tested::Uplink { .. } => None,
            }
        })
    }

    /// The newest test of the line.
    #[must_use]
    pub fn newest_uplink(&self) -> Option<(&Kept, &[LineRun])> {
        self.kept.iter().rev().find_map(|kept| match &kept.what {
            Tested::Uplink { runs, .. } => Some((kept, runs.as_slice())),
            Tested::Routes { .. } => None,
        })
    }
}

/// The file of results.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Results {
    lines: JsonLines,
}

impl Results {
    /// The one below this folder.
    #[must_use]
    pub fn below(data: &Path) -> Self {
        Self { lines: JsonLines::at(data.join("results.jsonl")) }
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        self.lines.path()
    }

    /// Adds a test.
    ///
    /// # Errors
    /// What the system says.
    pub fn add(&self, kept: &Kept) -> io::Result<()> {
        self.lines.add(kept)
    }

    /// Everything kept; nothing, if there is no file.
    ///
    /// # Errors
    /// What the system says.
    pub fn read(&self) -> io::Result<History> {
        let (kept, unread) = self.lines.read()?;
        Ok(History { kept, unread })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_plan::measurement::Carried;
    use std::fs::OpenOptions;
    use std::io::Write;

    fn kept(second: i64, kbps: u64) -> Kept {
        let rate = Bitrate::from_kbps(kbps);
        let carried = Carried {
            offered: rate,
            per_second: vec![rate],
            sustained: rate,
            p5: rate,
            worst: rate,
            stalls: Vec::new(),
            min_rtt_ms: Some(19.5),
            rtt_ms: Some(20.5),
            jitter_ms: None,
            retransmits: Some(1),
            receiver_limited: None,
        };
        let server = ServerResult {
            server: "Aldmoor".into(),
            address: "rtmp://aldmoor.nocturne.invalid/live".into(),
            region: None,
            connect_ms: Some(21.0),
            handshake_ms: Some(60.0),
            planned: None,
            above: Some(carried),
            failure: None,
            cancelled: false,
        };
        Kept {
            date: Timestamp::from_second(second).unwrap(),
            line: "eth0 (wired)".into(),
            service: Some("nocturne".into()),
            planned: Bitrate::from_kbps(6160),
            what: Tested::Routes { servers: vec![server] },
        }
    }

    #[test]
    fn what_is_kept_is_read_back_and_last_week_is_found() {
        let dir = tempfile::tempdir().unwrap();
        let results = Results::below(&dir.path().join("new"));
        assert_eq!(results.read().unwrap(), History::default());
        for (second, kbps) in [(1_000_000, 5000), (1_600_000, 7000)] {
            results.add(&kept(second, kbps)).unwrap();
        }
        let history = results.read().unwrap();
        assert_eq!(history.kept, [kept(1_000_000, 5000), kept(1_600_000, 7000)]);
        let now = Timestamp::from_second(1_600_000).unwrap();
        let (date, before) = history.before("Aldmoor", "eth0 (wired)", now).unwrap();
        assert_eq!((date.as_second(), before.best().unwrap().sustained), (1_000_000, Bitrate::from_kbps(5000)));
        assert!(history.before("Aldmoor", "wlan0 (wireless)", now).is_none(), "another line is another matter");
        assert_eq!(history.newest_routes("nocturne").unwrap().0.date, now);
    }

    #[test]
    fn a_damaged_line_costs_only_itself() {
        let dir = tempfile::tempdir().unwrap();
        let results = Results::below(dir.path());
        results.add(&kept(1, 1)).unwrap();
        let mut file = OpenOptions::new().append(true).open(results.path()).unwrap();
        file.write_all(b"{\"date\": \"2026-\xff").unwrap();
        results.add(&kept(2, 2)).unwrap();
        let history = results.read().unwrap();
        assert_eq!((history.kept.len(), history.unread), (2, 1));
    }
}
