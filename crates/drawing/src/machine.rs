//! The load on a machine by program: who took what of its cores, its GPU and its upload, and when.

use std::collections::BTreeMap;

use crate::evening::{Evening, Stretch};
use crate::load::{Load, Machine, Part};
use crate::names::letters;
use crate::page::{self, Words, page};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::Theme;
use crate::ticks::{number, top};
use crate::time::Time;

/// Programs that are told apart in a panel. Ours.
const MOST_TOLD: usize = 3;
/// The heights of a panel, in pixels. Ours.
const PANEL: f64 = 90.0;
const SMALL: f64 = 46.0;
/// A program's letter stands in each part of the width that is so wide. Ours.
const LETTERS: f64 = 160.0;

/// Draws a machine's load over a stretch.
#[must_use]
pub fn draw(evening: &Evening, machine: &Machine, stretch: Stretch, theme: Theme) -> Drawing {
    let name = machine.host.as_deref().unwrap_or("this machine");
    let title = match heaviest(machine, stretch) {
        Some((program, share)) => {
            format!("{program} took up to {} of all cores of {name}", moth_plan::text::percent(f64::from(share)))
        }
        None => format!("The load on {name}"),
    };
    let mut notes = vec![
        "Measured by the kernel's counters, once a second. Of programs beside the broadcaster only the busiest of each second is \
         known by name; the rest is told together. A column that holds several seconds shows the busiest of them."
            .to_owned(),
    ];
    notes.extend(evening.unseen.iter().map(|what| format!("Not seen: {what}.")));
    let words = Words { title, source: page::stretch(evening, stretch), notes };
    page(theme, &words, |sheet, y| body(sheet, y, evening, machine, stretch))
}

/// The program that took most of all cores in a second.
fn heaviest(machine: &Machine, stretch: Stretch) -> Option<(String, f32)> {
    let loads = within(machine, stretch);
    let own = loads.iter().filter_map(|load| load.cpu_broadcaster).reduce(f32::max);
    let other = loads.iter().filter_map(|load| load.cpu_other).max_by(|a, b| a.1.total_cmp(&b.1));
    let own = own.map(|share| (machine.broadcaster.clone().unwrap_or_else(|| "the broadcaster".into()), share));
    let other = other.map(|(place, share)| (machine.program(place).to_owned(), share));
    own.into_iter().chain(other).max_by(|a, b| a.1.total_cmp(&b.1))
}

fn within(machine: &Machine, stretch: Stretch) -> &[Load] {
    let last = machine.loads.len();
    let from = (stretch.from_s.max(0.0).floor() as usize).min(last);
    let until = (stretch.until_s.max(0.0).ceil() as usize).clamp(from, last);
    &machine.loads[from..until]
}

/// What a panel shows.
struct Panel {
    name: &'static str,
    unit: &'static str,
    height: f64,
    whole: fn(&Load) -> Option<f32>,
    own: fn(&Load) -> Option<f32>,
    other: fn(&Load) -> Option<Part>,
    /// The top of its axis, if it has one.
    top: Option<f64>,
}

fn panels() -> [Panel; 5] {
    const NOBODY: fn(&Load) -> Option<f32> = |_| None;
    [
        Panel {
            name: "CPU",
            unit: "% of all cores",
            height: PANEL,
            whole: |l| l.cpu.map(|v| v * 100.0),
            own: |l| l.cpu_broadcaster.map(|v| v * 100.0),
            other: |l| l.cpu_other.map(|(p, v)| (p, v * 100.0)),
            top: Some(100.0),
        },
        Panel {
            name: "GPU drawing",
            unit: "%",
            height: PANEL,
            whole: |l| l.gpu.map(|v| v * 100.0),
            own: NOBODY,
            other: |l| l.gpu_other.map(|(p, v)| (p, v * 100.0)),
            top: Some(100.0),
        },
        Panel {
            name: "GPU video",
            unit: "%",
            height: SMALL,
            whole: |l| l.encode.map(|v| v * 100.0),
            own: NOBODY,
            other: |l| l.encode_other.map(|(p, v)| (p, v * 100.0)),
            top: Some(100.0),
        },
        Panel {
            name: "others upload",
            unit: "kb/s",
            height: SMALL,
            whole: |l| l.uploads_kbps,
            own: NOBODY,
            other: |l| l.upload,
            top: None,
        },
        Panel {
            name: "a write takes",
            unit: "ms",
            height: SMALL,
            whole: |l| l.disk_write_ms,
            own: NOBODY,
            other: |_| None,
            top: None,
        },
    ]
}

