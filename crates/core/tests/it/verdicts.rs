//! The core on its own: readings written by hand, and what it says of them.

use crate::show::{Now, Show};
use moth_core::account::{Account, Accounts};
use moth_core::action::Action;
use moth_core::figure::{Figure, Origin};
use moth_core::machine_load::MachineLoad;
use moth_core::rate::Bitrate;
use moth_core::reading::{
    BroadcasterCounters, ConnectionFigures, LinkChange, Observation, QueueLevel, Reading, VideoFrame,
};
use moth_core::suspects::{Cause, Fault};
use moth_core::viewers::Freezes;
use moth_core::{Core, Moment, Settings, Snapshot, State};
use proptest::prelude::*;

fn told(snapshot: &Snapshot) -> (Fault, Option<Cause>) {
    (snapshot.verdict.fault, snapshot.verdict.cause)
}

/// What the evidence with these words weighs for (above zero) or against a cause, in bans.
fn bans(snapshot: &Snapshot, cause: Cause, words: &str) -> f64 {
    let weighed = snapshot.verdict.suspects.iter().flat_map(|suspect| &suspect.weighed);
    let evidence = weighed.filter(|weighed| weighed.cause == cause).flat_map(|weighed| &weighed.evidence);
    evidence.filter(|evidence| evidence.text.contains(words)).map(|evidence| evidence.bans).sum()
}

#[test]
fn all_well_is_no_fault() {
    let calm = Show::new().run(20, &Now::default());
    assert_eq!((told(&calm), calm.state), ((Fault::None, None), Some(State::Steady)));
    assert!(calm.verdict.confidence > 0.8);
    assert_eq!(calm.lagged, Figure::UNKNOWN, "nobody told of lagged frames, and weights alone do not");
}

#[test]
fn a_climbing_round_trip_is_the_line_and_a_closed_window_is_the_server() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let line = Now {
        carried_kbps: 3000,
        dropped_per_second: 20,
        queue_ms: 1900.0,
        rtt_ms: 520.0,
        receiver_limited: 0.06,
        ..Now::default()
    };
    let trouble = show.run(4, &line);
    assert_eq!((told(&trouble), trouble.state), ((Fault::Network, Some(Cause::LineShort)), Some(State::Losing)));
    // A queue on the way speaks for the line, and against a server that reads slowly.
    assert!(bans(&trouble, Cause::LineShort, "round trip 520 ms") > 0.5);
    assert!(bans(&trouble, Cause::ServerSlow, "round trip 520 ms") < -0.2);
    let first = &trouble.verdict.proposals[0];
    let Action::SetBitrate { video } = first.action else { panic!("{first:?}") };
    // At most 78 % of what the line carries.
    assert!(video <= Bitrate::from_kbps(2340) && video >= Bitrate::from_kbps(2200), "{video}");
    assert!(first.possible && !first.dangerous);

    let mut show = Show::new();
    show.run(10, &Now::default());
    let server = Now {
        carried_kbps: 3000,
        dropped_per_second: 20,
        queue_ms: 1900.0,
        rtt_ms: 21.0,
        receiver_limited: 0.96,
        ..Now::default()
    };
    let trouble = show.run(4, &server);
    assert_eq!(told(&trouble), (Fault::Network, Some(Cause::ServerSlow)));
    assert_eq!(trouble.verdict.proposals[0].action, Action::SwitchServer { server: "Brackwater".into() });
    assert!(trouble.verdict.proposals[0].dangerous, "leaving a server is asked about");
}

#[test]
fn without_the_kernels_figures_the_fault_is_told_and_the_cause_is_not() {
    let mut core = Core::new(Settings { servers: vec!["Aldmoor".into()] });
    let mut tell = |ms: u64, what| core.take(&Reading { at: Moment::from_ms(ms), origin: Origin::Measured, what });
    tell(0, Observation::Broadcaster { present: true });
    tell(0, Observation::Link(LinkChange::Up { server: "Aldmoor".into() }));
    for second in 0..5 {
        let video = Account { offered: 50 * second, delivered: 40 * second, dropped: 10 * second, queued: 0 };
        let accounts = Accounts { video, audio: Account::default() };
        tell(
            second * 1000,
            Observation::Relay {
                accounts,
                queue: QueueLevel::default(),
                sent_bytes: second * 300_000,
                freezes: Freezes::default(),
                frozen_ms: None,
            },
        );
    }
    let snapshot = core.snapshot(Moment::from_ms(4500));
    assert_eq!(told(&snapshot), (Fault::Network, None));
    assert!(snapshot.verdict.confidence < 0.6 && snapshot.rtt_ms.value.is_none());
    // That something is not known is nothing that was measured.
    let evidence: Vec<_> = snapshot.verdict.suspects[0].weighed.iter().flat_map(|w| &w.evidence).collect();
    let unknown = evidence.iter().filter(|e| e.text.contains("not known") || e.text.contains("cannot be read"));
    assert!(unknown.clone().count() >= 3 && unknown.into_iter().all(|e| e.origin.is_none()), "{evidence:?}");
}

