//! Who takes this machine, along time: programs, engines and cores, each with its lane on the axis of the lanes of Watch.

use std::collections::VecDeque;

use moth_core::Snapshot;
use moth_core::rate::grouped;
use moth_evening::load::{Load, Machine, Part};
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::lane::{Columns, GAP, draw_bar, plain_above, put};
use super::lanes::draw_axis;
use super::time_view::TimeView;
use crate::terminal::style::format::fit;
use crate::terminal::style::palette::Palette;

/// Rows that lanes take at the least to be worth drawing, the axis among them. Ours.
pub(in crate::terminal) const FEWEST: u16 = 10;
/// Columns for names, and for values at the right. Ours.
const NAMES: u16 = 20;
const VALUES: u16 = 15;
/// Other programs that have a lane, those that took most. Ours.
const PROGRAMS: usize = 3;
/// Cores are known for so many seconds back. Ours: what fits on a wide screen, several times over.
const CORES_S: usize = 1800;

/// How busy each core was, second by second, as long as the screen is there.
#[derive(Debug, Default)]
pub(in crate::terminal) struct Cores {
    /// The second of the first, and each core's share from 0 to 1.
    first: usize,
    seen: VecDeque<Vec<f32>>,
}

impl Cores {
    /// Takes what is known now.
    pub(in crate::terminal) fn take(&mut self, snapshot: &Snapshot) {
        // What is known now is of the second that has just passed.
        let Some(second) = snapshot.history.len().checked_sub(1) else { return };
        let next = self.first + self.seen.len();
        if self.seen.is_empty() || second + 1 < next {
            // It was gone back in time, or another broadcast began.
            (self.first, self.seen) = (second, VecDeque::new());
        } else if second < next {
            return;
        }
        while self.first + self.seen.len() < second {
            self.seen.push_back(Vec::new());
        }
        self.seen.push_back(snapshot.machine.cores.iter().map(|share| *share as f32).collect());
        while self.seen.len() > CORES_S {
            self.seen.pop_front();
            self.first += 1;
        }
    }

    fn share(&self, second: usize, core: usize) -> Option<f32> {
        self.seen.get(second.checked_sub(self.first)?)?.get(core).copied()
    }
}

/// A lane: its name, its unit, its value in a second, and where its bars end if that is not the highest shown.
struct Lane<'a> {
    name: String,
    unit: &'static str,
    top: Option<f32>,
    rows: u16,
    value: Box<dyn Fn(usize) -> Option<f32> + 'a>,
}

/// The programs that took most of something in the seconds shown, most first.
fn takers(loads: &[Load], part: fn(&Load) -> Option<Part>, most: usize) -> Vec<u16> {
    let mut sums: Vec<(u16, f32)> = Vec::new();
    for (program, share) in loads.iter().filter_map(part) {
        match sums.iter_mut().find(|(known, _)| *known == program) {
            Some((_, sum)) => *sum += share,
            None => sums.push((program, share)),
        }
    }
    sums.sort_by(|a, b| b.1.total_cmp(&a.1));
    sums.into_iter().take(most).map(|(program, _)| program).collect()
}

fn lanes<'a>(
    machine: &'a Machine,
    (from, until): (usize, usize),
    (snapshot, cores): (&'a Snapshot, &'a Cores),
) -> Vec<Lane<'a>> {
    let loads = &machine.loads;
    let shown = &loads[from.min(loads.len())..until.min(loads.len())];
    let percent = |name: String, rows, value: Box<dyn Fn(usize) -> Option<f32> + 'a>| Lane {
        name,
        unit: "%",
        top: Some(100.0),
        rows,
        value,
    };
    let of = |figure: fn(&Load) -> Option<f32>| -> Box<dyn Fn(usize) -> Option<f32> + 'a> {
        Box::new(move |second| loads.get(second).and_then(figure).map(|share| share * 100.0))
    };
    let part_of =
        |part: fn(&Load) -> Option<Part>, program: u16, scale: f32| -> Box<dyn Fn(usize) -> Option<f32> + 'a> {
            Box::new(move |second| {
                let load = loads.get(second)?;
                // Only the busiest of each second is known.
                part(load).filter(|(busiest, _)| *busiest == program).map(|(_, share)| share * scale)
            })
        };
    let mut lanes = vec![percent("CPU".into(), 3, of(|load| load.cpu))];
    if shown.iter().any(|load| load.cpu_broadcaster.is_some()) {
        let name = machine.broadcaster.clone().unwrap_or_else(|| "broadcaster".into());
        lanes.push(percent(name, 2, of(|load| load.cpu_broadcaster)));
    }
    for program in takers(shown, |load| load.cpu_other, PROGRAMS) {
        lanes.push(percent(machine.program(program).into(), 2, part_of(|load| load.cpu_other, program, 100.0)));
    }
    if shown.iter().any(|load| load.gpu.is_some()) {
        lanes.push(percent("GPU drawing".into(), 3, of(|load| load.gpu)));
    }
    for program in takers(shown, |load| load.gpu_other, 1) {
        let name = format!("{} on it", machine.program(program));
        lanes.push(percent(name, 2, part_of(|load| load.gpu_other, program, 100.0)));
    }
    if shown.iter().any(|load| load.encode.is_some()) {
        lanes.push(percent("GPU video".into(), 2, of(|load| load.encode)));
    }
    for program in takers(shown, |load| load.upload, 1) {
        let value = part_of(|load| load.upload, program, 1.0);
        lanes.push(Lane {
            name: format!("{} sends", machine.program(program)),
            unit: "kb/s",
            top: None,
            rows: 2,
            value,
        });
    }
    // Of a past broadcast single cores are not kept.
    let is_known = (from..until).any(|second| cores.share(second, 0).is_some());
    for core in 0..if is_known { snapshot.machine.cores.len() } else { 0 } {
        let value = Box::new(move |second| cores.share(second, core).map(|share| share * 100.0));
        lanes.push(percent(format!("core {core}"), 1, value));
    }
    lanes
}

