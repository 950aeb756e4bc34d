//! How the first minute looks.

use moth_core::rate::grouped;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use super::draft::{Read, Slot};
use super::{Asked, FirstMinute, Page, STEPS};
use crate::setup_in_use::KeyStatus;
use crate::terminal::parts::{foot, letters};
use crate::terminal::style::format::{fit, wrap};
use crate::terminal::style::paragraphs::paint;

/// Columns for what is to be entered, before what is. Ours.
const LABELS: usize = 16;
/// No text is wider: long lines are hard to read. Ours.
const WIDEST: u16 = 100;

/// Draws the whole screen.
pub(crate) fn draw(frame: &mut Frame<'_>, first: &FirstMinute) {
    let area = frame.area();
    if area.height < 3 || area.width < 20 {
        return;
    }
    header(frame, Rect { height: 1, ..area }, first);
    let inner = Rect { x: area.x + 1, width: (area.width - 2).min(WIDEST), y: area.y + 2, height: area.height - 3 };
    let mut lines = Lines { left: inner, frame };
    match first.page {
        Page::Setups => setups(&mut lines, first),
        Page::PublishTo => publish_to(&mut lines, first),
        _ => page(&mut lines, first),
    }
    footer(frame, Rect { y: area.y + area.height - 1, height: 1, ..area }, first);
}

/// Lines from the top, as far as there is room.
struct Lines<'a, 'b> {
    frame: &'a mut Frame<'b>,
    left: Rect,
}

impl Lines<'_, '_> {
    fn put(&mut self, line: Line<'_>) {
        if self.left.height == 0 {
            return;
        }
        self.frame.render_widget(line, Rect { height: 1, ..self.left });
        self.skip(1);
    }

    fn skip(&mut self, rows: u16) {
        let rows = rows.min(self.left.height);
        (self.left.y, self.left.height) = (self.left.y + rows, self.left.height - rows);
    }

    fn text(&mut self, text: &str, style: Style) {
        for line in wrap(text, self.left.width.into()) {
            self.put(Line::styled(line, style));
        }
    }
}

fn title(page: Page) -> &'static str {
    match page {
        Page::Setups => "Setups",
        Page::Service => "Service",
        Page::Servers => "Servers",
        Page::Key => "Stream key",
        Page::Sends => "Picture",
        Page::PublishTo => "Broadcaster",
    }
}

/// Where one is on the way.
fn header(frame: &mut Frame<'_>, area: Rect, first: &FirstMinute) {
    let palette = first.palette;
    let mut spans = vec![Span::styled(" vigilant moth ", palette.strong())];
    let Some(here) = first.page.step() else {
        spans.push(Span::styled(" Setups ", palette.strong().add_modifier(Modifier::UNDERLINED)));
        return frame.render_widget(Line::from(spans), area);
    };
    for (n, page) in STEPS.into_iter().enumerate() {
        let style = match n.cmp(&here) {
            std::cmp::Ordering::Equal => palette.strong().add_modifier(Modifier::UNDERLINED),
            std::cmp::Ordering::Less => Style::new(),
            std::cmp::Ordering::Greater => palette.faint(),
        };
        if n > 0 {
            let path = if n <= here { " ──▸ " } else { " ··▸ " };
            spans.push(Span::styled(path, palette.faint()));
        } else {
            spans.push(Span::raw(" "));
        }
        spans.push(Span::styled(title(page), style));
    }
    let spans = if Line::from(spans.clone()).width() > usize::from(area.width) {
        let step = format!(" {} of {}: {}", here + 1, STEPS.len(), title(first.page));
        vec![Span::styled(" vigilant moth ", palette.strong()), Span::raw(step)]
    } else {
        spans
    };
    frame.render_widget(Line::from(spans), area);
}

/// What is asked, and why.
fn question(page: Page) -> (&'static str, &'static str) {
    match page {
        Page::Service => (
            "Where do you broadcast to?",
            "A service, a host of your own, or anything else that takes RTMP. If it says how much video it takes at most, the \
             moth keeps to that, and warns before it is broken.",
        ),
        Page::Servers => (
            "Which ingest servers does it have?",
            "Paste one address or all of them: rtmp://HOST/APP or rtmps://HOST/APP, with a name before each if you like. With \
             several the moth finds out which one serves you best, and can move to another in the middle of a broadcast. The \
             stream key is no part of them.",
        ),
        Page::Key => (
            "The stream key",
            "Paste it as the service shows it. Whoever has it can broadcast as you: it is not shown here, and is kept in a file \
             that only you can read.",
        ),
        Page::Sends => (
            "What does your broadcaster send?",
            "As it is set there now; none of it is changed. Whether the line bears it, and whether another size would look \
             better, the moth finds out with you afterwards.",
        ),
        Page::Setups | Page::PublishTo => ("", ""),
    }
}

fn label(slot: Slot) -> &'static str {
    match slot {
        Slot::Name => "name",
        Slot::Limit => "video at most",
        Slot::Server => "address",
        Slot::Key => "stream key",
        Slot::Bitrate => "video bitrate",
        Slot::Size => "picture size",
        Slot::Rate => "frame rate",
        Slot::Audio => "audio bitrate",
        Slot::SetupName => "new name",
    }
}

