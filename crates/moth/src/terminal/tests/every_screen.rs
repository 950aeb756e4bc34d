//! Every screen at every size: with nothing known yet, on air with nothing measured, in calm, in trouble, and with two faults.

use super::*;
use crate::terminal::screens;

const SIZES: [(u16, u16); 4] = [(80, 24), (120, 40), (158, 47), (200, 60)];

/// How things may stand, each with its name.
async fn situations() -> Vec<(&'static str, Arc<Snapshot>)> {
    vec![
        ("nothing", quiet()),
        ("unmeasured", snapshot("calm", 40).await),
        ("calm", snapshot("mute-microphone", 36).await),
        ("trouble", snapshot("bad-route", 26).await),
        ("two", snapshot("two-at-once", 42).await),
    ]
}

/// But for the newest event below the axis of time: `m` has it in full.
fn nothing_is_cut(shown: &str) {
    let lines: Vec<&str> = shown.lines().collect();
    for (above, line) in lines.iter().zip(&lines[1..]) {
        assert!(!line.contains('…') || above.contains("time, marks"), "{line}\n{shown}");
    }
}

#[tokio::test(start_paused = true)]
async fn every_screen_is_drawn_at_every_size_whatever_is_known() {
    for (situation, shown) in situations().await {
        for screen in screens::ALL {
            let is_measured = !["nothing", "unmeasured"].contains(&situation);
            let preparation = if is_measured { with_its_afternoon() } else { before() };
            let mut app = app(Some(shown.clone())).with(Some(preparation));
            app.screen = screen;
            let drawn: Vec<String> =
                SIZES.iter().map(|(width, height)| steady(&drawn(&app, *width, *height))).collect();
            for shown in &drawn {
                nothing_is_cut(shown);
            }
            insta::assert_snapshot!(format!("{}_{situation}", screen.name.to_lowercase()), drawn.join("\n"));
        }
    }
}

#[tokio::test(start_paused = true)]
async fn what_is_longer_than_its_room_is_gone_along_to_its_end() {
    let mut app = app(Some(snapshot("bad-route", 26).await)).with(Some(with_its_afternoon()));
    // Help: every line is seen at some time, and any other key closes it.
    type_char(&mut app, '?');
    let tall = drawn(&app, 80, 60);
    let last = tall.lines().rev().find(|line| line.contains("levels")).unwrap().to_owned();
    let shown = drawn(&app, 80, 24);
    assert!(shown.contains("rows 1 to 21 of") && !shown.contains("levels"), "{shown}");
    press(&mut app, KeyCode::End);
    let shown = drawn(&app, 80, 24);
    assert!(shown.contains(last.trim_matches(['"', ' ', '│'])), "{shown}");
    press(&mut app, KeyCode::Esc);
    assert!(app.dialog.is_none());
    type_char(&mut app, '?');
    assert!(drawn(&app, 80, 24).contains("rows 1 to 21"), "the next time it begins at its beginning");
    press(&mut app, KeyCode::Esc);
    // Plan: what talking with viewers costs stands below.
    type_char(&mut app, '4');
    let shown = drawn(&app, 80, 24);
    assert!(shown.contains("PgDn: ") && !shown.contains("talking with viewers"), "{shown}");
    let mut pages = String::new();
    for _ in 0..8 {
        press(&mut app, KeyCode::PageDown);
        pages.push_str(&drawn(&app, 80, 24));
    }
    assert!(pages.contains("talking with viewers") && pages.contains("frames are dropped sooner"), "{pages}");
    assert!(drawn(&app, 80, 24).contains("rows above"), "and there it ends");
    // Turning elsewhere begins anew.
    type_char(&mut app, '1');
    type_char(&mut app, '4');
    assert!(!drawn(&app, 80, 24).contains("rows above"));
    // Why: all evidence, whole.
    type_char(&mut app, '2');
    type_char(&mut app, 'i');
    let shown = drawn(&app, 80, 24);
    assert!(shown.contains("Evidence") && shown.contains("The route to this server:"), "{shown}");
    assert!(shown.contains("for     ▪▪▪ Brackwater is reached as soon as ever (measured)"), "{shown}");
}

#[tokio::test(start_paused = true)]
async fn the_whole_broadcast_is_one_key_away_and_a_short_one_is_drawn_wide() {
    let mut app = app(Some(snapshot("calm", 300).await));
    let first_tick = |shown: &str| {
        let row = shown.lines().skip_while(|line| !line.contains("time, marks")).nth(1).unwrap().to_owned();
        row.split_whitespace().nth(1).unwrap().to_owned()
    };
    assert_ne!(first_tick(&drawn(&app, 120, 40)), "0:00", "a second in each column: the last minute and a half");
    type_char(&mut app, 'v');
    assert_eq!(first_tick(&drawn(&app, 120, 40)), "0:00");
    assert_eq!(app.model.view.seconds_per_column(), 5);
    // From there one step in.
    type_char(&mut app, '+');
    drawn(&app, 120, 40);
    assert_eq!(app.model.view.seconds_per_column(), 2);
    type_char(&mut app, 'v');
    type_char(&mut app, 'v');
    drawn(&app, 120, 40);
    assert_eq!(app.model.view.seconds_per_column(), 2, "v again is as before");
    let short = super::app(Some(snapshot("calm", 20).await));
    drawn(&short, 120, 40);
    assert_eq!(short.model.view.columns_per_second(), 4);
}

#[test]
fn as_long_as_nobody_has_come_one_goes_back_to_the_setups_that_led_here() {
    let mut app = live(Some(quiet()));
    assert_eq!(type_char(&mut app, 'g'), None);
    assert!(!drawn(&app, 120, 40).contains("back to the setups"), "nothing led here");
    app.model.leads_back = true;
    assert!(drawn(&app, 120, 40).contains("back to the setups"));
    assert_eq!(type_char(&mut app, 'g'), Some(Wish::Setups));
}

#[tokio::test(start_paused = true)]
async fn a_screen_apart_is_left_and_only_who_began_the_moth_ends_it_without_a_broadcaster() {
    let mut waits = live(Some(quiet()));
    waits.model.is_apart = true;
    assert_eq!(type_char(&mut waits, 'q'), Some(Wish::Leave), "who looks on ends nothing");
    waits.model.began_it = true;
    assert_eq!(type_char(&mut waits, 'q'), Some(Wish::Quit));
    let mut on_air = live(Some(snapshot("calm", 20).await));
    on_air.model.is_apart = true;
    assert_eq!(type_char(&mut on_air, 'q'), None);
    insta::assert_snapshot!("quit_apart_80x24", drawn(&on_air, 80, 24));
    assert_eq!(type_char(&mut on_air, 'n'), None);
    type_char(&mut on_air, 'q');
    assert_eq!(type_char(&mut on_air, 'l'), Some(Wish::Leave));
    type_char(&mut on_air, 'q');
    assert_eq!(type_char(&mut on_air, 'y'), Some(Wish::Quit));
    // Ctrl-C twice leaves: it is not the broadcast that was typed away.
    let interrupt = Event::Key(KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL));
    assert_eq!(on_air.take(&interrupt), None);
    assert_eq!(on_air.take(&interrupt), Some(Wish::Leave));
}
