//! The Plan screen: the upload shared out, and the map of pictures it pays for.

use moth_core::rate::Bitrate;
use moth_plan::conversation::conversation;
use moth_plan::picture::{Appearance, Cell};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use crate::cli::meant;
use crate::commands::key;
use crate::setup_in_use::advice::Advice;
use crate::setup_in_use::advice::breach_sentence;
use crate::setup_in_use::advice::budget_sentence;
use crate::terminal::dialogs::export::Subject;
use crate::terminal::dialogs::{Dialog, Typed, type_into};
use crate::terminal::model::Model;
use crate::terminal::parts::carried::carried_sentence;
use crate::terminal::parts::scroll::Scroll;
use crate::terminal::preparation::Preparation;
use crate::terminal::reaction::Reaction;
use crate::terminal::screen::{HelpLines, Keys, Screen, Shown, inner, nothing_else, without_a_setup};
use crate::terminal::style::format::{fit, number, wrap};
use crate::terminal::style::palette::{Palette, look_mark};
use crate::terminal::style::paragraphs::{paint, wrapped};
use crossterm::event::{KeyCode, KeyEvent};
use moth_core::Snapshot;
use moth_plan::picture::Motion;
use moth_store::config::Change;

/// No bitrate is written longer, in characters. Ours.
const LONGEST_RATE: usize = 20;
/// Columns for a size, and for a cell of the map. Ours.
const SIZES: usize = 12;
const CELL: usize = 20;
/// Columns of the bar that shows a cell's share of its need, where there is room; twice the need fills it. Ours.
const NEED: usize = 16;

pub(in crate::terminal) const SCREEN: Screen =
    Screen { name: "Plan", draw, keys, help, exports, key, turned_to: nothing_else };

fn draw(frame: &mut Frame<'_>, area: Rect, Shown { model, snapshot, palette }: Shown<'_>) {
    match &model.preparation {
        Some(preparation) => draw_plan(frame, inner(area), (preparation, snapshot), (&model.scroll, palette)),
        None => without_a_setup(frame, area, model.replay.is_some()),
    }
}

fn keys(Shown { model, .. }: Shown<'_>) -> Keys {
    if model.preparation.is_none() {
        return Keys::new();
    }
    [
        ("m", "motion"),
        ("- +", "free share"),
        ("w", "write to setup"),
        ("i", "your figure"),
        ("k", "key"),
        ("e", "export"),
    ]
    .to_vec()
}

fn help(_: Shown<'_>, mut help: HelpLines<'_>) {
    help.key("m", "how much moves: still, talking, moving, fast");
    help.key("- +", "leave less or more of the upload free");
    help.key("← ↑ ↓ →", "look at another picture; Esc back to the recommended one");
    help.key("w", "write bitrate and picture into the setup");
    help.key("e", "take the map away as SVG or PDF");
    help.key("i", "plan with a figure of yours for the upload");
    help.key("k  x", "replace the stream key; forget it");
    help.others();
    help.gap();
    help.word("", &marks());
    help.word("soft", Appearance::Soft.meaning());
    help.word("blocky", Appearance::Blocky.meaning());
    help.word("spare", Appearance::Spare.meaning());
}

fn exports(model: &Model, _: &Snapshot) -> Vec<(Subject, String)> {
    let plan = model.preparation.as_ref().and_then(|preparation| preparation.plan());
    plan.map(|_| (Subject::Picture, "the map of pictures".to_owned())).into_iter().collect()
}

