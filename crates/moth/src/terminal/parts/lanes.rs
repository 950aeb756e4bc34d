//! Lanes on one shared time axis, so that cause and loss line up under each other.

use moth_core::history::Second;
use moth_core::suspects::Fault;
use moth_core::{Snapshot, State};
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};

use super::lane::{Columns, Kind, LEVEL, Lane, draw_lane, plain_above, put, row_of, sound_words, top_of, value_in};
use super::time_view::TimeView;
use crate::terminal::style::format::{clock, fit, number, with_unit};
use crate::terminal::style::palette::Palette;

/// Columns for the lanes' names, and for their values at the right. Ours.
const NAMES: u16 = 12;
const VALUES: u16 = 15;
/// The same where there is much room: programs have names. Ours.
const WIDE_VALUES: u16 = 24;
/// From so many columns on there is. Ours.
const WIDE: u16 = 180;

fn values(width: u16) -> u16 {
    if width >= WIDE { WIDE_VALUES } else { VALUES }
}

/// Names of levels.
const PLAN: &str = "plan";
const LINE: &str = "line";
const ASKED: &str = "asked";

/// A lane of these, and what else is told of it.
struct Strip {
    lane: Lane,
    /// What it shows now, in words.
    now: fn(&Snapshot) -> String,
    /// What is planned or allowed, along it.
    levels: fn(&Snapshot) -> Vec<Level>,
    /// Only where there is room once all others have all that they want.
    is_extra: bool,
}