#[test]
fn a_queue_that_fills_before_the_first_connection_blames_nobody_for_reading_slowly() {
    let mut core = Core::new(Settings { servers: vec!["Aldmoor".into()] });
    let mut tell = |ms: u64, what| core.take(&Reading { at: Moment::from_ms(ms), origin: Origin::Measured, what });
    tell(0, Observation::Broadcaster { present: true });
    for ms in (0..1400).step_by(20) {
        tell(
            ms,
            Observation::Video(VideoFrame {
                time_ms: u32::try_from(ms).unwrap(),
                bytes: 15_000,
                keyframe: false,
                ..VideoFrame::default()
            }),
        );
        let queue = QueueLevel { ms: ms as f64, bytes: 1, limit_ms: 2000.0, ..QueueLevel::default() };
        tell(
            ms,
            Observation::Relay {
                accounts: Accounts::default(),
                queue,
                sent_bytes: 0,
                freezes: Freezes::default(),
                frozen_ms: None,
            },
        );
    }
    let down = LinkChange::Down { server: "Aldmoor".into(), why: "no such host".into(), refused: false, retry_ms: 500 };
    assert_eq!(told(&core.snapshot(Moment::from_ms(1400))), (Fault::None, None));
    core.take(&Reading { at: Moment::from_ms(1450), origin: Origin::Measured, what: Observation::Link(down) });
    assert_eq!(told(&core.snapshot(Moment::from_ms(1450))), (Fault::Network, Some(Cause::ServerAway)));
}

#[test]
fn a_verdict_holds_through_gaps_in_the_loss_and_clears_after_it() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let losing = Now { carried_kbps: 3000, dropped_per_second: 30, queue_ms: 1900.0, rtt_ms: 400.0, ..Now::default() };
    let pausing = Now { dropped_per_second: 0, ..losing.clone() };
    let first = show.run(2, &losing).verdict.since;
    for _ in 0..4 {
        assert_eq!(show.run(3, &pausing).verdict.since, first, "the same verdict goes on");
        assert_eq!(show.run(1, &losing).verdict.since, first);
    }
    let after = show.run(7, &Now::default());
    assert_eq!((told(&after), after.state), ((Fault::None, None), Some(State::Steady)));
    assert!(after.marks.iter().any(|m| m.text == "network trouble over"));
}

#[test]
fn the_encoder_is_blamed_for_itself_or_for_who_starves_it() {
    let mut show = Show::new();
    show.run(5, &Now::default());
    let machine = MachineLoad { cpu: Some(0.7), broadcaster_cpu: Some(0.6), ..MachineLoad::default() };
    let heavy = Now { skipped_per_second: 10, encode_ms: 24.0, machine, ..Now::default() };
    assert_eq!(told(&show.run(4, &heavy)), (Fault::Encoder, Some(Cause::PresetHeavy)));

    let mut show = Show::new();
    show.run(5, &Now::default());
    let machine =
        MachineLoad { cpu: Some(0.99), busiest_other: Some(("plate-stitch".into(), 0.6)), ..MachineLoad::default() };
    let starved = Now { skipped_per_second: 10, encode_ms: 24.0, machine, ..Now::default() };
    let snapshot = show.run(4, &starved);
    assert_eq!(told(&snapshot), (Fault::Encoder, Some(Cause::CpuStarved)));
    assert!(snapshot.verdict.sentence.contains("plate-stitch"), "{}", snapshot.verdict.sentence);
}

#[test]
fn two_at_once_are_both_suspects_the_more_harmful_first() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let both = Now {
        carried_kbps: 3000,
        dropped_per_second: 20,
        skipped_per_second: 10,
        queue_ms: 1900.0,
        rtt_ms: 500.0,
        encode_ms: 24.0,
        ..Now::default()
    };
    let faults: Vec<Fault> = show.run(5, &both).verdict.suspects.iter().map(|s| s.fault).collect();
    assert_eq!(faults, [Fault::Network, Fault::Encoder]);
}

