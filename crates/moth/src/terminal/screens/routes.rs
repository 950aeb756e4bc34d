//! The Routes screen: the servers on one scale, tested before one's eyes, and the line to them.

use moth_core::rate::Bitrate;
use moth_plan::measurement::{Carried, ServerResult};
use moth_plan::ranking::Grade;
use moth_plan::text::percent;
use moth_relay::measure::{LinePhase, ServerPhase};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use crate::drawings::bars::{Part, Scale, series};
use crate::measuring::servers_in_turn::Current;
use crate::measuring::surroundings;
use crate::measuring::tester::TestOrder;
use crate::system::out;
use crate::terminal::dialogs::Dialog;
use crate::terminal::dialogs::export::Subject;
use crate::terminal::model::Model;
use crate::terminal::parts::carried::{carried_sentence, carried_to_the_server};
use crate::terminal::parts::lane::EIGHTHS;
use crate::terminal::parts::scroll::Scroll;
use crate::terminal::preparation::{Preparation, TestUnderWay};
use crate::terminal::reaction::Reaction;
use crate::terminal::screen::{HelpLines, Keys, Screen, Shown, inner, nothing_else, without_a_setup};
use crate::terminal::style::format::{fit, wrap};
use crate::terminal::style::palette::{Palette, grade_mark};
use crate::terminal::style::paragraphs::{paint, wrapped};
use crate::terminal::wish::Wish;
use crossterm::event::KeyCode;
use moth_core::Snapshot;
use moth_core::action::Action;

/// Columns for a server's name and region, and for its grade or what is being done to it. Ours.
const NAMES: usize = 26;
const GRADES: usize = 12;
/// Columns of a server's seconds, where there is room for them. Ours.
const SECONDS: usize = 24;

pub(in crate::terminal) const SCREEN: Screen =
    Screen { name: "Routes", draw, keys, help, exports, key, turned_to: nothing_else };

fn draw(frame: &mut Frame<'_>, area: Rect, Shown { model, snapshot, palette }: Shown<'_>) {
    match &model.preparation {
        Some(preparation) => draw_routes(frame, inner(area), (preparation, snapshot, &model.scroll), palette),
        None => without_a_setup(frame, area, model.replay.is_some()),
    }
}

fn keys(Shown { model, .. }: Shown<'_>) -> Keys {
    let keys: &[_] = match &model.preparation {
        None => &[],
        Some(preparation) if preparation.running != TestUnderWay::Nothing => &[("Esc", "end it, with what there is")],
        Some(_) => &[
            ("Enter", "test"),
            ("Space", "choose"),
            ("p", "pick"),
            ("l", "line"),
            ("t", "time"),
            ("r", "region"),
            ("e", "export"),
        ],
    };
    keys.to_vec()
}

fn help(_: Shown<'_>, mut help: HelpLines<'_>) {
    help.key("Enter", "test the chosen servers, one after another");
    help.key("l", "measure the line, against the server under the cursor");
    help.key("↑ ↓ Space", "move, and choose a server or leave it out");
    help.key("r  t", "choose by region; 10, 30 or 60 s for each server");
    help.key("p", "make the server under the cursor the setup's (◆)");
    help.key("Esc", "end a test; what was measured is kept");
    help.key("e", "take servers or line away as SVG or PDF");
    help.others();
    help.gap();
    help.word("bands", "how much a server carries, from 0; each on the same scale");
    help.word("", &marks());
    help.word("holds", "the planned bitrate with headroom, worst moments counted");
    help.word("bufferbloat", "how far the round trip climbs when the line is full");
}

fn exports(model: &Model, _: &Snapshot) -> Vec<(Subject, String)> {
    let preparation = model.preparation.as_ref();
    let servers = preparation.and_then(|p| p.newest_servers()).map(|_| (Subject::Servers, "the comparison of servers"));
    let line = preparation.and_then(|p| p.newest_line()).map(|_| (Subject::Line, "the line, with its round trips"));
    servers.into_iter().chain(line).map(|(subject, words)| (subject, words.to_owned())).collect()
}