fn page(lines: &mut Lines<'_, '_>, first: &FirstMinute) {
    let palette = first.palette;
    let (asked, why) = question(first.page);
    lines.text(asked, palette.strong());
    lines.skip(1);
    lines.text(why, palette.faint());
    lines.skip(1);
    if first.page == Page::Servers {
        for (n, server) in first.draft.servers.iter().enumerate() {
            let is_under = first.server == Some(n);
            let style = if is_under { palette.strong() } else { Style::new() };
            let lead = if is_under { "▸ " } else { "  " };
            let text = format!("{lead}{:<LABELS$}{}", server.name, server.address);
            lines.put(Line::styled(fit(&text, lines.left.width.into()), style));
        }
        if !first.draft.servers.is_empty() {
            lines.skip(1);
        }
    }
    for (n, slot) in first.page.slots().iter().enumerate() {
        field(lines, first, *slot, n == first.field && first.server.is_none());
    }
}

/// What is to be entered, what is typed, and what that is taken as.
fn field(lines: &mut Lines<'_, '_>, first: &FirstMinute, slot: Slot, is_here: bool) {
    let palette = first.palette;
    let room = usize::from(lines.left.width).saturating_sub(LABELS + 3);
    let lead = if is_here { "▸ " } else { "  " };
    let style = if is_here { palette.strong() } else { palette.faint() };
    let mut spans = vec![Span::styled(format!("{lead}{:<LABELS$}", label(slot)), style)];
    let read = first.draft.read(slot);
    let typed = if slot == Slot::Key {
        // Not even its length is told.
        if is_here { vec![Span::styled(" ", palette.key())] } else { Vec::new() }
    } else {
        entry(first, slot, is_here, room)
    };
    spans.extend(typed);
    if let Read::Empty(usual) = &read {
        let used: usize = spans.iter().map(Span::width).sum();
        spans.push(Span::styled(
            fit(&format!(" {usual}"), usize::from(lines.left.width).saturating_sub(used)),
            palette.faint(),
        ));
    }
    lines.put(Line::from(spans));
    let said = match &read {
        Read::Good(said) if !said.is_empty() => Some((format!("= {said}"), Style::new())),
        Read::Wrong(why) => Some((format!("× {why}"), palette.alarm())),
        _ => None,
    };
    match said {
        Some((said, style)) => {
            for line in wrap(&said, room) {
                lines.put(Line::from(vec![Span::raw(" ".repeat(LABELS + 2)), Span::styled(line, style)]));
            }
        }
        None => lines.skip(1),
    }
}

/// What is typed, with the cursor on it.
fn entry(first: &FirstMinute, slot: Slot, is_here: bool, room: usize) -> Vec<Span<'static>> {
    let input = first.draft.input(slot);
    // Lines that were pasted are shown behind each other.
    let shown = |text: &str| text.replace('\n', " ⏎ ");
    if !is_here {
        return vec![Span::raw(fit(&shown(input.value()), room))];
    }
    let chars: Vec<char> = input.value().chars().collect();
    let at = input.cursor().min(chars.len());
    let before = shown(&chars[..at].iter().collect::<String>());
    let under = chars.get(at).map_or(" ".to_owned(), char::to_string);
    let after = shown(&chars.get(at + 1..).unwrap_or_default().iter().collect::<String>());
    // The end of what is before the cursor matters most.
    let mut cut: String = before.clone();
    while cut.width() + 2 > room && !cut.is_empty() {
        cut.remove(0);
    }
    if cut.len() < before.len() && !cut.is_empty() {
        cut.remove(0);
        cut.insert(0, '…');
    }
    let left = room.saturating_sub(cut.width() + 1);
    vec![Span::raw(cut), Span::styled(shown(&under), first.palette.key()), Span::raw(fit(&after, left))]
}

fn setups(lines: &mut Lines<'_, '_>, first: &FirstMinute) {
    let palette = first.palette;
    lines.text("Which setup do you go live with?", palette.strong());
    lines.skip(1);
    let names = first.names();
    let widest = names.iter().map(|name| name.width()).max().unwrap_or(0).max(8);
    // The cursor stays in sight.
    let room = usize::from(lines.left.height).saturating_sub(8).max(1);
    let from = (first.at + 1).saturating_sub(room);
    for (n, name) in names.iter().enumerate().skip(from).take(room) {
        let is_under = n == first.at;
        let style = if is_under { palette.strong() } else { Style::new() };
        let lead = if is_under { "▸ " } else { "  " };
        let setup = &first.config.setups[*name];
        let service = first.config.services.get(&setup.service).map_or("", |service| service.name.as_str());
        let text = format!(
            "{lead}{name:<widest$}  {service}, {} at {} frames/s, {} kb/s",
            setup.size,
            setup.rate,
            grouped(setup.bitrate.bps() / 1000)
        );
        lines.put(Line::styled(fit(&text, lines.left.width.into()), style));
    }
    lines.skip(1);
    match &first.asked {
        Asked::Nothing => under_cursor(lines, first),
        Asked::Remove(name) => {
            lines.text(
                &format!("Remove {name}? If no other setup uses its service, that goes too, and its stream key."),
                palette.strong(),
            );
        }
        Asked::Rename(_) => field(lines, first, Slot::SetupName, true),
    }
}