pub(in crate::terminal) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    (palette, view): (Palette, &TimeView),
    (machine, cores): (&Machine, &Cores),
    snapshot: &Snapshot,
) {
    let plot = Rect { x: area.x + NAMES, width: area.width.saturating_sub(NAMES + VALUES), ..area };
    let columns = Columns::new(snapshot, view, plot.width.into());
    let lanes = lanes(machine, columns.span(), (snapshot, cores));
    let buffer = frame.buffer_mut();
    let mut y = area.y;
    let bottom = area.bottom().saturating_sub(2);
    for lane in &lanes {
        // Of single cores as many as fit; of the others less height rather than none.
        let rows = lane.rows.min(bottom.saturating_sub(y));
        if rows == 0 {
            break;
        }
        let strip = Rect { y, height: rows, ..plot };
        let value_of = |column: usize| {
            let from = columns.second_of(column);
            (from..from + columns.scale().0).filter_map(|second| (lane.value)(second)).reduce(f32::max)
        };
        let values: Vec<Option<f32>> = (0..columns.count()).map(value_of).collect();
        let top = lane.top.unwrap_or_else(|| plain_above(values.iter().flatten().copied().fold(0.0, f32::max)));
        for (column, value) in values.iter().enumerate() {
            let x = plot.x + u16::try_from(column).unwrap_or(0);
            match value {
                // Single rows one below the other are not to run together.
                Some(value) if rows == 1 => draw_bar(buffer, strip, x, value / top * 0.875, palette.quantity()),
                Some(value) => draw_bar(buffer, strip, x, value / top, palette.quantity()),
                None if columns.second_of(column) < snapshot.history.len() => {
                    put(buffer, x, strip.bottom() - 1, GAP, palette.faint());
                }
                None => {}
            }
        }
        let foot = strip.bottom() - 1;
        buffer.set_string(area.x, foot, fit(&lane.name, usize::from(NAMES) - 1), palette.faint());
        let told = |value: f32| format!("{} {}", grouped(value.max(0.0).round() as u64), lane.unit);
        if rows > 1 {
            let scale = format!("{:>1$}", told(top), usize::from(NAMES) - 1);
            buffer.set_string(area.x, strip.y, scale, palette.faint());
        }
        // Above stands how things are now: here as well, wherever one looks on Watch.
        let at = snapshot.history.len().checked_sub(1).and_then(|newest| (lane.value)(newest));
        let told = at.map_or("not known".into(), told);
        buffer.set_string(plot.right() + 1, foot, fit(&told, usize::from(VALUES) - 1), Style::new());
        y += rows;
    }
    draw_axis(buffer, Rect { y, height: 2, ..plot }, area, (palette, None), &columns);
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::history::Second;
    use moth_core::moment::Moment;
    use moth_core::{Core, Settings};

    fn at(second: usize, cores: &[f64]) -> Snapshot {
        let mut snapshot = Core::new(Settings { servers: vec!["Aldmoor".into()] }).snapshot(Moment::START);
        (0..second).for_each(|_| snapshot.history.push(Second::default()));
        snapshot.machine.cores = cores.to_vec();
        snapshot
    }

    #[test]
    fn cores_are_known_by_their_second_also_after_one_was_missed_or_time_went_back() {
        let mut cores = Cores::default();
        for second in [3, 3, 4, 6] {
            cores.take(&at(second + 1, &[second as f64 / 10.0, 0.5]));
        }
        assert_eq!((cores.share(3, 0), cores.share(4, 0), cores.share(6, 0)), (Some(0.3), Some(0.4), Some(0.6)));
        assert_eq!((cores.share(5, 0), cores.share(2, 0), cores.share(6, 2)), (None, None, None));
        cores.take(&at(3, &[0.9]));
        assert_eq!((cores.share(2, 0), cores.share(6, 0)), (Some(0.9), None));
    }

    #[test]
    fn the_programs_that_took_most_have_a_lane() {
        let load = |program, share| Load { cpu_other: Some((program, share)), ..Load::default() };
        let loads = [load(0, 0.1), load(1, 0.4), load(0, 0.1), load(2, 0.3)];
        assert_eq!(takers(&loads, |load| load.cpu_other, 2), [1, 2]);
    }
}