fn key(model: &mut Model, code: KeyCode) -> Reaction {
    let (is_on_air, is_demo) = (model.is_on_air(), model.is_demo);
    let Some(preparation) = model.preparation.as_mut() else { return Reaction::none() };
    match code {
        KeyCode::Up => preparation.move_cursor(-1),
        KeyCode::Down => preparation.move_cursor(1),
        KeyCode::Esc | KeyCode::Char('c')
            if matches!(preparation.running, TestUnderWay::Routes | TestUnderWay::Line) =>
        {
            return Reaction::wish(Wish::Test(TestOrder::Cancel));
        }
        _ if preparation.running != TestUnderWay::Nothing => {}
        KeyCode::Char(' ') => preparation.toggle(),
        KeyCode::Char('r') => preparation.next_region(),
        KeyCode::Char('t') => preparation.next_length(),
        KeyCode::Char('p') => return pick(preparation, is_on_air),
        KeyCode::Enter | KeyCode::Char('l') => {
            let ordered = if code == KeyCode::Enter { preparation.routes_order() } else { preparation.line_order() };
            let Some((order, mut words)) = ordered else {
                return Reaction::tell("choose a server first: Space does");
            };
            if preparation.in_use.service.unseen.is_none() {
                words.push_str(". Your channel goes live with it");
            }
            if is_on_air && !is_demo {
                words.push_str(". You are on air: it takes the line your broadcast needs");
            }
            return Reaction::open(Dialog::Consent(Box::new(order), words));
        }
        _ => {}
    }
    Reaction::none()
}

/// The server under the cursor becomes the setup's; before a broadcast, also the one it begins with.
fn pick(preparation: &mut Preparation, is_on_air: bool) -> Reaction {
    match preparation.pick() {
        None => Reaction::none(),
        Some(Err(failure)) => Reaction::tell(failure.to_string()),
        Some(Ok(server)) => {
            let notice = format!("{server} is now the server of the setup {}", preparation.in_use.setup_name);
            let wish = (!is_on_air).then_some(Wish::Act(Action::SwitchServer { server }));
            Reaction { wish, ..Reaction::tell(notice) }
        }
    }
}

fn draw_routes(
    frame: &mut Frame<'_>,
    area: Rect,
    (preparation, snapshot, scroll): (&Preparation, &Snapshot, &Scroll),
    palette: Palette,
) {
    let servers = u16::try_from(preparation.in_use.service.servers.len()).unwrap_or(u16::MAX);
    let roomy = area.height >= servers.saturating_mul(3) + 16;
    let rows_each = if roomy { 3 } else { 1 };
    let told = line_lines((preparation, snapshot), palette, area.width);
    let asked = asked(preparation, palette, area.width);
    let line_rows = told.len().min(if roomy { 9 } else { 5 });
    // However many servers there are, the line has its rows.
    let most = area.height.saturating_sub(2 + 5 + u16::try_from(line_rows).unwrap_or(5)).max(3);
    let [head, _, ruler, list, verdict, closer, _, line] = Layout::vertical([
        Constraint::Length(u16::try_from(asked.len()).unwrap_or(1)),
        Constraint::Length(u16::from(roomy)),
        Constraint::Length(1),
        Constraint::Length(servers.saturating_mul(rows_each).min(most)),
        Constraint::Length(if roomy { 2 } else { 5 }),
        Constraint::Min(0),
        Constraint::Length(u16::from(roomy)),
        Constraint::Length(u16::try_from(line_rows).unwrap_or(5)),
    ])
    .areas(area);
    paint(frame, head, asked);
    servers_on_a_scale(frame, ruler, list, (preparation, snapshot), palette, roomy);
    says(frame, verdict, preparation, palette, roomy);
    second_by_second(frame, closer, preparation, palette);
    scroll.paint(frame, line, told, palette);
}

/// What is asked of the servers, and of which line the figures are.
fn asked(preparation: &Preparation, palette: Palette, width: u16) -> Vec<Line<'static>> {
    let wanted = preparation.in_use.wanted();
    let when = match (&preparation.tested, preparation.running) {
        (_, TestUnderWay::Routes) => preparation.test.as_ref().map_or_else(String::new, |test| {
            format!(
                "testing {} of {}, {} done",
                (test.done.len() + 1).min(test.servers.len()),
                test.servers.len(),
                percent(test.progress())
            )
        }),
        (Some((date, line)), _) => format!("measured {} over {line}", out::date(*date)),
        (None, _) => "nothing tested yet".into(),
    };
    let when = if preparation.is_stand_in() { format!("{when}; the afternoon before, all made up") } else { when };
    let text = format!(
        "{}  {} {}, {} to stay free, {} s each  ",
        preparation.in_use.service.name,
        wanted.planned,
        // Of what is only named on the command line nobody said what is sent.
        if preparation.in_use.is_named() { "taken as planned" } else { "planned" },
        wanted.headroom,
        preparation.seconds()
    );
    if text.width() + when.width() <= usize::from(width) {
        return vec![Line::from(vec![Span::styled(text, palette.strong()), Span::styled(when, palette.faint())])];
    }
    let mut lines = wrapped(&text, width, palette.strong());
    lines.extend(wrapped(&when, width, palette.faint()));
    lines
}

