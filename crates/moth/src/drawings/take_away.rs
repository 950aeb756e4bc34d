//! Draws what was chosen on the screen, and writes it into a folder under a name that nothing has yet.

use std::path::{Path, PathBuf};

use jiff::Zoned;
use moth_drawing::{
    Drawing, ExportError, Format, climb, comparison, export, journey, lanes, line, machine, picture, report, servers,
    trial, why,
};

use moth_drawing::comparison::Side;

use super::job::{Job, Work};
use crate::failure::Failure;

/// So many files of one second are told apart. Ours.
const MOST: usize = 100;

/// Draws and writes; gives where it is.
///
/// # Errors
/// [`Failure`] if the folder or the disk does not take it; nothing is left of it then.
pub(crate) fn take_away(job: &Job, folder: &Path, now: &Zoned) -> Result<PathBuf, Failure> {
    let bytes = drawn(job)?;
    let kind = match job.format {
        Format::Svg => "svg",
        Format::Pdf => "pdf",
    };
    let name = format!("{}-{}", job.name, now.strftime("%Y-%m-%d-%H%M%S"));
    let mut path = folder.join(format!("{name}.{kind}"));
    for n in 2..=MOST {
        match export::write(&path, &bytes, false) {
            Err(ExportError::Exists { .. }) => path = folder.join(format!("{name}-{n}.{kind}")),
            other => return Ok(other.map(|()| path)?),
        }
    }
    Err(ExportError::Exists { path }.into())
}

fn drawn(job: &Job) -> Result<Vec<u8>, Failure> {
    let theme = job.theme;
    let missing = |what| Failure::NothingToDraw { what };
    let drawing: Drawing = match &job.work {
        Work::Report(evening, paper) => return Ok(report::pdf(evening, *paper)?),
        Work::Lanes(evening, stretch) => lanes::draw(evening, *stretch, theme),
        Work::Journey(evening, standing) => journey::draw(evening, standing, theme),
        Work::Trial(evening, trial) => trial::draw(evening, trial, theme),
        Work::Why(evening, stood, stretch) => why::draw(evening, stood, *stretch, theme),
        Work::Calm(evening, fault, stretch) => {
            let standing = evening.standing.as_ref().ok_or(missing("suspects"))?;
            why::draw_calm(evening, standing, *fault, *stretch, theme)
        }
        Work::Machine(evening, place, stretch) => {
            let machine = evening.machines.get(*place).ok_or(missing("the load on that machine"))?;
            machine::draw(evening, machine, *stretch, theme)
        }
        Work::Comparison((first, here), (second, there), sentence) => {
            let first = Side { evening: first, stretch: *here };
            comparison::draw(first, Side { evening: second, stretch: *there }, Some(sentence), theme)
        }
        Work::Servers(test) => servers::draw(test, theme),
        Work::Line(test) => line::draw(test, theme).ok_or(missing("the line"))?,
        Work::Picture(picture) => picture::draw(picture, theme),
        Work::Climb(climb) => climb::draw(climb, theme),
    };
    Ok(drawing.bytes(job.format)?)
}
