//! The Logbook screen over the demo's evenings.

use super::*;
use crate::logbook::made_up;
use crate::logbook::plan::LogPlan;
use crate::logbook::scribe::Keeping;
use crate::terminal::dialogs::Dialog;

/// The demo's logbook, as it is on one day.
fn opened(snapshot: Option<Arc<Snapshot>>) -> App {
    let plan = LogPlan::of_the_demo().unwrap();
    made_up::unpack(&plan.path, "2026-11-25T12:00:00Z".parse().unwrap()).unwrap();
    let mut app = app(snapshot).keeping_in(Some(plan));
    press(&mut app, KeyCode::Char('7'));
    app
}

/// The row of the list with these words.
fn go_to(app: &mut App, title: &str) {
    let row = app.model.logbook.list.iter().position(|one| one.title.contains(title)).unwrap();
    press(app, KeyCode::Home);
    (0..row).for_each(|_| drop(press(app, KeyCode::Down)));
}

#[tokio::test(start_paused = true)]
async fn evenings_are_listed_opened_and_compared() {
    let mut app = opened(Some(snapshot("calm", 14).await));
    go_to(&mut app, "The night before the new router");
    insta::assert_snapshot!("logbook_158x47", drawn(&app, 158, 47));
    insta::assert_snapshot!("logbook_80x24", drawn(&app, 80, 24));
    type_char(&mut app, 'c');
    go_to(&mut app, "The night after the new router");
    type_char(&mut app, 'c');
    insta::assert_snapshot!("logbook_compared_158x47", drawn(&app, 158, 47));
    insta::assert_snapshot!("logbook_compared_80x24", drawn(&app, 80, 24));
    press(&mut app, KeyCode::Esc);
    go_to(&mut app, "Aldmoor tired");
    press(&mut app, KeyCode::Enter);
    insta::assert_snapshot!("logbook_opened_158x47", drawn(&app, 158, 47));
    insta::assert_snapshot!("logbook_opened_80x24", drawn(&app, 80, 24));
}

#[tokio::test(start_paused = true)]
async fn a_past_evening_is_gone_through_as_it_stood_then_while_another_goes_on() {
    let mut app = opened(Some(snapshot("calm", 14).await));
    go_to(&mut app, "Aldmoor tired");
    press(&mut app, KeyCode::Enter);
    let verdict = |app: &App| {
        let opened = app.model.kept().unwrap();
        opened.stations.iter().position(|station| station.words.contains("too slow")).unwrap()
    };
    (0..verdict(&app)).for_each(|_| drop(press(&mut app, KeyCode::Down)));
    press(&mut app, KeyCode::Enter);
    let watch = drawn(&app, 158, 47);
    assert!(watch.contains("network at fault") && watch.contains("past broadcast 3, made up"), "{watch}");
    assert!(watch.contains("on air 0:14") && watch.contains("steady"), "the one that goes on stays in sight:\n{watch}");
    // What was proposed then is not done now.
    assert_eq!(type_char(&mut app, 's'), None);
    assert!(drawn(&app, 158, 47).contains("this broadcast is over"));
    press(&mut app, KeyCode::Char('2'));
    let why = drawn(&app, 158, 47);
    assert!(why.contains("Aldmoor") && why.contains("the server is too slow"), "{why}");
    (0..500).for_each(|_| drop(press(&mut app, KeyCode::PageDown)));
    assert!(app.model.view.cursor.is_some(), "there is no now in it");
    let Some(Wish::Export(job)) = ({
        type_char(&mut app, 'E');
        press(&mut app, KeyCode::Enter)
    }) else {
        panic!("no report")
    };
    let Work::Report(evening, _) = &job.work else { panic!("{job:?}") };
    assert!(evening.source.contains("broadcast 3 of the logbook"), "{}", evening.source);
    press(&mut app, KeyCode::Esc);
    assert_eq!(app.screen.name, "Logbook");
    press(&mut app, KeyCode::Esc);
    assert!(app.model.kept().is_none() && app.model.view.cursor.is_none(), "and back to now");
    press(&mut app, KeyCode::Char('1'));
    assert!(drawn(&app, 158, 47).contains("nothing at fault"));
}

#[test]
fn before_and_after_a_change_are_compared_and_taken_away() {
    let mut app = opened(Some(quiet()));
    go_to(&mut app, "Repeater");
    press(&mut app, KeyCode::Enter);
    let change =
        app.model.kept().unwrap().stations.iter().position(|station| station.words.contains("repeater")).unwrap();
    (0..change).for_each(|_| drop(press(&mut app, KeyCode::Down)));
    type_char(&mut app, 'c');
    let shown = drawn(&app, 158, 47);
    assert!(shown.contains("Against the time before 09:10, the time after 09:10 dropped"), "{shown}");
    type_char(&mut app, 'e');
    let job = exported(&mut app);
    let Work::Comparison((first, before), (_, after), sentence) = &job.work else { panic!("{job:?}") };
    assert!(first.is_made_up && before.until_s == after.from_s && sentence.contains("dropped"), "{before:?} {after:?}");
    let folder = tempfile::tempdir().unwrap();
    let written = take_away(&job, folder.path(), &some_day().to_zoned(jiff::tz::TimeZone::UTC)).unwrap();
    assert!(std::fs::read_to_string(written).unwrap().contains("Over each other"));
}

