//! `cargo run --release -p moth-accuracy`: prints how often the verdict is right.

use std::error::Error;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use clap::Parser;
use moth_accuracy::clips::Turns;
use moth_accuracy::score::Score;
use moth_accuracy::tally::Tally;
use moth_accuracy::{judged, made};
use moth_stage::{Evening, Shapes, Truth};

type AnyError = Box<dyn Error + Send + Sync>;
/// Draws an evening from a seed.
type Draw = dyn Fn(u64) -> (Evening, Truth) + Sync;

/// Judges evenings made up from seeds, and counts how often the verdict is right.
#[derive(Debug, Parser)]
struct Options {
    /// Evenings of the known shapes.
    #[arg(long, default_value_t = 2000)]
    evenings: u64,
    /// Evenings of the shapes held out.
    #[arg(long, default_value_t = 600)]
    held_out: u64,
    /// The first seed; the shapes held out begin five million later.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Hours of ordinary noise, each on a machine and a line of its own.
    #[arg(long, default_value_t = 8)]
    calm_hours: u64,
    /// Judge the cases in this folder instead: readings files, each with its .truth.json.
    #[arg(long, value_name = "FOLDER")]
    cases: Option<PathBuf>,
    /// Judge the clips in this folder instead, as `scripts/corpus` makes them.
    #[arg(long, value_name = "FOLDER")]
    clips: Option<PathBuf>,
    /// Show each clip that is in time again and again for so many minutes.
    #[arg(long, default_value_t = 0.0)]
    minutes: f64,
    /// Show all clips that are in time in turn, for so many hours at each frame rate; the seed draws the order.
    #[arg(long, default_value_t = 0.0)]
    hours: f64,
    /// Say how each clip was judged.
    #[arg(long)]
    each: bool,
    /// Keep the readings files in this folder.
    #[arg(long, value_name = "FOLDER")]
    keep: Option<PathBuf>,
    /// Keep those that are judged wrongly in this folder.
    #[arg(long, value_name = "FOLDER")]
    keep_wrong: Option<PathBuf>,
}

fn main() -> Result<(), AnyError> {
    let options = Options::parse();
    if let Some(folder) = &options.clips {
        let turns = Turns { hours: options.hours, seed: options.seed };
        return moth_accuracy::clips::run(folder, options.minutes, turns, options.each);
    }
    if let Some(folder) = &options.cases {
        let mut tally = Tally::default();
        let mut files: Vec<PathBuf> = std::fs::read_dir(folder)?.flatten().map(|entry| entry.path()).collect();
        files.retain(|path| path.to_string_lossy().contains(".jsonl"));
        files.sort();
        for file in &files {
            let score = judged(file)?;
            println!("{}: {}", file.display(), in_a_line(&score));
            tally.take(&score);
        }
        print!("{}", tally.text(&folder.display().to_string()));
        return Ok(());
    }
    let known = |seed| Evening::made_up(seed, Shapes::Known);
    let held_out = |seed| Evening::made_up(seed, Shapes::HeldOut);
    let kinds: [(&str, &Draw, u64, u64); 3] = [
        ("Known shapes", &known, options.evenings, options.seed),
        ("Shapes held out", &held_out, options.held_out, options.seed + 5_000_000),
        ("Calm hours", &Evening::made_up_calm_hour, options.calm_hours, options.seed + 7_000_000),
    ];
    for (title, draw, count, first) in kinds.into_iter().filter(|(_, _, count, _)| *count > 0) {
        print!("{}", run(&options, draw, first, count)?.text(title));
    }
    Ok(())
}

fn in_a_line(score: &Score) -> String {
    let truth: Vec<String> = score.truth.iter().map(|w| format!("{}/{}", w.fault, w.cause)).collect();
    let told = score.told.as_ref().map_or("none".into(), |w| format!("{}/{}", w.fault, w.cause));
    let truth = if truth.is_empty() { "none".into() } else { truth.join(" + ") };
    let right = if score.cause_right && score.false_alarms == 0 { "right" } else { "WRONG" };
    format!(
        "{right}: {truth} told as {told}, after {:?} s, {} false, {} changes",
        score.wait_s, score.false_alarms, score.changes
    )
}

/// Judges seeds on every core there is.
fn run(options: &Options, draw: &Draw, first: u64, count: u64) -> Result<Tally, AnyError> {
    let temporary = tempfile::tempdir()?;
    let folder: &Path = options.keep.as_deref().unwrap_or(temporary.path());
    std::fs::create_dir_all(folder)?;
    let next = AtomicU64::new(first);
    let scores: Mutex<Vec<(u64, Score)>> = Mutex::default();
    let one = |seed: u64| -> Result<(), AnyError> {
        let path = made(folder, seed, draw(seed))?;
        let score = judged(&path)?;
        if !(score.cause_right && score.false_alarms == 0 && score.changes < 2) {
            eprintln!("{}: {}", path.display(), in_a_line(&score));
            if let Some(keep) = &options.keep_wrong {
                std::fs::create_dir_all(keep)?;
                for file in [path.clone(), moth_accuracy::case::truth_path(&path)] {
                    std::fs::copy(&file, keep.join(file.file_name().unwrap_or_default()))?;
                }
            }
        }
        if options.keep.is_none() {
            std::fs::remove_file(path)?;
        }
        scores.lock().unwrap_or_else(PoisonError::into_inner).push((seed, score));
        Ok(())
    };
    let work = || -> Result<(), AnyError> {
        loop {
            let seed = next.fetch_add(1, Ordering::Relaxed);
            if seed >= first + count {
                return Ok(());
            }
            one(seed)?;
        }
    };
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    std::thread::scope(|scope| {
        let running: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        running.into_iter().try_for_each(|thread| thread.join().unwrap_or_else(|_| Err("a thread failed".into())))
    })?;
    let mut scores = scores.into_inner().unwrap_or_else(PoisonError::into_inner);
    scores.sort_by_key(|(seed, _)| *seed);
    let mut tally = Tally::default();
    scores.iter().for_each(|(_, score)| tally.take(score));
    Ok(tally)
}
