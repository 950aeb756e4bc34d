//! The words of `moth log`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::{PenOptions, Span, TakeOptions, moment, stretch};

/// `moth log`
#[derive(Debug, Args)]
pub struct LogOptions {
    /// What to do with the logbook.
    #[command(subcommand)]
    pub deed: Option<LogDeed>,

    /// The demo's logbook: a dozen made-up evenings, to try it on
    #[arg(long, global = true)]
    pub demo: bool,
}

/// What to do with the logbook.
#[derive(Debug, Subcommand)]
pub enum LogDeed {
    /// Name the broadcasts, the newest first, with a drawing of each
    List(LogListOptions),
    /// Tell a broadcast in ten lines, and what happened in it
    Show(LogShowOptions),
    /// What differs between two broadcasts, or before and after a moment of one, and how sure that is
    Compare(LogCompareOptions),
    /// Give a broadcast a title, or a note
    Note(LogNoteOptions),
    /// Remove broadcasts; what would go is shown first
    Remove(LogRemoveOptions),
    /// How long broadcasts are kept, and which go next
    Limits(LogLimitsOptions),
    /// Make files of a broadcast: drawings, a report, tables, readings
    Export(LogExportOptions),
    /// Take readings files into the logbook
    Import(LogImportOptions),
}

/// `moth log list`
#[derive(Debug, Default, Args)]
pub struct LogListOptions {
    /// Those that began on this day or later, like 2026-11-01
    #[arg(long, value_name = "DATE")]
    pub since: Option<jiff::civil::Date>,

    /// Those that began on this day or before
    #[arg(long, value_name = "DATE")]
    pub until: Option<jiff::civil::Date>,

    /// Those with a verdict: network, encoder, rendering, none, or a cause like upload-beyond
    #[arg(long, value_name = "WORD")]
    pub verdict: Option<String>,

    /// Those with these words in their title or note
    #[arg(long, value_name = "WORDS")]
    pub find: Option<String>,

    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,
}

/// `moth log show`
#[derive(Debug, Args)]
pub struct LogShowOptions {
    /// Its number, or `last`
    #[arg(value_name = "NR", default_value = "last")]
    pub nr: String,

    /// How everything stood then, like 1:20:00 since the beginning
    #[arg(long, value_name = "TIME", value_parser = moment)]
    pub at: Option<f64>,

    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,
}

/// `moth log compare`
#[derive(Debug, Args)]
pub struct LogCompareOptions {
    /// The first broadcast: its number, or `last`
    #[arg(value_name = "NR")]
    pub first: String,

    /// The second; without it, two stretches of the first
    #[arg(value_name = "NR", required_unless_present_any = ["around", "against"])]
    pub second: Option<String>,

    /// Before and after this moment of the first, like 1:20:00
    #[arg(long, value_name = "TIME", value_parser = moment, conflicts_with_all = ["second", "against", "stretch"])]
    pub around: Option<f64>,

    /// This stretch of the first, like 10:00-20:00
    #[arg(long, value_name = "FROM-UNTIL", value_parser = stretch)]
    pub stretch: Option<Span>,

    /// This stretch of the second, or of the first, like 30:00-40:00
    #[arg(long, value_name = "FROM-UNTIL", value_parser = stretch)]
    pub against: Option<Span>,

    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,

    /// Draw it to this file, too; its name ends in .svg or .pdf
    #[arg(long, value_name = "FILE")]
    pub chart: Option<PathBuf>,

    /// How it is drawn.
    #[command(flatten)]
    pub pen: PenOptions,
}

/// `moth log note`
#[derive(Debug, Args)]
pub struct LogNoteOptions {
    /// Its number, or `last`
    #[arg(value_name = "NR")]
    pub nr: String,

    /// The note; without it and without --title, it is shown
    #[arg(value_name = "NOTE")]
    pub note: Option<String>,

    /// A title for it
    #[arg(long, value_name = "TITLE")]
    pub title: Option<String>,
}

/// `moth log remove`
#[derive(Debug, Args)]
pub struct LogRemoveOptions {
    /// Their numbers, or `last`
    #[arg(value_name = "NR", required_unless_present_any = ["older_than", "beyond"])]
    pub nrs: Vec<String>,

    /// Those that are older, in days
    #[arg(long, value_name = "DAYS", conflicts_with = "nrs")]
    pub older_than: Option<u32>,

    /// The oldest, until all together take no more, in megabytes
    #[arg(long, value_name = "MEGABYTES", conflicts_with = "nrs")]
    pub beyond: Option<u32>,

    /// You agree; without it they are shown, and you are asked
    #[arg(long)]
    pub yes: bool,
}

/// `moth log limits`
#[derive(Debug, Args)]
pub struct LogLimitsOptions {
    /// One JSON object on standard output
    #[arg(long)]
    pub json: bool,
}

/// `moth log export`
#[derive(Debug, Args)]
pub struct LogExportOptions {
    /// Its number, or `last`
    #[arg(value_name = "NR")]
    pub nr: String,

    /// Compare with this broadcast (with --chart comparison)
    #[arg(long, value_name = "NR", requires = "chart")]
    pub with: Option<String>,

    /// Write its readings to this file, if they were kept; compressed if its name ends in .gz
    #[arg(long, value_name = "FILE")]
    pub readings: Option<PathBuf>,

    /// What is written to files.
    #[command(flatten)]
    pub take: TakeOptions,
}

/// `moth log import`
#[derive(Debug, Args)]
pub struct LogImportOptions {
    /// Readings files
    #[arg(value_name = "FILE", required = true)]
    pub files: Vec<PathBuf>,

    /// A title for it
    #[arg(long, value_name = "TITLE")]
    pub title: Option<String>,
}
