//! The Why screen: every suspect of a stage with its evidence, on the time axis of the loss it would explain.

use std::sync::Arc;
use std::time::Duration;

use crossterm::event::KeyCode;
use moth_core::history::Second;
use moth_core::sentence::capitalised;
use moth_core::signal::{Figured, Scale, Signal};
use moth_core::suspects::{Cause, Evidence, Fault, Weighed};
use moth_core::{Origin, Snapshot};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::text::{Line, Span};

use super::{machine, watch};
use crate::measuring::tester::Handshakes;
use crate::terminal::dialogs::Dialog;
use crate::terminal::dialogs::export::Subject;
use crate::terminal::model::Model;
use crate::terminal::parts::lane::{Columns, Kind, Lane, draw_lane, plain_above, top_of, value_in};
use crate::terminal::parts::lanes::draw_axis;
use crate::terminal::parts::time_view::TimeView;
use crate::terminal::preparation::TestUnderWay;
use crate::terminal::reaction::Reaction;
use crate::terminal::screen::{HelpLines, Keys, Screen, Shown, inner, nothing_else};
use crate::terminal::style::format::{clock, fit, number, wrap};
use crate::terminal::style::palette::Palette;

/// Columns for a suspect's name and share, and for the newest value at the right. Ours.
const NAMES: u16 = 40;
const VALUES: u16 = 15;

/// A sign that weighs less, in bans, is not worth a row. Ours.
const LIGHT: f64 = 0.05;
const NOTHING_KNOWN: &str = "nothing is known for or against it";

/// The stages one may ask about.
const STAGES: [Fault; 3] = [Fault::Network, Fault::Encoder, Fault::Rendering];

/// What stands on the screen of a stage's suspects: those of its verdict if it has one, else what would be weighed now.
fn weighed(snapshot: &Snapshot, stage: Fault) -> (bool, Vec<Weighed>) {
    if let Some(suspect) = snapshot.verdict.suspects.iter().find(|s| s.fault == stage) {
        return (true, suspect.weighed.clone());
    }
    let found = snapshot.weighed.iter().find(|(fault, _)| *fault == stage);
    (false, found.map(|(_, weighed)| weighed.clone()).unwrap_or_default())
}

/// What says most of a cause, along time. Round trips share a scale, up to `way_top` milliseconds.
fn lane_of(cause: Cause, way_top: f32) -> Lane {
    match cause.signal() {
        Signal::Figure(Figured { short, unit, value, scale, .. }) => {
            let top = match scale {
                Scale::Highest => None,
                Scale::UpTo(top) => Some(top),
                Scale::RoundTrips => Some(way_top),
            };
            Lane { name: short, unit, kind: Kind::Bars { value, asked: None, top }, rows: (1, 3) }
        }
        Signal::Carried => Lane {
            name: "carried",
            unit: "kb/s",
            kind: Kind::Bars { value: |s| s.sent_kbps, asked: Some(|s| s.asked_kbps), top: None },
            rows: (1, 3),
        },
        Signal::Connection => Lane { name: "connection", unit: "", kind: Kind::State, rows: (1, 1) },
    }
}

fn loss_lane(stage: Fault) -> Lane {
    let (name, value): (_, fn(&Second) -> Option<u32>) = match stage {
        Fault::Encoder => ("skipped", |s| s.skipped),
        Fault::Rendering => ("lagged", |s| s.lagged),
        Fault::Network | Fault::None => ("dropped", |s| s.dropped),
    };
    Lane { name, unit: "frames", kind: Kind::Losses(stage, value), rows: (1, 1) }
}

pub(in crate::terminal) const SCREEN: Screen =
    Screen { name: "Why", draw, keys, help, exports, key, turned_to: nothing_else };

/// The stage whose suspects are shown.
fn stage_shown(model: &Model, snapshot: &Snapshot) -> Fault {
    match (model.suspects.stage, snapshot.verdict.fault) {
        (Some(stage), _) => stage,
        (None, Fault::None) => Fault::Network,
        (None, fault) => fault,
    }
}