fn servers_on_a_scale(
    frame: &mut Frame<'_>,
    ruler: Rect,
    list: Rect,
    (preparation, snapshot): (&Preparation, &Snapshot),
    palette: Palette,
    roomy: bool,
) {
    // Of a server that was not tested, what the broadcast itself has shown.
    let on_air = snapshot.state.and_then(|_| carried_to_the_server(snapshot));
    let wanted = preparation.in_use.wanted();
    let need = wanted.headroom.needed_for(wanted.planned);
    let with_seconds = list.width >= 118;
    let beside = NAMES + GRADES + if with_seconds { SECONDS + 2 } else { 0 };
    let results: Vec<ServerResult> = preparation.test.as_ref().map_or_else(Vec::new, |test| test.results());
    let current = preparation.test.as_ref().and_then(|test| test.current.as_ref());
    let seen = results.iter().filter_map(|r| r.best()).map(|carried| carried.sustained);
    let scale = Scale::over(
        seen.chain(current.and_then(|c| c.now)).chain([need]),
        usize::from(list.width).saturating_sub(beside),
    );
    let top = Line::from(vec![
        Span::styled(
            format!("{:NAMES$}", format!("{} planned {} +headroom", Part::Planned.mark(), Part::Wanted.mark())),
            palette.faint(),
        ),
        Span::styled(fit(&scale.ruler(), usize::from(ruler.width).saturating_sub(NAMES)), palette.faint()),
    ]);
    frame.render_widget(top, ruler);
    let ranking = preparation.ranking();
    let rows_each = if roomy { 3 } else { 1 };
    // The cursor stays in sight.
    let room = usize::from(list.height) / rows_each;
    let first = (preparation.cursor + 1).saturating_sub(room);
    for (row, index) in preparation.order().into_iter().enumerate().skip(first) {
        let server = &preparation.in_use.service.servers[index];
        let result = results.iter().find(|r| r.server == server.name);
        let testing = current.filter(|c| c.server == server.name);
        let place =
            ranking.as_ref().and_then(|ranking| preparation.place(ranking, &server.name)).filter(|_| testing.is_none());
        let y = list.y.saturating_add(u16::try_from((row - first) * rows_each).unwrap_or(u16::MAX));
        if y >= list.bottom() {
            return;
        }
        let at_cursor = row == preparation.cursor;
        let name_style = if at_cursor { palette.key() } else { palette.strong() };
        let chosen = if preparation.chosen.get(index) == Some(&true) { '●' } else { '○' };
        let is_on_air = on_air.is_some() && snapshot.server == server.name && result.is_none();
        let in_use = if preparation.in_use.setup.server.to_string() == server.name { '◆' } else { ' ' };
        let region = server.region.clone().unwrap_or_default();
        let name = format!(" {} ", fit(&server.name, 13));
        let pad = NAMES.saturating_sub(4 + name.chars().count());
        let mut spans = vec![
            Span::raw(format!("{chosen}{in_use} ")),
            Span::styled(name, name_style),
            Span::styled(format!("{:pad$}", fit(&format!(" {region}"), pad)), palette.faint()),
            Span::raw(" "),
        ];
        let (p5, sustained) = match (testing, result.and_then(|r| r.best())) {
            (Some(Current { now: Some(now), .. }), None) => (*now, *now),
            (Some(Current { now: Some(now), so_far, .. }), Some(best)) => {
                (so_far.best().map_or(*now, |b| b.p5).min(*now), best.sustained.max(*now))
            }
            (_, Some(best)) => (best.p5, best.sustained),
            _ if is_on_air => on_air.map_or((Bitrate::ZERO, Bitrate::ZERO), |carried| (carried, carried)),
            _ => (Bitrate::ZERO, Bitrate::ZERO),
        };
        let tone = place.map_or(palette.quantity(), |place| palette.grade(place.grade));
        for part in scale.band(p5, sustained, wanted.planned, need) {
            let style = match part {
                Part::Firm | Part::Median => tone,
                Part::Planned => palette.strong(),
                Part::Wanted | Part::Empty => palette.faint(),
            };
            spans.push(Span::styled(part.mark().to_string(), style));
        }
        let (state, state_style) = match (testing, place) {
            (Some(current), _) => (doing(preparation, current), palette.strong()),
            (None, Some(place)) => {
                (format!(" {} {}", grade_mark(place.grade), place.grade.word()), palette.grade(place.grade))
            }
            (None, None) if is_on_air => (" on air".to_owned(), palette.faint()),
            (None, None) => (" · untested".to_owned(), palette.faint()),
        };
        spans.push(Span::styled(format!("{:GRADES$}", fit(&state, GRADES)), state_style));
        if with_seconds {
            let seconds = match testing {
                Some(current) => current.seconds.clone(),
                None => result.and_then(|r| r.best()).map_or_else(Vec::new, |best| best.per_second.clone()),
            };
            spans.push(Span::styled(format!("  {}", series(&seconds, scale.to, SECONDS)), tone));
        }
        frame.render_widget(Line::from(spans), Rect { y, height: 1, ..list });
        if roomy {
            let told = match (testing, place) {
                (Some(current), _) => trips(&current.so_far),
                (None, Some(place)) => sentence_with_before(preparation, place),
                (None, None) if is_on_air => on_air.map_or_else(String::new, |carried| {
                    format!("not tested; this broadcast was carried to it at {carried} for 10 s and more (measured): it takes at least that")
                }),
                (None, None) => String::new(),
            };
            let indent = Rect { x: list.x + NAMES as u16, width: list.width.saturating_sub(NAMES as u16), ..list };
            for (i, text) in wrap(&told, indent.width.into()).into_iter().take(2).enumerate() {
                let y = y + 1 + u16::try_from(i).unwrap_or(0);
                if y < list.bottom() {
                    frame.render_widget(Line::styled(text, palette.faint()), Rect { y, height: 1, ..indent });
                }
            }
        }
    }
}