fn key(model: &mut Model, code: KeyCode) -> Reaction {
    let Some(preparation) = model.preparation.as_mut() else { return Reaction::none() };
    let headroom = preparation.in_use.setup.headroom;
    let change = match code {
        KeyCode::Char('m') => {
            let at = Motion::ALL.iter().position(|m| *m == preparation.in_use.setup.motion).unwrap_or(0);
            preparation.cell = None;
            Change::Motion(Motion::ALL[(at + 1) % Motion::ALL.len()])
        }
        KeyCode::Char('-') => Change::Headroom(headroom.more_by(-5.0)),
        KeyCode::Char('+' | '=') => Change::Headroom(headroom.more_by(5.0)),
        KeyCode::Char('w') => return write(preparation),
        KeyCode::Char('i') => return Reaction::open(Dialog::EnterUpload(String::new())),
        KeyCode::Char('k' | 'x') if preparation.in_use.is_named() => return Reaction::tell(NAMED_KEY),
        KeyCode::Char('k') => return Reaction::open(Dialog::EnterKey(Typed::default())),
        KeyCode::Char('x') => return Reaction::open(Dialog::ForgetKey),
        other => {
            match other {
                KeyCode::Up => move_cell(preparation, -1, 0),
                KeyCode::Down => move_cell(preparation, 1, 0),
                KeyCode::Left => move_cell(preparation, 0, -1),
                KeyCode::Right => move_cell(preparation, 0, 1),
                KeyCode::Esc => preparation.cell = None,
                _ => {}
            }
            return Reaction::none();
        }
    };
    Reaction::telling(preparation.change(&change))
}

/// A key while what the upload sustains is typed.
pub(in crate::terminal) fn type_upload(model: &mut Model, mut typed: String, key: KeyEvent) -> Reaction {
    let Some(preparation) = model.preparation.as_mut() else { return Reaction::none() };
    match key.code {
        KeyCode::Esc => return Reaction::none(),
        KeyCode::Enter if typed.trim().is_empty() => {
            preparation.said_upload = None;
            return Reaction::none();
        }
        KeyCode::Enter => {
            if let Ok((rate, _)) = meant::bitrate(&typed) {
                (preparation.said_upload, preparation.cell) = (Some(rate), None);
                return Reaction::none();
            }
        }
        _ => type_into(&mut typed, key, LONGEST_RATE),
    }
    Reaction::open(Dialog::EnterUpload(typed))
}

/// The figures of what was only named.
const AS_COMMON: &str = "Nothing was said of what is sent: bitrate, size and rate are taken as services commonly ask for them. w on Watch, while you broadcast, keeps what is seen.";

/// There is nothing to replace or forget.
const NAMED_KEY: &str =
    "this key was named on the command line, and is kept nowhere; w on Watch keeps it, with the servers, as a setup";

fn move_cell(preparation: &mut Preparation, rows: i64, columns: i64) {
    let map = preparation.plan_or_setup().map;
    let (row, column) = preparation.cell.unwrap_or(map.recommended);
    let step = |at: usize, by: i64, count: usize| {
        let to = i64::try_from(at).unwrap_or(0) + by;
        usize::try_from(to.max(0)).unwrap_or(0).min(count.saturating_sub(1))
    };
    preparation.cell = Some((step(row, rows, map.sizes.len()), step(column, columns, map.rates.len())));
}

/// Writes the plan into the setup: the advised bitrate, and the picture under the cursor.
fn write(preparation: &mut Preparation) -> Reaction {
    let mut plan = preparation.plan_or_setup();
    plan.map.recommended = preparation.cell.unwrap_or(plan.map.recommended);
    let changes = plan.changes();
    let failed = changes.iter().find_map(|change| preparation.change(change));
    let in_use = &preparation.in_use;
    Reaction::tell(match (failed, changes.is_empty()) {
        (Some(failed), _) => failed,
        (None, true) => format!("the setup {} already is as planned", in_use.setup_name),
        (None, false) => format!(
            "written to {}: {} of video, {} at {} frames/s",
            in_use.setup_name, in_use.setup.bitrate, in_use.setup.size, in_use.setup.rate
        ),
    })
}

