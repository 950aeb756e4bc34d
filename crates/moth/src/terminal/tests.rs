//! Screens drawn to a buffer from seeded evenings, and what keys do.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use jiff::Timestamp;
use moth_core::action::Action;
use moth_core::machine_load::MachineLoad;
use moth_core::moment::Moment;
use moth_core::rate::Bitrate;
use moth_core::{Core, Settings, Snapshot};
use moth_relay::scout;
use moth_stage::{Afternoon, Theatre, shipped};
use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::app::App;
use super::frame;
use super::preparation::{Preparation, TestUnderWay};
use super::style::palette::Palette;
use super::wish::Wish;
use crate::drawings::job::{Job, Work};
use crate::drawings::take_away::take_away;
use crate::live::plan::Banner;
use crate::measuring::tester::Field;
use crate::recordings::player::{ReplayOrder, ReplayState};
use moth_evening::chronicle::{Chronicle, lock};

mod every_screen;
mod lantern;
mod logbook;
mod mouse;
mod rehearsing;

/// An evening's snapshot after so many seconds, nobody having touched anything.
async fn snapshot(slug: &str, seconds: u64) -> Arc<Snapshot> {
    after(slug, &[], seconds).await
}

/// An evening's snapshot after so many seconds, with things done to it, each at its second.
async fn after(slug: &str, deeds: &[(u64, Action)], seconds: u64) -> Arc<Snapshot> {
    seen(slug, deeds, seconds, |_| {}).await
}

/// The same, and every look on the way.
async fn seen(slug: &str, deeds: &[(u64, Action)], seconds: u64, mut see: impl FnMut(&Snapshot)) -> Arc<Snapshot> {
    let mut deeds = deeds.iter();
    let mut deed = deeds.next();
    let evening = shipped().into_iter().find(|e| e.slug == slug).unwrap();
    let mut core = Core::new(Settings { servers: evening.servers() });
    let mut theatre = Theatre::open(&evening, 41).unwrap();
    let end = Moment::after(Duration::from_secs(seconds));
    let mut look = Moment::START;
    while let Some(reading) = theatre.readings.recv().await {
        while look <= reading.at && look <= end {
            let snapshot = core.snapshot(look);
            see(&snapshot);
            scout::tell(&theatre.doubt, &snapshot);
            look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
        }
        if reading.at > end {
            break;
        }
        core.take(&reading);
        if let Some((_, action)) = deed.filter(|(second, _)| reading.at.seconds() >= *second as f64) {
            Theatre::act(&theatre.relay, &theatre.broadcaster, &theatre.recorder, action.clone()).await;
            theatre.relay.be_patient();
            deed = deeds.next();
        }
    }
    Arc::new(core.snapshot(end))
}

fn app(snapshot: Option<Arc<Snapshot>>) -> App {
    let banner = Banner { demo: Some("the archive sync".into()), publish_to: None, replay: None };
    let mut app = App::new(banner, true, Palette::Plain);
    app.show(snapshot);
    app
}

fn live(snapshot: Option<Arc<Snapshot>>) -> App {
    let banner = Banner { demo: None, publish_to: Some("rtmp://127.0.0.1:19350/moth".into()), replay: None };
    let mut app = App::new(banner, false, Palette::Plain);
    app.show(snapshot);
    app
}

fn drawn(app: &App, width: u16, height: u16) -> String {
    let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
    terminal.draw(|frame| frame::draw(frame, app)).unwrap();
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
    // Two at once: the second has its sentence and its key as well.
    let two = app(Some(snapshot("two-at-once", 42).await));
    insta::assert_snapshot!("two_158x47", drawn(&two, 158, 47));
    insta::assert_snapshot!("two_80x24", drawn(&two, 80, 24));
    let mut two = two;
    assert_eq!(type_char(&mut two, 'r'), None);
    assert!(drawn(&two, 158, 47).contains("set the frame rate to 30 frames/s"), "its key does it");
    insta::assert_snapshot!("dark_100x30", drawn(&app(Some(snapshot("blackout", 24).await)), 100, 30));
    insta::assert_snapshot!("rendering_120x40", drawn(&app(Some(snapshot("nebula-scene", 24).await)), 120, 40));
}

#[tokio::test(start_paused = true)]
async fn the_why_screen_in_calm_and_in_trouble() {
    let mut calm = app(Some(snapshot("archive-sync", 14).await));
    type_char(&mut calm, '2');
    insta::assert_snapshot!("why_calm_158x47", drawn(&calm, 158, 47));
    let mut trouble = app(Some(snapshot("bad-route", 26).await));
    type_char(&mut trouble, '2');
    insta::assert_snapshot!("why_trouble_158x47", drawn(&trouble, 158, 47));
    insta::assert_snapshot!("why_trouble_80x24", drawn(&trouble, 80, 24));
    // Another suspect, another stage, and what is done as on Watch.
    let evidence = |screen: &str| screen.lines().find_map(|l| l.split("Evidence on: ").nth(1).map(str::to_owned));
    let first = evidence(&drawn(&trouble, 158, 47)).unwrap();
    press(&mut trouble, KeyCode::Down);
    assert_ne!(evidence(&drawn(&trouble, 158, 47)).unwrap(), first);
    type_char(&mut trouble, 'f');
    assert!(drawn(&trouble, 158, 47).contains("the preset is too heavy"));
    assert_eq!(type_char(&mut trouble, 's'), None, "leaving a server is asked about here, too");
    assert!(drawn(&trouble, 158, 47).contains("Sure?"));
}

