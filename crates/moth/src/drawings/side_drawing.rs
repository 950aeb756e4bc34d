//! `--chart FILE`: a drawing beside what a command tells.

use moth_drawing::climb::Climb;
use moth_drawing::measured::{LineTest, ServersTest};
use moth_drawing::names::{Names, Veil};
use moth_drawing::picture::Picture;
use moth_drawing::{Drawing, Format, Theme, climb, export, line, picture, servers};

use crate::cli::ChartOptions;
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::measuring::tested;
use crate::setup_in_use::SetupInUse;

/// Something that a command can draw beside what it tells.
pub(crate) trait Drawable: Sized {
    /// Adds the names that it holds.
    fn name(&self, names: &mut Names);
    /// Without names.
    fn anonymous(self, veil: &Veil) -> Self;
    /// The drawing; `None` if there is nothing to be seen.
    fn draw(&self, theme: Theme) -> Option<Drawing>;

    /// Without the names that it, and its setup in use, hold.
    fn without_names(self, in_use: &SetupInUse) -> Self {
        let mut names = Names::default();
        tested::names(in_use, &mut names);
        self.name(&mut names);
        self.anonymous(&names.veil())
    }
}

impl Drawable for ServersTest {
    fn name(&self, names: &mut Names) {
        Self::name(self, names);
    }

    fn anonymous(self, veil: &Veil) -> Self {
        Self::anonymous(self, veil)
    }

    fn draw(&self, theme: Theme) -> Option<Drawing> {
        Some(servers::draw(self, theme))
    }
}

impl Drawable for LineTest {
    fn name(&self, names: &mut Names) {
        Self::name(self, names);
    }

    fn anonymous(self, veil: &Veil) -> Self {
        Self::anonymous(self, veil)
    }

    fn draw(&self, theme: Theme) -> Option<Drawing> {
        line::draw(self, theme)
    }
}

impl Drawable for Picture {
    fn name(&self, _: &mut Names) {}

    fn anonymous(self, veil: &Veil) -> Self {
        Self::anonymous(self, veil)
    }

    fn draw(&self, theme: Theme) -> Option<Drawing> {
        Some(picture::draw(self, theme))
    }
}

impl Drawable for Climb {
    fn name(&self, _: &mut Names) {}

    fn anonymous(self, veil: &Veil) -> Self {
        Self::anonymous(self, veil)
    }

    fn draw(&self, theme: Theme) -> Option<Drawing> {
        Some(climb::draw(self, theme))
    }
}

impl ChartOptions {
    /// Whether the drawing could be written, as far as that can be told before anything is measured.
    ///
    /// # Errors
    /// [`Failure`] if the file is there already, or its name does not tell what to write.
    pub(crate) fn check(&self) -> Outcome {
        let Some(to) = &self.chart else { return Ok(()) };
        Format::of(to)?;
        Ok(export::check(to, self.pen.force)?)
    }

    /// Draws what there is, if that was asked for, and says where it is.
    ///
    /// # Errors
    /// [`Failure`] if there is nothing to draw, or the file cannot be written.
    pub(crate) fn write(&self, what: Option<impl Drawable>, in_use: &SetupInUse) -> Outcome {
        let Some(to) = &self.chart else { return Ok(()) };
        let what = what.map(|what| if self.pen.anonymous { what.without_names(in_use) } else { what });
        let drawing = what.and_then(|what| what.draw(self.pen.theme()));
        let drawing = drawing.ok_or(Failure::NothingMeasured)?;
        drawing.write(to, self.pen.force)?;
        // Standard output may be a table or an object.
        crate::system::out::Progress::new().line(&format!("drawn to {}", to.display()));
        Ok(())
    }
}
