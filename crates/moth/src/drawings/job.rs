//! Something to be drawn and written to a file, with all that it shows.

use moth_core::suspects::Fault;
use moth_core::trial::Trial;
use moth_drawing::climb::Climb;
use moth_drawing::evening::{Evening, Standing, Stood, Stretch};
use moth_drawing::measured::{LineTest, ServersTest};
use moth_drawing::picture::Picture;
use moth_drawing::{Format, Paper, Theme};

/// Something to be drawn and written, with all that it takes.
#[derive(Debug, Clone, PartialEq)]
pub struct Job {
    /// What its file is called, without what tells its kind.
    pub name: String,
    /// SVG or PDF.
    pub format: Format,
    /// On white or on black.
    pub theme: Theme,
    /// What is drawn.
    pub work: Work,
}

/// What is drawn.
#[derive(Debug, Clone, PartialEq)]
pub enum Work {
    /// Lanes of a stretch.
    Lanes(Box<Evening>, Stretch),
    /// A journey.
    Journey(Box<Evening>, Box<Standing>),
    /// A trial.
    Trial(Box<Evening>, Box<Trial>),
    /// The suspects of a verdict.
    Why(Box<Evening>, Box<Stood>, Stretch),
    /// The suspects of a stage that loses nothing.
    Calm(Box<Evening>, Fault, Stretch),
    /// The load on a machine, by its place.
    Machine(Box<Evening>, usize, Stretch),
    /// Servers.
    Servers(Box<ServersTest>),
    /// The line.
    Line(Box<LineTest>),
    /// The map of pictures.
    Picture(Box<Picture>),
    /// A climb.
    Climb(Box<Climb>),
    /// Two broadcasts, or two stretches, and what their comparison comes to.
    Comparison((Box<Evening>, Stretch), (Box<Evening>, Stretch), String),
    /// A report.
    Report(Box<Evening>, Paper),
}
