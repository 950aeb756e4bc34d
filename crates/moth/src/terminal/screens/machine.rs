//! The Machine screen: the load of every machine, and below it what the check found.

use crossterm::event::KeyCode;
use moth_core::Snapshot;
use moth_evening::chronicle::lock;
use ratatui::Frame;
use ratatui::layout::Rect;

use crate::terminal::dialogs::export::Subject;
use crate::terminal::model::Model;
use crate::terminal::parts::{fitness, load, machine_lanes};
use crate::terminal::preparation::TestUnderWay;
use crate::terminal::reaction::Reaction;
use crate::terminal::screen::{HelpLines, Keys, Screen, Shown, inner};
use crate::terminal::style::palette::Palette;

pub(in crate::terminal) const SCREEN: Screen = Screen { name: "Machine", draw, keys, help, exports, key, turned_to };

fn draw(frame: &mut Frame<'_>, area: Rect, Shown { model, snapshot, palette }: Shown<'_>) {
    let area = inner(area);
    let machines: Vec<_> = std::iter::once(&snapshot.machine).chain(&snapshot.others).collect();
    let rows = load::rows(&machines, area.width, palette).min(area.height);
    load::draw(frame, Rect { height: rows, ..area }, &machines, palette);
    let rest = Rect { y: area.y + rows, height: area.height - rows, ..area };
    let rest = with_lanes(frame, rest, (model, palette), snapshot);
    if let Some(preparation) = &model.preparation {
        fitness::draw(frame, rest, (preparation, &model.scroll), snapshot.on_air_since.is_some(), palette);
    }
}

/// Rows for what the check found, where there are lanes as well. Ours.
const FOUND: u16 = 12;

/// Draws lanes at the foot where there is much room; gives what is left above them.
fn with_lanes(frame: &mut Frame<'_>, area: Rect, (model, palette): (&Model, Palette), snapshot: &Snapshot) -> Rect {
    let room = area.height.saturating_sub(FOUND);
    if room < machine_lanes::FEWEST {
        return area;
    }
    let live;
    // The broadcast writes there: it waits for as long as it takes to draw.
    let chronicle = match model.kept() {
        Some(opened) => opened.chronicle(),
        None => {
            live = lock(&model.chronicle);
            &*live
        }
    };
    let Some(machine) = chronicle.machines().iter().find(|machine| machine.host.is_none()) else { return area };
    let place = Rect { y: area.y + FOUND, height: room, ..area };
    machine_lanes::draw(frame, place, (palette, &model.view), (machine, &model.cores), snapshot);
    Rect { height: FOUND - 1, ..area }
}

fn keys(Shown { model, .. }: Shown<'_>) -> Keys {
    let preparation = model.preparation.as_ref();
    if preparation.is_some_and(|preparation| preparation.running != TestUnderWay::Nothing) {
        return vec![("Esc", "end it, with what there is")];
    }
    preparation.map(|_| ("r", "look again")).into_iter().chain([("e", "export")]).collect()
}

fn help(_: Shown<'_>, mut help: HelpLines<'_>) {
    help.key("r", "look at the machine again");
    help.key("e", "take the load by program away as SVG or PDF");
    help.others();
}

fn exports(_: &Model, snapshot: &Snapshot) -> Vec<(Subject, String)> {
    let hosts = std::iter::once(&snapshot.machine).chain(&snapshot.others).map(|machine| &machine.host);
    let load = |(place, host): (usize, &Option<String>)| {
        let name = host.as_deref().unwrap_or("this machine");
        (Subject::Machine(place), format!("the load on {name}, by program"))
    };
    hosts.enumerate().map(load).collect()
}

fn key(model: &mut Model, code: KeyCode) -> Reaction {
    if code == KeyCode::Char('r') { look(model) } else { Reaction::none() }
}

/// Looks at the whole machine.
pub(super) fn look(model: &mut Model) -> Reaction {
    match &model.preparation {
        Some(preparation) if preparation.running == TestUnderWay::Nothing => {
            let order = preparation.machine_order();
            model.order(order)
        }
        _ => Reaction::none(),
    }
}

/// The machine is looked at when one first asks.
fn turned_to(model: &mut Model) -> Reaction {
    let is_unseen = model.preparation.as_ref().is_some_and(|preparation| preparation.check.is_none());
    if is_unseen { look(model) } else { Reaction::none() }
}
