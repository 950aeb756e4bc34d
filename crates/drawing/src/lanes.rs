//! The lanes of a broadcast on one time axis, with its verdicts and changes: what was carried, what was lost, and when.

use moth_core::State;
use moth_core::history::Second;
use moth_core::suspects::Fault;

use crate::evening::{Evening, Stretch};
use crate::sheet::{Anchor, Drawing, Sheet, Writing};
use crate::theme::{Colour, Theme};
use crate::ticks::{clock, number, times, top};

const WIDTH: f64 = 1120.0;
const MARGIN: f64 = 32.0;
/// Where the lanes begin and end; their names stand before, their numbers behind.
const LEFT: f64 = 150.0;
const RIGHT: f64 = WIDTH - 96.0;
/// Between lanes.
const GAP: f64 = 12.0;
/// Verdicts and changes told below; more are counted.
const MOST_TOLD: usize = 24;

/// What a lane shows.
enum Kind {
    /// How the connection stood.
    State,
    /// Frames lost, of one kind.
    Losses(Fault, fn(&Second) -> Option<u32>),
    /// A quantity; with what was asked of it, and the top of its axis if that is given.
    Quantity { value: fn(&Second) -> Option<f32>, asked: Option<fn(&Second) -> Option<f32>>, top: Option<f64> },
}

struct Lane {
    name: &'static str,
    unit: &'static str,
    kind: Kind,
    height: f64,
}

fn lanes(evening: &Evening, stretch: &[Second]) -> Vec<Lane> {
    let quantity = |name, unit, value: fn(&Second) -> Option<f32>, top, height| Lane {
        name,
        unit,
        kind: Kind::Quantity { value, asked: None, top },
        height,
    };
    let losses = |name, fault, value| Lane { name, unit: "frames/s", kind: Kind::Losses(fault, value), height: 34.0 };
    let all = vec![
        losses("lagged", Fault::Rendering, |s: &Second| s.lagged),
        losses("skipped", Fault::Encoder, |s: &Second| s.skipped),
        losses("dropped", Fault::Network, |s: &Second| s.dropped),
        Lane { name: "connection", unit: "", kind: Kind::State, height: 26.0 },
        Lane {
            name: "carried",
            unit: "kb/s",
            kind: Kind::Quantity { value: |s| s.sent_kbps, asked: Some(|s| s.asked_kbps), top: None },
            height: 110.0,
        },
        quantity("queue", "ms", |s| s.queue_ms, Some(evening.queue_limit_ms.max(1.0)), 54.0),
        quantity("round trip", "ms", |s| s.rtt_ms, None, 54.0),
        quantity("CPU", "%", |s| s.cpu.map(|share| share * 100.0), Some(100.0), 44.0),
        quantity("GPU", "%", |s| s.gpu.map(|share| share * 100.0), Some(100.0), 44.0),
    ];
    // What was never known has no lane: an empty one would read as nothing lost.
    let is_known = |lane: &Lane| match lane.kind {
        Kind::State => stretch.iter().any(|s| s.state.is_some()),
        Kind::Losses(_, value) => stretch.iter().any(|s| value(s).is_some()),
        Kind::Quantity { value, .. } => stretch.iter().any(|s| value(s).is_some()),
    };
    all.into_iter().filter(is_known).collect()
}

/// The seconds that are drawn, and where each stands.
struct Time<'a> {
    seconds: &'a [Second],
    from_s: f64,
    until_s: f64,
}

impl Time<'_> {
    fn x(&self, at_s: f64) -> f64 {
        let share = (at_s - self.from_s) / (self.until_s - self.from_s).max(1.0);
        LEFT + share.clamp(0.0, 1.0) * (RIGHT - LEFT)
    }

    /// The seconds of each column of a pixel, or each second where there are fewer.
    fn columns(&self) -> Vec<(f64, f64, &[Second])> {
        let count = self.seconds.len().min((RIGHT - LEFT) as usize).max(1);
        (0..count)
            .filter_map(|column| {
                let edge = |n: usize| n * self.seconds.len() / count;
                let (from, until) = (edge(column), edge(column + 1));
                let inside = self.seconds.get(from..until).filter(|inside| !inside.is_empty())?;
                Some((self.x(self.from_s + from as f64), self.x(self.from_s + until as f64), inside))
            })
            .collect()
    }
}