/// A level along a lane that was planned or is a limit, with its name.
type Level = (f32, &'static str);

fn lost_now(snapshot: &Snapshot, fault: Fault) -> String {
    let stage = snapshot.journey.iter().find(|stage| stage.fault == fault);
    stage.and_then(|stage| stage.lost_now.value).map_or("not available".into(), |now| format!("{now} in 3 s"))
}

fn strips(snapshot: &Snapshot) -> Vec<Strip> {
    let strip = |name, unit, kind, rows, now| Strip {
        lane: Lane { name, unit, kind, rows },
        now,
        levels: |_| Vec::new(),
        is_extra: false,
    };
    let bars = |name, unit, value, top, rows, now| strip(name, unit, Kind::Bars { value, asked: None, top }, rows, now);
    let losses = |name, fault, value, now| strip(name, "frames", Kind::Losses(fault, value), (1, 1), now);
    let carried = Kind::Bars { value: |s| s.sent_kbps, asked: Some(|s| s.asked_kbps), top: None };
    let mut strips = vec![
        losses("lagged", Fault::Rendering, |s| s.lagged, |s| lost_now(s, Fault::Rendering)),
        losses("skipped", Fault::Encoder, |s| s.skipped, |s| lost_now(s, Fault::Encoder)),
        losses("dropped", Fault::Network, |s| s.dropped, |s| lost_now(s, Fault::Network)),
        strip("connection", "", Kind::State, (1, 1), |s| s.state.map_or("no broadcaster", State::word).into()),
        Strip { levels: rates, ..strip("carried", "kb/s", carried, (2, 7), |s| with_unit(s.sent_kbps.value, "kb/s")) },
        bars(
            "queue",
            "ms",
            |s| s.queue_ms,
            Some(snapshot.queue_limit_ms as f32),
            (1, 4),
            |s| with_unit(s.queue_ms.value, "ms"),
        ),
        bars("round trip", "ms", |s| s.rtt_ms, None, (1, 4), |s| with_unit(s.rtt_ms.value, "ms")),
        bars("CPU", "%", |s| s.cpu.map(|v| v * 100.0), Some(100.0), (1, 3), |s| with_unit(s.cpu_percent.value, "%")),
    ];
    if snapshot.gpu_percent.value.is_some() {
        let gpu = |s: &Second| s.gpu.map(|v| v * 100.0);
        strips.push(bars("GPU", "%", gpu, Some(100.0), (1, 3), |s| with_unit(s.gpu_percent.value, "%")));
    }
    strips.push(strip("sound", "", Kind::Sound, (0, 1), |s| {
        if s.state.is_some() { sound_words(s.wire.sound).into() } else { "no broadcaster".into() }
    }));
    strips.extend(extras(snapshot));
    strips
}

/// Where there is much room: who else takes the machine and the line, and the ways to routers and to other servers.
fn extras(snapshot: &Snapshot) -> Vec<Strip> {
    let bars = |name, unit, value, top, now| Strip {
        lane: Lane { name, unit, kind: Kind::Bars { value, asked: None, top }, rows: (2, 3) },
        now,
        levels: |_| Vec::new(),
        is_extra: true,
    };
    let machine = &snapshot.machine;
    let mut extras = Vec::new();
    // As long as load is read at all: a lane does not come and go with what is in it.
    if machine.cpu.is_some() {
        extras.push(bars(
            "other CPU",
            "%",
            |s| s.other_cpu.map(|v| v * 100.0),
            Some(100.0),
            |s| {
                let busiest = s.machine.busiest_other.as_ref();
                busiest.map_or("not known".into(), |(name, share)| format!("{:.0} % {name}", share * 100.0))
            },
        ));
    }
    if machine.gpu_encode.is_some() {
        extras.push(bars(
            "GPU video",
            "%",
            |s| s.gpu_encode.map(|v| v * 100.0),
            Some(100.0),
            |s| with_unit(s.gpu_encode_percent.value, "%"),
        ));
    }
    if machine.uploads.is_some() {
        extras.push(bars(
            "uploads",
            "kb/s",
            |s| s.uploads_kbps,
            None,
            |s| with_unit(s.machine.uploads_in_all().map(|rate| rate.kbps()), "kb/s"),
        ));
    }
    if machine.disk_write_ms.is_some() {
        extras.push(bars("disk write", "ms", |s| s.disk_write_ms, None, |s| with_unit(s.machine.disk_write_ms, "ms")));
    }
    extras
}

/// What the setup plans, and what the line sustained, in kb/s.
fn rates(snapshot: &Snapshot) -> Vec<Level> {
    let intended = &snapshot.intended;
    let sound = snapshot.asked_kbps.value.zip(snapshot.video_kbps.value).map_or(0.0, |(all, video)| all - video);
    let plan = intended.video_bitrate.map(|rate| (rate.kbps() + sound.max(0.0)) as f32);
    let line = intended.line.map(|rate| rate.kbps() as f32);
    plan.map(|plan| (plan, PLAN)).into_iter().chain(line.map(|line| (line, LINE))).collect()
}

pub(in crate::terminal) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    palette: Palette,
    view: &TimeView,
    snapshot: &Snapshot,
) {
    let strips = strips(snapshot);
    let heights = heights(&strips, area.height.saturating_sub(2));
    let plot = Rect { x: area.x + NAMES, width: area.width.saturating_sub(NAMES + values(area.width)), ..area };
    let columns = Columns::new(snapshot, view, plot.width.into());
    view.note_shown(columns.span(), plot, columns.scale());
    let buffer = frame.buffer_mut();
    let mut y = area.y;
    for (strip, rows) in strips.iter().zip(heights) {
        if rows > 0 {
            let place = Rect { y, height: rows, ..plot };
            draw_strip(buffer, (area, place), palette, view, (snapshot, strip), &columns);
        }
        y += rows;
    }
    draw_axis(buffer, Rect { y, height: 2, ..plot }, area, (palette, view.cursor), &columns);
    if let Some(column) = view.cursor.and_then(|second| columns.column_of(second)) {
        let wide = columns.scale().1.min(columns.count() - column);
        for (x, row) in (column..column + wide).flat_map(|x| (area.y..y).map(move |row| (x, row))) {
            if let Some(cell) = buffer.cell_mut((plot.x + u16::try_from(x).unwrap_or(0), row)) {
                // A bar that fills its cell has one colour twice: reversed it would look the same.
                cell.bg = Color::Reset;
                cell.modifier.toggle(Modifier::REVERSED);
            }
        }
    }
}

/// A lane with its name, its scale and its levels at the left, and its value at the right.
fn draw_strip(
    buffer: &mut Buffer,
    (area, place): (Rect, Rect),
    palette: Palette,
    view: &TimeView,
    (snapshot, strip): (&Snapshot, &Strip),
    columns: &Columns<'_>,
) {
    let lane = &strip.lane;
    // Names and values stand at a lane's foot, where its bars do.
    let foot = place.bottom() - 1;
    let levels = (strip.levels)(snapshot);
    let planned = levels.iter().filter(|(_, name)| *name == PLAN).map(|(level, _)| plain_above(*level));
    let top = planned.fold(top_of(lane, columns), f32::max);
    buffer.set_string(area.x, foot, fit(lane.name, usize::from(NAMES) - 1), palette.faint());
    draw_lane(buffer, place, palette, (lane, top), columns);
    let second = view.cursor.and_then(|cursor| snapshot.history.get(cursor));
    let value = second.map_or_else(|| (strip.now)(snapshot), |second| value_in(lane, second));
    let beside = |text: &str| fit(text, usize::from(values(area.width)) - 1);
    buffer.set_string(place.right() + 1, foot, beside(&value), Style::new());
    if place.height < 2 || !matches!(lane.kind, Kind::Bars { .. }) {
        return;
    }
    // At the lane's own edge: it is the scale of the bars beside it.
    let scale = format!("{} {}", number(Some(f64::from(top))), lane.unit);
    let scale = format!("{:>1$}", fit(&scale, usize::from(NAMES) - 1), usize::from(NAMES) - 1);
    buffer.set_string(area.x, place.y, scale, palette.faint());
    // What was asked has its own line; one level to a row, each with its name beside it.
    let asked = match (&lane.kind, second) {
        (Kind::Bars { asked: Some(asked), .. }, Some(second)) => asked(second),
        (Kind::Bars { asked: Some(_), .. }, None) => snapshot.asked_kbps.value.map(|kbps| kbps as f32),
        _ => None,
    };
    let mut taken = vec![foot];
    for (level, name) in asked.map(|asked| (asked, ASKED)).into_iter().chain(levels) {
        let row = row_of(place, level / top);
        if level > top || taken.contains(&row) {
            continue;
        }
        taken.push(row);
        let told = format!("{name} {}", number(Some(f64::from(level))));
        buffer.set_string(place.right() + 1, row, beside(&told), palette.faint());
        if name != ASKED {
            for x in place.left()..place.right() {
                if buffer.cell((x, row)).is_some_and(|cell| cell.symbol() == " ") {
                    put(buffer, x, row, LEVEL, palette.faint());
                }
            }
        }
    }
}

