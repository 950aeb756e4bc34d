//! A climb, as it goes and when it is over.

use moth_core::Snapshot;
use moth_core::suspects::Fault;
use moth_rehearsal::climb::Purpose;
use moth_rehearsal::finding::{ClimbFinding, lasted};
use moth_rehearsal::ladder::{Kind, Value};
use moth_rehearsal::runner::{Runner, Stand};
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::Line;

use crate::rehearsal::run::Run;
use crate::rehearsal::told;
use crate::terminal::parts::rehearsal_heading::{heading, waiting};
use crate::terminal::parts::rungs::Rungs;
use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::wrapped;

pub(in crate::terminal) fn climbing(
    palette: Palette,
    run: &Run,
    runner: &Runner,
    snapshot: &Snapshot,
    area: Rect,
) -> Vec<Line<'static>> {
    let left = match runner.left_s() {
        0 => String::new(),
        s => format!("about {} left if all holds", lasted(s.div_ceil(10) * 10)),
    };
    let what = format!("Climb of {}", plural(runner.ladder().kind()));
    let mut lines = vec![heading(palette, run, &what, &left, area)];
    lines.extend(wrapped(&standing(run, runner, snapshot), area.width, Style::new()));
    let verdict = &snapshot.verdict;
    let said = match (runner.stand(), verdict.fault) {
        (Stand::Trying, Fault::None) => "Nothing gives way now.".to_owned(),
        (Stand::Trying, fault) => format!("{}: {}", fault.word().to_uppercase(), verdict.sentence),
        // What the rung before left behind is told as no fault of anything.
        _ => String::new(),
    };
    let style = if verdict.fault == Fault::None { palette.faint() } else { palette.fault(verdict.fault) };
    lines.extend(wrapped(&said, area.width, style));
    if area.height >= 20 {
        lines.push(Line::default());
    }
    let rows = usize::from(area.height).saturating_sub(lines.len());
    lines.extend(Rungs::of_a_runner(palette, runner).lines(rows, area));
    lines
}

pub(in crate::terminal) fn climbed(
    palette: Palette,
    run: &Run,
    finding: &ClimbFinding,
    area: Rect,
) -> Vec<Line<'static>> {
    let mut lines = vec![heading(palette, run, &format!("Climb of {}: over", plural(finding.climb)), "", area)];
    for (i, sentence) in told::sentences(run).iter().enumerate() {
        lines.extend(wrapped(sentence, area.width, if i == 0 { palette.strong() } else { Style::new() }));
    }
    if area.height >= 30 {
        lines.push(Line::default());
    }
    let rows = usize::from(area.height).saturating_sub(lines.len());
    if rows >= 3 {
        lines.extend(Rungs::of_a_finding(palette, finding).lines(rows, area));
    }
    lines
}

/// What is being done, in a sentence.
fn standing(run: &Run, runner: &Runner, snapshot: &Snapshot) -> String {
    let at =
        |value: &Value, rung: usize| format!("{} ({} of {})", value.words(), rung + 1, runner.ladder().rungs().len());
    match (runner.stand(), runner.now()) {
        (Stand::Waiting, _) => waiting(run, snapshot),
        (Stand::Setting, Some((value, rung, ..))) => format!("Setting {}.", at(value, rung)),
        (Stand::Asking, Some((value, rung, ..))) => {
            let seen = snapshot.awaited.as_ref().map_or("", |awaited| awaited.sentence.as_str());
            format!("Set your broadcaster to {} now; it counts once the wire shows it. {seen}", at(value, rung))
        }
        (Stand::Settling, Some((value, rung, ..))) => {
            format!("{} is set; what was before drains away.", at(value, rung))
        }
        (Stand::Trying, Some((value, rung, length, purpose))) => {
            let seen = runner.seen();
            let why = match purpose {
                Purpose::Search => "is tried",
                Purpose::Again => "is tried again, as it gave way once",
                Purpose::Confirm => "must hold for longer",
            };
            // Its first seconds still hold what was before.
            let lost = match seen.seconds() {
                0 => "its first seconds do not count".to_owned(),
                _ if seen.lost() > 0.0 => format!("{:.1} % of the frames lost so far", seen.lost() * 100.0),
                _ => "nothing lost so far".into(),
            };
            let of = if seen.seconds() <= length.least_s { length.least_s } else { length.most_s };
            format!("{} {why}: {} of {}, {lost}.", at(value, rung), lasted(seen.seconds()), lasted(of))
        }
        (Stand::PuttingBack, _) => format!("{} is put back.", runner.start().words()),
        _ => "It is over.".into(),
    }
}

fn plural(kind: Kind) -> &'static str {
    match kind {
        Kind::Bitrate => "bitrates",
        Kind::Preset => "presets",
        Kind::Picture => "pictures",
    }
}
