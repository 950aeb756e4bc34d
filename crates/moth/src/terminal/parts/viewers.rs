//! One row: what viewers get, and what was lost, now and since the start; under the cursor, what that second was like.

use moth_core::Snapshot;
use moth_core::delay::Delay;
use moth_core::played_back::later;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use unicode_width::UnicodeWidthStr;

use crate::terminal::style::format::{clock, fit};
use crate::terminal::style::palette::Palette;

/// Between two things that are told in one row.
const BETWEEN: &str = "  ·  ";

pub(in crate::terminal) fn draw(
    frame: &mut Frame<'_>,
    area: Rect,
    palette: Palette,
    cursor: Option<usize>,
    snapshot: &Snapshot,
) {
    let width = usize::from(area.width);
    let (name, text) = match cursor.and_then(|at| Some((at, snapshot.history.get(at)?))) {
        Some((at, second)) => {
            let count = |lost: Option<u32>| lost.map_or("not available".into(), |n| n.to_string());
            let clock = clock(std::time::Duration::from_secs(at as u64));
            let lost = format!(
                "in that second: lagged {}, skipped {}, dropped {}",
                count(second.lagged),
                count(second.skipped),
                count(second.dropped)
            );
            (format!("at {clock}"), lost)
        }
        None => ("viewers".to_owned(), now(snapshot, width.saturating_sub(12))),
    };
    let line = Line::from(vec![
        Span::styled(format!("{name:<12}"), palette.faint()),
        Span::raw(fit(&text, width.saturating_sub(12))),
    ]);
    frame.render_widget(line, area);
}

/// One more row, where there is room: what the broadcast itself adds to how late viewers see it.
pub(in crate::terminal) fn draw_delay(
    frame: &mut Frame<'_>,
    area: Rect,
    palette: Palette,
    (snapshot, service_s): (&Snapshot, Option<f64>),
) {
    if area.height == 0 {
        return;
    }
    let room = usize::from(area.width).saturating_sub(12);
    let text = Delay::of(snapshot).map_or_else(
        || "nobody broadcasts".into(),
        |delay| {
            let played_ms = snapshot.played_back.as_ref().and_then(|played| played.delay_ms);
            delay_words(delay, (played_ms, service_s), room)
        },
    );
    let line = Line::from(vec![Span::styled(format!("{:<12}", "delay"), palette.faint()), Span::raw(fit(&text, room))]);
    frame.render_widget(line, area);
}

/// `beyond`: how late it was when it was played back from the server, and what the setup says that the service adds.
fn delay_words(delay: Delay, beyond: (Option<f64>, Option<f64>), room: usize) -> String {
    let seconds = |ms: f64| format!("{:.2} s", ms / 1000.0);
    let maybe = |ms: Option<f64>| ms.map_or("not known".into(), seconds);
    let service = match beyond {
        (_, Some(s)) => format!("the service adds {s} s, by the setup"),
        (Some(ms), None) => format!("played back, it was {} behind (measured)", later(ms)),
        (None, None) => "the service's own part is not known".into(),
    };
    // What is not known of it comes on top.
    let least = if delay.held_back_ms.is_some() && delay.way_ms.is_some() { "" } else { "at least " };
    let told = format!(
        "{least}{} are yours: pictures held back {} (inferred), queue {}, way {} (measured)",
        seconds(delay.known_ms()),
        maybe(delay.held_back_ms),
        seconds(delay.queue_ms),
        maybe(delay.way_ms)
    );
    let whole = format!("{told}  ·  {service}");
    let short = format!("{least}{} are yours (measured, what is held back inferred)", seconds(delay.known_ms()));
    // Half a sentence says nothing.
    [whole, told].into_iter().find(|text| text.chars().count() <= room).unwrap_or(short)
}

fn now(snapshot: &Snapshot, width: usize) -> String {
    let viewers = &snapshot.viewers;
    let Some(fps) = viewers.fps.value else { return "nobody broadcasts".into() };
    let full = viewers.full_fps.value.map_or_else(String::new, |full| format!(" of {full:.0}"));
    let mut told = vec![format!("{fps:.0}{full} new pictures/s over 3 s")];
    if let Some(ms) = viewers.frozen_ms {
        told.push(format!("frozen for {:.1} s", ms as f64 / 1000.0));
    }
    let freezes = viewers.freezes;
    told.push(match freezes.count {
        0 if viewers.frozen_ms.is_some() => "no freeze before it".into(),
        0 => "no freeze since the start".into(),
        1 => format!("1 freeze of {:.1} s", freezes.longest_ms as f64 / 1000.0),
        n => format!("{n} freezes, the longest {:.1} s", freezes.longest_ms as f64 / 1000.0),
    });
    let video = snapshot.accounts.video;
    let due = video.offered + snapshot.skipped.value.unwrap_or(0);
    if due > 0 {
        let share =
            |lost: Option<u64>| lost.map_or("n/a".into(), |lost| format!("{:.2} %", lost as f64 * 100.0 / due as f64));
        let since = format!(
            "since the start: lagged {}, skipped {}, dropped {}",
            share(snapshot.lagged.value),
            share(snapshot.skipped.value),
            share(Some(video.dropped))
        );
        // Half of it says nothing.
        if told.join(BETWEEN).width() + BETWEEN.width() + since.width() <= width {
            told.push(since);
        }
    }
    told.join(BETWEEN)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_beyond_is_said_by_the_setup_or_by_what_was_played_back_or_not_known() {
        let delay = Delay { held_back_ms: Some(100.0), queue_ms: 0.0, way_ms: Some(1.0) };
        let words = |beyond| delay_words(delay, beyond, 200).split("  ·  ").last().map(str::to_owned);
        assert_eq!(words((None, None)).as_deref(), Some("the service's own part is not known"));
        assert_eq!(words((Some(431.0), None)).as_deref(), Some("played back, it was 431 ms behind (measured)"));
        assert_eq!(words((Some(431.0), Some(6.0))).as_deref(), Some("the service adds 6 s, by the setup"));
    }
}