fn draw(frame: &mut Frame<'_>, area: Rect, Shown { model, snapshot, palette }: Shown<'_>) {
    let area = inner(area);
    let past = model.looked_back_at(snapshot);
    let looks_back_at = model.second_looked_at(past.as_ref());
    let snapshot = past.as_ref().unwrap_or(snapshot);
    let stage = stage_shown(model, snapshot);
    let (is_guilty, weighed) = weighed(snapshot, stage);
    let chosen = model.suspects.row.min(weighed.len().saturating_sub(1));
    // With little room the table takes what it needs, and the evidence the rest.
    let rows = u16::try_from(weighed.len()).unwrap_or(u16::MAX).saturating_add(3);
    let is_tight = area.height < 34;
    let foot = if is_tight { area.height.saturating_sub(3 + rows).max(8) } else { 13 };
    let [head, table, detail] =
        Layout::vertical([Constraint::Length(3), Constraint::Min(8), Constraint::Length(foot)]).areas(area);
    draw_head(frame, head, (palette, looks_back_at), snapshot, (stage, is_guilty));
    draw_table(frame, table, (palette, &model.view), snapshot, stage, (&weighed, chosen, is_guilty));
    let asked = model.preparation.as_ref().and_then(|preparation| preparation.asked.as_ref());
    draw_detail(frame, detail, (palette, asked), snapshot, (stage, weighed.get(chosen)));
}

fn keys(Shown { model, .. }: Shown<'_>) -> Keys {
    let mut keys = vec![("↑↓", "suspect"), ("f", "stage"), ("i", "in full")];
    keys.extend(model.takes_changes().then_some(("t", "test")));
    keys.push(("←→", "look back"));
    keys.extend(watch::way_back(model));
    keys.push(("e", "export"));
    keys
}

fn help(Shown { model, .. }: Shown<'_>, mut help: HelpLines<'_>) {
    help.key("↑ ↓", "the suspect whose evidence is shown");
    help.key("i", "all that is known for and against it, in full");
    help.key("f", "the suspects of another stage: network, encoder, rendering");
    if model.takes_changes() {
        help.key("t", "test: a handshake with each server; or a look at the machine");
    }
    help.key("e", "take the suspects away as SVG or PDF");
    if model.takes_changes() {
        help.key("b s p … u", "do, or undo, what Watch proposes; a shows all changes");
    }
    help.key("← →", "look back and forth; n N to a mark, m all that happened");
    help.others();
    help.gap();
    help.word("▪ to ▪▪▪", "how much a sign weighs, for or against");
    help.word("%", "how likely each suspect is among those of its stage");
    help.gap();
    help.word("no loss", "sound beside the picture, a still picture, a slow source:");
    help.word("", "named on Watch, and no frame is lost by them");
    help.word(
        "not seen",
        "doubled sound: one microphone comes by two sources (one of them in the mixer's list is too many)",
    );
    help.word("", "echo: the microphone hears the loudspeakers (headphones, or a lower monitor volume)");
    help.word("", "a viewer whose own line is too small: only they stutter, and their player's quality setting helps");
    help.word("", "a game that itself runs slowly: the pictures come, and are the same");
}

fn exports(model: &Model, snapshot: &Snapshot) -> Vec<(Subject, String)> {
    let stage = stage_shown(model, snapshot);
    vec![(Subject::Why(stage), format!("the suspects in {}, with their evidence", stage.word()))]
}

fn key(model: &mut Model, code: KeyCode) -> Reaction {
    let Some(now) = model.shown().cloned() else { return Reaction::none() };
    let snapshot = model.looked_back_at(&now).map_or(now, Arc::new);
    let stage = stage_shown(model, &snapshot);
    let last = weighed(&snapshot, stage).1.len().saturating_sub(1);
    let view = &mut model.suspects;
    match code {
        KeyCode::Up => view.row = view.row.min(last).saturating_sub(1),
        KeyCode::Down => view.row = (view.row + 1).min(last),
        KeyCode::Char('f') => {
            let at = STAGES.iter().position(|s| *s == stage).unwrap_or(0);
            view.stage = Some(STAGES[(at + 1) % STAGES.len()]);
            view.row = 0;
        }
        KeyCode::Char('i') => return in_full(model, &snapshot, stage),
        KeyCode::Char('t') => return test_suspects(model, stage),
        // What can be done, and looking back, are as on Watch.
        other => return watch::key(model, other),
    }
    Reaction::none()
}

/// All evidence on the suspect under the cursor.
fn in_full(model: &Model, snapshot: &Snapshot, stage: Fault) -> Reaction {
    let (_, weighed) = weighed(snapshot, stage);
    let Some(suspect) = weighed.get(model.suspects.row.min(weighed.len().saturating_sub(1))) else {
        return Reaction::tell("nothing is known of any suspect yet");
    };
    let mut told = vec![format!("{}:", capitalised(suspect.cause.words()))];
    told.extend(suspect.evidence.iter().map(|evidence| {
        let (word, strength) = (direction(evidence), strength(evidence));
        let origin = evidence.origin.map_or(String::new(), |origin| format!(" ({})", origin.word()));
        format!("{word}{strength:<4}{}{origin}", evidence.text)
    }));
    if suspect.evidence.is_empty() {
        told.push(NOTHING_KNOWN.into());
    }
    if let Some(suspect) = snapshot.verdict.suspects.iter().find(|s| s.fault == stage) {
        told.extend(Some(suspect.would_change.clone()).filter(|text| !text.is_empty()));
    }
    Reaction::open(Dialog::Evidence(told))
}