/// The panels that know something; gives where they end.
pub(crate) fn body(sheet: &mut Sheet, mut y: f64, evening: &Evening, machine: &Machine, stretch: Stretch) -> f64 {
    let loads = within(machine, stretch);
    let time = Time::of(evening, stretch, sheet, 0.0);
    let panels: Vec<Panel> =
        panels().into_iter().filter(|panel| loads.iter().any(|l| (panel.whole)(l).is_some())).collect();
    if panels.is_empty() {
        let faint = Writing::new(12.0, sheet.theme.faint());
        sheet.text(sheet.left(), y + 14.0, faint, "Nothing of its load was known in these seconds.");
        return y + 20.0;
    }
    // A program has one letter and one colour in all panels.
    let mut known: Vec<Key> = Vec::new();
    for (key, _) in panels.iter().flat_map(|panel| most_of(loads, panel)) {
        if !known.contains(&key) {
            known.push(key);
        }
    }
    let (first, mut bottom) = (y, y);
    for panel in &panels {
        bottom = draw_panel(sheet, y, &time, machine, loads, (panel, &known));
        y = bottom + 12.0;
    }
    time.axis(sheet, bottom, first)
}

/// Draws a panel with its legend above; gives its foot.
fn draw_panel(
    sheet: &mut Sheet,
    y: f64,
    time: &Time<'_>,
    machine: &Machine,
    loads: &[Load],
    (panel, known): (&Panel, &[Key]),
) -> f64 {
    let theme = sheet.theme;
    let place_of = |key: &Key| known.iter().position(|known| known == key).unwrap_or(0);
    let told = most_of(loads, panel);
    let name_of = |key: &Key| match key {
        Key::Own => machine.broadcaster.clone().unwrap_or_else(|| "broadcaster".into()),
        Key::Other(place) => machine.program(*place).to_owned(),
    };
    // Bottom to top: the broadcaster, then the programs that took most, then what is left.
    let mut y = y;
    if !told.is_empty() {
        let writing = Writing::new(11.0, theme.ink());
        let mut x = time.left;
        for (n, (key, peak)) in told.iter().enumerate() {
            let place = place_of(key);
            let text = format!("{}, at most {} {}", name_of(key), number(f64::from(*peak).round()), short(panel.unit));
            if x + 22.0 + writing.width(&text) > time.right && n > 0 {
                x = time.left;
                y += 16.0;
            }
            sheet.filled(x, y + 1.0, x + 16.0, y + 13.0, theme.program(place));
            sheet.text(
                x + 8.0,
                y + 11.0,
                Writing::new(11.0, theme.ground()).bold().at(Anchor::Middle),
                &letters(place),
            );
            sheet.text(x + 22.0, y + 11.0, writing, &writing.fit(&text, time.right - x - 22.0));
            x += 22.0 + writing.width(&text) + 18.0;
        }
        y += 19.0;
    }
    let foot = y + panel.height;
    let most = loads.iter().filter_map(panel.whole).fold(0.0_f32, f32::max);
    let scale = panel.top.filter(|top| *top >= f64::from(most)).unwrap_or_else(|| top(f64::from(most)));
    let at = |value: f32| foot - (f64::from(value) / scale).clamp(0.0, 1.0) * panel.height;
    let mut whole: Vec<Vec<(f64, f64)>> = vec![Vec::new()];
    let mut layers: Vec<Vec<(f64, f64, f64, f64)>> = vec![Vec::new(); told.len()];
    for (x0, x1, inside) in time.places() {
        let busiest = loads.get(inside).and_then(|loads| {
            loads
                .iter()
                .filter(|l| (panel.whole)(l).is_some())
                .max_by(|a, b| (panel.whole)(a).unwrap_or(0.0).total_cmp(&(panel.whole)(b).unwrap_or(0.0)))
        });
        let Some(load) = busiest else {
            whole.push(Vec::new());
            continue;
        };
        let all = (panel.whole)(load).unwrap_or(0.0);
        if let Some(run) = whole.last_mut() {
            run.extend([(x0, at(all)), (x1, at(all))]);
        }
        let mut from = 0.0;
        for (n, (key, _)) in told.iter().enumerate() {
            let part = match key {
                Key::Own => (panel.own)(load),
                Key::Other(place) => (panel.other)(load).filter(|(p, _)| p == place).map(|(_, v)| v),
            };
            // What a program took is measured apart from the whole, and may exceed it by what was rounded.
            let part = part.unwrap_or(0.0).min((all - from).max(0.0));
            if part > 0.0 {
                layers[n].push((x0, x1, at(from + part), at(from)));
                from += part;
            }
        }
    }
    for run in whole.iter().filter(|run| !run.is_empty()) {
        let (first, last) = (run[0].0, run[run.len() - 1].0);
        let shape = [(first, foot)].into_iter().chain(run.iter().copied()).chain([(last, foot)]);
        sheet.area(shape.collect(), theme.rest());
    }
    for (layer, (key, _)) in layers.iter().zip(&told) {
        let place = place_of(key);
        for run in joined(layer) {
            let upper = run.iter().flat_map(|(x0, x1, upper, _)| [(*x0, *upper), (*x1, *upper)]);
            let lower = run.iter().rev().flat_map(|(x0, x1, _, lower)| [(*x1, *lower), (*x0, *lower)]);
            sheet.area(upper.chain(lower).collect(), theme.program(place));
        }
        // Its letter where it is largest, in each part of the width: in black and white it tells them apart.
        let (mut from, mut last_x) = (time.left, f64::NEG_INFINITY);
        while from + LETTERS / 2.0 < time.right {
            let here = layer.iter().filter(|column| (from..from + LETTERS).contains(&column.0));
            let largest = here.max_by(|a, b| (a.3 - a.2).total_cmp(&(b.3 - b.2)));
            if let Some((x0, x1, upper, lower)) = largest.filter(|(_, _, upper, lower)| lower - upper >= 13.0) {
                let writing = Writing::new(11.0, theme.ground()).bold().at(Anchor::Middle);
                let x = f64::midpoint(*x0, *x1).clamp(time.left + 6.0, time.right - 6.0);
                if x - last_x > 20.0 {
                    sheet.text(x, f64::midpoint(*upper, *lower) + 4.0, writing, &letters(place));
                    last_x = x;
                }
            }
            from += LETTERS;
        }
    }
    for run in whole {
        sheet.line(run, theme.ink(), 1.0);
    }
    sheet.text(sheet.left(), foot - 2.0, Writing::new(13.0, theme.ink()), panel.name);
    sheet.text(sheet.left(), foot - 17.0, Writing::new(10.0, theme.faint()), panel.unit);
    sheet.line(vec![(time.left, foot), (time.right, foot)], theme.rule(), 0.8);
    let faint = Writing::new(10.0, theme.faint()).at(Anchor::Right);
    sheet.text(time.left - 7.0, y + 4.0, faint, &number(scale));
    sheet.text(time.left - 7.0, foot + 1.0, faint, "0");
    let known: Vec<f32> = loads.iter().filter_map(panel.whole).collect();
    let mean = known.iter().map(|v| f64::from(*v)).sum::<f64>() / known.len().max(1) as f64;
    crate::lane::values(
        sheet,
        time,
        foot,
        &[format!("{} mean", number(mean.round())), format!("{} at most", number(f64::from(most).round()))],
    );
    foot
}

