//! Whoever moves a broadcast to another server is told what came of it, whatever happens on the way.

use moth_core::action::Action;
use moth_core::moment::Moment;
use moth_core::reading::{LinkChange, Observation};
use moth_stage::{Evening, Theatre, shipped};

/// What was told of a move: the server, and why not, if not.
type Answers = Vec<(String, Option<String>)>;

/// A calm evening on which a server is away from then on, if one is.
fn evening(one_at_a_time: bool, away: Option<(&str, u64)>) -> Evening {
    let event = away.map_or(String::new(), |(name, at_ms)| {
        let at_s = at_ms as f64 / 1000.0;
        format!(
            "[[event]]\nat_s = {at_s:?}\nwhat = \"{name} is away\"\nserver = {{ name = \"{name}\", away = true }}\n"
        )
    });
    let text = format!(
        "name = \"a move\"\nstory = \"One moves.\"\none_at_a_time = {one_at_a_time}\n[line]\n[broadcaster]\n{event}"
    );
    let mut evening: Evening = text.parse().unwrap();
    let calm = shipped().into_iter().find(|e| e.slug == "calm").unwrap();
    evening.slug.clone_from(&calm.slug);
    evening
}

/// Moves at these times, until half a minute has passed: what was told, and where the broadcast is then.
async fn told(evening: &Evening, moves: &[(u64, &str)]) -> (Answers, String) {
    let mut theatre = Theatre::open(evening, 7).unwrap();
    let (mut answers, mut server, mut due) = (Vec::new(), String::new(), moves.iter().peekable());
    while let Some(reading) = theatre.readings.recv().await {
        while let Some((_, to)) = due.next_if(|(at_ms, _)| Moment::from_ms(*at_ms) <= reading.at) {
            let action = Action::SwitchServer { server: (*to).into() };
            Theatre::act(&theatre.relay, &theatre.broadcaster, &theatre.recorder, action).await;
        }
        match reading.what {
            Observation::Acted { action: Action::SwitchServer { server }, failed, .. } => {
                answers.push((server, failed))
            }
            Observation::Link(LinkChange::Up { server: up }) => server = up,
            _ => {}
        }
        if reading.at > Moment::from_ms(40_000) {
            break;
        }
    }
    (answers, server)
}

#[tokio::test(start_paused = true)]
async fn a_connection_that_dies_on_the_way_moves_all_the_same() {
    for one_at_a_time in [false, true] {
        // Keyframes are 2 s apart: some moves wait for one when the connection dies, some are just made.
        for at_ms in (10_000..12_000).step_by(150) {
            let evening = evening(one_at_a_time, Some(("Aldmoor", at_ms + 100)));
            let (answers, server) = told(&evening, &[(at_ms, "Dunmere")]).await;
            let what = format!("one at a time: {one_at_a_time}, moved at {at_ms} ms");
            assert_eq!(answers, [("Dunmere".into(), None)], "{what}");
            assert_eq!(server, "Dunmere", "{what}");
        }
    }
}

#[tokio::test(start_paused = true)]
async fn of_several_moves_each_is_answered_and_the_last_one_counts() {
    for one_at_a_time in [false, true] {
        for apart_ms in [0, 1, 40, 200, 700] {
            let at = |n: u64| 10_300 + n * apart_ms;
            let evening = evening(one_at_a_time, None);
            let what = format!("one at a time: {one_at_a_time}, {apart_ms} ms apart");
            let (answers, server) = told(&evening, &[(at(0), "Dunmere"), (at(1), "Brackwater")]).await;
            assert_eq!((answers.len(), server.as_str()), (2, "Brackwater"), "{what}: {answers:?}");
            assert_eq!(answers.last(), Some(&("Brackwater".into(), None)), "{what}: {answers:?}");
            // Back to where it still is, before it got away; or back again, when it did.
            let (answers, server) = told(&evening, &[(at(0), "Dunmere"), (at(1), "Aldmoor")]).await;
            assert_eq!((answers.len(), server.as_str()), (2, "Aldmoor"), "{what}: {answers:?}");
            let names: Vec<&str> = answers.iter().map(|(name, _)| name.as_str()).collect();
            assert_eq!(names, ["Dunmere", "Aldmoor"], "{what}");
            // Asked for twice, it is done once.
            let (answers, server) = told(&evening, &[(at(0), "Dunmere"), (at(1), "Dunmere")]).await;
            let done = answers.iter().filter(|(_, failed)| failed.is_none()).count();
            assert_eq!((answers.len(), done, server.as_str()), (2, 1, "Dunmere"), "{what}: {answers:?}");
        }
    }
}

#[tokio::test(start_paused = true)]
async fn where_the_other_server_is_away_too_it_is_said_and_the_broadcast_stays() {
    for one_at_a_time in [false, true] {
        let evening = evening(one_at_a_time, Some(("Dunmere", 5_000)));
        let (answers, server) = told(&evening, &[(10_300, "Dunmere")]).await;
        assert_eq!((answers.len(), server.as_str()), (1, "Aldmoor"), "{one_at_a_time}: {answers:?}");
        assert!(answers[0].1.is_some(), "{one_at_a_time}: {answers:?}");
    }
}
