//! The lantern: how the broadcast stands, for somebody three metres away who looks for half a second; and all there is where a terminal
//! is too small for the screens.

use std::time::Duration;

use moth_core::proposal::Proposal;
use moth_core::suspects::Fault;
use moth_core::{Snapshot, State};
use moth_evening::digest::Slice;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::Line;

use super::app::App;
use super::dialogs::drawn;
use super::model::Model;
use super::parts::{evenings, foot, letters, verdict};
use super::screen::Shown;
use super::style::format::{clock, fit, wrap};
use super::style::palette::{Palette, state_mark};
use crate::logbook::row::bar;

/// The lane below shows so many seconds. Ours: what one still remembers.
const LANE_S: usize = 300;
/// In so few rows between header and lane there is room for the word and little else. Ours.
const SMALL: u16 = 10;
/// The rows of the lane, where there is room for them.
const LANE_ROWS: u16 = 3;

/// How the broadcast stands, in a word.
pub(crate) fn word(snapshot: &Snapshot) -> &'static str {
    match (snapshot.viewers_state(), snapshot.verdict.fault) {
        (None, _) => "WAITING",
        (Some(State::Steady), _) => "ALL WELL",
        (Some(State::Strained), _) => "STRAINED",
        (Some(State::Dark), _) => "DARK",
        (Some(State::Losing), Fault::Network) => "NETWORK",
        (Some(State::Losing), Fault::Encoder) => "ENCODER",
        (Some(State::Losing), Fault::Rendering) => "RENDERING",
        // Frames are lost, and whose fault that is is not known yet.
        (Some(State::Losing), Fault::None) => "LOSING",
    }
}

fn tone(snapshot: &Snapshot, palette: Palette) -> Style {
    match (snapshot.viewers_state(), snapshot.verdict.fault) {
        (Some(State::Losing), fault @ (Fault::Network | Fault::Encoder | Fault::Rendering)) => palette.fault(fault),
        (state, _) => palette.state(state),
    }
}

pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, app: &App, shown: Shown<'_>) {
    let Shown { model, snapshot, palette } = shown;
    if area.height == 0 || area.width == 0 {
        return;
    }
    // What was on before is not on any more.
    let nobody = model.is_over().then(|| over(snapshot));
    let snapshot = nobody.as_ref().unwrap_or(snapshot);
    let tone = tone(snapshot, palette);
    header(frame, Rect { height: 1, ..area }, snapshot, tone);
    let is_roomy = area.height >= 16;
    let (margin, foot) = (u16::from(is_roomy), if is_roomy { 3 + LANE_ROWS } else { 2 });
    let inner = Rect {
        x: area.x + margin,
        width: area.width.saturating_sub(2 * margin),
        y: area.y + 1 + margin,
        height: area.height.saturating_sub(1 + margin + foot),
    };
    let others = also(snapshot, palette);
    // With hardly any room the word comes first, and then that there is more than one fault.
    let has_room = inner.height > SMALL;
    let told = others.as_ref().filter(|_| !has_room).map_or(&snapshot.verdict.sentence, |(names, _)| names);
    let sentence = wrap(told, inner.width.max(1).into());
    let proposal = proposal(model).map(|proposal| format!("Enter: {}", proposal.title));
    // What is said below the word keeps its rows.
    let said_rows =
        u16::try_from(sentence.len()).unwrap_or(u16::MAX).min(inner.height / 4).max(u16::from(inner.height > 4));
    let (action, row) = match &proposal {
        Some(text) if inner.height > 3 => letters::wrapped(text, inner.width, inner.height / 3),
        _ => (Vec::new(), 1),
    };
    let (also, also_row) = match &others {
        Some((text, _)) if has_room => letters::wrapped(text, inner.width, inner.height / 4),
        _ => (Vec::new(), 1),
    };
    let also_rows = (u16::try_from(also.len()).unwrap_or(1) * also_row).min(inner.height / 4);
    let action_rows = u16::try_from(action.len()).unwrap_or(1).min(inner.height / 3) * row;
    let gaps = if is_roomy { 2 } else { 0 };
    let most = inner.height.saturating_sub(said_rows + action_rows + also_rows + gaps);
    let mut y = inner.y;
    y += letters::fill(frame, Rect { height: most, ..inner }, word(snapshot), tone.add_modifier(Modifier::BOLD));
    if let Some((_, tone)) = others.filter(|_| has_room) {
        y = lines_of_letters(frame, Rect { y, height: also_rows, ..inner }, (&also, also_row), tone);
    }
    y += u16::from(is_roomy);
    let is_cut = sentence.len() > usize::from(said_rows);
    for (n, line) in sentence.into_iter().take(said_rows.into()).enumerate() {
        let is_last = is_cut && n + 1 == usize::from(said_rows);
        let line = if is_last { fit(&format!("{line} …"), inner.width.into()) } else { line };
        frame.render_widget(Line::raw(line), Rect { y, height: 1, ..inner });
        y += 1;
    }
    y += u16::from(is_roomy);
    lines_of_letters(frame, Rect { y, height: action_rows, ..inner }, (&action, row), palette.strong());
    let bottom = |up: u16| Rect { y: area.bottom().saturating_sub(up).max(area.y), height: 1, ..area };
    if is_roomy {
        lane(frame, Rect { height: LANE_ROWS, ..bottom(2 + LANE_ROWS) }, snapshot, palette);
        times(frame, bottom(2), palette);
    } else if area.height > 2 {
        lane(frame, bottom(2), snapshot, palette);
    }
    match &app.dialog {
        Some(dialog) => drawn::draw(frame, area, dialog, app.screen, shown),
        None => footer(frame, bottom(1), app),
    }
}