#[test]
fn a_server_that_is_gone_is_dark_and_one_that_says_no_refuses() {
    for (refused, cause) in [(false, Cause::ServerAway), (true, Cause::ServerRefuses)] {
        let mut show = Show::new();
        show.run(5, &Now::default());
        let down = LinkChange::Down { server: "Aldmoor".into(), why: "it closed".into(), refused, retry_ms: 500 };
        show.tell(Observation::Link(down));
        let snapshot = show.run(1, &Now { carried_kbps: 0, ..Now::default() });
        assert_eq!((told(&snapshot), snapshot.state), ((Fault::Network, Some(cause)), Some(State::Dark)));
        show.tell(Observation::Link(LinkChange::Up { server: "Aldmoor".into() }));
        assert_eq!(
            told(&show.run(1, &Now::default())),
            (Fault::None, None),
            "and over when it takes the broadcast again"
        );
    }
}

#[test]
fn undoing_a_change_leaves_nothing_to_undo() {
    let mut show = Show::new();
    show.run(1, &Now::default());
    let set = |kbps| Action::SetBitrate { video: Bitrate::from_kbps(kbps) };
    for (kbps, undo) in [(3000, Some(set(6000))), (2000, Some(set(3000))), (3000, Some(set(6000))), (6000, None)] {
        show.tell(Observation::acted(set(kbps), None));
        assert_eq!(show.core.snapshot(Moment::from_ms(show.ms)).undo, undo, "after {kbps}");
    }
    show.tell(Observation::acted(set(1000), Some("no".into())));
    let snapshot = show.core.snapshot(Moment::from_ms(show.ms));
    assert_eq!(snapshot.undo, None, "what was not done need not be undone");
    let last = snapshot.marks.last().unwrap();
    assert!(last.text.contains("not done, no") && !last.is_change, "and is no change: {last:?}");
}

#[test]
fn readings_survive_json_and_give_the_same_snapshots() {
    let mut show = Show::new();
    let now = Now { carried_kbps: 3000, dropped_per_second: 20, queue_ms: 1500.0, rtt_ms: 300.0, ..Now::default() };
    show.run(6, &now);
    let mut again = Core::new(Settings { servers: vec!["Aldmoor".into(), "Brackwater".into()] });
    for reading in &show.readings {
        let text = serde_json::to_string(reading).unwrap();
        let back: Reading = serde_json::from_str(&text).unwrap();
        assert_eq!(&back, reading, "{text}");
        again.take(&back);
        if let Observation::Connection(_) = reading.what {
            again.snapshot(reading.at);
        }
    }
    let end = Moment::from_ms(show.ms);
    assert_eq!(
        format!("{:?}", again.snapshot(end).verdict.suspects),
        format!("{:?}", show.core.snapshot(end).verdict.suspects)
    );
}

fn any_observation() -> impl Strategy<Value = Observation> {
    let number = prop_oneof![any::<f64>(), 0.0..5000.0];
    prop_oneof![
        (any::<u32>(), any::<u32>()).prop_map(|(time_ms, bytes)| Observation::Video(VideoFrame {
            time_ms,
            bytes,
            ..VideoFrame::default()
        })),
        (any::<u64>(), number.clone()).prop_map(|(n, ms)| Observation::Relay {
            accounts: Accounts { video: Account { dropped: n, ..Account::default() }, audio: Account::default() },
            queue: QueueLevel { ms, bytes: n, limit_ms: ms, ..QueueLevel::default() },
            sent_bytes: n,
            freezes: Freezes { count: n, longest_ms: n, total_ms: n },
            frozen_ms: Some(n),
        }),
        (number.clone(), any::<u64>()).prop_map(|(rtt, n)| Observation::Connection(ConnectionFigures {
            rtt_ms: Some(rtt),
            retransmits: Some(n),
            busy_us: Some(n),
            receiver_limited_us: Some(n / 2),
            ..ConnectionFigures::default()
        })),
        any::<bool>().prop_map(|present| Observation::Broadcaster { present }),
        Just(Observation::Link(LinkChange::Up { server: "x".into() })),
        Just(Observation::Link(LinkChange::Down {
            server: "x".into(),
            why: String::new(),
            refused: false,
            retry_ms: 0
        })),
        number.clone().prop_map(|v| Observation::Machine(Box::new(MachineLoad {
            cpu: Some(v),
            gpu_render: Some(v),
            ..MachineLoad::default()
        }))),
        (any::<u64>(), number).prop_map(|(n, ms)| Observation::Counters(BroadcasterCounters {
            lagged: Some(n),
            skipped: Some(n),
            render_ms: Some(ms),
            encode_ms: Some(ms),
            ..BroadcasterCounters::default()
        })),
    ]
}

