//! Screens drawn to a buffer from seeded evenings, and what keys do.

use std::sync::Arc;
use std::time::Duration;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use moth_core::moment::Moment;
use moth_core::proposal::Action;
use moth_core::rate::Bitrate;
use moth_core::{Core, Settings, Snapshot};
use moth_stage::{Theatre, shipped};
use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::app::{App, Wish};
use super::palette::Palette;
use super::watch;
use crate::production::Banner;

/// An evening's snapshot after so many seconds, nobody having touched anything.
async fn snapshot(slug: &str, seconds: u64) -> Arc<Snapshot> {
    let evening = shipped().into_iter().find(|e| e.slug == slug).unwrap();
    let mut core = Core::new(Settings { servers: evening.servers() });
    let mut theatre = Theatre::open(&evening, 41).unwrap();
    let end = Moment::after(Duration::from_secs(seconds));
    let mut look = Moment::START;
    while let Some(reading) = theatre.readings.recv().await {
        while look <= reading.at && look <= end {
            core.snapshot(look);
            look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
        }
        if reading.at > end {
            break;
        }
        core.take(&reading);
    }
    Arc::new(core.snapshot(end))
}

fn app(snapshot: Option<Arc<Snapshot>>) -> App {
    let banner = Banner { demo: Some("the archive sync".into()), publish_to: None };
    let mut app = App::new(banner, true, Palette::Plain);
    app.show(snapshot);
    app
}

fn live(snapshot: Option<Arc<Snapshot>>) -> App {
    let banner = Banner { demo: None, publish_to: Some("rtmp://127.0.0.1:19350/moth".into()) };
    let mut app = App::new(banner, false, Palette::Plain);
    app.show(snapshot);
    app
}

fn drawn(app: &App, width: u16, height: u16) -> String {
    let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
    terminal.draw(|frame| watch::draw(frame, app)).unwrap();
    terminal.backend().to_string()
}

fn press(app: &mut App, code: KeyCode) -> Option<Wish> {
    app.take(&Event::Key(KeyEvent::new(code, KeyModifiers::NONE)))
}

fn type_char(app: &mut App, c: char) -> Option<Wish> {
    press(app, KeyCode::Char(c))
}

#[tokio::test(start_paused = true)]
async fn the_watch_screen_in_calm_and_in_trouble() {
    let calm = app(Some(snapshot("archive-sync", 14).await));
    insta::assert_snapshot!("calm_158x47", drawn(&calm, 158, 47));
    let trouble = app(Some(snapshot("archive-sync", 24).await));
    insta::assert_snapshot!("trouble_158x47", drawn(&trouble, 158, 47));
    insta::assert_snapshot!("trouble_80x24", drawn(&trouble, 80, 24));
    insta::assert_snapshot!("trouble_200x60", drawn(&trouble, 200, 60));
}

#[tokio::test(start_paused = true)]
async fn the_watch_screen_when_the_server_is_gone_or_the_scene_too_heavy() {
    insta::assert_snapshot!("dark_100x30", drawn(&app(Some(snapshot("blackout", 24).await)), 100, 30));
    insta::assert_snapshot!("rendering_120x40", drawn(&app(Some(snapshot("nebula-scene", 24).await)), 120, 40));
}

#[tokio::test(start_paused = true)]
async fn dialogs_lie_over_the_screen() {
    let trouble = snapshot("tired-server", 26).await;
    let mut confirm = app(Some(trouble.clone()));
    assert_eq!(type_char(&mut confirm, 's'), None, "leaving a server is asked about");
    insta::assert_snapshot!("confirm_80x24", drawn(&confirm, 80, 24));
    let mut help = app(Some(trouble));
    type_char(&mut help, '?');
    insta::assert_snapshot!("help_80x24", drawn(&help, 80, 24));
}

#[test]
fn before_a_broadcaster_comes_it_says_where_to_publish() {
    let mut core = Core::new(Settings { servers: vec!["aldmoor.example:1935".into()] });
    let app = live(Some(Arc::new(core.snapshot(Moment::from_ms(3000)))));
    insta::assert_snapshot!("waiting_80x24", drawn(&app, 80, 24));
}

