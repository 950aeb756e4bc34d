//! Many clips, as tables: kinds of picture apart, encoders apart.

use std::collections::BTreeMap;
use std::error::Error;
use std::path::{Path, PathBuf};

use crate::clip::{Heard, heard, truth};

/// Told within so many seconds of the first late frame, lateness counts as told. Ours.
const IN_TIME_S: f64 = 4.0;
/// A count is right within this share. Ours.
const NEAR: f64 = 0.15;

/// A row of a table.
#[derive(Debug, Default)]
struct Row {
    in_time: usize,
    falsely: usize,
    late: usize,
    told: usize,
    ever: usize,
    trusted: usize,
    near: usize,
    contradictions: usize,
}

impl Row {
    fn take(&mut self, heard: &Heard) {
        let is_false = heard.false_at_s.is_some() || heard.other_false.is_some();
        self.contradictions += heard.contradictions.len();
        self.falsely += usize::from(is_false);
        if heard.truth.lagged.is_empty() {
            self.in_time += 1;
            return;
        }
        self.late += 1;
        self.told += usize::from(heard.wait_s.is_some_and(|wait| wait <= IN_TIME_S));
        self.ever += usize::from(heard.wait_s.is_some());
        if heard.is_trusted
            && let Some(counted) = heard.counted
        {
            self.trusted += 1;
            let off = counted.abs_diff(heard.truly) as f64;
            self.near += usize::from(off <= (NEAR * heard.truly as f64).max(2.0));
        }
    }

    fn text(&self, name: &str) -> String {
        format!(
            "| {name} | {} | {} | {} | {} | {} | {} of {} | {} |\n",
            self.in_time, self.falsely, self.late, self.told, self.ever, self.near, self.trusted, self.contradictions
        )
    }
}

const HEAD: &str = "| | in time | false verdicts | late | told within 4 s | told at all | counted within 15 %, where trusted | contradictions |\n\
                    |---|--:|--:|--:|--:|--:|--:|--:|\n";

/// How long clips in time are shown in turn.
#[derive(Debug, Clone, Copy)]
pub struct Turns {
    /// Hours at each frame rate; none if zero.
    pub hours: f64,
    /// What their order is drawn from.
    pub seed: u64,
}

/// Judges all clips of a folder and prints the tables.
///
/// # Errors
/// If a clip, or its truth, cannot be read.
pub fn run(folder: &Path, minutes: f64, turns: Turns, each: bool) -> Result<(), Box<dyn Error + Send + Sync>> {
    let mut files: Vec<PathBuf> = std::fs::read_dir(folder)?.flatten().map(|entry| entry.path()).collect();
    files
        .retain(|path| path.extension().is_some_and(|end| end == "flv") && crate::case::clip_truth_path(path).exists());
    files.sort();
    let mut tables: BTreeMap<&str, BTreeMap<String, Row>> = BTreeMap::new();
    for file in &files {
        let heard = heard(file, minutes)?;
        let truth = &heard.truth;
        if each {
            println!("{}", in_a_line(&heard));
        }
        let half = format!("half {}", truth.half);
        let names = [
            ("all", half.clone()),
            ("encoders", format!("{half}, {}", truth.encoder)),
            ("lateness", format!("{half}, {}", truth.pattern)),
            ("pictures", format!("{half}, {}", truth.kind)),
        ];
        for (table, name) in names {
            tables.entry(table).or_default().entry(name).or_default().take(&heard);
        }
    }
    if turns.hours > 0.0 {
        in_turn(&files, turns)?;
    }
    for rows in tables.values() {
        print!("{HEAD}");
        rows.iter().for_each(|(name, row)| print!("{}", row.text(name)));
        println!();
    }
    Ok(())
}

/// All clips in time that can be looked at, in turn for so many hours at each frame rate.
fn in_turn(files: &[PathBuf], turns: Turns) -> Result<(), Box<dyn Error + Send + Sync>> {
    let mut rates: BTreeMap<u64, Vec<PathBuf>> = BTreeMap::new();
    for file in files {
        let truth = truth(file)?;
        if truth.lagged.is_empty() && truth.codec == "h264" {
            rates.entry(truth.fps.round() as u64).or_default().push(file.clone());
        }
    }
    println!(
        "| in turn | clips | hours | false verdicts | repeats counted | contradictions |\n|---|--:|--:|--:|--:|--:|"
    );
    for (fps, files) in rates {
        let heard = crate::clip::in_turn(&files, fps as f64, turns.hours, turns.seed)?;
        let (hours, falsely, wrong) = (turns.hours, heard.falsely, heard.contradictions.len());
        let counted = heard.counted.map_or("not known".to_owned(), |counted| counted.to_string());
        println!("| {fps} frames/s | {} | {hours} | {falsely} | {counted} | {wrong} |", files.len());
    }
    println!();
    Ok(())
}

fn in_a_line(heard: &Heard) -> String {
    let truth = &heard.truth;
    let told = match (truth.lagged.is_empty(), heard.false_at_s, heard.other_false, heard.wait_s) {
        (_, Some(at), _, _) => format!("FALSE at {at:.1} s"),
        (_, _, Some((at, fault)), _) => format!("FALSE {} at {at:.1} s", fault.word()),
        (true, ..) => "silent".into(),
        (false, _, _, Some(wait)) => format!("told after {wait:.1} s"),
        (false, _, _, None) => "MISSED".into(),
    };
    format!(
        "{:6} {:18} {:16} {:20} {told}; counted {:?} of {}{}{}{}",
        truth.half,
        truth.kind,
        truth.encoder,
        truth.pattern,
        heard.counted,
        heard.truly,
        if heard.is_trusted { ", trusted" } else { "" },
        if heard.is_slow_source { ", slow source" } else { "" },
        heard.contradictions.first().map_or(String::new(), |text| format!("; CONTRADICTS ITSELF {text}")),
    )
}
