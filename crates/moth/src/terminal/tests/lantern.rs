//! The lantern, and that everything says the same of what viewers get.

use super::*;
use crate::outlets::alarm::{Alarm, News};
use crate::outlets::json_line::JsonLine;
use crate::outlets::one_line::one_line;
use crate::terminal::lantern::word;
use moth_core::State;
use moth_core::suspects::Fault;

#[tokio::test(start_paused = true)]
async fn it_fills_the_window_with_how_the_broadcast_stands_and_what_one_key_would_do() {
    for (slug, seconds, name) in [
        ("calm", 14, "calm"),
        ("archive-sync", 26, "trouble"),
        ("nebula-scene", 26, "rendering"),
        ("two-at-once", 42, "two"),
    ] {
        let mut app = app(Some(snapshot(slug, seconds).await));
        type_char(&mut app, '0');
        for (width, height) in [(40, 10), (80, 24), (120, 40), (158, 47), (200, 60)] {
            insta::assert_snapshot!(format!("lantern_{name}_{width}x{height}"), drawn(&app, width, height));
        }
    }
    let waiting = app(Some(quiet()));
    insta::assert_snapshot!("lantern_waiting_40x10", drawn(&waiting, 40, 10));
    let sizes = [(80, 24), (120, 40), (158, 47), (200, 60)];
    let mut waiting = waiting;
    type_char(&mut waiting, '0');
    let all: Vec<String> = sizes.iter().map(|(width, height)| drawn(&waiting, *width, *height)).collect();
    insta::assert_snapshot!("lantern_waiting", all.join("\n"));
}

#[tokio::test(start_paused = true)]
async fn its_keys_are_those_it_shows() {
    let mut app = app(Some(snapshot("archive-sync", 26).await));
    app.is_small.set(true);
    assert!(drawn(&app, 60, 20).contains("Enter  do it"), "{}", drawn(&app, 60, 20));
    assert_eq!(type_char(&mut app, 'b'), None);
    assert!(app.dialog.is_none(), "what is not shown does nothing");
    assert!(matches!(press(&mut app, KeyCode::Enter), Some(Wish::Act(_))));
    app.is_small.set(false);
    type_char(&mut app, '0');
    press(&mut app, KeyCode::Char('2'));
    assert_eq!((app.screen.name, app.is_lantern), ("Why", false));
    type_char(&mut app, '0');
    press(&mut app, KeyCode::Esc);
    assert!(!app.is_lantern);
    // What is over takes no changes: nothing is offered that no key does.
    let mut past = live(Some(snapshot("archive-sync", 26).await)).replaying(
        ReplayState { length: None, speed: 1.0, is_paused: false, is_over: false },
        None,
        true,
    );
    type_char(&mut past, '0');
    let shown = drawn(&past, 158, 47);
    assert!(!shown.contains("Enter"), "{shown}");
    // A question is asked where there is hardly room for it.
    let mut tired = self::app(Some(snapshot("tired-server", 26).await));
    tired.is_small.set(true);
    press(&mut tired, KeyCode::Enter);
    let asked = drawn(&tired, 40, 10);
    assert!(asked.contains(" y  do it") && asked.contains("n"), "{asked}");
    assert!(matches!(type_char(&mut tired, 'y'), Some(Wish::Act(_))));
}

/// Of many moments of many evenings: whoever says that viewers lose frames says so with all others.
#[tokio::test(start_paused = true)]
async fn whatever_tells_of_what_viewers_get_tells_the_same() {
    let mut words = std::collections::BTreeMap::new();
    for slug in [
        "calm",
        "archive-sync",
        "dish-wash",
        "nebula-scene",
        "ambitious-preset",
        "two-at-once",
        "blackout",
        "still-slide",
    ] {
        let mut alarm = Alarm::new(Duration::ZERO);
        let (mut is_told, mut stands) = (false, ((Fault::None, None), Moment::START));
        seen(slug, &[], 70, |snapshot| {
            // What the stages lost in the last three seconds, where that is more than a frame that is late now and then.
            let lost = |at: usize| snapshot.journey[at].lost_now.value.unwrap_or(0);
            let is_dark = snapshot.state == Some(State::Dark);
            let loses = is_dark || lost(2) > 0 || snapshot.verdict.fault != Fault::None && lost(0) + lost(1) > 0;
            let at = format!("{slug} at {:.1} s", snapshot.at.seconds());
            let badge = snapshot.viewers_state();
            assert_eq!(matches!(badge, Some(State::Losing | State::Dark)), loses, "the badge, {at}");
            let is_calm = matches!(word(snapshot), "ALL WELL" | "STRAINED" | "WAITING");
            assert_eq!(is_calm, !loses, "the lantern, {at}");
            let line = serde_json::to_value(JsonLine::from(snapshot)).unwrap();
            let told = line["viewers_state"].as_str().map(str::to_owned);
            assert_eq!(told.as_deref(), badge.map(State::word), "the line, {at}");
            let mut app = app(Some(Arc::new(snapshot.clone())));
            app.is_lantern = true;
            let shown = drawn(&app, 100, 30);
            assert_eq!(shown.contains(" losing ") || shown.contains(" dark "), loses, "{at}:\n{shown}");
            let strip = one_line(snapshot);
            let mark = badge.map_or("· no broadcaster", State::word);
            assert!(
                strip.contains(mark) && strip.contains(" lost in 3 s") == (badge == Some(State::Losing)),
                "{at}: {strip}"
            );
            // Somebody is told once a verdict has stood for a while, and never without one.
            let told = alarm.look(snapshot).map(|tell| tell.news);
            let has_verdict = snapshot.verdict.fault != Fault::None;
            assert!(told.is_none_or(|news| (news == News::AllClear) != has_verdict), "{told:?}, {at}");
            is_told = match told {
                Some(news) => news != News::AllClear,
                None => is_told,
            };
            // What stands and costs frames for longer than it takes to tell was told.
            let standing = (snapshot.verdict.fault, snapshot.verdict.cause);
            if !has_verdict || !loses || standing != stands.0 {
                stands = (standing, snapshot.at);
            }
            assert!(is_told || snapshot.at.since(stands.1) < Duration::from_secs(2), "the alarm, {at}");
            *words.entry(word(snapshot)).or_insert(0) += 1;
        })
        .await;
    }
    for word in ["ALL WELL", "NETWORK", "ENCODER", "RENDERING", "DARK"] {
        assert!(words.get(word).is_some_and(|times| *times > 3), "{word} was never seen: {words:?}");
    }
}