#[test]
fn from_the_list_the_evening_under_the_cursor_is_taken_away() {
    let mut app = opened(Some(quiet()));
    go_to(&mut app, "Repeater");
    type_char(&mut app, 'E');
    let job = exported(&mut app);
    let Work::Report(evening, _) = &job.work else { panic!("{job:?}") };
    let nr = app.model.kept().unwrap().listed.nr;
    assert!(evening.source.contains(&format!("broadcast {nr} of the logbook")), "{}", evening.source);
    press(&mut app, KeyCode::Esc);
    type_char(&mut app, '/');
    "no such evening".chars().for_each(|c| drop(type_char(&mut app, c)));
    press(&mut app, KeyCode::Enter);
    type_char(&mut app, 'e');
    assert!(app.dialog.is_none() && drawn(&app, 158, 47).contains("no broadcast is under the cursor"));
}

#[test]
fn an_evening_is_found_named_and_removed_once_one_agrees() {
    let mut app = opened(Some(quiet()));
    let type_in = |app: &mut App, text: &str| text.chars().for_each(|c| drop(type_char(app, c)));
    let numbers = |app: &App| app.model.logbook.list.iter().map(|one| one.nr).collect::<Vec<_>>();
    type_char(&mut app, '/');
    type_in(&mut app, "server-away");
    press(&mut app, KeyCode::Enter);
    assert_eq!(numbers(&app), [5]);
    type_char(&mut app, 't');
    type_in(&mut app, "Lights out");
    press(&mut app, KeyCode::Enter);
    assert!(drawn(&app, 158, 47).contains("Lights out"));
    type_char(&mut app, 'd');
    assert!(matches!(app.dialog, Some(Dialog::RemoveKept(5, _))));
    type_char(&mut app, 'n');
    assert_eq!(numbers(&app), [5]);
    type_char(&mut app, 'd');
    type_char(&mut app, 'y');
    assert_eq!(numbers(&app), [0; 0]);
    assert!(drawn(&app, 158, 47).contains("is removed"));
    press(&mut app, KeyCode::Esc);
    assert_eq!(numbers(&app).len(), 11);
}

/// While somebody broadcasts, and after they stayed away for a while.
#[tokio::test(start_paused = true)]
async fn once_the_broadcaster_stays_away_it_is_told_what_became_of_the_broadcast() {
    let on_air = snapshot("calm", 14).await;
    let mut app = opened(Some(on_air.clone()));
    app.keeping_is(Keeping { nr: Some(4), trouble: None });
    let later =
        |ms| Arc::new(Snapshot { at: Moment::from_ms(ms), on_air_since: None, state: None, ..on_air.as_ref().clone() });
    app.show(Some(later(15_000)));
    app.show(Some(later(44_000)));
    assert_eq!(app.dialog, None, "they may come back");
    app.show(Some(later(45_000)));
    insta::assert_snapshot!("over_158x47", drawn(&app, 158, 47));
    press(&mut app, KeyCode::Esc);
    app.show(Some(later(90_000)));
    assert_eq!(app.dialog, None, "once");
}

#[test]
fn what_stands_in_the_way_of_keeping_is_above_every_screen() {
    let mut app = opened(Some(quiet()));
    app.keeping_is(Keeping { nr: None, trouble: Some("the disk with the logbook is full".into()) });
    assert!(drawn(&app, 80, 24).contains("not in the logbook"));
    assert!(drawn(&app, 158, 47).contains("the disk with the logbook is full"));
    let mut without = super::app(Some(quiet()));
    press(&mut without, KeyCode::Char('7'));
    assert!(drawn(&without, 80, 24).contains("Nothing is kept"));
}

#[tokio::test(start_paused = true)]
async fn every_size_is_drawn() {
    let mut app = opened(Some(quiet()));
    go_to(&mut app, "The night before");
    for stage in 0..3 {
        match stage {
            1 => drop(press(&mut app, KeyCode::Enter)),
            2 => drop(type_char(&mut app, 'c')),
            _ => {}
        }
        for (width, height) in [(80, 24), (81, 25), (120, 24), (200, 60), (300, 100)] {
            let shown = drawn(&app, width, height);
            assert!(shown.contains("The night before the new router"), "{width}x{height}, {stage}:\n{shown}");
        }
    }
}