#[test]
fn any_size_is_drawn_without_breaking() {
    let mut core = Core::new(Settings { servers: vec!["a".into()] });
    let shown = Arc::new(core.snapshot(Moment::from_ms(90_000)));
    for (width, height) in [(1, 1), (20, 5), (79, 24), (80, 23)] {
        let text = drawn(&live(Some(shown.clone())), width, height);
        assert!(width < 20 || text.contains("80×24"), "{text}");
    }
    for width in (80..220).step_by(7) {
        for height in (24..70).step_by(5) {
            let mut app = live(Some(shown.clone()));
            drawn(&app, width, height);
            type_char(&mut app, '?');
            drawn(&app, width, height);
        }
    }
}

#[tokio::test(start_paused = true)]
async fn one_key_lowers_the_bitrate_and_one_puts_it_back() {
    let mut app = app(Some(snapshot("archive-sync", 24).await));
    let Some(Wish::Act(Action::SetBitrate { video })) = type_char(&mut app, 'b') else {
        panic!("b lowers the bitrate")
    };
    assert!(video < Bitrate::from_kbps(3000));
    assert_eq!(press(&mut app, KeyCode::Enter), Some(Wish::Act(Action::SetBitrate { video })), "Enter does the first");
    assert_eq!(type_char(&mut app, 'u'), None, "nothing to undo yet");
    let mut changed = (*snapshot("archive-sync", 24).await).clone();
    changed.undo = Some(Action::SetBitrate { video: Bitrate::from_kbps(6000) });
    app.show(Some(Arc::new(changed)));
    assert_eq!(type_char(&mut app, 'u'), Some(Wish::Act(Action::SetBitrate { video: Bitrate::from_kbps(6000) })));
}

#[tokio::test(start_paused = true)]
async fn leaving_a_server_needs_a_yes() {
    let mut app = app(Some(snapshot("tired-server", 26).await));
    type_char(&mut app, 's');
    assert_eq!(type_char(&mut app, 'x'), None, "any other key changes nothing");
    assert_eq!(type_char(&mut app, 'n'), None);
    assert_eq!(type_char(&mut app, 'y'), None, "after a no there is nothing to say yes to");
    type_char(&mut app, 's');
    assert_eq!(type_char(&mut app, 'y'), Some(Wish::Act(Action::SwitchServer { server: "Brackwater".into() })));
}

#[tokio::test(start_paused = true)]
async fn a_real_broadcaster_is_told_what_to_enter_and_quitting_is_asked_about() {
    let mut shown = (*snapshot("archive-sync", 24).await).clone();
    for proposal in &mut shown.verdict.proposals {
        proposal.possible = false;
    }
    let mut app = live(Some(Arc::new(shown)));
    assert_eq!(type_char(&mut app, 'b'), None);
    let screen = drawn(&app, 100, 30);
    assert!(screen.contains("set the video bitrate to 2"), "{screen}");
    press(&mut app, KeyCode::Esc);
    assert_eq!(type_char(&mut app, 'q'), None);
    assert!(drawn(&app, 100, 30).contains("quitting ends it for your viewers"));
    assert_eq!(type_char(&mut app, 'n'), None);
    let interrupt = Event::Key(KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL));
    assert_eq!(app.take(&interrupt), None);
    assert_eq!(app.take(&interrupt), Some(Wish::Quit), "the second Ctrl-C is meant");
}

#[tokio::test(start_paused = true)]
async fn the_cursor_tells_what_was() {
    let mut app = app(Some(snapshot("archive-sync", 24).await));
    for _ in 0..20 {
        press(&mut app, KeyCode::Left);
    }
    let then = drawn(&app, 158, 47);
    assert!(then.contains("at 0:03") && then.contains("steady"), "{then}");
    assert!(then.contains("back to now"));
    press(&mut app, KeyCode::Esc);
    assert!(drawn(&app, 158, 47).contains("now 0:24"));
    for _ in 0..3 {
        type_char(&mut app, '-');
    }
    assert!(drawn(&app, 158, 47).contains("0:00"), "a column of 15 s shows the whole broadcast");
}