/// Why a server is in its place, and what it was when it was last tested over this line.
fn sentence_with_before(preparation: &Preparation, place: &moth_plan::ranking::Place) -> String {
    let earlier =
        preparation.tested.as_ref().and_then(|(date, line)| preparation.history.before(&place.server, line, *date));
    match earlier.and_then(|(date, result)| Some((date, result.best()?.sustained))) {
        Some((date, sustained)) => format!("{}. On {} it sustained {sustained}.", place.sentence, out::date(date)),
        None => place.sentence.clone(),
    }
}

fn doing(preparation: &Preparation, current: &Current) -> String {
    let share = preparation.test.as_ref().map_or(0.0, |test| test.share_of(current));
    match current.phase {
        ServerPhase::Connecting => " connecting".into(),
        ServerPhase::Planned => format!(" plan {:>4}", percent(share)),
        ServerPhase::Above => format!(" more {:>4}", percent(share)),
        ServerPhase::Done => " done".into(),
    }
}

/// What is known of the way to a server while it is tested.
fn trips(result: &ServerResult) -> String {
    let ms = |what: &str, value: Option<f64>| value.map(|value| format!("{what} {value:.0} ms"));
    let parts: Vec<String> = [
        ms("connected in", result.connect_ms),
        ms("taken in", result.handshake_ms),
        ms("round trip", result.round_trip_ms()),
        ms("jitter", result.planned.as_ref().and_then(|p| p.jitter_ms)),
    ]
    .into_iter()
    .flatten()
    .collect();
    parts.join(", ")
}

/// The most rows and columns a second's bar takes. Ours.
const BAR: (u16, usize) = (9, 5);

