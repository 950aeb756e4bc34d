//! The Rehearse screen, from seeded stand-ins on a paused clock.

use std::ops::ControlFlow;

use super::*;
use moth_core::suspects::Fault;
use moth_rehearsal::ladder::Kind;
use moth_rehearsal::runner::{Does, End, Stand};
use moth_relay::RelayHandle;
use moth_store::rehearsals::What;

use crate::live::plan::Doors;
use crate::rehearsal::run::{Run, Task};
use crate::rehearsal::{self, Prepared, Wanted};
use crate::setup_in_use::{self, SetupInUse};
use crate::terminal::dialogs::Dialog;
use crate::terminal::rehearsing::{RehearsalOrder, RehearsalPlan};

/// Runs a rehearsal on the observatory's afternoon, until it is over or `watch` has seen enough.
async fn rehearsed(
    prepared: Prepared,
    mut watch: impl FnMut(&mut Run, &Snapshot) -> ControlFlow<()>,
) -> (Run, Arc<Snapshot>) {
    let Prepared { plan, mut run, .. } = prepared;
    let mut core = plan.core();
    let mut production = plan.begin().await.unwrap();
    let relay: RelayHandle = production.relay.clone();
    let mut look = Moment::START;
    while let Some(reading) = production.readings.recv().await {
        while look <= reading.at {
            let snapshot = core.snapshot(look);
            look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
            let does = run.look(&snapshot, some_day());
            if watch(&mut run, &snapshot).is_break() {
                return (run, Arc::new(snapshot));
            }
            match does {
                Does::Act(action) => production.act(action).await,
                Does::Drop => relay.drop_what_waits(),
                Does::Wait => {}
                Does::Over(_) => return (run, Arc::new(snapshot)),
            }
        }
        core.take(&reading);
    }
    panic!("the afternoon ended before the rehearsal did")
}

fn demo(climb: Option<Kind>, in_use: &SetupInUse) -> Prepared {
    rehearsal::prepare_demo(&Wanted { climb, ..Wanted::default() }, in_use, 41).unwrap()
}

/// The screen with that on it.
fn showing((run, snapshot): (Run, Arc<Snapshot>), in_use: SetupInUse) -> App {
    let mut app = app(Some(snapshot))
        .with(Some(Preparation::new(in_use, None)))
        .rehearsing_through(RehearsalPlan { seed: 41, ..RehearsalPlan::default() });
    type_char(&mut app, '5');
    app.follow_rehearsal(Some(Arc::new(run)));
    app
}

