//! The load on a machine, by engine and by program; another machine of the same streamer beside it.

use moth_core::machine_load::MachineLoad;
use moth_core::rate::grouped;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use crate::terminal::parts::lane::EIGHTHS;
use crate::terminal::style::format::{fit, wrap};
use crate::terminal::style::palette::Palette;

/// Columns for what is measured, and for its value. Ours.
const NAMES: usize = 14;
const VALUES: usize = 11;
/// A share above this is worth a colour: it is where the core begins to weigh it, too. Ours.
const FULL: f64 = 0.9;

/// The one share of which much is good.
const CLOCK: &str = "clock";

/// Rows that machines take side by side, as many as fit.
pub(in crate::terminal) fn rows(machines: &[&MachineLoad], width: u16, palette: Palette) -> u16 {
    let column = usize::from(columns(machines, width).1.saturating_sub(2));
    let most = machines.iter().map(|machine| lines(machine, column, palette).len()).max().unwrap_or(0);
    u16::try_from(most + 1).unwrap_or(u16::MAX)
}

/// How many machines fit side by side, and the columns of each.
fn columns(machines: &[&MachineLoad], width: u16) -> (usize, u16) {
    let fit = (usize::from(width) / 62).clamp(1, machines.len().max(1));
    (fit, width / u16::try_from(fit).unwrap_or(1))
}

/// Draws machines side by side, as many as fit.
pub(in crate::terminal) fn draw(frame: &mut Frame<'_>, area: Rect, machines: &[&MachineLoad], palette: Palette) {
    let (fit, width) = columns(machines, area.width);
    for (i, machine) in machines.iter().take(fit).enumerate() {
        let x = area.x + u16::try_from(i).unwrap_or(0) * width;
        let column = Rect { x, width: width.saturating_sub(2), ..area };
        for (row, line) in lines(machine, usize::from(column.width), palette).into_iter().enumerate() {
            let y = column.y + u16::try_from(row).unwrap_or(u16::MAX);
            if y < area.bottom() {
                frame.render_widget(line, Rect { y, height: 1, ..column });
            }
        }
    }
}

