//! What the Logbook screen shows: the list, the broadcast that is opened, and a comparison.

use std::time::Duration;

use jiff::Timestamp;
use moth_core::{Moment, Snapshot};
use moth_evening::comparison::{Comparison, compare};
use moth_logbook::about::Wanted;
use moth_logbook::{Listed, LogbookError};
use ratatui::layout::Rect;

use crate::failure::Failure;
use crate::logbook::opened::Opened;
use crate::logbook::plan::LogPlan;
use crate::logbook::scribe::Keeping;
use crate::logbook::sides::{Part, Sides};

/// A broadcaster that stays away for so long is taken to have ended. Ours: who restarts theirs is back sooner.
const STAYS_AWAY: Duration = Duration::from_secs(30);

/// The state of the Logbook screen.
#[derive(Debug, Default)]
pub(super) struct LogbookView {
    /// Where it is; `None` if nothing is kept.
    pub plan: Option<LogPlan>,
    /// How the keeping goes.
    pub keeping: Keeping,
    /// The broadcasts that are looked for, the newest first.
    pub list: Vec<Listed>,
    /// What stands in the way of reading them.
    pub trouble: Option<String>,
    /// The one under the cursor, by its place.
    pub at: usize,
    /// Words that are looked for.
    pub words: String,
    /// The broadcast under the cursor, as far as it is told in the list.
    pub preview: Option<Box<Opened>>,
    /// Of the one that is opened, all is shown.
    pub opened: Option<Box<Opened>>,
    /// What is under the cursor in it, by its place among its stations.
    pub station: usize,
    /// Where the rows of the list were drawn last, and which is the first of them.
    pub rows: std::cell::Cell<(Rect, usize)>,
    /// What is compared.
    pub compared: Option<Box<Compared>>,
    /// The first side of a comparison to be.
    pub first: Option<i64>,
    /// How long nobody broadcasts after somebody did, and whether that was told.
    left: Left,
}

/// How long nobody broadcasts after somebody did.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
enum Left {
    /// Nobody broadcast yet.
    #[default]
    Never,
    /// Somebody does.
    OnAir,
    /// Nobody does since then.
    Since(Moment),
    /// It was told.
    Told,
}

/// Two sides and what differs.
#[derive(Debug)]
pub(super) struct Compared {
    pub sides: Sides,
    pub result: Comparison,
    /// What differs, and how sure that is.
    pub sentence: String,
    /// The seconds of each side.
    pub seconds: [Vec<moth_core::history::Second>; 2],
    /// The broadcasts; `None` is the one that is opened.
    pub broadcasts: [Option<Box<Opened>>; 2],
}

impl LogbookView {
    pub(super) fn of(plan: Option<LogPlan>) -> Self {
        Self { plan, ..Self::default() }
    }

    /// Follows whether somebody broadcasts. Once the broadcaster stays away, what became of the broadcast is told, once.
    pub(super) fn follow(&mut self, snapshot: &Snapshot) -> Option<Vec<String>> {
        self.left = match (snapshot.on_air_since, self.left) {
            (Some(_), _) => Left::OnAir,
            (None, Left::OnAir) => Left::Since(snapshot.at),
            (None, Left::Since(since)) if snapshot.at.since(since) >= STAYS_AWAY => {
                let opened =
                    self.keeping.nr.filter(|_| self.plan.is_some()).map(|nr| self.read(nr).and_then(Opened::told));
                // What cannot be read is told where the logbook is looked at.
                let lines = opened.and_then(Result::ok).map(|opened| opened.lines);
                self.left = Left::Told;
                return lines;
            }
            (None, left) => left,
        };
        None
    }

    /// Reads the list again; the cursor stays on its broadcast.
    pub(super) fn look(&mut self) {
        let Some(plan) = &self.plan else { return };
        let under = self.list.get(self.at).map(|one| one.nr);
        let anything = (!self.words.trim().is_empty()).then(|| self.words.clone());
        let wanted = Wanted { anything, ..Wanted::default() };
        let read = || -> Result<Vec<Listed>, LogbookError> {
            match plan.open_to_read()? {
                Some(logbook) => logbook.list(&wanted),
                None => Ok(Vec::new()),
            }
        };
        match read() {
            Ok(list) => (self.list, self.trouble) = (list, None),
            Err(error) => self.trouble = Some(error.to_string()),
        }
        self.at = under.and_then(|nr| self.list.iter().position(|one| one.nr == nr)).unwrap_or(0);
        self.look_closer();
    }