/// Shares out the rows: each lane its least, then one more each, round and round, up to its most; then those for much room.
fn heights(strips: &[Strip], mut rows: u16) -> Vec<u16> {
    let mut heights: Vec<u16> = Vec::new();
    for strip in strips {
        let least = if strip.is_extra { 0 } else { strip.lane.rows.0.min(rows) };
        heights.push(least);
        rows -= least;
    }
    while rows > 0 {
        let before = rows;
        for (height, strip) in heights.iter_mut().zip(strips).filter(|(_, strip)| !strip.is_extra) {
            if rows > 0 && *height < strip.lane.rows.1 {
                *height += 1;
                rows -= 1;
            }
        }
        if rows == before {
            break;
        }
    }
    for (height, strip) in heights.iter_mut().zip(strips).filter(|(_, strip)| strip.is_extra) {
        if rows >= strip.lane.rows.0 {
            *height = strip.lane.rows.1.min(rows);
            rows -= *height;
        }
    }
    heights
}

pub(in crate::terminal) fn draw_axis(
    buffer: &mut Buffer,
    strip: Rect,
    area: Rect,
    (palette, cursor): (Palette, Option<usize>),
    columns: &Columns<'_>,
) {
    // A tick each so many seconds, at least ten columns apart.
    let steps = [5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200];
    let (per, wide) = columns.scale();
    let each = steps.into_iter().find(|s| s * wide / per >= 12).unwrap_or(14_400);
    for column in 0..columns.count() {
        let second = columns.second_of(column);
        let x = strip.x + u16::try_from(column).unwrap_or(0);
        let is_tick = second.is_multiple_of(each) && columns.begins(column);
        put(buffer, x, strip.y, if is_tick { '┬' } else { '─' }, palette.faint());
        let label = clock(std::time::Duration::from_secs(second as u64));
        if is_tick && usize::from(strip.right() - x) > label.len() {
            buffer.set_string(x, strip.y + 1, label, palette.faint());
        }
    }
    let snapshot = columns.snapshot();
    for mark in &snapshot.marks {
        if let Some(column) = columns.column_of(mark.at.seconds() as usize) {
            let x = strip.x + u16::try_from(column).unwrap_or(0);
            let (c, style) = if mark.is_change { ('◆', palette.strong()) } else { ('╵', Style::new()) };
            put(buffer, x, strip.y, c, style);
        }
    }
    buffer.set_string(area.x, strip.y, fit("time, marks", usize::from(NAMES) - 1), palette.faint());
    let right = cursor.map_or_else(
        || format!("now {}", clock(snapshot.at.since(moth_core::Moment::START))),
        |second| format!("at {}", clock(std::time::Duration::from_secs(second as u64))),
    );
    buffer.set_string(strip.right() + 1, strip.y, right, Style::new());
    // Beside the labels: what the newest mark up to the cursor says.
    let until = cursor.map_or(f64::INFINITY, |second| second as f64 + 1.0);
    if let Some(mark) = snapshot.marks.iter().rev().find(|m| m.at.seconds() <= until) {
        let text = format!(" {} {} ", clock(mark.at.since(moth_core::Moment::START)), mark.text);
        let text = fit(&text, usize::from(strip.width / 2));
        let width = u16::try_from(unicode_width::UnicodeWidthStr::width(text.as_str())).unwrap_or(0);
        buffer.set_string(area.right().saturating_sub(width), strip.y + 1, text, Style::reset());
    }
}