fn lines(machine: &MachineLoad, width: usize, palette: Palette) -> Vec<Line<'static>> {
    let name = machine.host.clone().unwrap_or_else(|| "this machine".into());
    let mut lines = vec![Line::styled(fit(&name, width), palette.strong())];
    let who = |program: &Option<(String, f64)>| match program {
        Some((name, share)) => format!("{name} {:.0} %", share * 100.0),
        None => String::new(),
    };
    let bar_columns = (width.saturating_sub(NAMES + VALUES) * 2 / 5).clamp(6, 24);
    let row = |name: &str, share: Option<f64>, value: String, who: String| {
        // A clock at its most is as it should be.
        let is_full = name != CLOCK && share.is_some_and(|share| share > FULL);
        let style = if is_full { palette.alarm() } else { palette.quantity() };
        let bar = match share {
            Some(share) => {
                let full = (share.clamp(0.0, 1.0) * bar_columns as f64).round() as usize;
                vec![
                    Span::styled("━".repeat(full), style),
                    Span::styled("╌".repeat(bar_columns - full), palette.faint()),
                ]
            }
            None => vec![Span::styled(" ".repeat(bar_columns), palette.faint())],
        };
        let before = NAMES + VALUES + bar_columns + 1;
        let mut who = wrap(&who, width.saturating_sub(before)).into_iter();
        let mut spans = vec![Span::styled(format!("{name:NAMES$}"), palette.faint())];
        spans.extend(bar);
        spans.push(Span::raw(format!(" {:VALUES$}", fit(&value, VALUES - 1))));
        spans.push(Span::raw(who.next().unwrap_or_default()));
        std::iter::once(Line::from(spans))
            .chain(who.map(|row| Line::raw(format!("{:before$}{row}", ""))).collect::<Vec<_>>())
    };
    let percent = |share: Option<f64>| share.map_or("not known".into(), |share| format!("{:.0} %", share * 100.0));
    let own = machine.broadcaster_cpu.map(|share| {
        let name = machine.broadcaster_name.as_deref().unwrap_or("broadcaster");
        format!("{name} {:.0} %  ", share * 100.0)
    });
    let cpu = format!("{}{}", own.unwrap_or_default(), who(&machine.busiest_other));
    lines.extend(row("CPU", machine.cpu, percent(machine.cpu), cpu));
    lines.push(cores(&machine.cores, width, palette));
    lines.extend(row("GPU drawing", machine.gpu_render, percent(machine.gpu_render), who(&machine.gpu_busiest_other)));
    lines.extend(row("GPU video", machine.gpu_encode, percent(machine.gpu_encode), who(&machine.gpu_encode_other)));
    let waits = |what: &str, share: Option<f64>| share.map(|share| format!("{what} {:.0} %", share * 100.0));
    let pressure: Vec<String> = [
        waits("CPU", machine.cpu_pressure),
        waits("memory", machine.memory_pressure),
        waits("disk", machine.disk_pressure),
    ]
    .into_iter()
    .flatten()
    .collect();
    let worst =
        [machine.cpu_pressure, machine.memory_pressure, machine.disk_pressure].into_iter().flatten().reduce(f64::max);
    lines.extend(row("waiting for", worst, percent(worst), pressure.join("  ")));
    let gigabytes = |bytes: u64| format!("{:.1} GB", bytes as f64 / 1e9);
    let swap =
        machine.swap_used_bytes.filter(|bytes| *bytes > 0).map(|bytes| format!("{} swapped out", gigabytes(bytes)));
    let free = machine.memory_available_bytes.map_or("not known".into(), gigabytes);
    lines.extend(row("memory free", None, free, swap.unwrap_or_default()));
    let heat = match (machine.celsius, machine.limit_celsius) {
        (Some(at), Some(limit)) => format!("{at:.0} of {limit:.0} °C"),
        (Some(at), None) => format!("{at:.0} °C"),
        _ => String::new(),
    };
    lines.extend(row(CLOCK, machine.frequency, percent(machine.frequency), heat));
    let written = machine.disk_write_ms.map_or("not known".into(), |ms| format!("{ms:.0} ms"));
    let free = machine.disk_free_bytes.map(|bytes| format!("{} free  ", gigabytes(bytes))).unwrap_or_default();
    let writer = machine.disk_busiest.as_ref().map(|(name, rate)| format!("{name} writes {rate}"));
    lines.extend(row("a write takes", None, written, format!("{free}{}", writer.unwrap_or_default())));
    let uploads: Vec<String> =
        machine.uploads.iter().flatten().take(3).map(|u| format!("{} {}", u.name(), u.rate)).collect();
    let all =
        machine.uploads_in_all().map_or("not known".into(), |rate| format!("{} kb/s", grouped(rate.kbps() as u64)));
    lines.extend(row("others upload", None, all, uploads.join("  ")));
    if let Some(wireless) = machine.wireless {
        let signal = machine.signal_dbm.map(|dbm| format!("signal {dbm:.0} dBm")).unwrap_or_default();
        lines.extend(row("joined by", None, if wireless { "wireless" } else { "wire" }.into(), signal));
    }
    lines
}

/// Every core as one mark, an eighth of it to a step.
fn cores(cores: &[f64], width: usize, palette: Palette) -> Line<'static> {
    let mut spans =
        vec![Span::styled(format!("{:NAMES$}", if cores.is_empty() { "" } else { "each core" }), palette.faint())];
    for share in cores.iter().take(width.saturating_sub(NAMES)) {
        let mark = EIGHTHS[((share.clamp(0.0, 1.0) * 8.0).round() as usize).max(1)];
        let style = if *share > FULL { palette.alarm() } else { palette.quantity() };
        spans.push(Span::styled(mark.to_string(), style));
    }
    Line::from(spans).style(Style::new())
}
