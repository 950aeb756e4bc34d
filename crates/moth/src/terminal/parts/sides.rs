//! Two broadcasts, or two stretches, compared: what differs in a sentence, both drawn over each other on one axis, and every figure with
//! its interval.

use moth_core::history::Second;
use moth_core::suspects::Fault;
use moth_drawing::ticks::top;
use moth_evening::comparison::{Difference, on_air, value};
use moth_evening::curve::{CARRIED, LOST, Quantity};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use ratatui::symbols::Marker;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Axis, Chart, Dataset, GraphType};

use crate::terminal::logbook_view::Compared;
use crate::terminal::style::format::{clock, fit, number, wrap};
use crate::terminal::style::palette::Palette;
use crate::terminal::style::paragraphs::paint;

/// Columns of an interval. Ours: an odd number, as nothing is in the middle.
const INTERVAL: usize = 25;

pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, palette: Palette, compared: &Compared) {
    let width = usize::from(area.width);
    let mut head: Vec<Line<'static>> =
        wrap(&compared.sentence, width).into_iter().map(|line| Line::styled(line, palette.strong())).collect();
    head.push(Line::default());
    for (n, letter) in ["A", "B"].into_iter().enumerate() {
        let (dot, style) = side(n, palette);
        head.push(Line::from(vec![
            Span::styled(format!("{letter} {dot} "), style),
            Span::raw(fit(&compared.sides.words[n], width.saturating_sub(6))),
        ]));
    }
    if !compared.sides.origins.is_empty() {
        let told = format!("    {}", compared.sides.origins.join("; "));
        head.push(Line::styled(fit(&told, width), palette.faint()));
    }
    head.push(Line::default());
    let head_rows = u16::try_from(head.len()).unwrap_or(u16::MAX);
    let known = |difference: &&Difference| difference.means.iter().any(Option::is_some);
    let rows: Vec<&Difference> = compared.result.differences.iter().filter(known).collect();
    let table_rows = u16::try_from(rows.len() + 1).unwrap_or(u16::MAX);
    let [head_area, drawn, _, table] = Layout::vertical([
        Constraint::Length(head_rows),
        Constraint::Min(0),
        Constraint::Length(u16::from(area.height > head_rows + table_rows + 1)),
        Constraint::Length(table_rows),
    ])
    .areas(area);
    paint(frame, head_area, head);
    if drawn.height >= 8 {
        let [lost, carried] = Layout::vertical([Constraint::Fill(1), Constraint::Fill(1)]).areas(drawn);
        over_each_other(frame, lost, palette, compared, LOST);
        over_each_other(frame, carried, palette, compared, CARRIED);
    } else if drawn.height >= 4 {
        over_each_other(frame, drawn, palette, compared, CARRIED);
    }
    let mut lines = vec![Line::styled(fit(&heading(), width), palette.faint())];
    lines.extend(rows.into_iter().map(|difference| row(difference, compared, width, palette)));
    paint(frame, table, lines);
}

/// What a side is drawn with: it is told by the mark, not by the colour alone.
fn side(n: usize, palette: Palette) -> (&'static str, Style) {
    if n == 0 { ("•", palette.faint()) } else { ("⣀", palette.fault(Fault::Rendering)) }
}

fn heading() -> String {
    format!("  {:<16}{:>10}{:>10}  {:<14}{:^INTERVAL$}  B has, with 95 % confidence", "", "A", "B", "", "less ┆ more")
}

fn row(difference: &Difference, compared: &Compared, width: usize, palette: Palette) -> Line<'static> {
    let measure = difference.measure;
    let known = |mean: Option<f64>| mean.map_or_else(|| "n/a".into(), |mean| value(measure, mean));
    let is_told = compared.result.told().any(|told| told.measure == measure);
    let style = if is_told { palette.strong() } else { Style::new() };
    let [a, b] = difference.means.map(known);
    let figures = format!("{:<16}{a:>10}{b:>10}  {:<14}", measure.words(), measure.unit());
    let lead = Span::styled(if is_told { "◆ " } else { "  " }, palette.strong());
    let mut spans = vec![lead, Span::styled(figures, style)];
    spans.extend(interval(difference, palette));
    let used: usize = spans.iter().map(Span::width).sum();
    spans.push(Span::styled(fit(&format!("  {}", difference.span()), width.saturating_sub(used)), style));
    Line::from(spans)
}

/// Where the difference lies, on a scale of its own: nothing is in the middle.
fn interval(difference: &Difference, palette: Palette) -> Vec<Span<'static>> {
    let middle = INTERVAL / 2;
    let Some((least, most)) = difference.more else { return vec![Span::raw(" ".repeat(INTERVAL))] };
    let reach = least.abs().max(most.abs());
    let place = |value: f64| {
        let share = if reach > 0.0 { value / reach } else { 0.0 };
        (middle as f64 + share * middle as f64).round().clamp(0.0, (INTERVAL - 1) as f64) as usize
    };
    let (from, until) = (place(least), place(most));
    let cell = |at: usize| match at {
        at if at == from && at == until => '│',
        at if at == from => '├',
        at if at == until => '┤',
        at if at > from && at < until => '─',
        at if at == middle => '┆',
        _ => ' ',
    };
    let drawn: String = (0..INTERVAL).map(cell).collect();
    vec![Span::styled(drawn, palette.quantity())]
}

fn over_each_other(frame: &mut Frame<'_>, area: Rect, palette: Palette, compared: &Compared, quantity: Quantity) {
    let long = compared.result.seconds.max(1);
    // A cell of the curve has two dots beside each other.
    let columns = usize::from(area.width.saturating_sub(10)).max(1) * 2;
    let points = |seconds: &[Second]| {
        let on_air = on_air(seconds);
        quantity.points(&on_air[..long.min(on_air.len())], long, columns)
    };
    let sides = compared.seconds.each_ref().map(|seconds| points(seconds));
    let top = top(sides.iter().flatten().map(|(_, value)| *value).fold(0.1, f64::max));
    let datasets = vec![
        Dataset::default().marker(Marker::Dot).graph_type(GraphType::Line).style(side(0, palette).1).data(&sides[0]),
        Dataset::default()
            .marker(Marker::Braille)
            .graph_type(GraphType::Line)
            .style(side(1, palette).1)
            .data(&sides[1]),
    ];
    let times = [0, long / 2, long].map(|at| clock(std::time::Duration::from_secs(at as u64)));
    let faint = palette.faint();
    let chart = Chart::new(datasets)
        .x_axis(
            Axis::default().bounds([0.0, long as f64]).labels(times.map(|time| Span::styled(time, faint))).style(faint),
        )
        .y_axis(
            Axis::default()
                .bounds([0.0, top])
                .labels([
                    Span::styled(format!("{:>6}", 0), faint),
                    Span::styled(format!("{:>6}", number(Some(top))), faint),
                ])
                .style(faint),
        )
        .legend_position(None);
    let [title, plot] = Layout::vertical([Constraint::Length(1), Constraint::Min(0)]).areas(area);
    let name = format!("{}, {}", quantity.name, quantity.unit);
    paint(frame, title, vec![Line::styled(name, palette.faint())]);
    frame.render_widget(chart, plot);
}