/// Another machine that tells its load.
fn second_machine() -> MachineLoad {
    MachineLoad {
        host: Some("dome-left".into()),
        cpu: Some(0.35),
        cores: vec![0.2, 0.5, 0.3, 0.4],
        gpu_render: Some(0.99),
        gpu_busiest_other: Some(("nebula-flight".into(), 0.6)),
        ..MachineLoad::default()
    }
}

#[tokio::test(start_paused = true)]
async fn the_machine_screen_shows_who_takes_what_on_every_machine() {
    let trouble = snapshot("stitching-job", 26).await;
    let mut one = app(Some(trouble.clone()));
    type_char(&mut one, '6');
    insta::assert_snapshot!("load_120x40", drawn(&one, 120, 40));
    let mut both = Snapshot::clone(&trouble);
    both.others = vec![second_machine()];
    let mut two = app(Some(Arc::new(both)));
    type_char(&mut two, '6');
    insta::assert_snapshot!("load_of_two_158x47", drawn(&two, 158, 47));
}

#[tokio::test(start_paused = true)]
async fn marks_are_jumped_to_and_a_second_tells_what_was_lost_in_it() {
    let mut app = app(Some(snapshot("tired-server", 30).await));
    type_char(&mut app, 'N');
    let screen = drawn(&app, 158, 47);
    assert!(screen.contains("in that second: lagged"), "{screen}");
    let at = app.model.view.cursor;
    type_char(&mut app, 'N');
    assert!(app.model.view.cursor < at);
    type_char(&mut app, 'n');
    assert_eq!(app.model.view.cursor, at);
    press(&mut app, KeyCode::Esc);
    assert!(drawn(&app, 158, 47).contains("new pictures/s over 3 s"));
}

#[tokio::test(start_paused = true)]
async fn a_replay_is_stopped_and_moved_and_nothing_is_done_in_it() {
    let mut replay = app(Some(snapshot("tired-server", 26).await));
    replay.model.banner = Banner { demo: None, publish_to: None, replay: Some("tired.jsonl.gz".into()) };
    let length = Some(Duration::from_secs(3723));
    replay.model.replay = Some(ReplayState { speed: 8.0, is_paused: false, length, is_over: false });
    assert!(drawn(&replay, 158, 47).contains("replay at 8× speed 0:26 of 1:02:03: tired.jsonl.gz"));
    for (key, order) in [(' ', ReplayOrder::Pause), ('>', ReplayOrder::Faster), ('[', ReplayOrder::Jump(-30))] {
        assert_eq!(type_char(&mut replay, key), Some(Wish::Replay(order)));
    }
    // It offers no key that it would refuse.
    let watch = drawn(&replay, 158, 47);
    let undo = Some(Action::SetBitrate { video: Bitrate::from_kbps(6000) });
    let changed = Snapshot { undo, ..replay.model.snapshot.as_deref().unwrap().clone() };
    replay.model.snapshot = Some(Arc::new(changed));
    for tab in ['1', '2'] {
        type_char(&mut replay, tab);
        for screen in [drawn(&replay, 158, 47), {
            type_char(&mut replay, '?');
            drawn(&replay, 158, 47)
        }] {
            for refused in [" a  change", "this key", "change: b", "undo", " t  test", "handshake"] {
                assert!(!screen.contains(refused), "{refused}: {screen}");
            }
        }
        type_char(&mut replay, '?');
    }
    type_char(&mut replay, '1');
    assert!(watch.contains("move to Brackwater"), "what would have helped is still said: {watch}");
    assert_eq!(type_char(&mut replay, 's'), None);
    assert!(drawn(&replay, 158, 47).contains("this is a replay"));
    for tab in ['3', '4', '5'] {
        type_char(&mut replay, tab);
        let screen = drawn(&replay, 158, 47);
        assert!(screen.contains("A replay shows one that is over") && !screen.contains("--to"), "{screen}");
    }
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
    // Who was turned away, and what to change.
    let text = format!("{} 127.0.0.1:5 ended: refused: the address ends in /moth", moth_relay::TURNED_AWAY);
    let what = moth_core::reading::Observation::Remark { text };
    core.take(&moth_core::reading::Reading { at: Moment::from_ms(4000), origin: moth_core::Origin::Measured, what });
    let app = live(Some(Arc::new(core.snapshot(Moment::from_ms(5000)))));
    assert!(
        drawn(&app, 120, 40).contains("At 0:04 a connection from 127.0.0.1:5 ended: refused"),
        "{}",
        drawn(&app, 120, 40)
    );
}