/// The setup under the cursor: whether one can go live with it.
fn under_cursor(lines: &mut Lines<'_, '_>, first: &FirstMinute) {
    let palette = first.palette;
    let Some(name) = first.under_cursor() else { return };
    let Ok(in_use) = first.in_use(&name) else {
        return lines.text("Its service is not in the configuration.", palette.alarm());
    };
    let servers: Vec<&str> = in_use.service.servers.iter().map(|server| server.name.as_str()).collect();
    let servers = match servers.len() {
        0 => "no server yet".to_owned(),
        1 => format!("server {}", servers[0]),
        many => format!("{many} servers: {}", servers.join(", ")),
    };
    lines.text(&servers, Style::new());
    let key = match in_use.key_status() {
        KeyStatus::Environment => "the stream key comes from MOTH_STREAM_KEY",
        KeyStatus::Named => "the stream key was named on the command line",
        KeyStatus::Command => "the stream key comes from your command",
        KeyStatus::Kept(_) => "the stream key is kept",
        KeyStatus::Missing => "no stream key yet",
    };
    lines.text(key, Style::new());
    let lacks = first.lacks(&name);
    if !lacks.is_empty() {
        lines.text(&format!("It still lacks {}.", lacks.join(" and ")), palette.alarm());
    }
}

fn publish_to(lines: &mut Lines<'_, '_>, first: &FirstMinute) {
    let palette = first.palette;
    lines.text("Your broadcaster publishes to the moth, on this machine:", palette.strong());
    lines.skip(1);
    // The whole width is taken, whatever texts are kept to.
    let area = Rect { width: lines.frame.area().width.saturating_sub(2), ..lines.left };
    let taken = letters::draw_address(lines.frame, area, &first.publish_to, palette.strong());
    lines.skip(taken + 1);
    lines.text(&format!("In it, choose to stream to a server of your own, over RTMP, and put {} where it asks for the server, its address or its URL.", first.publish_to), Style::new());
    lines.skip(1);
    let whole = format!("{}/x", first.publish_to);
    lines.text(&format!("Where it asks for a stream key, anything will do, x for instance: yours stays with the moth. If it has one field only, both go there: {whole}"), Style::new());
    lines.skip(1);
    lines.text("Services commonly want a constant bitrate and a keyframe every 2 s; what the broadcaster sends is read off the wire, and what does not fit is said.", palette.faint());
    lines.skip(1);
    let Some(name) = &first.draft.setup else { return };
    let lacks = first.lacks(name);
    if lacks.is_empty() {
        lines.text(&format!("{name} is ready. Enter watches; servers and line are tested there, on the screens Routes and Plan, as soon as you like."), palette.strong());
    } else {
        lines.text(&format!("{name} still lacks {}: Esc goes back to it.", lacks.join(" and ")), palette.alarm());
    }
}

fn footer(frame: &mut Frame<'_>, area: Rect, first: &FirstMinute) {
    let palette = first.palette;
    if let Some(told) = &first.told {
        let lines = wrap(told, usize::from(area.width).saturating_sub(2));
        let rows = u16::try_from(lines.len()).unwrap_or(1).min(area.y + 1);
        let from = Rect { y: area.y + 1 - rows, height: rows, x: area.x, width: area.width };
        frame.render_widget(ratatui::widgets::Clear, from);
        let lines = lines.into_iter().map(|line| Line::styled(format!(" {line}"), palette.strong())).collect();
        return paint(frame, from, lines);
    }
    let keys: &[(&str, &str)] = match (&first.asked, first.page) {
        (Asked::Remove(_), _) => &[("y", "remove it"), ("n", "leave it")],
        (Asked::Rename(_), _) => &[("Enter", "rename"), ("Esc", "leave it")],
        (_, Page::Setups) => &[
            ("Enter", "go live"),
            ("n", "new"),
            ("c", "change"),
            ("k", "key"),
            ("r", "rename"),
            ("d", "remove"),
            ("p", "where to publish"),
            ("q", "quit"),
        ],
        (_, Page::PublishTo) => &[("Enter", "go live"), ("y", "copy the address"), ("Esc", "back"), ("q", "quit")],
        (_, Page::Servers) if first.server.is_some() => &[("Del", "remove it"), ("↑↓", "another"), ("Esc", "back")],
        (_, Page::Servers) => &[
            ("Enter", "take it; go on"),
            ("↑", "those there are"),
            ("Tab", "later"),
            ("Esc", "back"),
            ("Ctrl-C", "quit"),
        ],
        _ => &[("Enter", "go on"), ("Tab", "later"), ("Esc", "back"), ("Ctrl-C", "quit")],
    };
    foot::draw(frame, area, palette, keys, None);
}
