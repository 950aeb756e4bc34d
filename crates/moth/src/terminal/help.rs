//! The keys that work here, and what the words and marks mean.

use moth_core::{Snapshot, State};
use moth_plan::picture::Look;
use ratatui::text::{Line, Span};

use super::app::{App, Tab};
use super::choice::Kind;
use super::format::wrap;
use super::palette::state_mark;
use super::verdict::key_of;
use super::{planning, rehearsing, routes};

pub(super) fn lines(app: &App, snapshot: &Snapshot) -> Vec<Line<'static>> {
    let palette = app.palette;
    let key = |name: &str, what: &str| {
        Line::from(vec![Span::styled(format!("{name:>9}  "), palette.strong()), Span::raw(what.to_owned())])
    };
    let mut lines = Vec::new();
    let word = |name: &str, what: &str| {
        Line::from(vec![Span::styled(format!("{name:>9}  "), palette.faint()), Span::raw(what.to_owned())])
    };
    let others = "1 Watch 2 Why 3 Routes 4 Plan 5 Rehearse 6 Machine; Tab goes on";
    match app.tab {
        Tab::Watch => {}
        Tab::Why => {
            lines.push(key("↑ ↓", "the suspect whose evidence is shown"));
            lines.push(key("f", "the suspects of another stage: network, encoder, rendering"));
            if app.replay.is_none() {
                lines.push(key("t", "test: a handshake with each server; or a look at the machine"));
            }
            lines.push(key("e", "take the suspects away as SVG or PDF"));
            if app.replay.is_none() {
                lines.push(key("b s p … u", "do, or undo, what Watch proposes; a shows all changes"));
            }
            lines.push(key("← →", "look back and forth; n N to the next, the last mark"));
            lines.push(key("1-6", others));
            lines.push(Line::default());
            lines.push(word("▪ to ▪▪▪", "how much a sign weighs, for or against"));
            lines.push(word("%", "how likely each suspect is among those of its stage"));
            lines.push(Line::default());
            lines.push(word("no loss", "sound beside the picture, a still picture, a slow source:"));
            lines.push(word("", "named on Watch, and no frame is lost by them"));
            lines.push(word("not seen", "doubled sound (two sources of one microphone: look into the"));
            lines.push(word("", "broadcaster's mixer); a viewer whose own line is too small"));
            lines.push(word("", "(only they stutter: their player's quality setting helps);"));
            lines.push(word("", "a game that itself runs slowly"));
            return lines;
        }
        Tab::Routes => {
            lines.push(key("Enter", "test the chosen servers, one after another"));
            lines.push(key("l", "measure the line, against the server under the cursor"));
            lines.push(key("↑ ↓ Space", "move, and choose a server or leave it out"));
            lines.push(key("r  t", "choose by region; 10, 30 or 60 s for each server"));
            lines.push(key("p", "make the server under the cursor the setup's (◆)"));
            lines.push(key("Esc", "end a test; what was measured is kept"));
            lines.push(key("e", "take servers or line away as SVG or PDF"));
            lines.push(key("1-6", others));
            lines.push(Line::default());
            lines.push(word("bands", "how much a server carries, from 0; each on the same scale"));
            lines.extend(wrap(&routes::marks(), 62).iter().map(|line| word("", line)));
            lines.push(word("holds", "the planned bitrate with headroom, worst moments counted"));
            lines.push(word("bufferbloat", "how far the round trip climbs when the line is full"));
            return lines;
        }
        Tab::Plan => {
            lines.push(key("m", "how much moves: still, talking, moving, fast"));
            lines.push(key("- +", "leave less or more of the upload free"));
            lines.push(key("← ↑ ↓ →", "look at another picture; Esc back to the recommended one"));
            lines.push(key("w", "write bitrate and picture into the setup"));
            lines.push(key("e", "take the map away as SVG or PDF"));
            lines.push(key("k  x", "replace the stream key; forget it"));
            lines.push(key("1-6", others));
            lines.push(Line::default());
            lines.extend(wrap(&planning::marks(), 62).iter().map(|line| word("", line)));
            lines.push(word("soft", Look::Soft.meaning()));
            lines.push(word("blocky", Look::Blocky.meaning()));
            lines.push(word("spare", Look::Spare.meaning()));
            return lines;
        }
        Tab::Rehearse => {
            lines.push(key("↑ ↓ Enter", "choose what to rehearse, and begin"));
            lines.push(key("s", "to the service, or to a stand-in behind the line as measured"));
            lines.push(key("Esc", "end it: everything is put back, what was found is told"));
            lines.push(key("Space", "in a soak: what is under the cursor was just done"));
            lines.push(key("n  x", "in a soak: something more to do; leave something out"));
            lines.push(key("k", "keep what is recommended in the setup"));
            lines.push(key("e", "take a climb away as SVG or PDF"));
            lines.push(key("1-6", others));
            lines.push(Line::default());
            lines.push(word("● ▲", "a try that held; one in which something gave way"));
            lines.push(word("clean", "it held for the whole of the longer run"));
            lines.extend(wrap(&rehearsing::words(), 62).iter().map(|line| word("", line)));
            return lines;
        }
        Tab::Machine => {
            lines.push(key("r", "look at the machine again"));
            lines.push(key("e", "take the load by program away as SVG or PDF"));
            lines.push(key("1-6", others));
            return lines;
        }
    }
    // What was done is done: a replay takes no changes.
    let takes_changes = app.replay.is_none();
    let proposals = if takes_changes { app.proposals() } else { Vec::new() };
    if let Some(first) = proposals.first() {
        lines.push(key("Enter", &first.title));
    }
    for proposal in proposals {
        lines.push(key(&key_of(&proposal.action).to_string(), &proposal.title));
    }
    let letters: Vec<String> =
        Kind::ALL.iter().filter(|k| **k != Kind::Hand).map(|kind| format!("{} {}", kind.key(), kind.short())).collect();
    let changes = format!("change: {}; a all of them", letters.join(", "));
    for row in if takes_changes { wrap(&changes, 62) } else { Vec::new() } {
        lines.push(key("", &row));
    }
    if app.replay.is_some() {
        lines.push(key("Space", "stop the replay, and go on"));
        lines.push(key("< >", "slower, faster"));
        lines.push(key("[ ] { }", "30 s, or 5 minutes, back and on"));
    }
    if snapshot.undo.is_some() && takes_changes {
        lines.push(key("u", "undo the last change"));
    }
    lines.push(key("← →", "look back and forth (PgUp PgDn by ten, Home start, Esc now)"));
    lines.push(key("n N", "to the next, the last mark"));
    lines.push(key("+ -", &format!("fewer or more seconds in a column (now {})", app.seconds_per_column())));
    lines.push(key("1-6", others));
    lines.push(key("e E", "take away what is shown, as SVG or PDF; a report of it all"));
    lines.push(key("q", "quit"));
    lines.push(Line::default());
    lines.push(word("lagged", "rendering: the scene was late, the last picture came again"));
    lines.push(word("skipped", "encoder: not done with the last picture, so never encoded"));
    lines.push(word("dropped", "network: encoded, but not carried in time, so not sent"));
    lines.push(word("reported", "said by the broadcaster; measured: by the moth or the kernel"));
    lines.push(word("inferred", "read off the wire: likely, not certain"));
    let states = [State::Steady, State::Strained, State::Losing, State::Dark];
    let marks: Vec<String> = states.iter().map(|s| format!("{} {}", state_mark(Some(*s)), s.word())).collect();
    lines.push(word("marks", &format!("{}  ◆ change  ╵ event", marks.join("  "))));
    lines
}
