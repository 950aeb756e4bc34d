//! What rehearsals gave, and the one that runs: a JSON line each, and a note of what is under way, so that a crash loses nothing of it.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use moth_rehearsal::finding::Finding;
use moth_rehearsal::ladder::Kind;
use moth_rehearsal::runner::End;
use moth_rehearsal::soak::Soaked;
use serde::{Deserialize, Serialize};

use crate::bounded;
use crate::lines::Lines;
use crate::overwrite::overwrite;

/// A note longer than this is none, in bytes.
const LONGEST: u64 = 4 << 20;

/// A rehearsal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rehearsed {
    /// When it ended.
    pub date: Timestamp,
    /// The setup's name.
    pub setup: String,
    /// The service's name in the file.
    pub service: String,
    /// The server's name.
    pub server: String,
    /// Whether that was a stand-in, and after what its line was shaped.
    pub simulated: Option<String>,
    /// What it came to.
    #[serde(flatten)]
    pub what: What,
}

/// What it came to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "lowercase")]
pub enum What {
    /// A climb.
    Climb(Finding),
    /// A soak.
    Soak(Soaked),
}

impl Rehearsed {
    /// What was climbed; `None` for a soak.
    #[must_use]
    pub fn climb(&self) -> Option<Kind> {
        match &self.what {
            What::Climb(finding) => Some(finding.climb),
            What::Soak(_) => None,
        }
    }

    /// Its word: `bitrate`, `preset`, `picture` or `soak`.
    #[must_use]
    pub fn word(&self) -> &'static str {
        self.climb().map_or("soak", Kind::word)
    }

    /// Whether the other is of the same kind: the same climb of the same setup, on a real line or on a simulated one.
    #[must_use]
    pub fn is_like(&self, other: &Self) -> bool {
        (self.climb(), &self.setup, self.simulated.is_some())
            == (other.climb(), &other.setup, other.simulated.is_some())
    }
}

/// Where they are kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rehearsals {
    lines: Lines,
    under_way: PathBuf,
}

impl Rehearsals {
    /// Those below this folder.
    #[must_use]
    pub fn below(data: &Path) -> Self {
        Self { lines: Lines::at(data.join("rehearsals.jsonl")), under_way: data.join("rehearsal-under-way.json") }
    }

    /// Where they are.
    #[must_use]
    pub fn path(&self) -> &Path {
        self.lines.path()
    }

    /// Every one, the oldest first.
    ///
    /// # Errors
    /// What the system says.
    pub fn read(&self) -> io::Result<Vec<Rehearsed>> {
        self.lines.read().map(|(kept, _)| kept)
    }

    /// Notes how far the one that runs is.
    ///
    /// # Errors
    /// What the system says.
    pub fn note(&self, so_far: &Rehearsed) -> io::Result<()> {
        overwrite(&self.under_way, &serde_json::to_string(so_far)?, true)
    }

    /// It is over: it is kept, and is no longer under way.
    ///
    /// # Errors
    /// What the system says.
    pub fn keep(&self, rehearsed: &Rehearsed) -> io::Result<()> {
        self.lines.add(rehearsed)?;
        self.forget_note()
    }

    fn forget_note(&self) -> io::Result<()> {
        match fs::remove_file(&self.under_way) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    /// One that was cut off in the middle, with what had been found; from now on it is kept with the others.
    ///
    /// # Errors
    /// What the system says.
    pub fn take_up(&self) -> io::Result<Option<Rehearsed>> {
        let text = match bounded::read(&self.under_way, LONGEST) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            read => read?,
        };
        let Ok(mut found) = serde_json::from_str::<Rehearsed>(&text) else {
            // Nothing that this program wrote, or a newer one's: it says nothing here.
            return self.forget_note().map(|()| None);
        };
        match &mut found.what {
            What::Climb(finding) => finding.end = End::CutOff,
            What::Soak(soaked) => soaked.end = End::CutOff,
        }
        self.keep(&found)?;
        Ok(Some(found))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::Bitrate;
    use moth_rehearsal::climb::Times;
    use moth_rehearsal::ladder::{Ladder, Value};
    use moth_rehearsal::runner::Runner;
    use moth_rehearsal::soak::Soak;

    fn climb(setup: &str, simulated: Option<&str>) -> Rehearsed {
        let kbps = Bitrate::from_kbps;
        let ladder = Ladder::of_bitrates(kbps(1000), kbps(3000), kbps(500));
        let runner = Runner::new(ladder, Times::default(), Value::Bitrate(kbps(6000)));
        Rehearsed {
            date: Timestamp::from_second(1_600_000).unwrap(),
            setup: setup.into(),
            service: "nocturne".into(),
            server: "Aldmoor".into(),
            simulated: simulated.map(str::to_owned),
            what: What::Climb(Finding::of(&runner, 0.25)),
        }
    }

    #[test]
    fn what_is_kept_is_read_back_and_its_like_is_found() {
        let dir = tempfile::tempdir().unwrap();
        let rehearsals = Rehearsals::below(&dir.path().join("new"));
        assert_eq!(rehearsals.read().unwrap(), []);
        let soak = Rehearsed { what: What::Soak(Soak::new(600, vec!["sing".into()]).soaked()), ..climb("a", None) };
        let all = [climb("a", None), climb("b", None), climb("a", Some("a line of 5 Mb/s")), soak];
        all.iter().for_each(|one| rehearsals.keep(one).unwrap());
        assert_eq!(rehearsals.read().unwrap(), all);
        for (one, other) in (0..4).flat_map(|i| (0..4).map(move |j| (i, j))) {
            assert_eq!(all[one].is_like(&all[other]), one == other);
        }
        assert_eq!((all[0].word(), all[3].word()), ("bitrate", "soak"));
    }

    #[test]
    fn one_that_was_cut_off_is_found_once_with_what_was_known() {
        let dir = tempfile::tempdir().unwrap();
        let rehearsals = Rehearsals::below(dir.path());
        assert_eq!(rehearsals.take_up().unwrap(), None);
        rehearsals.note(&climb("a", None)).unwrap();
        rehearsals.note(&climb("b", None)).unwrap();
        let found = rehearsals.take_up().unwrap().unwrap();
        assert!(found.setup == "b" && matches!(&found.what, What::Climb(finding) if finding.end == End::CutOff));
        assert_eq!((rehearsals.take_up().unwrap(), rehearsals.read().unwrap()), (None, vec![found]));
        // One that ended well leaves no note; nor does garbage.
        rehearsals.note(&climb("a", None)).unwrap();
        rehearsals.keep(&climb("a", None)).unwrap();
        assert_eq!(rehearsals.take_up().unwrap(), None);
        fs::write(dir.path().join("rehearsal-under-way.json"), "{\"date\": 3").unwrap();
        assert_eq!(rehearsals.take_up().unwrap(), None);
        assert!(!dir.path().join("rehearsal-under-way.json").exists());
    }
}