    /// Reads the broadcast under the cursor.
    pub(super) fn look_closer(&mut self) {
        let Some(nr) = self.list.get(self.at).map(|one| one.nr) else {
            self.preview = None;
            return;
        };
        match self.read(nr).and_then(Opened::told) {
            Ok(opened) => self.preview = Some(Box::new(opened)),
            Err(failure) => (self.preview, self.trouble) = (None, Some(failure.to_string())),
        }
    }

    pub(super) fn read(&self, nr: i64) -> Result<Opened, Failure> {
        let plan = self.plan.as_ref().ok_or(Failure::Fault)?;
        let logbook = plan.open_to_read()?.ok_or_else(|| Failure::NothingKept { path: plan.path.clone() })?;
        Opened::open(logbook, nr)
    }

    pub(super) fn move_cursor(&mut self, by: isize) {
        let last = self.list.len().saturating_sub(1);
        let to = self.at.saturating_add_signed(by).min(last);
        if to != self.at {
            self.at = to;
            self.look_closer();
        }
    }

    /// Whether the list is what is shown: nothing is opened or compared.
    pub(super) fn is_list(&self) -> bool {
        self.plan.is_some() && self.opened.is_none() && self.compared.is_none()
    }

    /// Opens the one under the cursor.
    pub(super) fn open(&mut self) -> bool {
        self.station = 0;
        self.opened = self.preview.take();
        self.opened.is_some()
    }

    /// Compares two broadcasts of the list.
    ///
    /// # Errors
    /// [`Failure`] if one cannot be read.
    pub(super) fn compare(&mut self, first: i64, second: i64) -> Result<(), Failure> {
        let (first, second) = (self.read(first)?, self.read(second)?);
        let whole = |opened: &Opened| Part { from: 0, until: opened.seconds.len() };
        let sides = Sides::of(&first, whole(&first), &second, whole(&second));
        let seconds = [first.seconds.clone(), second.seconds.clone()];
        self.compared = Some(Box::new(Compared::of(sides, seconds, [Some(Box::new(first)), Some(Box::new(second))])));
        Ok(())
    }

    /// Compares what was before a moment of the broadcast that is opened with what was after it.
    pub(super) fn compare_around(&mut self, at_s: f64) -> Result<(), String> {
        let Some(opened) = &self.opened else { return Ok(()) };
        let sides =
            Sides::around(opened, at_s).map_err(|_| "there is nothing before it, or nothing after it, to compare")?;
        let seconds = sides.parts.map(|part| part.cut(&opened.seconds).to_vec());
        self.compared = Some(Box::new(Compared::of(sides, seconds, [None, None])));
        Ok(())
    }

    /// Writes a title or a note; reads again what is shown of it.
    pub(super) fn write_down(&mut self, nr: i64, title: Option<&str>, note: Option<&str>) -> Result<(), LogbookError> {
        let Some(plan) = &self.plan else { return Ok(()) };
        plan.open()?.write_down(nr, title, note)?;
        if let Some(opened) = &self.opened
            && opened.listed.nr == nr
            && let Ok(again) = self.read(nr).and_then(Opened::told)
        {
            self.opened = Some(Box::new(again));
        }
        self.look();
        Ok(())
    }

    /// Removes a broadcast.
    pub(super) fn remove(&mut self, nr: i64) -> Result<(), LogbookError> {
        let Some(plan) = &self.plan else { return Ok(()) };
        plan.open()?.remove(&[nr], Timestamp::now())?;
        (self.opened, self.compared) = (None, None);
        self.first = self.first.filter(|first| *first != nr);
        self.look();
        Ok(())
    }
}

impl Compared {
    fn of(sides: Sides, seconds: [Vec<moth_core::history::Second>; 2], broadcasts: [Option<Box<Opened>>; 2]) -> Self {
        let result = compare(&seconds[0], &seconds[1]);
        let sentence = result.sentence(sides.called());
        Self { sides, result, sentence, seconds, broadcasts }
    }
}