fn direction(evidence: &Evidence) -> &'static str {
    if evidence.bans >= 0.0 { "for     " } else { "against " }
}

/// Three marks are a sign that makes it about thirty times likelier, or less likely.
fn strength(evidence: &Evidence) -> String {
    if evidence.bans.abs() < LIGHT {
        return "·".into();
    }
    "▪".repeat((evidence.bans.abs() / 0.5).ceil().clamp(1.0, 3.0) as usize)
}

/// Finds out more: a handshake with each server, or a look at the whole machine.
fn test_suspects(model: &mut Model, stage: Fault) -> Reaction {
    let Some(preparation) = &model.preparation else {
        return Reaction::tell(
            "this test keeps what it finds, and there is no home folder for that; --config names one",
        );
    };
    if preparation.running != TestUnderWay::Nothing {
        return Reaction::tell("another test is running");
    }
    if stage == Fault::Network {
        let order = preparation.ask_order();
        return model.order(order).and_tell("asking each server for one handshake…");
    }
    Reaction { screen: Some(machine::SCREEN.name), ..machine::look(model) }
}

fn draw_head(
    frame: &mut Frame<'_>,
    area: Rect,
    (palette, looks_back_at): (Palette, Option<usize>),
    snapshot: &Snapshot,
    (stage, is_guilty): (Fault, bool),
) {
    let mut stages = vec![Span::styled("suspects in  ", palette.faint())];
    for fault in STAGES {
        let guilty = snapshot.verdict.suspects.iter().any(|s| s.fault == fault);
        let mark = if guilty { " ▾" } else { "" };
        let style = if fault == stage { palette.key() } else { palette.fault(fault) };
        stages.push(Span::styled(format!(" {}{mark} ", fault.word()), style));
        stages.push(Span::raw("  "));
    }
    if let Some(second) = looks_back_at {
        let then = format!("as it stood at {}  ", clock(Duration::from_secs(second as u64)));
        stages.push(Span::styled(then, palette.strong()));
    }
    if is_guilty && stage == snapshot.verdict.fault {
        let since = clock(snapshot.at.since(snapshot.verdict.since));
        stages.push(Span::styled(format!("standing for {since}"), palette.faint()));
    }
    let suspect = snapshot.verdict.suspects.iter().find(|s| s.fault == stage);
    let sentence = match suspect {
        Some(suspect) => suspect.sentence.clone(),
        None => {
            let (is, were) = match looks_back_at {
                Some(_) => ("was lost here then", "had been"),
                None => ("is lost here now", "were"),
            };
            format!("Nothing {is}. Below is what would be weighed if it {were}, and what speaks against each.")
        }
    };
    let width = usize::from(area.width);
    let lines = std::iter::once(Line::from(stages)).chain(wrap(&sentence, width).into_iter().map(Line::from));
    for (row, line) in lines.take(area.height.into()).enumerate() {
        frame.render_widget(line, Rect { y: area.y + u16::try_from(row).unwrap_or(0), height: 1, ..area });
    }
}

