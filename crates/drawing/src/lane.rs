//! A lane: one figure along a time axis, with its name before it and what it came to behind it.

use moth_core::State;
use moth_core::history::Second;
use moth_core::suspects::Fault;

use crate::sheet::{Anchor, Sheet, Writing};
use crate::theme::Colour;
use crate::ticks::{clock, number, top};
use crate::time::Time;

/// Between lanes. Ours.
pub(crate) const GAP: f64 = 12.0;

/// What a lane shows.
#[derive(Clone, Copy)]
pub(crate) enum Kind {
    /// How the connection stood.
    State,
    /// Frames lost, of one kind.
    Losses(Fault, fn(&Second) -> Option<u32>),
    /// For how long the picture stood still, in milliseconds.
    Still,
    /// A quantity; with what was asked of it, and the top of its axis if that is given.
    Quantity { value: fn(&Second) -> Option<f32>, asked: Option<fn(&Second) -> Option<f32>>, top: Option<f64> },
}

#[derive(Clone, Copy)]
pub(crate) struct Lane {
    pub name: &'static str,
    pub unit: &'static str,
    pub kind: Kind,
    pub height: f64,
}

impl Lane {
    pub(crate) fn losses(fault: Fault) -> Self {
        let (name, value): (_, fn(&Second) -> Option<u32>) = match fault {
            Fault::Rendering => ("lagged", |s| s.lagged),
            Fault::Encoder => ("skipped", |s| s.skipped),
            Fault::Network | Fault::None => ("dropped", |s| s.dropped),
        };
        Self { name, unit: "frames/s", kind: Kind::Losses(fault, value), height: 34.0 }
    }

    pub(crate) fn quantity(
        name: &'static str,
        unit: &'static str,
        value: fn(&Second) -> Option<f32>,
        top: Option<f64>,
        height: f64,
    ) -> Self {
        Self { name, unit, kind: Kind::Quantity { value, asked: None, top }, height }
    }

    pub(crate) fn carried(height: f64) -> Self {
        let kind = Kind::Quantity { value: |s| s.sent_kbps, asked: Some(|s| s.asked_kbps), top: None };
        Self { name: "carried", unit: "kb/s", kind, height }
    }

    pub(crate) fn state() -> Self {
        Self { name: "connection", unit: "", kind: Kind::State, height: 26.0 }
    }

    /// Whether anything of it was ever known: an empty lane would read as nothing lost.
    pub(crate) fn is_known(&self, seconds: &[Second]) -> bool {
        match self.kind {
            Kind::State => seconds.iter().any(|s| s.state.is_some()),
            Kind::Losses(_, value) => seconds.iter().any(|s| value(s).is_some()),
            // Most broadcasts have none, and then the lane would say nothing.
            Kind::Still => seconds.iter().any(|s| s.frozen_ms.is_some_and(|ms| ms > 0)),
            Kind::Quantity { value, .. } => seconds.iter().any(|s| value(s).is_some()),
        }
    }
}

/// Draws a lane from a height on, with its name; gives where it ends.
pub(crate) fn draw_named(sheet: &mut Sheet, y: f64, time: &Time<'_>, lane: &Lane) -> f64 {
    let theme = sheet.theme;
    let foot = y + lane.height;
    sheet.text(sheet.left(), foot - 2.0, Writing::new(13.0, theme.ink()), lane.name);
    if !lane.unit.is_empty() {
        let unit = Writing::new(10.0, theme.faint()).at(Anchor::Right);
        sheet.text(time.left - 18.0 - unit.width("0"), foot - 2.0, unit, lane.unit);
    }
    draw(sheet, y, time, lane)
}