/// Whose part it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Key {
    Own,
    Other(u16),
}

/// The broadcaster, and those that took most, each with its most.
fn most_of(loads: &[Load], panel: &Panel) -> Vec<(Key, f32)> {
    let mut most: BTreeMap<u16, (f64, f32)> = BTreeMap::new();
    for (place, value) in loads.iter().filter_map(panel.other) {
        let (sum, peak) = most.entry(place).or_default();
        *sum += f64::from(value);
        *peak = peak.max(value);
    }
    let mut others: Vec<(u16, (f64, f32))> = most.into_iter().filter(|(_, (_, peak))| *peak > 0.0).collect();
    others.sort_by(|a, b| b.1.0.total_cmp(&a.1.0).then(a.0.cmp(&b.0)));
    let own = loads.iter().filter_map(panel.own).reduce(f32::max).map(|peak| (Key::Own, peak));
    own.into_iter()
        .chain(others.into_iter().take(MOST_TOLD).map(|(place, (_, peak))| (Key::Other(place), peak)))
        .collect()
}

/// Columns side by side as one shape, so that no seam is seen between them.
fn joined(layer: &[(f64, f64, f64, f64)]) -> Vec<Vec<(f64, f64, f64, f64)>> {
    let mut runs: Vec<Vec<(f64, f64, f64, f64)>> = Vec::new();
    for column in layer {
        match runs.last_mut() {
            Some(run) if run.last().is_some_and(|last| (last.1 - column.0).abs() < 0.05) => run.push(*column),
            _ => runs.push(vec![*column]),
        }
    }
    runs
}

fn short(unit: &str) -> &str {
    unit.split(' ').next().unwrap_or(unit)
}