#[tokio::test(start_paused = true)]
async fn a_climb_as_it_goes_and_what_it_came_to() {
    let (in_use, _folder) = setup_in_use::of_the_demo().unwrap();
    let before = std::fs::read_to_string(in_use.file.path()).unwrap();
    let is_at = |rung: usize| {
        move |run: &mut Run, _: &Snapshot| {
            let Task::Climb(runner) = &run.task else { panic!() };
            let there =
                runner.stand() == Stand::Trying && runner.climb().tries().len() == rung && runner.seen().seconds() == 3;
            if there { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        }
    };
    let app = showing(rehearsed(demo(Some(Kind::Bitrate), &in_use), is_at(5)).await, in_use.clone());
    insta::assert_snapshot!("climbing_158x47", drawn(&app, 158, 47));
    insta::assert_snapshot!("climbing_80x24", drawn(&app, 80, 24));
    assert!(app.model.rehearsing.is_running());

    let whole = rehearsed(demo(Some(Kind::Bitrate), &in_use), |_, _| ControlFlow::Continue(())).await;
    let mut app = showing(whole, in_use.clone());
    let screen = drawn(&app, 158, 47);
    insta::assert_snapshot!("climbed_158x47", screen);
    insta::assert_snapshot!("climbed_80x24", drawn(&app, 80, 24));
    for told in ["held for", "gave way", "Recommended", "ruled out", "Everything here is made up"] {
        assert!(screen.contains(told), "{told}");
    }
    // Nothing was written yet; one key writes what is recommended, and nothing else.
    assert_eq!(std::fs::read_to_string(in_use.file.path()).unwrap(), before);
    assert!(drawn(&app, 158, 47).contains("keep it in the setup"));
    type_char(&mut app, 'k');
    let recommended = match &app.model.rehearsing.shown().unwrap().over.as_ref().unwrap().what {
        What::Climb(finding) => finding.recommended().unwrap().words(),
        What::Soak(_) => panic!(),
    };
    assert!(app.notice.as_deref().unwrap().contains(&recommended), "{:?}", app.notice);
    let changed: Vec<String> = std::fs::read_to_string(in_use.file.path())
        .unwrap()
        .lines()
        .zip(before.lines())
        .filter(|(now, then)| now != then)
        .map(|(now, _)| now.to_owned())
        .collect();
    assert_eq!(changed.len(), 1, "{changed:?}");
    // It leaves as a drawing, and says that it is made up.
    type_char(&mut app, 'e');
    type_char(&mut app, 'n');
    let Some(Wish::Export(job)) = press(&mut app, KeyCode::Enter) else { panic!("it is to be drawn") };
    let dir = tempfile::tempdir().unwrap();
    let now = "2026-03-14T20:04:50+01:00[+01:00]".parse().unwrap();
    let svg = std::fs::read_to_string(take_away(&job, dir.path(), &now).unwrap()).unwrap();
    assert!(svg.contains("made up") && !svg.contains("Aldmoor") && svg.contains("gave way"), "{svg}");
    // Enter puts it away; the list knows it.
    press(&mut app, KeyCode::Enter);
    let list = drawn(&app, 158, 47);
    assert!(list.contains("recommended") && list.contains("never rehearsed"), "{list}");
}

#[tokio::test(start_paused = true)]
async fn presets_and_pictures_are_climbed_on_the_stand_ins_too() {
    let (in_use, _folder) = setup_in_use::of_the_demo().unwrap();
    // A larger picture takes longer to render as well.
    for (kind, gives_way) in [(Kind::Preset, Fault::Encoder), (Kind::Picture, Fault::Rendering)] {
        let (run, snapshot) = rehearsed(demo(Some(kind), &in_use), |_, _| ControlFlow::Continue(())).await;
        let What::Climb(finding) = &run.over.as_ref().unwrap().what else { panic!() };
        assert_eq!(finding.end, End::Done, "{kind:?}: {}", finding.sentence());
        // It gives way at a rung of its own, and the one below it was confirmed.
        assert_eq!(finding.at_fault.map(|(fault, _)| fault), Some(gives_way), "{kind:?}: {}", finding.sentence());
        let (clean, failed) = (finding.highest_clean.unwrap(), finding.lowest_failed.unwrap());
        assert!(failed == clean + 1 && clean > 0 && failed < finding.rungs.len(), "{kind:?}: {}", finding.sentence());
        assert_eq!(finding.left_at, None);
        drop(snapshot);
    }
}

#[tokio::test(start_paused = true)]
async fn a_crash_in_the_very_first_step_leaves_a_note_of_what_to_put_back() {
    let (in_use, _folder) = setup_in_use::of_the_demo().unwrap();
    let first = |run: &mut Run, _: &Snapshot| {
        let Task::Climb(runner) = &run.task else { panic!() };
        if runner.stand() == Stand::Trying { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    };
    let (run, _) = rehearsed(demo(Some(Kind::Bitrate), &in_use), first).await;
    drop(run);
    let found = in_use.rehearsals.take_up().unwrap().unwrap();
    let What::Climb(finding) = &found.what else { panic!() };
    assert_eq!((finding.end, finding.tries.len()), (End::CutOff, 0));
    assert!(
        finding.left().unwrap().contains("back to 6 000 kb/s from here: it may still be at 3 000 kb/s"),
        "{finding:?}"
    );
}

#[tokio::test(start_paused = true)]
async fn a_soak_with_things_to_do_ticked_on_the_way() {
    let (in_use, _folder) = setup_in_use::of_the_demo().unwrap();
    let wanted = Wanted { within: Some(Duration::from_secs(60)), ..Wanted::default() };
    let prepared = rehearsal::prepare_demo(&wanted, &in_use, 41).unwrap();
    let (mut ticked, mut marks) = (false, Vec::new());
    let running = rehearsed(prepared.clone(), |run, snapshot| {
        let Task::Soak(soak) = &mut run.task else { panic!() };
        if soak.progress().0 == 20 && !std::mem::replace(&mut ticked, true) {
            marks.extend(soak.tick(0, snapshot));
        }
        if soak.progress().0 == 30 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })
    .await;
    assert_eq!(marks, ["show the heaviest scene"]);
    let mut app = showing(running, in_use.clone());
    insta::assert_snapshot!("soaking_158x47", drawn(&app, 158, 47));
    insta::assert_snapshot!("soaking_80x24", drawn(&app, 80, 24));
    // The keys of the list, and what they do to the setup's own.
    press(&mut app, KeyCode::Down);
    assert_eq!(type_char(&mut app, ' '), Some(Wish::Rehearse(RehearsalOrder::Tick(1))));
    type_char(&mut app, 'n');
    for c in "let the cat in".chars() {
        type_char(&mut app, c);
    }
    assert!(drawn(&app, 80, 24).contains("let the cat in"));
    assert_eq!(press(&mut app, KeyCode::Enter), Some(Wish::Rehearse(RehearsalOrder::Add("let the cat in".into()))));
    assert_eq!(type_char(&mut app, 'x'), Some(Wish::Rehearse(RehearsalOrder::LeaveOut(2))));
    let list = app.model.preparation.as_ref().unwrap().in_use.setup.soak.clone().unwrap();
    assert_eq!((list.len(), list.last().unwrap().as_str()), (6, "let the cat in"));
    assert!(!list.contains(&"open the browser that is usually open".to_owned()));
    assert_eq!(press(&mut app, KeyCode::Esc), Some(Wish::Rehearse(RehearsalOrder::Cancel)));

    let over = rehearsed(prepared, |_, _| ControlFlow::Continue(())).await;
    let app = showing(over, in_use);
    insta::assert_snapshot!("soaked_158x47", drawn(&app, 158, 47));
}

#[test]
fn what_can_be_rehearsed_is_shown_before_anything_begins() {
    let mut app = preparing().rehearsing_through(RehearsalPlan { seed: 41, ..RehearsalPlan::default() });
    type_char(&mut app, '5');
    insta::assert_snapshot!("rehearse_158x47", drawn(&app, 158, 47));
    insta::assert_snapshot!("rehearse_80x24", drawn(&app, 80, 24));
    // In the demo nobody is published to, and nobody has to agree.
    let wish = press(&mut app, KeyCode::Enter);
    assert!(matches!(&wish, Some(Wish::Rehearse(RehearsalOrder::Begin(_)))), "{wish:?}");
    assert!(app.model.rehearsing.is_running() && drawn(&app, 80, 24).contains("rehearsal, all made up"));
}

fn live_desk(unseen: bool) -> (App, tempfile::TempDir) {
    let (mut in_use, folder) = setup_in_use::of_the_demo().unwrap();
    if !unseen {
        in_use.service.unseen = None;
    }
    let key = moth_destination::StreamKey::new("orbit-77").unwrap();
    in_use.keys.replace("nocturne", &key).unwrap();
    let doors = Doors::new("rtmp://127.0.0.1:19350/moth", None).unwrap();
    let app = live(Some(quiet()))
        .with(Some(Preparation::new(in_use, None)))
        .rehearsing_through(RehearsalPlan { doors: Some(doors), ..RehearsalPlan::default() });
    (app, folder)
}

#[test]
fn a_service_gets_a_rehearsal_only_with_a_yes_and_never_beside_a_broadcast() {
    let (mut app, _folder) = live_desk(true);
    type_char(&mut app, '5');
    let screen = drawn(&app, 158, 47);
    assert!(screen.contains("as a run that no viewer sees") && screen.contains("names no presets"), "{screen}");
    assert_eq!(press(&mut app, KeyCode::Enter), None);
    let asked = drawn(&app, 158, 47);
    assert!(asked.contains("as a run nobody sees: for about 12 min and at most 677 MB"), "{asked}");
    assert!(!asked.contains("orbit-77"));
    assert_eq!(type_char(&mut app, 'n'), None);
    assert!(!app.model.rehearsing.is_running());
    press(&mut app, KeyCode::Enter);
    let wish = type_char(&mut app, 'y');
    assert!(matches!(wish, Some(Wish::Rehearse(RehearsalOrder::Begin(_)))));
    assert!(drawn(&app, 158, 47).contains("have it publish to rtmp://127.0.0.1:19350/moth"));
    assert!(!format!("{wish:?} {app:?}").contains("orbit-77"), "the key is in no debug text");

    let (mut app, _folder) = live_desk(false);
    type_char(&mut app, '5');
    press(&mut app, KeyCode::Enter);
    assert!(drawn(&app, 158, 47).contains("Your channel goes live with it"));
    press(&mut app, KeyCode::Esc);
    // With nothing measured there is no line to be like.
    type_char(&mut app, 's');
    press(&mut app, KeyCode::Enter);
    assert!(app.notice.as_deref().unwrap().contains("nothing was measured yet"), "{:?}", app.notice);
    assert_eq!(app.dialog, None::<Dialog>);
}

#[tokio::test(start_paused = true)]
async fn while_on_air_nothing_is_rehearsed() {
    let (mut app, _folder) = live_desk(true);
    app.show(Some(snapshot("calm", 6).await));
    type_char(&mut app, '5');
    assert_eq!(press(&mut app, KeyCode::Enter), None);
    assert!(app.notice.as_deref().unwrap().contains("you are on air") && app.dialog.is_none());
    assert_eq!(app.screen.name, "Rehearse");
}