/// Draws a stretch of a broadcast.
#[must_use]
pub fn draw(evening: &Evening, stretch: Stretch, theme: Theme) -> Drawing {
    let last = evening.seconds.len();
    let from = (stretch.from_s.max(0.0).floor() as usize).min(last);
    let until = (stretch.until_s.max(0.0).ceil() as usize).clamp(from, last);
    let time =
        Time { seconds: &evening.seconds[from..until], from_s: from as f64, until_s: until.max(from + 1) as f64 };
    let mut sheet = Sheet::new(theme, WIDTH);
    let title = title(&time);
    sheet.text(MARGIN, 44.0, Writing::new(20.0, theme.ink()).bold(), &title);
    let begun = evening.time(time.from_s).map(|at| at.strftime(", begun %Y-%m-%d %H:%M:%S %:z").to_string());
    let below =
        format!("{} to {} of {}{}", clock(time.from_s), clock(time.until_s), evening.source, begun.unwrap_or_default());
    sheet.text(MARGIN, 64.0, Writing::new(12.0, theme.faint()), &below);

    let mut y = 84.0;
    let verdicts: Vec<_> =
        evening.verdicts.iter().filter(|stood| stood.until_s > time.from_s && stood.from_s < time.until_s).collect();
    let changes: Vec<_> =
        evening.changes.iter().filter(|change| (time.from_s..=time.until_s).contains(&change.at_s)).collect();
    let lanes_top = y;
    if !verdicts.is_empty() {
        draw_verdicts(&mut sheet, y, &time, &verdicts);
        y += 26.0 + GAP;
    }
    for lane in lanes(evening, time.seconds) {
        draw_lane(&mut sheet, y, &time, &lane);
        y += lane.height + GAP;
    }
    draw_axis(&mut sheet, y - GAP / 2.0, lanes_top, &time);
    let mut last_x = f64::NEG_INFINITY;
    for (n, change) in changes.iter().enumerate() {
        let x = time.x(change.at_s);
        sheet.dashed((x, lanes_top - 2.0), (x, y - GAP / 2.0), theme.ink());
        let writing = Writing::new(11.0, theme.ink()).bold().at(Anchor::Middle);
        let name = letters(n);
        // Where they stand too close, the dashes remain, and the list tells the time.
        if x - last_x > writing.width(&name) + 6.0 {
            sheet.text(x, lanes_top - 5.0, writing, &name);
            last_x = x;
        }
    }
    y += 30.0;
    y = tell(&mut sheet, y, &verdicts, &changes);
    y = how_known(&mut sheet, y, evening);
    sheet.finish(y + MARGIN, &title, &below)
}

/// What is to be seen, in words.
fn title(time: &Time<'_>) -> String {
    let sum = |value: fn(&Second) -> Option<u32>| -> u64 { time.seconds.iter().filter_map(value).map(u64::from).sum() };
    let due = sum(|s| s.due);
    let lost = [("dropped", sum(|s| s.dropped)), ("skipped", sum(|s| s.skipped)), ("lagged", sum(|s| s.lagged))];
    let told: Vec<String> = lost
        .iter()
        .filter(|(_, count)| *count > 0)
        .map(|(kind, count)| format!("{} {kind}", number(*count as f64)))
        .collect();
    if due == 0 {
        return "Nothing was broadcast".into();
    }
    if told.is_empty() {
        return format!("Of {} frames none was lost, as far as was known", number(due as f64));
    }
    let share = lost.iter().map(|(_, count)| count).sum::<u64>() as f64 / due as f64 * 100.0;
    format!("Of {} frames, {}: {}", number(due as f64), told.join(", "), percent(share))
}

fn percent(share: f64) -> String {
    if share < 0.1 { "under 0.1 %".into() } else { format!("{share:.1} %") }
}

/// A, B, … Z, AA, AB, …
fn letters(n: usize) -> String {
    let letter = |n: usize| char::from(b'A' + u8::try_from(n % 26).unwrap_or_default());
    if n < 26 { letter(n).into() } else { [letter(n / 26 - 1), letter(n)].iter().collect() }
}

fn draw_verdicts(sheet: &mut Sheet, y: f64, time: &Time<'_>, verdicts: &[&crate::evening::Stood]) {
    let theme = sheet.theme;
    sheet.text(MARGIN, y + 17.0, Writing::new(13.0, theme.ink()), "at fault");
    for (n, stood) in verdicts.iter().enumerate() {
        let (x0, x1) = (time.x(stood.from_s), time.x(stood.until_s).max(time.x(stood.from_s) + 1.5));
        let colour = theme.fault(stood.fault);
        hatch(sheet, (x0, y, x1, y + 24.0), stood.fault, colour);
        // Its number, and its stage where there is room: neither is told by the colour alone.
        let writing = Writing::new(11.0, theme.ink()).bold();
        let number = (n + 1).to_string();
        let both = format!("{number} {}", stood.fault.word());
        let told = [both, number].into_iter().find(|text| writing.width(text) + 6.0 <= x1 - x0);
        if let Some(told) = told {
            let width = writing.width(&told);
            sheet.filled(x0 + 1.5, y + 5.0, x0 + width + 5.5, y + 19.0, theme.ground());
            sheet.text(x0 + 3.5, y + 16.0, writing, &told);
        }
    }
}