fn draw_plan(
    frame: &mut Frame<'_>,
    area: Rect,
    (preparation, snapshot): (&Preparation, &Snapshot),
    (scroll, palette): (&Scroll, Palette),
) {
    let plan = preparation.plan_or_setup();
    let roomy = area.height >= 34;
    let gap = u16::from(roomy);
    let rows = u16::try_from(plan.map.rows.len()).unwrap_or(1) + 1;
    let share = if plan.basis.is_setup {
        unmeasured_lines(&plan, snapshot, palette, area.width)
    } else {
        share_lines(&plan, palette, area.width, roomy)
    };
    let [head, _, map, _, foot] = Layout::vertical([
        Constraint::Length(u16::try_from(share.len()).unwrap_or(4)),
        Constraint::Length(gap),
        // On a small screen the map makes room for what the service asks and for the setup.
        Constraint::Length(rows.min(area.height.saturating_sub(if roomy { 10 } else { 14 })).max(4)),
        Constraint::Length(gap),
        Constraint::Min(2),
    ])
    .areas(area);
    paint(frame, head, share);
    draw_map(frame, map, preparation, &plan, palette);
    let mut lines = under_cursor(preparation, &plan, palette, area.width, roomy);
    if roomy {
        lines.push(Line::default());
    }
    for breach in &plan.breaches {
        lines.extend(wrapped(
            &format!("! {}", breach_sentence(breach, &preparation.in_use.service.name)),
            area.width,
            palette.alarm(),
        ));
    }
    if plan.breaches.is_empty() {
        let told = format!("The setup is within everything {} asks for.", preparation.in_use.service.name);
        lines.extend(wrapped(&told, area.width, Style::new()));
    }
    if roomy {
        lines.push(Line::default());
    }
    lines.extend(setup_lines(preparation, palette, area.width));
    let viewers =
        format!("Viewers need {} of download and {:.1} GB an hour.", plan.viewers.download, plan.viewers.gb_per_hour);
    lines.extend(wrapped(&viewers, area.width, palette.faint()));
    lines.push(Line::default());
    lines.extend(conversation_lines((preparation, snapshot), palette, area.width));
    scroll.paint(frame, foot, lines, palette);
}

/// What is said in the place of the budget before anything is known of the upload.
fn unmeasured_lines(plan: &Advice, snapshot: &Snapshot, palette: Palette, width: u16) -> Vec<Line<'static>> {
    let told = "Nothing was measured yet, and a budget without a measurement is a guess. On Routes (3), Enter tests the servers and l measures the line; i takes a figure of yours.";
    let mut lines = wrapped(told, width, Style::new());
    if let Some(told) = carried_sentence(snapshot) {
        lines.extend(wrapped(&told, width, palette.strong()));
    }
    let told = format!("Below are the pictures that the setup's {} of video pay for.", plan.setup.bitrate);
    lines.extend(wrapped(&told, width, Style::new()));
    lines
}

/// Columns of what is set, and of each end. Ours.
const WHAT: usize = 14;
const END: usize = 22;

/// Talking with viewers, against the finest picture: what is set, and what each costs.
fn conversation_lines(
    (preparation, snapshot): (&Preparation, &Snapshot),
    palette: Palette,
    width: u16,
) -> Vec<Line<'static>> {
    let setup = &preparation.in_use.setup;
    let both = conversation(setup.rate, &preparation.in_use.service.limits);
    let row = |what: &str, talking: &str, finest: &str| format!("{what:<WHAT$}{talking:<END$}{finest:<END$}");
    let mut lines = vec![Line::styled(row("delay", "talking with viewers", "finest picture"), palette.strong())];
    let beside = usize::from(width).saturating_sub(WHAT + 2 * END);
    // All beside what they are the costs of, or all below.
    let has_room = both.settings.iter().all(|setting| setting.costs.width() <= beside);
    for setting in &both.settings {
        let head = row(setting.what, &setting.talking, &setting.finest);
        if has_room {
            lines.push(Line::from(vec![Span::raw(head), Span::styled(setting.costs.clone(), palette.faint())]));
            continue;
        }
        lines.push(Line::raw(head));
        let costs = wrap(&setting.costs, usize::from(width).saturating_sub(WHAT)).into_iter();
        lines.extend(costs.map(|text| Line::styled(format!("{:WHAT$}{text}", ""), palette.faint())));
    }
    let (talking, finest) = (format!("{:.2} s", both.talking_ms / 1000.0), format!("{:.2} s", both.finest_ms / 1000.0));
    lines.push(Line::raw(format!("{}by the encoder, beside queue and way", row("held back", &talking, &finest))));
    lines.extend(wrapped(both.costs_from, width, palette.faint()));
    lines.extend(wrapped(&seen_sentence(snapshot), width, palette.faint()));
    lines
}