/// Draws a lane from a height on; gives where it ends.
pub(crate) fn draw(sheet: &mut Sheet, y: f64, time: &Time<'_>, lane: &Lane) -> f64 {
    let theme = sheet.theme;
    let foot = y + lane.height;
    sheet.line(vec![(time.left, foot), (time.right, foot)], theme.rule(), 0.8);
    match &lane.kind {
        Kind::State => draw_states(sheet, y, foot, time),
        Kind::Losses(fault, value) => {
            let (most, total) = bars(sheet, (y, foot), time, *value, theme.fault(*fault));
            values(sheet, time, foot, &[format!("{} in all", number(total as f64)), format!("{most} at worst")]);
        }
        Kind::Still => {
            let (most, total) = bars(sheet, (y, foot), time, |s| s.frozen_ms, theme.ink());
            let told =
                [format!("{:.1} s in all", total as f64 / 1000.0), format!("longest {}", number(f64::from(most)))];
            values(sheet, time, foot, &told);
        }
        Kind::Quantity { value, asked, top: given } => {
            let highest = |of: &fn(&Second) -> Option<f32>| time.seconds.iter().filter_map(of).fold(0.0_f32, f32::max);
            let most = f64::from(highest(value).max(asked.as_ref().map_or(0.0, highest)));
            let top = given.filter(|given| *given >= most).unwrap_or_else(|| top(most));
            let at = |value: f32| foot - f64::from(value) / top * lane.height;
            let (fill, outline) = theme.quantity();
            for run in runs(time, *value) {
                let (Some(first), Some(last)) = (run.first(), run.last()) else { continue };
                let upper: Vec<(f64, f64)> =
                    run.iter().flat_map(|(x0, x1, high, _)| [(*x0, at(*high)), (*x1, at(*high))]).collect();
                let shape = [(first.0, foot)].into_iter().chain(upper.iter().copied()).chain([(last.1, foot)]);
                sheet.area(shape.collect(), fill);
                sheet.line(upper, outline, 1.0);
                // Where a column has several seconds, the lowest of them as well.
                let lower: Vec<(f64, f64)> =
                    run.iter().flat_map(|(x0, x1, _, low)| [(*x0, at(*low)), (*x1, at(*low))]).collect();
                if run.iter().any(|(_, _, high, low)| high != low) {
                    sheet.line(lower, outline, 0.6);
                }
            }
            if let Some(asked) = asked {
                for run in runs(time, *asked) {
                    let line = run.iter().flat_map(|(x0, x1, high, _)| [(*x0, at(*high)), (*x1, at(*high))]).collect();
                    sheet.line(line, theme.ink(), 1.6);
                }
            }
            scale(sheet, time, (y, foot), top);
            let known: Vec<f32> = time.seconds.iter().filter_map(value).collect();
            let mean = known.iter().map(|v| f64::from(*v)).sum::<f64>() / known.len().max(1) as f64;
            let mut told = vec![format!("{} mean", number(mean.round()))];
            if asked.is_some() {
                let least = known.iter().copied().fold(f32::INFINITY, f32::min);
                told.extend(least.is_finite().then(|| format!("{} lowest", number(f64::from(least).round()))));
                told.push("line: asked".into());
            } else {
                told.push(format!("{} at most", number(f64::from(highest(value)).round())));
            }
            values(sheet, time, foot, &told);
        }
    }
    foot
}

/// Counts as bars; gives the most of a second, and all of them.
fn bars(
    sheet: &mut Sheet,
    (y, foot): (f64, f64),
    time: &Time<'_>,
    value: fn(&Second) -> Option<u32>,
    colour: Colour,
) -> (u32, u64) {
    let most = time.seconds.iter().filter_map(value).max().unwrap_or(0);
    // One frame must not look like many.
    let top = top(f64::from(most.max(10)));
    let mut shapes: Vec<Vec<(f64, f64)>> = vec![Vec::new()];
    for (x0, x1, seconds) in time.columns() {
        // The worst second of a column: an extreme of one second is still seen after eight hours.
        let lost = seconds.iter().filter_map(value).max().unwrap_or(0);
        if lost == 0 {
            shapes.push(Vec::new());
        } else if let Some(shape) = shapes.last_mut() {
            let upper = foot - (f64::from(lost) / top * (foot - y)).max(1.5);
            shape.extend([(x0, upper), (x1.max(x0 + 0.8), upper)]);
        }
    }
    for mut shape in shapes {
        if let (Some(first), Some(last)) = (shape.first().copied(), shape.last().copied()) {
            shape.extend([(last.0, foot), (first.0, foot)]);
            sheet.area(shape, colour);
        }
    }
    scale(sheet, time, (y, foot), top);
    (most, time.seconds.iter().filter_map(value).map(u64::from).sum())
}

/// A column's edges, and its highest and lowest second.
type Bar = (f64, f64, f32, f32);