#[test]
fn any_size_is_drawn_without_breaking() {
    let mut core = Core::new(Settings { servers: vec!["a".into()] });
    let shown = Arc::new(core.snapshot(Moment::from_ms(90_000)));
    for (width, height) in [(1, 1), (20, 5), (79, 24), (80, 23), (40, 10)] {
        let text = drawn(&live(Some(shown.clone())), width, height);
        assert!(width < 20 || height < 10 || text.contains("Nobody broadcasts"), "{text}");
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

#[tokio::test(start_paused = true)]
async fn without_a_measurement_a_plan_says_what_was_carried_and_takes_a_figure_of_the_users() {
    let mut app = app(Some(snapshot("calm", 30).await)).with(Some(before()));
    press(&mut app, KeyCode::Char('4'));
    let shown = drawn(&app, 158, 47);
    assert!(shown.contains("Nothing was measured yet") && shown.contains("the upload has at least that"), "{shown}");
    type_char(&mut app, 'i');
    "12 MB".chars().for_each(|c| drop(type_char(&mut app, c)));
    assert!(drawn(&app, 158, 47).contains("= 12 000 kb/s (bits"), "it is said back before it counts");
    press(&mut app, KeyCode::Enter);
    let shown = drawn(&app, 158, 47);
    assert!(shown.contains("The upload sustains 12 000 kb/s (as you say)") && shown.contains("1664×936"), "{shown}");
    type_char(&mut app, 'i');
    "much".chars().for_each(|c| drop(type_char(&mut app, c)));
    press(&mut app, KeyCode::Enter);
    assert!(drawn(&app, 158, 47).contains("does not begin with a number"), "and stays to be corrected");
    press(&mut app, KeyCode::Esc);
    type_char(&mut app, 'i');
    press(&mut app, KeyCode::Enter);
    assert!(drawn(&app, 158, 47).contains("Nothing was measured yet"));
}

/// What the screens for before going live show, with the demo's setup in use and nothing measured.
fn before() -> Preparation {
    let (in_use, folder) = crate::setup_in_use::of_the_demo().unwrap();
    Preparation::new(in_use, Some(Arc::new(folder)))
}

/// The same once the demo's afternoon was measured.
fn with_its_afternoon() -> Preparation {
    let (in_use, folder) = crate::setup_in_use::of_the_demo().unwrap();
    let four_hours = jiff::SignedDuration::from_hours(4);
    crate::setup_in_use::afternoon::put_in(&in_use.results, some_day() + four_hours).unwrap();
    Preparation::new(in_use, Some(Arc::new(folder)))
}

fn quiet() -> Arc<Snapshot> {
    let mut core = Core::new(Settings { servers: vec!["Aldmoor".into()] });
    Arc::new(core.snapshot(Moment::from_ms(3000)))
}

fn preparing() -> App {
    app(Some(quiet())).with(Some(before()))
}

/// A day on which the demo's results are dated.
fn some_day() -> Timestamp {
    "2026-03-14T18:00:00Z".parse().unwrap()
}

/// Carries out what the screen wishes, on the stand-in line, until `until` says that it was enough.
async fn carry_out(app: &mut App, wish: Option<Wish>, mut until: impl FnMut(&App) -> bool) {
    let Some(Wish::Test(order)) = wish else { panic!("a test is wished for: {wish:?}") };
    let (orders, to_do) = tokio::sync::mpsc::unbounded_channel();
    let (tell, mut news) = tokio::sync::broadcast::channel(1024);
    let field = Field::StandIn(Box::new(Afternoon::shipped(41).unwrap()));
    let line = Afternoon::shipped(41).unwrap().dialer();
    tokio::spawn(crate::measuring::tester::serve(field, Arc::new(Mutex::new(line)), to_do, tell));
    orders.send(order).unwrap();
    while let Ok(heard) = news.recv().await {
        app.learn(heard, some_day());
        if until(app) {
            return;
        }
    }
}

fn idle(app: &App) -> bool {
    app.model.preparation.as_ref().unwrap().running == TestUnderWay::Nothing
}

async fn tested() -> App {
    let mut app = preparing();
    type_char(&mut app, '3');
    assert_eq!(press(&mut app, KeyCode::Enter), None, "publishing is asked about");
    let wish = type_char(&mut app, 'y');
    carry_out(&mut app, wish, idle).await;
    app
}

/// The day is the machine's own, wherever it is.
fn steady(screen: &str) -> String {
    screen
        .replace(&crate::system::out::date(some_day()), "14 Mar 2026 18:00")
        .replace("14 Mar 2026 18:00   ", "14 Mar 2026 18:00")
}

#[tokio::test(start_paused = true)]
async fn the_routes_screen_before_while_and_after_a_test() {
    let mut app = preparing();
    type_char(&mut app, '3');
    insta::assert_snapshot!("routes_before_100x30", drawn(&app, 100, 30));
    press(&mut app, KeyCode::Enter);
    insta::assert_snapshot!("routes_consent_80x24", drawn(&app, 80, 24));
    let wish = type_char(&mut app, 'y');
    let third = |app: &App| {
        let test = app.model.preparation.as_ref().unwrap().test.clone();
        test.is_some_and(|test| {
            test.done.len() == 2 && test.current.as_ref().is_some_and(|c| c.elapsed > Duration::from_secs(7))
        })
    };
    carry_out(&mut app, wish, third).await;
    insta::assert_snapshot!("routes_runing_158x47", drawn(&app, 158, 47));
    let mut done = tested().await;
    insta::assert_snapshot!("routes_done_158x47", steady(&drawn(&done, 158, 47)));
    insta::assert_snapshot!("routes_done_80x24", steady(&drawn(&done, 80, 24)));
    type_char(&mut done, '?');
    insta::assert_snapshot!("routes_help_100x30", steady(&drawn(&done, 100, 30)));
}

#[tokio::test(start_paused = true)]
async fn a_test_is_ended_by_a_key_and_what_there_is_stays() {
    let mut app = preparing();
    type_char(&mut app, '3');
    press(&mut app, KeyCode::Enter);
    let Some(Wish::Test(order)) = type_char(&mut app, 'y') else { panic!("it begins") };
    assert_eq!(press(&mut app, KeyCode::Enter), None, "only one test at a time");
    let (orders, to_do) = tokio::sync::mpsc::unbounded_channel();
    let (tell, mut news) = tokio::sync::broadcast::channel(1024);
    let afternoon = Afternoon::shipped(41).unwrap();
    let line = afternoon.dialer();
    tokio::spawn(crate::measuring::tester::serve(
        Field::StandIn(Box::new(afternoon)),
        Arc::new(Mutex::new(line)),
        to_do,
        tell,
    ));
    orders.send(order).unwrap();
    while !idle(&app) {
        app.learn(news.recv().await.unwrap(), some_day());
        let done = app.model.preparation.as_ref().unwrap().test.as_ref().map_or(0, |test| test.done.len());
        if done == 2 && !idle(&app) {
            let Some(Wish::Test(cancel)) = press(&mut app, KeyCode::Esc) else { panic!("Esc ends it") };
            orders.send(cancel).unwrap();
        }
    }
    let screen = drawn(&app, 158, 47);
    assert!(screen.contains("short") && screen.contains("holds") && screen.contains("untested"), "{screen}");
    assert!(app.model.preparation.as_ref().unwrap().in_use.results.path().exists(), "and is kept");
}

#[tokio::test(start_paused = true)]
async fn a_server_picked_is_written_into_the_setup() {
    let mut app = tested().await;
    press(&mut app, KeyCode::Down);
    let wish = type_char(&mut app, 'p');
    assert_eq!(
        wish,
        Some(Wish::Act(Action::SwitchServer { server: "Elmsreach".into() })),
        "the next broadcast goes there"
    );
    assert!(drawn(&app, 158, 47).contains("Elmsreach is now the server of the setup comet-night"));
    let file = &app.model.preparation.as_ref().unwrap().in_use.file;
    assert!(std::fs::read_to_string(file.path()).unwrap().contains("server = \"Elmsreach\"          # or one"));
}

#[tokio::test(start_paused = true)]
async fn the_line_is_measured_and_the_plan_rests_on_it() {
    let mut app = tested().await;
    press(&mut app, KeyCode::Char('l'));
    let wish = type_char(&mut app, 'y');
    carry_out(&mut app, wish, idle).await;
    let screen = drawn(&app, 158, 47);
    assert!(screen.contains("This line sustains 11 ") && screen.contains("of bufferbloat"), "{screen}");
    type_char(&mut app, '4');
    insta::assert_snapshot!("plan_158x47", steady(&drawn(&app, 158, 47)));
    insta::assert_snapshot!("plan_80x24", steady(&drawn(&app, 80, 24)));
    type_char(&mut app, 'm');
    let fast = drawn(&app, 158, 47);
    assert!(fast.contains("fast pictures need"), "{fast}");
    type_char(&mut app, 'w');
    let before = app.model.preparation.as_ref().unwrap();
    assert_eq!(before.in_use.setup.bitrate, Bitrate::from_kbps(8000));
    let chosen = before.plan().unwrap().map.choice().map(|cell| cell.size);
    assert_eq!(Some(before.in_use.setup.size), chosen, "what was recommended is written");
    for _ in 0..9 {
        type_char(&mut app, '+');
    }
    let screen = drawn(&app, 158, 47);
    assert!(screen.contains("70 % of it stays free") && screen.contains("the upload binds"), "{screen}");
}

#[tokio::test(start_paused = true)]
async fn runs_of_one_sitting_belong_together_and_those_of_another_do_not() {
    let mut app = tested().await;
    let measure = async |app: &mut App| {
        press(app, KeyCode::Char('l'));
        let wish = type_char(app, 'y');
        carry_out(app, wish, idle).await;
        let before = app.model.preparation.as_ref().unwrap();
        let (kept, runs) = before.history.newest_uplink().unwrap();
        assert_eq!(kept.date, some_day());
        (runs.len(), before.reading.as_ref().unwrap().spread.is_some())
    };
    assert_eq!(measure(&mut app).await, (1, false));
    assert_eq!(measure(&mut app).await, (2, true), "two runs have a spread");
    press(&mut app, KeyCode::Down);
    assert_eq!(measure(&mut app).await, (1, false), "another server is another matter");
}

#[test]
fn without_a_measurement_there_is_no_plan() {
    let mut app = preparing();
    type_char(&mut app, '4');
    insta::assert_snapshot!("plan_without_80x24", drawn(&app, 80, 24));
    for key in ['w', 'm', '+', '-'] {
        type_char(&mut app, key);
        press(&mut app, KeyCode::Up);
    }
    assert!(drawn(&app, 80, 24).contains("Nothing was measured yet"));
}

#[test]
fn a_stream_key_is_replaced_and_forgotten_and_never_shown() {
    let mut app = preparing();
    type_char(&mut app, '4');
    type_char(&mut app, 'k');
    for c in "plain-secret-9q1".chars() {
        type_char(&mut app, c);
        assert!(!drawn(&app, 100, 30).contains("secret"));
    }
    assert!(!format!("{app:?}").contains("secret"), "nor where the program tells of itself");
    insta::assert_snapshot!("key_80x24", drawn(&app, 80, 24));
    press(&mut app, KeyCode::Enter);
    let kept = app.model.preparation.as_ref().unwrap().in_use.keys.read("nocturne").unwrap().unwrap();
    assert_eq!(kept.expose(), "plain-secret-9q1");
    let screen = drawn(&app, 100, 30);
    assert!(screen.contains("is replaced") && !screen.contains("secret"), "{screen}");
    press(&mut app, KeyCode::Down);
    assert!(drawn(&app, 100, 30).contains("a stream key is set, last changed"));
    type_char(&mut app, 'x');
    type_char(&mut app, 'n');
    assert!(app.model.preparation.as_ref().unwrap().in_use.keys.changed("nocturne").is_some());
    type_char(&mut app, 'x');
    type_char(&mut app, 'y');
    assert!(app.model.preparation.as_ref().unwrap().in_use.keys.changed("nocturne").is_none());
}

#[tokio::test(start_paused = true)]
async fn the_machine_is_looked_at_when_one_first_asks() {
    let mut app = preparing();
    let wish = type_char(&mut app, '6');
    carry_out(&mut app, wish, idle).await;
    insta::assert_snapshot!("machine_100x30", steady(&drawn(&app, 100, 30)));
    insta::assert_snapshot!("machine_80x24", steady(&drawn(&app, 80, 24)));
    // On air its load is read anew above: what was found of it before says nothing now.
    let before = drawn(&app, 100, 40);
    assert!(before.contains(" GPU  ") && before.contains("Close stitch-mosaic."), "{before}");
    app.model.snapshot = Some(snapshot("nebula-scene", 24).await);
    let on_air = drawn(&app, 100, 40);
    assert!(on_air.contains("Beside its load:") && on_air.contains("CPU frequency"), "{on_air}");
    for gone in ["stitch-mosaic", "no broadcaster is running", "fine   memory", "heat   "] {
        assert!(!on_air.contains(gone), "{gone}: {on_air}");
    }
    type_char(&mut app, '1');
    assert_eq!(type_char(&mut app, '6'), None, "and not again, unless asked to");
    assert!(matches!(type_char(&mut app, 'r'), Some(Wish::Test(_))));
}

#[tokio::test(start_paused = true)]
async fn every_screen_fits_any_size() {
    let app = &mut tested().await;
    press(app, KeyCode::Char('l'));
    let wish = type_char(app, 'y');
    carry_out(app, wish, idle).await;
    let wish = type_char(app, '6');
    carry_out(app, wish, idle).await;
    for tab in ['1', '2', '3', '4', '5', '6'] {
        type_char(app, tab);
        for (width, height) in [(80, 24), (81, 25), (99, 29), (110, 33), (119, 40), (200, 60), (250, 24), (80, 70)] {
            drawn(app, width, height);
            type_char(app, '?');
            drawn(app, width, height);
            press(app, KeyCode::Esc);
        }
    }
}

#[test]
fn servers_are_chosen_one_by_one_and_by_region() {
    let mut app = preparing();
    type_char(&mut app, '3');
    let chosen = |app: &App| app.model.preparation.as_ref().unwrap().chosen.clone();
    type_char(&mut app, 'r');
    assert_eq!(chosen(&app), [true, true, false, false, false, false], "north");
    type_char(&mut app, 'r');
    assert_eq!(chosen(&app), [false, false, true, true, true, false], "south");
    press(&mut app, KeyCode::Char(' '));
    assert!(chosen(&app)[0]);
    for _ in 0..3 {
        type_char(&mut app, 't');
    }
    let words = app.model.preparation.as_ref().unwrap().routes_order().unwrap().1;
    assert!(words.contains("4 servers of Nocturne") && words.contains("for 40 s"), "{words}");
    type_char(&mut app, 't');
    assert!(app.model.preparation.as_ref().unwrap().routes_order().unwrap().1.contains("for 120 s"));
}

#[tokio::test(start_paused = true)]
async fn a_trial_is_shown_while_it_runs_and_when_it_is_proved() {
    let lower = || (50, Action::SetBitrate { video: Bitrate::from_kbps(2250) });
    let running = after("archive-sync", &[lower()], 62).await;
    insta::assert_snapshot!("trial_running_158x47", drawn(&app(Some(running.clone())), 158, 47));
    insta::assert_snapshot!("trial_running_80x24", drawn(&app(Some(running.clone())), 80, 24));
    let helped = after("archive-sync", &[lower()], 80).await;
    insta::assert_snapshot!("trial_helped_158x47", drawn(&app(Some(helped.clone())), 158, 47));
    // A second change while the first is being proved is asked about.
    let mut app = app(Some(running));
    assert_eq!(type_char(&mut app, 'p'), None);
    assert_eq!(press(&mut app, KeyCode::Enter), None);
    let screen = drawn(&app, 158, 47);
    assert!(screen.contains("Sure?") && screen.contains("is still being proved, and then neither is"), "{screen}");
    assert_eq!(type_char(&mut app, 'n'), None);
    let back = Action::SetBitrate { video: Bitrate::from_kbps(6000) };
    assert_eq!(type_char(&mut app, 'u'), Some(Wish::Act(back)), "to put it back is always one key");
}

#[tokio::test(start_paused = true)]
async fn what_happened_is_told_in_full_and_gone_to() {
    let mut app =
        app(Some(after("archive-sync", &[(27, Action::SetBitrate { video: Bitrate::from_kbps(2250) })], 60).await));
    type_char(&mut app, 'm');
    insta::assert_snapshot!("events_80x24", drawn(&app, 80, 24));
    let whole = drawn(&app, 158, 47);
    let marks = app.model.shown().unwrap().marks.clone();
    assert!(marks.len() > 5 && whole.contains("the broadcaster came"), "{whole}");
    press(&mut app, KeyCode::Home);
    (0..3).for_each(|_| drop(press(&mut app, KeyCode::Down)));
    press(&mut app, KeyCode::Enter);
    assert_eq!(app.model.view.cursor, Some(marks[3].at.seconds() as usize));
    assert!(app.dialog.is_none());
    type_char(&mut app, 'm');
    assert_eq!(app.dialog, Some(super::dialogs::Dialog::Events(3)), "it is on what was looked back at");
}

#[tokio::test(start_paused = true)]
async fn a_change_is_chosen_with_its_price_or_typed() {
    let mut app = app(Some(snapshot("calm", 14).await));
    type_char(&mut app, 'a');
    insta::assert_snapshot!("changes_120x40", drawn(&app, 120, 40));
    type_char(&mut app, 'b');
    insta::assert_snapshot!("choice_120x40", drawn(&app, 120, 40));
    press(&mut app, KeyCode::Down);
    let chosen = Action::SetBitrate { video: Bitrate::from_kbps(4500) };
    assert_eq!(press(&mut app, KeyCode::Enter), Some(Wish::Act(chosen)));
    type_char(&mut app, 'b');
    "-20%".chars().for_each(|c| assert_eq!(type_char(&mut app, c), None));
    let typed = Action::SetBitrate { video: Bitrate::from_kbps(4800) };
    assert_eq!(press(&mut app, KeyCode::Enter), Some(Wish::Act(typed)));
    type_char(&mut app, 'b');
    "4700".chars().for_each(|c| assert_eq!(type_char(&mut app, c), None));
    assert!(drawn(&app, 120, 40).contains("= 4 700 kb/s (a number alone"), "it is said back before it counts");
    let meant = Action::SetBitrate { video: Bitrate::from_kbps(4700) };
    assert_eq!(press(&mut app, KeyCode::Enter), Some(Wish::Act(meant)));
    type_char(&mut app, 'b');
    "4.7.k".chars().for_each(|c| assert_eq!(type_char(&mut app, c), None));
    assert_eq!(press(&mut app, KeyCode::Enter), None, "that is no bitrate");
    assert!(drawn(&app, 120, 40).contains("▸ 4.7.k"), "and stays to be corrected");
    press(&mut app, KeyCode::Esc);
    // A menu acts on Enter as well.
    type_char(&mut app, 'a');
    press(&mut app, KeyCode::Down);
    press(&mut app, KeyCode::Enter);
    assert!(drawn(&app, 120, 40).contains("move to"), "{}", drawn(&app, 120, 40));
    press(&mut app, KeyCode::Esc);
    // Leaving a server is asked about once more.
    type_char(&mut app, 's');
    assert_eq!(press(&mut app, KeyCode::Enter), None);
    assert!(drawn(&app, 120, 40).contains("Sure?"));
    type_char(&mut app, 'n');
    for (key, action) in [
        ('p', Action::LighterPreset),
        ('k', Action::SetKeeper { mode: moth_core::keeper::Mode::Advise }),
        ('x', Action::SetFailover { on: true }),
        ('o', Action::SetPriority { nice: -5 }),
    ] {
        assert_eq!(type_char(&mut app, key), None);
        assert_eq!(press(&mut app, KeyCode::Enter), Some(Wish::Act(action)), "{key}");
    }
    assert_eq!(type_char(&mut app, 'h'), None);
    assert!(drawn(&app, 120, 40).contains("there is nothing to change now"));
}

#[tokio::test(start_paused = true)]
async fn what_is_done_by_hand_is_told_step_by_step_and_then_proved() {
    let mut app = app(Some(snapshot("archive-sync", 24).await));
    assert_eq!(type_char(&mut app, 'h'), None);
    insta::assert_snapshot!("by_hand_120x40", drawn(&app, 120, 40));
    assert!(matches!(press(&mut app, KeyCode::Enter), Some(Wish::Act(Action::ByHand { .. }))));
    assert_eq!(type_char(&mut app, 'h'), None);
    assert_eq!(press(&mut app, KeyCode::Esc), None, "or it is only read");
}

/// An evening as it is being watched: everything that was seen is written down.
async fn watched(app: &mut App, slug: &str, deeds: &[(u64, Action)], seconds: u64) {
    let mut chronicle = Chronicle::default();
    let last = seen(slug, deeds, seconds, |snapshot| chronicle.take(snapshot)).await;
    chronicle.take(&last);
    app.show(Some(last));
    *lock(&app.model.chronicle) = chronicle;
    app.model.began = Some("2026-03-14T20:04:10+01:00[+01:00]".parse().unwrap());
    type_char(app, '1');
    drawn(app, 158, 47);
}

#[tokio::test(start_paused = true)]
async fn the_same_second_of_the_next_broadcast_is_not_that_of_the_one_before() {
    let mut app = app(None);
    for (slug, seconds, back, told) in
        [("archive-sync", 40, 5, "network at fault"), ("calm", 38, 3, "nothing at fault")]
    {
        let mut chronicle = Chronicle::with_moments();
        let last = seen(slug, &[], seconds, |snapshot| chronicle.take(snapshot)).await;
        app.show(Some(last));
        *lock(&app.model.chronicle) = chronicle;
        // Twice: what was looked at before is not looked up again.
        (0..back).for_each(|_| drop(press(&mut app, KeyCode::Left)));
        for shown in [drawn(&app, 158, 47), drawn(&app, 158, 47)] {
            assert!(shown.contains(&format!("at 0:34  {told}")), "{slug}:\n{shown}");
        }
    }
}

#[tokio::test(start_paused = true)]
async fn looking_back_everything_is_as_it_stood_then() {
    let cut = Action::SetBitrate { video: Bitrate::from_kbps(2250) };
    let mut app = app(None).with(Some(before()));
    let mut chronicle = Chronicle::with_moments();
    let last = seen("archive-sync", &[(40, cut)], 70, |snapshot| chronicle.take(snapshot)).await;
    app.show(Some(last));
    *lock(&app.model.chronicle) = chronicle;
    let now = drawn(&app, 158, 47);
    assert!(now.contains("nothing at fault"), "{now}");
    // Into the trouble: half a minute back.
    (0..34).for_each(|_| drop(press(&mut app, KeyCode::Left)));
    let then = drawn(&app, 158, 47);
    for expected in ["┃ at 0:35  network at fault", "lower the video bitrate", "at 0:35     in that second"] {
        assert!(then.contains(expected), "{expected} in {then}");
    }
    assert!(!then.contains("nothing at fault"), "{then}");
    insta::assert_snapshot!("looked_back_158x47", then);
    insta::assert_snapshot!("looked_back_80x24", drawn(&app, 80, 24));
    // What was proposed then is not done now.
    assert_eq!(press(&mut app, KeyCode::Enter), None);
    assert!(app.notice.as_deref().is_some_and(|said| said.contains("Esc goes back to now")), "{:?}", app.notice);
    assert_eq!(app.dialog, None);
    type_char(&mut app, '2');
    let why = drawn(&app, 158, 47);
    assert!(why.contains("as it stood at 0:35") && !why.contains("Nothing is lost here now."), "{why}");
    insta::assert_snapshot!("why_looked_back_158x47", why);
    press(&mut app, KeyCode::Esc);
    assert!(drawn(&app, 158, 47).contains("Nothing is lost here now."));
    type_char(&mut app, '1');
    assert!(drawn(&app, 158, 47).contains("│ nothing at fault"));
}

fn exported(app: &mut App) -> Job {
    match press(app, KeyCode::Enter) {
        Some(Wish::Export(job)) => *job,
        other => panic!("{other:?}"),
    }
}

#[tokio::test(start_paused = true)]
async fn what_is_on_the_screen_is_taken_away_with_one_key() {
    let cut = Action::SetBitrate { video: Bitrate::from_kbps(2500) };
    let mut app = app(None).with(Some(before()));
    watched(&mut app, "archive-sync", &[(25, cut)], 40).await;
    type_char(&mut app, 'e');
    insta::assert_snapshot!("export_158x47", drawn(&app, 158, 47));
    insta::assert_snapshot!("export_80x24", drawn(&app, 80, 24));
    let dir = tempfile::tempdir().unwrap();
    let now = "2026-03-14T20:04:50+01:00[+01:00]".parse().unwrap();
    let job = exported(&mut app);
    assert!(
        matches!(&job.work, Work::Lanes(evening, _) if evening.seconds.len() == 40 && !evening.verdicts.is_empty())
    );
    assert_eq!(app.notice.as_deref(), Some("being drawn…"));
    let first = take_away(&job, dir.path(), &now).unwrap();
    assert_eq!(first, dir.path().join("moth-lanes-2026-03-14-200450.svg"));
    // In the same second nothing is written over.
    assert_eq!(take_away(&job, dir.path(), &now).unwrap(), dir.path().join("moth-lanes-2026-03-14-200450-2.svg"));
    let svg = std::fs::read_to_string(&first).unwrap();
    assert!(svg.contains("bitrate") && svg.contains("the archive sync"), "{svg}");

    // The trial below it, on black, as PDF; and the journey.
    for (keys, name) in [("fg", "moth-journey"), ("fgs", "moth-trial")] {
        type_char(&mut app, 'e');
        press(&mut app, KeyCode::Down);
        if name == "moth-trial" {
            press(&mut app, KeyCode::Down);
        }
        for key in keys.chars() {
            type_char(&mut app, key);
        }
        let job = exported(&mut app);
        assert_eq!((job.name.as_str(), job.format), (name, moth_drawing::Format::Pdf));
        assert!(std::fs::read(take_away(&job, dir.path(), &now).unwrap()).unwrap().starts_with(b"%PDF"));
    }
    // Esc leaves it, and a folder that is none is one clear line.
    type_char(&mut app, 'e');
    assert_eq!(press(&mut app, KeyCode::Esc), None);
    assert!(app.dialog.is_none());
    let error = take_away(&job, &dir.path().join("none"), &now).unwrap_err().to_string();
    assert!(error.contains("cannot be written"), "{error}");
}

#[tokio::test(start_paused = true)]
async fn every_screen_has_something_to_take_away_and_names_stay_if_wanted() {
    let mut app = tested().await;
    type_char(&mut app, 'l');
    let wish = type_char(&mut app, 'y');
    carry_out(&mut app, wish, idle).await;
    watched(&mut app, "archive-sync", &[], 30).await;
    let dir = tempfile::tempdir().unwrap();
    let now = "2026-03-14T20:04:50+01:00[+01:00]".parse().unwrap();
    let mut names: Vec<String> = vec!["archive".into(), "stand-in took".into(), "stand-in, at".into()];
    let in_use = &app.model.preparation.as_ref().unwrap().in_use;
    names.push(in_use.service.name.clone());
    for server in &in_use.service.servers {
        names.extend([server.name.clone(), server.address.host().to_owned()]);
        names.extend(server.region.clone());
    }
    for (tab, steps, slug) in [
        ('1', 0, "moth-lanes"),
        ('1', 1, "moth-journey"),
        ('2', 0, "moth-why"),
        ('3', 0, "moth-servers"),
        ('3', 1, "moth-line"),
        ('4', 0, "moth-picture"),
        ('6', 0, "moth-machine"),
    ] {
        type_char(&mut app, tab);
        drawn(&app, 158, 47);
        type_char(&mut app, 'e');
        (0..steps).for_each(|_| drop(press(&mut app, KeyCode::Down)));
        type_char(&mut app, 'n');
        let job = exported(&mut app);
        assert_eq!(job.name, slug);
        let svg = std::fs::read_to_string(take_away(&job, dir.path(), &now).unwrap()).unwrap();
        for name in &names {
            assert!(!svg.contains(name.as_str()), "{slug} holds {name}");
        }
        assert!(svg.contains("made up"), "{slug} says that it is");
    }
    // The report is on its own key, on either paper.
    type_char(&mut app, '1');
    type_char(&mut app, 'E');
    assert!(drawn(&app, 158, 47).contains("a report on the broadcast so far"));
    type_char(&mut app, 'p');
    let job = exported(&mut app);
    let Work::Report(evening, moth_drawing::Paper::Letter) = &job.work else { panic!("{job:?}") };
    assert!(!evening.verdicts.is_empty() && !evening.machines.is_empty());
    assert!(evening.servers.is_some() && evening.line.is_some(), "what was tested on the day goes along");
    assert!(take_away(&job, dir.path(), &now).unwrap().extension().unwrap() == "pdf");
}

#[test]
fn with_nothing_seen_there_is_nothing_to_take_away() {
    let mut app = live(Some(quiet()));
    for (tab, key) in [('1', 'E'), ('3', 'e'), ('4', 'e')] {
        type_char(&mut app, tab);
        assert_eq!(type_char(&mut app, key), None);
        assert!(app.dialog.is_none() && app.notice.as_deref().unwrap().contains("nothing to take away"), "{tab}");
    }
}
