//! While nobody has broadcast yet: where to publish to, what is done before, and who came and was turned away.

use moth_core::Snapshot;
use moth_core::rate::grouped;
use moth_relay::TURNED_AWAY;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use super::letters;
use crate::system::out::date;
use crate::terminal::model::Model;
use crate::terminal::preparation::Preparation;
use crate::terminal::style::format::{clock, wrap};
use crate::terminal::style::palette::Palette;

/// No text is wider: long lines are hard to read. Ours.
const WIDEST: u16 = 100;

/// Where to publish to, if that is all there is to show: nobody has broadcast since the moth began.
pub(in crate::terminal) fn address<'a>(model: &'a Model, snapshot: &Snapshot) -> Option<&'a str> {
    let address = model.banner.publish_to.as_deref()?;
    let nobody_came = snapshot.on_air_since.is_none() && snapshot.accounts.video.offered == 0;
    (nobody_came && model.kept().is_none() && model.view.cursor.is_none() && !model.rehearsing.is_all)
        .then_some(address)
}

pub(in crate::terminal) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    palette: Palette,
    (model, snapshot): (&Model, &Snapshot),
    address: &str,
) {
    let mut left = area;
    let skip = |left: &mut Rect, rows: u16| {
        let rows = rows.min(left.height);
        (left.y, left.height) = (left.y + rows, left.height - rows);
    };
    let put = |frame: &mut Frame<'_>, left: &mut Rect, line: Line<'_>| {
        if left.height > 0 {
            frame.render_widget(line, Rect { height: 1, ..*left });
            skip(left, 1);
        }
    };
    let narrow = usize::from(area.width.min(WIDEST));
    put(
        frame,
        &mut left,
        Line::styled(
            "Nobody broadcasts yet. Your broadcaster publishes to the moth, on this machine:",
            palette.strong(),
        ),
    );
    skip(&mut left, 1);
    if area.height > 24 {
        let taken = letters::draw_address(frame, left, address, palette.strong());
        skip(&mut left, taken + 1);
    }
    let server =
        format!("Publish to {address}: it goes where your broadcaster asks for a server, its address or its URL.");
    let key = format!(
        "Where it asks for a stream key anything will do, x for instance: yours stays with the moth. With one field only: {address}/x"
    );
    for text in [server, key] {
        for line in wrap(&text, narrow) {
            put(frame, &mut left, Line::raw(line));
        }
    }
    skip(&mut left, 1);
    for step in steps(model) {
        let (mark, style) = if step.is_done { ("═", Style::new()) } else { ("·", palette.faint()) };
        put(
            frame,
            &mut left,
            Line::from(vec![
                Span::styled(format!("{mark} "), style),
                Span::styled(format!(" {} ", step.key), palette.key()),
                Span::raw(format!(" {:<9}", step.what)),
                Span::styled(step.said, style),
            ]),
        );
    }
    let came = snapshot.marks.iter().rev().find(|mark| mark.text.starts_with(TURNED_AWAY));
    if let Some(mark) = came {
        skip(&mut left, 1);
        let text = format!("At {} {}", clock(mark.at.since(moth_core::Moment::START)), mark.text);
        for line in wrap(&text, narrow) {
            put(frame, &mut left, Line::styled(line, palette.alarm()));
        }
    }
    // What was noticed of the machine or the setup meanwhile.
    for notice in &snapshot.notices {
        for line in wrap(&notice.text, narrow) {
            put(frame, &mut left, Line::raw(line));
        }
    }
}

struct Step {
    key: &'static str,
    what: &'static str,
    said: String,
    is_done: bool,
}

/// What can be done before it comes, and how far that is.
fn steps(model: &Model) -> Vec<Step> {
    let Some(before) = &model.preparation else { return Vec::new() };
    vec![servers(before), line(before), machine(before)]
}

fn servers(before: &Preparation) -> Step {
    let many = before.in_use.service.servers.len();
    let (said, is_done) = match &before.tested {
        Some((when, _)) => (format!("compared last on {}", date(*when)), true),
        None if many == 1 => ("the server was not tested yet".into(), false),
        None => (format!("{many} servers, not compared yet"), false),
    };
    Step { key: "3", what: "Routes", said, is_done }
}

fn line(before: &Preparation) -> Step {
    let in_use = &before.in_use;
    let asked = in_use.setup.total();
    let kbps = |rate: moth_core::rate::Bitrate| grouped(rate.bps() / 1000);
    let (said, is_done) = match &before.reading {
        Some(reading) => {
            let fits = if asked <= reading.usable { "bears" } else { "does not bear" };
            let said = format!("the line sustained {} kb/s (measured)", kbps(reading.sustained));
            // Of what is only named on the command line nobody said what is sent.
            let against = format!(": it {fits} the {} kb/s of this setup", kbps(asked));
            (if in_use.is_named() { said } else { said + &against }, true)
        }
        None => ("the line was not measured yet".into(), false),
    };
    Step { key: "4", what: "Plan", said, is_done }
}

fn machine(before: &Preparation) -> Step {
    let (said, is_done) = match &before.check {
        Some(check) => (check.sentence(), true),
        None => ("the machine was not looked over yet".into(), false),
    };
    Step { key: "6", what: "Machine", said, is_done }
}