/// What is at fault as well, while frames are lost: in the order of harm, in the colour of the worst of them.
fn also(snapshot: &Snapshot, palette: Palette) -> Option<(String, Style)> {
    let others = snapshot.verdict.others();
    let worst = others.first().filter(|_| snapshot.viewers_state() == Some(State::Losing))?;
    let names: Vec<String> = others.iter().map(|suspect| suspect.fault.word().to_uppercase()).collect();
    Some((format!("+ {}", names.join(" + ")), palette.fault(worst.fault)))
}

/// Draws lines, each so many rows high; gives where they end.
fn lines_of_letters(frame: &mut Frame<'_>, area: Rect, (lines, row): (&[String], u16), style: Style) -> u16 {
    let mut y = area.y;
    for text in lines.iter().take((area.height / row.max(1)).into()) {
        let place = Rect { y, height: row, ..area }.intersection(frame.area());
        if row > 1 {
            letters::draw_small(frame, place, text, style);
        } else {
            frame.render_widget(Line::styled(text.as_str(), style), place);
        }
        y += row;
    }
    y
}

/// What Enter does; `None` if it does nothing.
fn proposal(model: &Model) -> Option<&Proposal> {
    model.proposals().into_iter().next().filter(|_| model.takes_changes() && !model.is_over())
}

/// The same with nobody on air.
fn over(snapshot: &Snapshot) -> Snapshot {
    let mut over = Snapshot { state: None, on_air_since: None, ..snapshot.clone() };
    (over.verdict.fault, over.verdict.sentence) = (Fault::None, "The rehearsal is over.".into());
    over
}

fn header(frame: &mut Frame<'_>, area: Rect, snapshot: &Snapshot, tone: Style) {
    let state = snapshot.viewers_state();
    // The mark along the whole width: what the colour says, without it.
    let mark: String = std::iter::repeat_n(state_mark(state), area.width.into()).collect();
    frame.render_widget(Line::styled(mark, tone), area);
    let on_air = match snapshot.on_air_since {
        Some(since) => format!(" on air {} ", clock(snapshot.at.since(since))),
        None => " no broadcaster ".into(),
    };
    frame.render_widget(Line::styled(on_air, tone.add_modifier(Modifier::REVERSED)), area);
    let word = state.map_or(String::new(), |state| format!(" {} ", state.word()));
    frame.render_widget(Line::styled(word, tone.add_modifier(Modifier::REVERSED)).right_aligned(), area);
}

fn seconds_per_column(width: u16) -> usize {
    LANE_S.div_ceil(usize::from(width.max(1))).max(1)
}

/// What was lost in the last minutes, the newest at the right: higher, the more.
fn lane(frame: &mut Frame<'_>, area: Rect, snapshot: &Snapshot, palette: Palette) {
    let (wide, long) = (seconds_per_column(area.width), snapshot.history.len());
    for column in 0..area.width {
        let until = long.saturating_sub(usize::from(area.width - 1 - column) * wide);
        let from = until.saturating_sub(wide);
        let seconds: Vec<_> = (from..until).filter_map(|at| snapshot.history.get(at).copied()).collect();
        let slice = Slice::of(&seconds);
        let style = evenings::tone(slice, palette);
        let mut put = |row: u16, symbol: &str| {
            let place = (area.x + column, area.y + row);
            if symbol == "█" {
                letters::fill_cell(frame.buffer_mut(), place, style);
            } else if let Some(cell) = frame.buffer_mut().cell_mut(place) {
                cell.set_symbol(symbol).set_style(style);
            }
        };
        if area.height < LANE_ROWS || slice.badness() == 0 {
            put(area.height - 1, &bar(slice).to_string());
            continue;
        }
        // Half a row for each step.
        let halves = u16::from(slice.badness()) + 2;
        for row in 0..halves / 2 {
            put(area.height - 1 - row, "█");
        }
        if halves % 2 == 1 {
            put(area.height - 1 - halves / 2, "▄");
        }
    }
}

fn times(frame: &mut Frame<'_>, area: Rect, palette: Palette) {
    let ago = clock(Duration::from_secs((usize::from(area.width) * seconds_per_column(area.width)) as u64));
    frame.render_widget(Line::styled(format!("{ago} ago"), palette.faint()), area);
    frame.render_widget(Line::styled("now", palette.faint()).right_aligned(), area);
}

fn footer(frame: &mut Frame<'_>, area: Rect, app: &App) {
    let palette = app.palette;
    if let Some(notice) = app.notice.as_ref().or(app.warnings.front()) {
        return foot::tell(frame, area, palette, notice);
    }
    let mut keys = Vec::new();
    if let Some(proposal) = proposal(&app.model) {
        keys.push(("Enter", verdict::key_words(proposal)));
    }
    if !app.is_small.get() {
        keys.push(("0", "back"));
    }
    keys.push(("q", "quit"));
    foot::draw(frame, area, palette, &keys, Some(&app.model.hits));
}