/// Columns side by side in which a value is known.
fn runs(time: &Time<'_>, value: fn(&Second) -> Option<f32>) -> Vec<Vec<Bar>> {
    let mut runs: Vec<Vec<Bar>> = vec![Vec::new()];
    for (x0, x1, seconds) in time.columns() {
        let known = || seconds.iter().filter_map(value).filter(|value| value.is_finite());
        match (known().reduce(f32::max), known().reduce(f32::min), runs.last_mut()) {
            (Some(high), Some(low), Some(run)) => run.push((x0, x1, high, low)),
            _ => runs.push(Vec::new()),
        }
    }
    runs.retain(|run| !run.is_empty());
    runs
}

/// The connection's state as a band: the worse, the higher and the darker, and dark is a frame with a cross in it.
fn draw_states(sheet: &mut Sheet, y: f64, foot: f64, time: &Time<'_>) {
    let theme = sheet.theme;
    let mut runs: Vec<(f64, f64, State)> = Vec::new();
    for (x0, x1, seconds) in time.columns() {
        let Some(worst) = seconds.iter().filter_map(|s| s.state).max_by_key(|state| severity(*state)) else { continue };
        match runs.last_mut() {
            Some((_, end, state)) if *state == worst && (x0 - *end).abs() < 0.05 => *end = x1,
            _ => runs.push((x0, x1, worst)),
        }
    }
    for (x0, x1, state) in runs {
        let colour = theme.state(state);
        let height = (foot - y) * [0.18, 0.45, 0.8, 1.0][severity(state)];
        match state {
            State::Dark => {
                sheet.line(vec![(x0, y), (x1, y), (x1, foot), (x0, foot), (x0, y)], colour, 1.2);
                sheet.line(vec![(x0, y), (x1, foot)], colour, 0.8);
                sheet.line(vec![(x0, foot), (x1, y)], colour, 0.8);
            }
            _ => sheet.filled(x0, foot - height, x1, foot, colour),
        }
        // Its word, where there is room: on what is high, above what is low.
        let (ink, baseline) = match state {
            State::Steady => continue,
            State::Strained => (theme.ink(), foot - height - 3.0),
            State::Losing | State::Dark => (theme.ground(), foot - 6.0),
        };
        let writing = Writing::new(10.5, ink).bold();
        let width = writing.width(state.word());
        if width + 8.0 <= x1 - x0 {
            if state == State::Dark {
                sheet.filled(x0 + 2.0, foot - 17.0, x0 + width + 6.0, foot - 3.0, theme.ink());
            }
            sheet.text(x0 + 4.0, baseline, writing, state.word());
        }
    }
    let count = |state: State| time.seconds.iter().filter(|s| s.state == Some(state)).count();
    let bad = [State::Dark, State::Losing, State::Strained].map(|state| (state.word(), count(state)));
    let mut told = bad
        .iter()
        .filter(|(_, seconds)| *seconds > 0)
        .map(|(word, seconds)| format!("{word} {}", clock(*seconds as f64)));
    let (first, second) = (told.next().unwrap_or_else(|| "steady".into()), told.next().unwrap_or_default());
    let told: Vec<String> = [first, second].into_iter().filter(|text| !text.is_empty()).collect();
    values(sheet, time, foot, &told);
}

fn severity(state: State) -> usize {
    match state {
        State::Steady => 0,
        State::Strained => 1,
        State::Losing => 2,
        State::Dark => 3,
    }
}

/// An axis from nothing to its top.
fn scale(sheet: &mut Sheet, time: &Time<'_>, (y, foot): (f64, f64), top: f64) {
    let (theme, left) = (sheet.theme, time.left);
    let writing = Writing::new(10.0, theme.faint()).at(Anchor::Right);
    sheet.line(vec![(left - 4.0, y), (left, y)], theme.faint(), 0.8);
    sheet.line(vec![(left - 4.0, foot), (left, foot)], theme.faint(), 0.8);
    sheet.text(left - 7.0, y + 4.0, writing, &number(top));
    sheet.text(left - 7.0, foot + 1.0, writing, "0");
}

/// Short lines behind a lane.
pub(crate) fn values(sheet: &mut Sheet, time: &Time<'_>, foot: f64, told: &[String]) {
    let writing = Writing::new(10.5, sheet.theme.ink());
    let room = sheet.right() - time.right - 8.0;
    for (n, text) in told.iter().rev().enumerate() {
        sheet.text(time.right + 8.0, foot - 2.0 - 12.0 * n as f64, writing, &writing.fit(text, room));
    }
}