/// The server being tested, else the one under the cursor, second by second.
fn second_by_second(frame: &mut Frame<'_>, area: Rect, preparation: &Preparation, palette: Palette) {
    let results: Vec<ServerResult> = preparation.test.as_ref().map_or_else(Vec::new, |test| test.results());
    let current = preparation.test.as_ref().and_then(|test| test.current.as_ref());
    let name = match current {
        Some(current) => Some(current.server.clone()),
        None => preparation.under_cursor().map(|i| preparation.in_use.service.servers[i].name.clone()),
    };
    let Some(result) = name.and_then(|name| results.iter().find(|r| r.server == name)) else { return };
    let seconds = |carried: &Option<Carried>| carried.as_ref().map_or_else(Vec::new, |c| c.per_second.clone());
    let (planned, above) = (seconds(&result.planned), seconds(&result.above));
    let all: Vec<Bitrate> = planned.iter().chain(&above).copied().collect();
    if area.height < 5 || all.is_empty() {
        return;
    }
    let width = usize::from(area.width);
    let column = result.server.chars().count() + 2;
    for (row, (name, figures)) in
        [(result.server.as_str(), trips(result)), ("", pushed(result))].into_iter().enumerate()
    {
        let spans = vec![
            Span::styled(format!("{name:column$}"), palette.strong()),
            Span::styled(fit(&figures, width.saturating_sub(column)), palette.faint()),
        ];
        let y = area.y + u16::try_from(row).unwrap_or(0);
        frame.render_widget(Line::from(spans), Rect { y, height: 1, ..area });
    }
    let area = Rect { y: area.y + 1, height: area.height - 1, ..area };
    let wanted = preparation.in_use.wanted().planned;
    let top = all.iter().copied().max().unwrap_or(wanted).max(wanted).scaled(1.05);
    let rows = (area.height - 2).min(BAR.0);
    let each = (width.saturating_sub(4) / all.len()).clamp(1, BAR.1);
    let per_row = (all.len() * each + 4).min(width);
    for row in 0..rows {
        let (low, high) = (f64::from(rows - row - 1) / f64::from(rows), f64::from(rows - row) / f64::from(rows));
        let at = |rate: Bitrate| rate.bps() as f64 / (top.bps() as f64).max(1.0);
        let has_plan = (low..high).contains(&at(wanted));
        let mut line = String::new();
        for (i, second) in all.iter().enumerate() {
            if i == planned.len() && i > 0 {
                line.push_str("  ");
            }
            let fill = ((at(*second) - low) / (high - low)).clamp(0.0, 1.0);
            let mark = EIGHTHS[(fill * 8.0).round() as usize];
            let mark = if mark == ' ' && has_plan { '┄' } else { mark };
            line.push_str(&mark.to_string().repeat(each.saturating_sub(1).max(1)));
            if each > 1 {
                line.push(if has_plan { '┄' } else { ' ' });
            }
        }
        if has_plan {
            line.push_str(&format!(" planned {wanted}"));
        }
        let y = area.y + 1 + row;
        frame.render_widget(Line::styled(fit(&line, per_row + 24), palette.quantity()), Rect { y, height: 1, ..area });
    }
    let under = format!(
        "{:<wide$}  {}",
        fit("planned bitrate", (planned.len() * each).max(4)),
        if above.is_empty() {
            String::new()
        } else {
            format!("with more, a second in each bar, up to {}", result.above.as_ref().map_or(wanted, |a| a.offered))
        },
        wide = planned.len() * each
    );
    frame.render_widget(
        Line::styled(fit(&under, width), palette.faint()),
        Rect { y: area.y + 1 + rows, height: 1, ..area },
    );
}

/// What pushing a server to its limit showed.
fn pushed(result: &ServerResult) -> String {
    let Some(above) = &result.above else { return String::new() };
    let mut parts = vec![format!("full: round trip {}", ms(above.rtt_ms))];
    parts.extend(above.receiver_limited.map(|share| format!("held up by its window {} of the time", percent(share))));
    parts.extend(above.retransmits.map(|n| format!("{n} segments sent again")));
    parts.push(match result.stalls() {
        0 => "no stall".into(),
        1 => "one stall".into(),
        more => format!("{more} stalls"),
    });
    parts.join(", ")
}

/// Whether it is the line or single servers; on a small screen, why the one under the cursor is in its place.
fn says(frame: &mut Frame<'_>, area: Rect, preparation: &Preparation, palette: Palette, roomy: bool) {
    let mut lines: Vec<Line<'static>> = Vec::new();
    let ranking = preparation.ranking();
    if let Some(ranking) = ranking.as_ref().filter(|_| preparation.running != TestUnderWay::Routes) {
        let style = palette.strong();
        lines.extend(wrap(&ranking.sentence, area.width.into()).into_iter().map(|text| Line::styled(text, style)));
    }
    if !roomy || ranking.is_none() {
        let place = preparation
            .under_cursor()
            .and_then(|i| preparation.place(ranking.as_ref()?, &preparation.in_use.service.servers[i].name));
        let told = match (place, preparation.running) {
            (Some(place), _) => format!("{}: {}", place.server, place.sentence),
            (None, TestUnderWay::Routes) => {
                "Filler is published to each server in turn, first at the planned bitrate, then with more.".into()
            }
            (None, _) => {
                "Enter publishes filler to each chosen server in turn, first at the planned bitrate, then with more."
                    .into()
            }
        };
        lines.extend(wrap(&told, area.width.into()).into_iter().map(|text| Line::styled(text, palette.faint())));
    }
    paint(frame, area, lines);
}