proptest! {
    #[test]
    fn whatever_is_told_the_answer_is_sane(told in prop::collection::vec((0..3000_u64, any_observation()), 0..60)) {
        let mut core = Core::new(Settings { servers: vec!["x".into(), "y".into()] });
        let mut ms = 0;
        for (step, what) in told {
            ms += step;
            core.take(&Reading { at: Moment::from_ms(ms), origin: Origin::Measured, what });
            let verdict = core.snapshot(Moment::from_ms(ms)).verdict;
            prop_assert!((0.0..=1.0).contains(&verdict.confidence), "{}", verdict.confidence);
            prop_assert_eq!(verdict.fault == Fault::None, verdict.suspects.is_empty());
        }
    }
}

#[test]
fn skipped_frames_that_nobody_reported_are_told_as_inferred() {
    let mut core = Core::new(Settings { servers: vec!["Aldmoor".into()] });
    let mut tell = |ms: u64, what| core.take(&Reading { at: Moment::from_ms(ms), origin: Origin::Measured, what });
    tell(0, Observation::Broadcaster { present: true });
    tell(0, Observation::Link(LinkChange::Up { server: "Aldmoor".into() }));
    for n in (0..400_u32).filter(|n| *n < 200 || n % 5 != 0) {
        tell(
            u64::from(n) * 20,
            Observation::Video(VideoFrame { time_ms: n * 20, bytes: 9000, keyframe: false, ..VideoFrame::default() }),
        );
    }
    let verdict = core.snapshot(Moment::from_ms(8000)).verdict;
    assert_eq!(verdict.fault, Fault::Encoder);
    assert!(verdict.sentence.contains("skipped (inferred from timestamps)"), "{}", verdict.sentence);
}

#[test]
fn who_looks_and_how_often_changes_nothing_of_what_is_judged() {
    let mut show = Show::new();
    let short = Now { carried_kbps: 3000, dropped_per_second: 20, queue_ms: 1900.0, rtt_ms: 520.0, ..Now::default() };
    let full = MachineLoad { cpu: Some(0.99), ..MachineLoad::default() };
    let heavy = Now { skipped_per_second: 20, encode_ms: 31.0, machine: full, ..Now::default() };
    for (seconds, now) in [(12, Now::default()), (7, short.clone()), (9, Now::default()), (6, heavy), (3, short)] {
        show.run(seconds, &now);
    }
    let end = Moment::from_ms(show.ms);
    let looked_at_each = |look_ms: Option<u64>| {
        let mut core = Core::new(Settings { servers: vec!["Aldmoor".into(), "Brackwater".into()] });
        let mut next_ms = look_ms;
        for reading in &show.readings {
            while let Some(ms) = next_ms.filter(|ms| Moment::from_ms(*ms) <= reading.at) {
                core.snapshot(Moment::from_ms(ms));
                next_ms = look_ms.map(|each| ms + each);
            }
            core.take(reading);
        }
        let last = core.snapshot(end);
        let seconds: Vec<_> = (0..last.history.len()).map(|n| *last.history.get(n).unwrap()).collect();
        (last.verdict, last.marks, seconds)
    };
    let unseen = looked_at_each(None);
    let faults = ["network: ", "encoder: "].map(|fault| unseen.1.iter().any(|mark| mark.text.starts_with(fault)));
    assert_eq!(faults, [true, true], "it was an eventful one: {:?}", unseen.1);
    for look_ms in [37, 200, 1000, 7300] {
        assert_eq!(looked_at_each(Some(look_ms)), unseen, "looked at each {look_ms} ms");
    }
}

#[test]
fn what_one_broadcaster_reported_is_not_taken_for_the_word_of_the_next() {
    let mut show = Show::new();
    let first = show.run(20, &Now { skipped_per_second: 10, ..Now::default() });
    assert_eq!(first.skipped.origin, Some(Origin::Reported));
    let before = first.skipped.value.unwrap();
    show.tell(Observation::Broadcaster { present: false });
    show.ms += 500;
    show.tell(Observation::Broadcaster { present: true });
    // The next one reports nothing, and every tenth of its pictures is missing.
    for n in 0..600_u32 {
        show.ms += 20;
        if n % 10 != 9 {
            show.tell(Observation::Video(VideoFrame { time_ms: n * 20, bytes: 15_000, ..VideoFrame::default() }));
        }
    }
    let last = show.core.snapshot(Moment::from_ms(show.ms));
    assert_eq!(last.skipped.origin, Some(Origin::Inferred));
    let more = last.skipped.value.unwrap() - before;
    assert!((50..=60).contains(&more), "{more} of 60 are found, the first are needed to learn the rate");
    assert_eq!(told(&last).0, Fault::Encoder, "{}", last.verdict.sentence);
}