/// How what comes now is set, as far as the wire shows it.
fn seen_sentence(snapshot: &Snapshot) -> String {
    let wire = &snapshot.wire;
    let (Some(_), Some(b_frames)) = (snapshot.state, wire.b_frames) else {
        return "What is set now shows on the wire once somebody broadcasts; look-ahead never does.".into();
    };
    let keyframes = wire.keyframe_interval_s.map_or(String::new(), |s| format!(", a keyframe every {s:.1} s"));
    let held = wire.held_back_ms.map_or(String::new(), |ms| format!(", {ms:.0} ms held back"));
    format!(
        "Now: {b_frames} B-frames{held}{keyframes} (inferred), a queue limit of {} ms. Look-ahead does not show on the wire.",
        number(Some(snapshot.queue_limit_ms))
    )
}

/// The upload as one band, shared out: video, audio, headroom, household. Each part has its word below it.
fn share_lines(plan: &Advice, palette: Palette, width: u16, roomy: bool) -> Vec<Line<'static>> {
    let columns = usize::from(width).saturating_sub(1).max(10);
    let all = plan.basis.sustained.max(plan.budget.total()).bps() as f64;
    let part = |rate: Bitrate| ((rate.bps() as f64 / all.max(1.0)) * columns as f64).round() as usize;
    let household = plan.setup.household.min(plan.budget.left);
    let free = plan.budget.left.less(household);
    let parts = [
        ("video", '▇', plan.budget.advised(), palette.quantity()),
        ("audio", '▅', plan.budget.audio, palette.fault(moth_core::suspects::Fault::Rendering)),
        ("household", '░', household, palette.faint()),
        ("free", '·', free, palette.faint()),
    ];
    let (mut band, mut words, mut used) = (Vec::new(), String::new(), 0);
    for (word, mark, rate, style) in parts {
        if rate == Bitrate::ZERO {
            continue;
        }
        let wide = if word == "free" {
            columns.saturating_sub(used)
        } else {
            part(rate).max(1).min(columns.saturating_sub(used))
        };
        let label = format!("{word} {rate}");
        // Words stand below where their part begins, as far as they do not push each other away.
        if words.chars().count() <= used {
            words.push_str(&" ".repeat(used - words.chars().count()));
        } else {
            words.push_str("  ");
        }
        words.push_str(&label);
        // Without its figure rather than with half of it.
        if words.chars().count() > columns {
            words.truncate(words.len() - label.len());
            words.push_str(word);
        }
        band.push(Span::styled(mark.to_string().repeat(wide), style));
        used += wide;
    }
    let mut lines = vec![Line::from(band), Line::styled(fit(&words, columns), palette.faint())];
    if roomy {
        lines.push(Line::default());
    }
    lines.extend(wrapped(&budget_sentence(plan), width, palette.strong()));
    lines
}

fn draw_map(frame: &mut Frame<'_>, area: Rect, preparation: &Preparation, plan: &Advice, palette: Palette) {
    let map = &plan.map;
    let motion = format!("{:<SIZES$}", map.motion.word());
    let mut head = vec![Span::styled(motion, palette.strong())];
    let room = usize::from(area.width).saturating_sub(SIZES) / map.rates.len().max(1);
    let with_bars = room >= CELL + NEED + 2;
    let wide = if with_bars { CELL + NEED + 2 } else { CELL.min(room).max(8) };
    for fps in &map.rates {
        head.push(Span::styled(format!("{:<wide$}", fit(&format!("{fps} frames/s"), wide)), palette.faint()));
    }
    if usize::from(area.width) > SIZES + wide * map.rates.len() + 40 {
        let told =
            if with_bars { "bits per pixel; the bar: share of the need, ┃ all of it" } else { "bits per pixel" };
        head.push(Span::styled(told, palette.faint()));
    }
    frame.render_widget(Line::from(head), Rect { height: 1, ..area });
    let cursor = preparation.cell.unwrap_or(map.recommended);
    let room = usize::from(area.height).saturating_sub(1);
    // With less room than rows, those around the cursor are shown.
    let first = cursor.0.saturating_sub(room / 2).min(map.rows.len().saturating_sub(room));
    for (y, (i, row)) in map.rows.iter().enumerate().skip(first).take(room).enumerate() {
        let in_use = |cell: &Cell| cell.size == plan.setup.size && (cell.fps - plan.setup.rate).abs() < 0.01;
        let mut spans = vec![Span::raw(format!("{:>9}   ", map.sizes[i].to_string()))];
        for (j, cell) in row.iter().enumerate() {
            let mark = match ((i, j) == map.recommended, in_use(cell)) {
                (true, _) => '▸',
                (false, true) => '◆',
                (false, false) => ' ',
            };
            let told = format!("{mark}{} {:<6} {:.3}", look_mark(cell.look), cell.look.word(), cell.bits_per_pixel);
            let tone = palette.look(cell.look);
            let style = if (i, j) == cursor { tone.patch(palette.key()) } else { tone };
            let told = fit(&told, wide.min(CELL) - 1);
            let pad = wide.min(CELL).saturating_sub(told.chars().count());
            spans.push(Span::styled(told, style));
            spans.push(Span::raw(" ".repeat(pad)));
            if with_bars {
                spans.push(Span::styled(need_bar(cell), tone));
                spans.push(Span::raw("  "));
            }
        }
        let y = area.y + 1 + u16::try_from(y).unwrap_or(0);
        frame.render_widget(Line::from(spans), Rect { y, height: 1, ..area });
    }
}

