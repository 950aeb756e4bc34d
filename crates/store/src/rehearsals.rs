//! What rehearsals gave, and the one that runs: a JSON line each, and a note of what is under way, so that a crash loses nothing of it.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use moth_rehearsal::finding::ClimbFinding;
use moth_rehearsal::ladder::Kind;
use moth_rehearsal::runner::End;
use moth_rehearsal::soak::Soaked;
use serde::{Deserialize, Serialize};

use crate::bounded;
use crate::lines::JsonLines;
use crate::overwrite::overwrite;

/// A note longer than this is none, in bytes. Ours.
const LONGEST: u64 = 4 << 20;
/// What a note's file is called, with the number of the process that writes it in between.
const NOTE: (&str, &str) = ("rehearsal-under-way-", ".json");
/// A rehearsal writes its note at least so often: one that is older has another process's number by chance. Ours.
const LONGEST_STEP: Duration = Duration::from_secs(3 * 3600);

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
    Climb(ClimbFinding),
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
    lines: JsonLines,
    data: PathBuf,
}

impl Rehearsals {
    /// The rehearsals that are kept below this folder.
    #[must_use]
    pub fn below(data: &Path) -> Self {
        Self { lines: JsonLines::at(data.join("rehearsals.jsonl")), data: data.to_owned() }
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
        overwrite(&self.note_of(std::process::id()), &serde_json::to_string(so_far)?, true)
    }

    /// Each moth has a note of its own: two may rehearse at once.
    fn note_of(&self, process: u32) -> PathBuf {
        self.data.join(format!("{}{process}{}", NOTE.0, NOTE.1))
    }

    /// It is over: it is kept, and is no longer under way.
    ///
    /// # Errors
    /// What the system says.
    pub fn keep(&self, rehearsed: &Rehearsed) -> io::Result<()> {
        self.lines.add(rehearsed)?;
        forget(&self.note_of(std::process::id()))
    }

    /// One that was cut off in the middle, with what had been found; from now on it is kept with the others. One that another moth
    /// runs just now is none.
    ///
    /// # Errors
    /// What the system says.
    pub fn take_up(&self) -> io::Result<Option<Rehearsed>> {
        let folder = match fs::read_dir(&self.data) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            read => read?,
        };
        for entry in folder {
            let path = entry?.path();
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            let process = name.strip_prefix(NOTE.0).and_then(|rest| rest.strip_suffix(NOTE.1)?.parse::<u32>().ok());
            if process.is_none_or(|process| is_running(process, &path)) {
                continue;
            }
            let text = bounded::read(&path, LONGEST)?;
            let Ok(mut found) = serde_json::from_str::<Rehearsed>(&text) else {
                // Nothing that this program wrote, or a newer one's: it says nothing here.
                forget(&path)?;
                continue;
            };
            match &mut found.what {
                What::Climb(finding) => finding.end = End::CutOff,
                What::Soak(soaked) => soaked.end = End::CutOff,
            }
            self.lines.add(&found)?;
            forget(&path)?;
            return Ok(Some(found));
        }
        Ok(None)
    }
}

fn forget(note: &Path) -> io::Result<()> {
    match fs::remove_file(note) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// Whether another process of this number runs, and may be the one that wrote the note.
fn is_running(process: u32, note: &Path) -> bool {
    let written = fs::metadata(note).and_then(|about| about.modified()).ok();
    let is_old = written.and_then(|at| at.elapsed().ok()).is_some_and(|age| age > LONGEST_STEP);
    process != std::process::id() && !is_old && is_there(process)
}

#[cfg(unix)]
fn is_there(process: u32) -> bool {
    use rustix::process::{Pid, test_kill_process};
    let pid = i32::try_from(process).ok().and_then(Pid::from_raw);
    pid.is_some_and(|pid| !matches!(test_kill_process(pid), Err(rustix::io::Errno::SRCH)))
}

/// Elsewhere it cannot be told: a note that was written lately may be a running one's.
#[cfg(not(unix))]
fn is_there(_: u32) -> bool {
    true
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
            what: What::Climb(ClimbFinding::of(&runner, 0.25)),
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
        fs::write(rehearsals.note_of(std::process::id()), "{\"date\": 3").unwrap();
        assert_eq!(rehearsals.take_up().unwrap(), None);
        assert!(!rehearsals.note_of(std::process::id()).exists());
        assert!(Rehearsals::below(&dir.path().join("none")).take_up().unwrap().is_none());
    }

    #[cfg(unix)]
    #[test]
    fn one_that_another_moth_runs_is_not_cut_off() {
        let dir = tempfile::tempdir().unwrap();
        let rehearsals = Rehearsals::below(dir.path());
        let text = serde_json::to_string(&climb("a", None)).unwrap();
        // The process that began this one runs.
        let parent = std::os::unix::process::parent_id();
        fs::write(rehearsals.note_of(parent), &text).unwrap();
        assert_eq!(rehearsals.take_up().unwrap(), None);
        assert!(rehearsals.note_of(parent).exists());
        fs::rename(rehearsals.note_of(parent), rehearsals.note_of(i32::MAX as u32)).unwrap();
        assert!(rehearsals.take_up().unwrap().is_some(), "no process has that number");
    }
}