/// The line: what is around it, and what it carries.
fn line_lines((preparation, snapshot): (&Preparation, &Snapshot), palette: Palette, width: u16) -> Vec<Line<'static>> {
    let columns = usize::from(width);
    let heading = |text: String| {
        Line::from(vec![Span::styled("the line  ", palette.strong()), Span::styled(text, palette.faint())])
    };
    let mut lines = Vec::new();
    let around = preparation.around.as_ref();
    let name = around.and_then(|a| a.interface.as_ref()).map(|i| i.line());
    let told = around.zip(name).map_or_else(
        || "l measures it against the server under the cursor".into(),
        |(a, n)| surroundings::words(a, &n),
    );
    let mut rows = wrap(&told, columns.saturating_sub(10)).into_iter();
    lines.push(heading(rows.next().unwrap_or_default()));
    lines.extend(rows.map(|row| Line::styled(format!("          {row}"), palette.faint())));
    if let (TestUnderWay::Line, now) = (preparation.running, preparation.line) {
        let told = match now.map(|now| (now.phase, now)) {
            None | Some((LinePhase::Connecting, _)) => "connecting".to_owned(),
            Some((LinePhase::Idle, now)) => format!("idle, round trip {}", ms(now.rtt_ms)),
            Some((LinePhase::Full, now)) => format!(
                "full: {}, round trip {}, {} of {} s",
                now.now.map_or_else(|| "…".into(), |rate| rate.to_string()),
                ms(now.rtt_ms),
                now.elapsed.as_secs(),
                preparation.seconds()
            ),
        };
        lines.push(Line::styled(format!("          {told}"), palette.quantity()));
        return lines;
    }
    let indent = |text: String, style: Style| Line::styled(format!("          {text}"), style);
    let Some(reading) = &preparation.reading else {
        let said = preparation
            .said_upload
            .map(|rate| format!("By your figure the upload sustains {rate}; nothing measured it."));
        let bounds = carried_sentence(snapshot).into_iter().chain(said);
        lines.extend(
            bounds.flat_map(|told| wrap(&told, columns.saturating_sub(10))).map(|row| indent(row, Style::new())),
        );
        return lines;
    };
    let bloat = reading.bufferbloat_ms.zip(reading.buffer).map_or_else(String::new, |(ms, buffer)| {
        let rpm = reading.rpm.map_or_else(String::new, |rpm| format!(", {rpm} round trips a minute under load"));
        format!("; {ms:.0} ms of bufferbloat ({} buffer){rpm}", buffer.word())
    });
    let retransmits = reading.retransmits.map_or_else(String::new, |n| format!("; {n} segments sent again"));
    let figures =
        format!("round trip {} idle, {} full{bloat}{retransmits}", ms(reading.idle_rtt_ms), ms(reading.full_rtt_ms));
    let wide = columns.saturating_sub(10);
    lines.extend(wrap(&reading.carries, wide).into_iter().map(|text| indent(text, palette.strong())));
    lines.extend(wrap(&figures, wide).into_iter().map(|text| indent(text, palette.faint())));
    for what in reading.held_back.iter().chain([&format!("Try first: {}", reading.first)]) {
        lines.extend(wrap(what, wide).into_iter().map(|text| indent(text, Style::new())));
    }
    lines
}

fn ms(value: Option<f64>) -> String {
    value.map_or_else(|| "not available".into(), |ms| format!("{ms:.0} ms"))
}

/// The marks on this screen, for the help.
fn marks() -> String {
    let grades =
        [Grade::Holds, Grade::Tight, Grade::Short, Grade::Failed].map(|g| format!("{} {}", grade_mark(g), g.word()));
    format!(
        "{} worst moments  {} median second  {} planned  {} with headroom  {}",
        Part::Firm.mark(),
        Part::Median.mark(),
        Part::Planned.mark(),
        Part::Wanted.mark(),
        grades.join("  ")
    )
}