/// A cell's share of its need, up to twice of it.
fn need_bar(cell: &Cell) -> String {
    let filled = (cell.share_of_need / 2.0 * NEED as f64).round() as usize;
    (0..NEED)
        .map(|column| match column {
            _ if column == NEED / 2 => '┃',
            _ if column < filled => '▇',
            _ => '·',
        })
        .collect()
}

/// What the cell under the cursor would be, and what the recommended one is for.
fn under_cursor(
    preparation: &Preparation,
    plan: &Advice,
    palette: Palette,
    width: u16,
    roomy: bool,
) -> Vec<Line<'static>> {
    let map = &plan.map;
    let Some((row, column)) = preparation.cell.filter(|cell| *cell != map.recommended) else {
        let mut lines = wrapped(&format!("▸ {}.", map.reason()), width, Style::new());
        for step in map.steps().into_iter().take(if roomy { 4 } else { 1 }) {
            lines.extend(wrapped(&format!("  {step}"), width, palette.faint()));
        }
        return lines;
    };
    let Some(cell) = map.rows.get(row).and_then(|row| row.get(column)) else { return Vec::new() };
    let told = format!(
        "{} at {} frames/s: {} of what {} pictures need, {}: {}.",
        cell.size,
        cell.fps,
        moth_plan::text::percent(cell.share_of_need),
        map.motion.word(),
        cell.look.word(),
        cell.look.meaning()
    );
    wrapped(&told, width, Style::new())
}

/// The setup as it is, and its key.
fn setup_lines(preparation: &Preparation, palette: Palette, width: u16) -> Vec<Line<'static>> {
    let (setup, in_use) = (&preparation.in_use.setup, &preparation.in_use);
    let encoder =
        [setup.encoder.as_deref(), setup.preset.as_deref()].into_iter().flatten().collect::<Vec<_>>().join(" ");
    let told = format!(
        "Setup {}: {}, server {}; {} at {} frames/s, {} of video, {} of audio, {} {encoder}.",
        in_use.setup_name,
        in_use.service.name,
        setup.server,
        setup.size,
        setup.rate,
        setup.bitrate,
        setup.audio,
        setup.codec
    );
    let mut lines = wrapped(&told, width, palette.faint());
    if in_use.is_named() {
        lines.extend(wrapped(AS_COMMON, width, palette.strong()));
    }
    let key = key::status(in_use.key_status());
    lines.extend(wrapped(&format!("{}: {key}.", in_use.service.name), width, palette.faint()));
    lines
}

/// The marks on this screen, for the help.
fn marks() -> String {
    let looks = [Appearance::Spare, Appearance::Good, Appearance::Soft, Appearance::Blocky]
        .map(|l| format!("{} {}", look_mark(l), l.word()));
    format!("▸ recommended  ◆ the setup's  {}", looks.join("  "))
}
