//! The mouse does what keys do.

use crossterm::event::{MouseButton, MouseEvent, MouseEventKind};

use super::*;
use crate::terminal::dialogs::Dialog;

fn mouse(app: &mut App, kind: MouseEventKind, (column, row): (u16, u16)) -> Option<Wish> {
    app.take(&Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE }))
}

fn click(app: &mut App, at: (u16, u16)) -> Option<Wish> {
    mouse(app, MouseEventKind::Down(MouseButton::Left), at)
}

/// Where a text is, in columns and rows.
fn place(shown: &str, text: &str) -> (u16, u16) {
    let (row, line) = shown.lines().enumerate().find(|(_, line)| line.contains(text)).unwrap();
    // Each line is in quotes.
    let before = line.split(text).next().unwrap().chars().count() - 1;
    (u16::try_from(before).unwrap(), u16::try_from(row).unwrap())
}

#[tokio::test(start_paused = true)]
async fn it_turns_to_screens_presses_keys_and_goes_along_time() {
    let mut app = app(Some(snapshot("archive-sync", 26).await));
    let shown = drawn(&app, 158, 47);
    click(&mut app, place(&shown, "2 Why"));
    assert_eq!(app.screen.name, "Why");
    drawn(&app, 158, 47);
    mouse(&mut app, MouseEventKind::ScrollDown, (20, 20));
    assert_eq!(app.model.suspects.row, 1);
    press(&mut app, KeyCode::Char('1'));
    let shown = drawn(&app, 158, 47);
    // A second takes four columns while there are few.
    let (_, row) = place(&shown, "round trip");
    click(&mut app, (13 + 4 * 10 + 3, row));
    assert_eq!(app.model.view.cursor, Some(10));
    mouse(&mut app, MouseEventKind::ScrollUp, (50, row));
    assert_eq!(app.model.view.cursor, Some(9));
    let shown = drawn(&app, 158, 47);
    click(&mut app, place(&shown, "Esc "));
    assert_eq!(app.model.view.cursor, None);
    let shown = drawn(&app, 158, 47);
    click(&mut app, place(&shown, "keys and words"));
    assert_eq!(app.dialog, Some(Dialog::Help));
    // What lies over the screen is answered by keys.
    let shown = drawn(&app, 158, 47);
    assert_eq!(click(&mut app, place(&shown, "6 Machine")), None);
    assert_eq!(app.screen.name, "Watch");
    mouse(&mut app, MouseEventKind::ScrollDown, (20, 20));
    assert_eq!(app.dialog, Some(Dialog::Help), "and the wheel closes nothing");
    press(&mut app, KeyCode::Esc);
    let shown = drawn(&app, 158, 47);
    assert_eq!(click(&mut app, (157, 46)), None, "nothing is there");
    assert_eq!(click(&mut app, place(&shown, "q  quit")), Some(Wish::Quit));
}