/// A box whose hatching tells the stage in black and white as well: the network's rises, the encoder's stands, the rendering's
/// lies.
fn hatch(sheet: &mut Sheet, (x0, y0, x1, y1): (f64, f64, f64, f64), fault: Fault, colour: Colour) {
    let outline = vec![(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)];
    let step = 5.0;
    match fault {
        Fault::Rendering => {
            let mut y = y0 + step / 2.0;
            while y < y1 {
                sheet.line(vec![(x0, y), (x1, y)], colour, 1.2);
                y += step;
            }
        }
        Fault::Encoder | Fault::None => {
            let mut x = x0 + step / 2.0;
            while x < x1 {
                sheet.line(vec![(x, y0), (x, y1)], colour, 1.2);
                x += step;
            }
        }
        Fault::Network => {
            let height = y1 - y0;
            let mut x = x0 - height;
            while x < x1 {
                // Cut off at both sides.
                let (from, to) = (x.max(x0), (x + height).min(x1));
                if to > from {
                    sheet.line(vec![(from, y1 - (from - x)), (to, y1 - (to - x))], colour, 1.2);
                }
                x += step;
            }
        }
    }
    sheet.line(outline, colour, 1.2);
}

fn draw_lane(sheet: &mut Sheet, y: f64, time: &Time<'_>, lane: &Lane) {
    let theme = sheet.theme;
    let foot = y + lane.height;
    sheet.text(MARGIN, foot - 2.0, Writing::new(13.0, theme.ink()), lane.name);
    if !matches!(lane.kind, Kind::State) {
        let x = LEFT - 8.0 - Writing::new(10.0, theme.faint()).width("0") - 10.0;
        sheet.text(x, foot - 2.0, Writing::new(10.0, theme.faint()).at(Anchor::Right), lane.unit);
    }
    sheet.line(vec![(LEFT, foot), (RIGHT, foot)], theme.rule(), 0.8);
    match &lane.kind {
        Kind::State => draw_states(sheet, y, foot, time),
        Kind::Losses(fault, value) => {
            let most = time.seconds.iter().filter_map(value).max().unwrap_or(0);
            let top = top(f64::from(most.max(1)));
            let colour = theme.fault(*fault);
            let mut shapes: Vec<Vec<(f64, f64)>> = vec![Vec::new()];
            for (x0, x1, seconds) in time.columns() {
                // The worst second of a column: an extreme of one second is still seen after eight hours.
                let lost = seconds.iter().filter_map(value).max().unwrap_or(0);
                if lost == 0 {
                    shapes.push(Vec::new());
                } else if let Some(shape) = shapes.last_mut() {
                    let upper = foot - (f64::from(lost) / top * lane.height).max(1.5);
                    shape.extend([(x0, upper), (x1.max(x0 + 0.8), upper)]);
                }
            }
            for mut shape in shapes {
                if let (Some(first), Some(last)) = (shape.first().copied(), shape.last().copied()) {
                    shape.extend([(last.0, foot), (first.0, foot)]);
                    sheet.area(shape, colour);
                }
            }
            scale(sheet, y, foot, top);
            let total: u64 = time.seconds.iter().filter_map(value).map(u64::from).sum();
            values(sheet, foot, &format!("{} in all", number(total as f64)), &format!("{most} at worst"));
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
            scale(sheet, y, foot, top);
            let known: Vec<f32> = time.seconds.iter().filter_map(value).collect();
            let mean = known.iter().map(|v| f64::from(*v)).sum::<f64>() / known.len().max(1) as f64;
            values(
                sheet,
                foot,
                &format!("{} mean", number(mean.round())),
                &match asked {
                    Some(_) => "line: asked for".to_owned(),
                    None => format!("{} at most", number(f64::from(highest(value)).round())),
                },
            );
        }
    }
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
    values(sheet, foot, &first, &second);
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
fn scale(sheet: &mut Sheet, y: f64, foot: f64, top: f64) {
    let theme = sheet.theme;
    let writing = Writing::new(10.0, theme.faint()).at(Anchor::Right);
    sheet.line(vec![(LEFT - 4.0, y), (LEFT, y)], theme.faint(), 0.8);
    sheet.line(vec![(LEFT - 4.0, foot), (LEFT, foot)], theme.faint(), 0.8);
    sheet.text(LEFT - 7.0, y + 4.0, writing, &number(top));
    sheet.text(LEFT - 7.0, foot + 1.0, writing, "0");
}

/// Two short lines behind a lane.
fn values(sheet: &mut Sheet, foot: f64, first: &str, second: &str) {
    let writing = Writing::new(10.5, sheet.theme.ink());
    let room = WIDTH - 8.0 - (RIGHT + 8.0);
    let (upper, lower) = (writing.fit(first, room), writing.fit(second, room));
    sheet.text(RIGHT + 8.0, foot - if lower.is_empty() { 2.0 } else { 14.0 }, writing, &upper);
    sheet.text(RIGHT + 8.0, foot - 2.0, writing, &lower);
}

fn draw_axis(sheet: &mut Sheet, y: f64, top: f64, time: &Time<'_>) {
    let theme = sheet.theme;
    sheet.line(vec![(LEFT, y), (RIGHT, y)], theme.ink(), 1.0);
    let writing = Writing::new(11.0, theme.ink()).at(Anchor::Middle);
    for at in times(time.from_s, time.until_s, 10) {
        let x = time.x(f64::from(at));
        sheet.line(vec![(x, y), (x, y + 5.0)], theme.ink(), 1.0);
        sheet.rule((x, top), (x, y));
        sheet.text(x, y + 18.0, writing, &clock(f64::from(at)));
    }
    sheet.text(MARGIN, y + 18.0, Writing::new(11.0, theme.faint()), "since the beginning");
}

/// The verdicts and changes in words.
fn tell(
    sheet: &mut Sheet,
    mut y: f64,
    verdicts: &[&crate::evening::Stood],
    changes: &[&crate::evening::Changed],
) -> f64 {
    let theme = sheet.theme;
    let (plain, bold) = (Writing::new(12.0, theme.ink()), Writing::new(12.0, theme.ink()).bold());
    let room = sheet.width() - MARGIN - 210.0;
    let row = |sheet: &mut Sheet, y: &mut f64, name: &str, times: &str, text: &str| {
        *y += 18.0;
        sheet.text(MARGIN, *y, bold, name);
        sheet.text(MARGIN + 34.0, *y, plain, times);
        for (n, line) in plain.wrap(text, room).iter().enumerate() {
            *y += if n > 0 { 16.0 } else { 0.0 };
            sheet.text(210.0, *y, plain, line);
        }
    };
    for (n, stood) in verdicts.iter().take(MOST_TOLD).enumerate() {
        let times = format!("{} to {}", clock(stood.from_s), clock(stood.until_s));
        let text = format!("{}, {:.0} % sure: {}", stood.fault.word(), stood.confidence * 100.0, stood.sentence);
        row(sheet, &mut y, &(n + 1).to_string(), &times, &text);
    }
    for (n, change) in changes.iter().take(MOST_TOLD).enumerate() {
        row(sheet, &mut y, &letters(n), &clock(change.at_s), &change.what);
    }
    let more = verdicts.len().saturating_sub(MOST_TOLD) + changes.len().saturating_sub(MOST_TOLD);
    if more > 0 {
        row(sheet, &mut y, "…", "", &format!("and {more} more; a shorter stretch shows them"));
    }
    y
}

/// How the figures are known, and what could not be seen.
fn how_known(sheet: &mut Sheet, mut y: f64, evening: &Evening) -> f64 {
    let writing = Writing::new(11.0, sheet.theme.faint());
    let known =
        ["measured: what was carried, queued and dropped, the round trip, the machine's load"].map(str::to_owned);
    let known = known.iter().chain(&evening.known).map(String::as_str).collect::<Vec<_>>().join("; ");
    let mut told = vec![
        format!("How it is known: {known}."),
        "A column that holds several seconds shows the worst of them; of a quantity the highest and the lowest. A lane that was \
         never known is left out."
            .to_owned(),
    ];
    told.extend(evening.unseen.iter().map(|what| format!("Not seen: {what}.")));
    y += 14.0;
    for line in told.iter().flat_map(|text| writing.wrap(text, sheet.width() - 2.0 * MARGIN)).collect::<Vec<_>>() {
        y += 15.0;
        sheet.text(MARGIN, y, writing, &line);
    }
    y
}