fn draw_table(
    frame: &mut Frame<'_>,
    area: Rect,
    (palette, view): (Palette, &TimeView),
    snapshot: &Snapshot,
    stage: Fault,
    (weighed, chosen, is_guilty): (&[Weighed], usize, bool),
) {
    let plot = Rect { x: area.x + NAMES, width: area.width.saturating_sub(NAMES + VALUES), ..area };
    let columns = Columns::new(snapshot, view, plot.width.into());
    view.note_shown(columns.span(), plot, columns.scale());
    let count = u16::try_from(weighed.len()).unwrap_or(1).max(1);
    let rows = (area.height.saturating_sub(3) / count).clamp(1, 4);
    let buffer = frame.buffer_mut();
    let ways: [fn(&Second) -> Option<f32>; 3] = [|s| s.rtt_ms, |s| s.gateway_ms, |s| s.other_ms];
    let longest = ways.into_iter().flat_map(|way| (0..columns.count()).map(move |c| (c, way)));
    let way_top = plain_above(longest.filter_map(|(c, way)| columns.highest(c, way)).fold(20.0, f32::max));
    let loss = loss_lane(stage);
    buffer.set_string(area.x, area.y, format!("frames {}", loss.name), palette.fault(stage));
    draw_lane(buffer, Rect { height: 1, ..plot }, palette, (&loss, 1.0), &columns);
    let mut y = area.y + 1;
    // The one whose evidence is shown stays in sight.
    let in_sight = usize::from(area.height.saturating_sub(3) / rows);
    for (i, suspect) in weighed.iter().enumerate().skip((chosen + 1).saturating_sub(in_sight.max(1))) {
        if y + rows + 2 > area.bottom() {
            break;
        }
        let lane = lane_of(suspect.cause, way_top);
        // A suspect's name is above what its lane shows, and a free row below both: neither is taken for its neighbour's.
        let strip = Rect { y, height: if rows > 2 { rows - 1 } else { rows }, ..plot };
        let foot = strip.bottom() - 1;
        let share = if is_guilty { format!("{:3.0} %", (suspect.share * 100.0).min(99.0)) } else { "     ".into() };
        let name = format!("{} {share} {}", if i == chosen { "▸" } else { " " }, suspect.cause.words());
        let style = if i == 0 && is_guilty {
            palette.fault(stage).patch(palette.strong())
        } else {
            ratatui::style::Style::new()
        };
        buffer.set_string(area.x, y, fit(&name, usize::from(NAMES) - 1), style);
        let top = top_of(&lane, &columns);
        if rows > 1 {
            let top = f64::from(top);
            // Of what was nothing all along there is no scale.
            let scale = if top < 2.0 { String::new() } else { format!(", up to {} {}", number(Some(top)), lane.unit) };
            let scale = format!("{}{scale}", lane.name);
            buffer.set_string(area.x + 8, y + 1, fit(&scale, usize::from(NAMES) - 9), palette.faint());
        }
        draw_lane(buffer, strip, palette, (&lane, top), &columns);
        let value = newest(&lane, view.cursor, snapshot);
        buffer.set_string(plot.right() + 1, foot, fit(&value, usize::from(VALUES) - 1), ratatui::style::Style::new());
        y += rows;
    }
    draw_axis(buffer, Rect { y, height: 2, ..plot }, area, (palette, view.cursor), &columns);
}

fn newest(lane: &Lane, cursor: Option<usize>, snapshot: &Snapshot) -> String {
    let last = snapshot.history.len().checked_sub(1);
    let Some(second) = cursor.or(last).and_then(|at| snapshot.history.get(at)) else { return String::new() };
    value_in(lane, second)
}

fn draw_detail(
    frame: &mut Frame<'_>,
    area: Rect,
    (palette, asked): (Palette, Option<&Handshakes>),
    snapshot: &Snapshot,
    (stage, chosen): (Fault, Option<&Weighed>),
) {
    let width = usize::from(area.width);
    let mut lines = Vec::new();
    if let Some(suspect) = chosen {
        lines.push(Line::styled(format!("Evidence on: {}", suspect.cause.words()), palette.strong()));
        for evidence in suspect.evidence.iter().filter(|e| e.bans.abs() >= LIGHT).take(6) {
            let (word, strength) = (direction(evidence), strength(evidence));
            let origin = evidence.origin.map_or("", |origin| origin.word());
            let mut rows = wrap(&evidence.text, width.saturating_sub(24)).into_iter().enumerate().peekable();
            while let Some((n, row)) = rows.next() {
                let lead = if n == 0 { format!("{word}{strength:<4}") } else { " ".repeat(12) };
                let origin = if rows.peek().is_none() { format!("  {origin}") } else { String::new() };
                lines.push(Line::from(vec![
                    Span::styled(lead, palette.faint()),
                    Span::raw(row),
                    Span::styled(origin, palette.faint()),
                ]));
            }
        }
        if suspect.evidence.is_empty() {
            lines.push(Line::styled(NOTHING_KNOWN, palette.faint()));
        }
    }
    let suspect = snapshot.verdict.suspects.iter().find(|s| s.fault == stage);
    if let Some(text) = suspect.map(|s| &s.would_change).filter(|text| !text.is_empty()) {
        lines.extend(wrap(text, width).into_iter().take(2).map(|line| Line::styled(line, palette.faint())));
    }
    if let Some(asked) = asked.filter(|_| stage == Fault::Network) {
        let told: Vec<String> = asked
            .iter()
            .map(|(name, rtt)| rtt.map_or_else(|| format!("{name} no answer"), |ms| format!("{name} {ms:.0} ms")))
            .collect();
        let told = format!("tested  {}  {}", told.join("  "), Origin::Measured.word());
        lines.extend(wrap(&told, width).into_iter().map(Line::raw));
    }
    for (row, line) in lines.into_iter().take(area.height.into()).enumerate() {
        frame.render_widget(line, Rect { y: area.y + u16::try_from(row).unwrap_or(0), height: 1, ..area });
    }
}
