//! What is said is true in the second it is said, above all after an outage, a change or a reconnect.

use crate::show::{Now, Show};
use moth_core::action::Action;
use moth_core::machine_load::{MachineLoad, Upload};
use moth_core::notice::NoticeKind;
use moth_core::rate::Bitrate;
use moth_core::reading::{Intended, LinkChange, Observation, Probe, ProbeTarget, StreamFacts, VideoFrame};
use moth_core::suspects::{Cause, Fault};
use moth_core::trial::Outcome;
use moth_core::{Moment, Snapshot};

fn down(show: &mut Show, refused: bool) {
    let why = if refused { "the server refuses the stream" } else { "no answer" };
    show.tell(Observation::Link(LinkChange::Down {
        server: "Aldmoor".into(),
        why: why.into(),
        refused,
        retry_ms: 500,
    }));
}

fn up(show: &mut Show) {
    show.tell(Observation::Link(LinkChange::Up { server: "Aldmoor".into() }));
}

/// No sentence says that less is carried than asked while it is not.
fn says_no_false_shortage(snapshot: &Snapshot) {
    let (asked, sent) = (snapshot.asked_kbps.value.unwrap_or(0.0), snapshot.sent_kbps.value.unwrap_or(0.0));
    for suspect in &snapshot.verdict.suspects {
        let accuses = ["too slowly", "The line carries", "takes the rest", "carries"]
            .iter()
            .any(|word| suspect.sentence.contains(word));
        assert!(sent < asked || !accuses, "{sent:.0} of {asked:.0} kb/s: {}", suspect.sentence);
    }
}

#[test]
fn while_a_backlog_drains_after_an_outage_nobody_new_is_accused() {
    let mut show = Show::new();
    show.run(20, &Now::default());
    down(&mut show, false);
    let away = show.run(5, &Now { carried_kbps: 0, queue_ms: 2000.0, dropped_per_second: 40, ..Now::default() });
    assert_eq!(away.verdict.cause, Some(Cause::ServerAway));
    up(&mut show);
    let mut queue_ms = 2000.0;
    for second in 0..12 {
        let dropped_per_second = if second < 2 { 30 } else { 0 };
        let receiver_limited = if second < 4 { 0.95 } else { 0.0 };
        let draining = Now { carried_kbps: 11_700, queue_ms, dropped_per_second, receiver_limited, ..Now::default() };
        {
            let snapshot = show.run(1, &draining);
            says_no_false_shortage(&snapshot);
            let cause = snapshot.verdict.cause;
            assert!(matches!(cause, None | Some(Cause::ServerAway)), "{second}: {}", snapshot.verdict.sentence);
        }
        queue_ms = f64::max(queue_ms - 400.0, 10.0);
    }
    assert_eq!(show.run(3, &Now::default()).verdict.fault, Fault::None);
}

#[test]
fn while_a_backlog_drains_after_a_lower_bitrate_nothing_is_called_short() {
    let mut show = Show::new();
    show.run(15, &Now::default());
    let short = Now { carried_kbps: 3000, queue_ms: 1900.0, dropped_per_second: 20, rtt_ms: 400.0, ..Now::default() };
    assert_eq!(show.run(6, &short).verdict.fault, Fault::Network);
    let mut queue_ms = 1800.0;
    for _ in 0..8 {
        // More is carried than is asked now.
        let snapshot = show.run(1, &Now { carried_kbps: 7000, queue_ms, rtt_ms: 300.0, ..Now::default() });
        if snapshot.sent_kbps.value > snapshot.asked_kbps.value {
            says_no_false_shortage(&snapshot);
            assert!(!snapshot.verdict.sentence.contains("nothing dropped yet"), "{}", snapshot.verdict.sentence);
        }
        queue_ms = f64::max(queue_ms - 300.0, 10.0);
    }
}

#[test]
fn a_young_connection_on_which_nothing_comes_back_accuses_no_link() {
    let mut show = Show::new();
    let gateway = |rtt_ms| Observation::Probe(Probe { to: ProbeTarget::Gateway, rtt_ms });
    show.tell(gateway(Some(0.4)));
    show.run(4, &Now::default());
    for second in 0..6 {
        show.tell(gateway(None));
        let queue_ms = f64::min(1000.0 * f64::from(second + 1), 2000.0);
        let dropped_per_second = if second > 1 { 40 } else { 0 };
        let offline = Now { carried_kbps: 0, queue_ms, dropped_per_second, ..Now::default() };
        let verdict = show.run(1, &offline).verdict;
        assert!(matches!(verdict.cause, None | Some(Cause::ServerAway)), "{}", verdict.sentence);
        assert!(!verdict.sentence.contains("0 ms late"), "{}", verdict.sentence);
    }
}

#[test]
fn a_broadcaster_that_fell_silent_is_said_to_be_silent() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    show.ms += 12_000;
    let relay = |show: &Show| Observation::Relay {
        accounts: show.accounts,
        queue: show.queue,
        sent_bytes: show.sent_bytes,
        freezes: Default::default(),
        frozen_ms: Some(12_000),
    };
    let what = relay(&show);
    show.tell(what);
    let snapshot = show.core.snapshot(Moment::from_ms(show.ms));
    assert_eq!(snapshot.verdict.fault, Fault::None);
    assert!(snapshot.verdict.sentence.contains("for 12 s"), "{}", snapshot.verdict.sentence);
    let back = show.run(2, &Now::default());
    assert!(back.verdict.sentence.starts_with("Every frame"), "{}", back.verdict.sentence);
}

#[test]
fn a_key_that_is_refused_is_what_is_said() {
    let mut show = Show::new();
    show.run(5, &Now::default());
    down(&mut show, true);
    let snapshot = show.run(3, &Now { carried_kbps: 0, ..Now::default() });
    assert_eq!(snapshot.verdict.cause, Some(Cause::ServerRefuses));
    assert!(snapshot.verdict.sentence.contains("key is wrong"), "{}", snapshot.verdict.sentence);
    assert!(snapshot.verdict.proposals[0].title.contains("stream key"), "{:?}", snapshot.verdict.proposals);
    assert!(snapshot.verdict.proposals.iter().all(|p| !p.title.contains("status page")));
}

#[test]
fn a_stall_that_the_queue_absorbs_accuses_nobody() {
    let mut show = Show::new();
    show.run(20, &Now::default());
    for queue_ms in [500.0, 1000.0, 1400.0, 1500.0] {
        {
            let snapshot = show.run(1, &Now { carried_kbps: 0, queue_ms, rtt_ms: 300.0, ..Now::default() });
            assert_eq!(snapshot.verdict.fault, Fault::None, "{}", snapshot.verdict.sentence);
        }
    }
    let snapshot = show.run(2, &Now { carried_kbps: 11_000, queue_ms: 600.0, rtt_ms: 150.0, ..Now::default() });
    assert_eq!(snapshot.verdict.fault, Fault::None, "{}", snapshot.verdict.sentence);
}

#[test]
fn a_line_that_is_just_too_short_is_named_before_half_a_minute_of_strain() {
    let mut show = Show::new();
    show.run(15, &Now::default());
    let mut named_after = None;
    for second in 0..22 {
        let queue_ms = 520.0 + f64::from(second) * 60.0;
        let snapshot = show.run(1, &Now { carried_kbps: 5800, queue_ms, rtt_ms: 200.0, ..Now::default() });
        if snapshot.verdict.fault == Fault::Network && named_after.is_none() {
            named_after = Some(second);
        }
    }
    assert!(named_after.is_some_and(|second| second <= 9), "{named_after:?}");
}

#[test]
fn another_server_that_answers_later_than_ever_is_no_witness_against_the_route() {
    let mut show = Show::new();
    let probe = |rtt_ms| {
        Observation::Probe(Probe { to: ProbeTarget::Server { server: "Brackwater".into() }, rtt_ms: Some(rtt_ms) })
    };
    for _ in 0..15 {
        show.run(1, &Now::default());
        show.tell(probe(20.0));
    }
    let wander = Now { carried_kbps: 4000, queue_ms: 1900.0, dropped_per_second: 10, rtt_ms: 420.0, ..Now::default() };
    for _ in 0..6 {
        show.tell(probe(65.0));
        let snapshot = show.run(1, &wander);
        assert_ne!(snapshot.verdict.cause, Some(Cause::Route), "{}", snapshot.verdict.sentence);
    }
}

#[test]
fn an_upload_that_is_not_tcp_is_named_as_far_as_it_can_be() {
    let mut show = Show::new();
    let machine = |otherwise| MachineLoad {
        uploads: Some(Vec::<Upload>::new()),
        sent_otherwise: Some(Bitrate::from_kbps(otherwise)),
        cpu: Some(0.3),
        ..MachineLoad::default()
    };
    show.run(15, &Now { machine: machine(300), ..Now::default() });
    let beside = Now {
        carried_kbps: 3000,
        queue_ms: 1900.0,
        dropped_per_second: 20,
        rtt_ms: 420.0,
        machine: machine(4500),
        ..Now::default()
    };
    let snapshot = show.run(5, &beside);
    assert_eq!(snapshot.verdict.cause, Some(Cause::UploadHere), "{}", snapshot.verdict.sentence);
    assert!(snapshot.verdict.sentence.contains("4 500 kb/s that no TCP connection"), "{}", snapshot.verdict.sentence);
}

#[test]
fn a_program_that_takes_next_to_nothing_starves_nobody() {
    for name in ["kdamond.0", "moth"] {
        let mut show = Show::new();
        show.run(10, &Now::default());
        let full = MachineLoad { cpu: Some(0.99), busiest_other: Some((name.into(), 0.05)), ..MachineLoad::default() };
        let snapshot = show.run(6, &Now { skipped_per_second: 10, machine: full, encode_ms: 21.0, ..Now::default() });
        assert_eq!((snapshot.verdict.fault, snapshot.verdict.cause), (Fault::Encoder, Some(Cause::PresetHeavy)));
    }
}

#[test]
fn who_happens_to_be_busiest_is_not_accused_of_what_another_took() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let load = |name: &str, share: f64| MachineLoad {
        cpu: Some(1.0),
        busiest_other: Some((name.into(), share)),
        ..MachineLoad::default()
    };
    let starved = |machine| Now { skipped_per_second: 10, encode_ms: 24.0, machine, ..Now::default() };
    let snapshot = show.run(5, &starved(load("plate-stitch", 0.6)));
    assert!(snapshot.verdict.sentence.contains("plate-stitch takes 60 %"), "{}", snapshot.verdict.sentence);
    // It ends, and for a moment the verdict stands while somebody else is the busiest.
    let mut seen = 0;
    for _ in 0..4 {
        let snapshot = show.run(1, &starved(load("moth", 0.02)));
        if snapshot.verdict.cause == Some(Cause::CpuStarved) {
            seen += 1;
            assert!(!snapshot.verdict.sentence.contains("moth takes"), "{}", snapshot.verdict.sentence);
            assert!(
                snapshot.verdict.proposals.iter().all(|p| !p.title.contains("moth")),
                "{:?}",
                snapshot.verdict.proposals
            );
        }
    }
    assert!(seen > 0, "the verdict stands for a moment after it has ended");
}

#[test]
fn a_time_within_the_budget_is_never_called_too_slow() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let snapshot = show.run(6, &Now { skipped_per_second: 10, encode_ms: 14.4, ..Now::default() });
    assert_eq!(snapshot.verdict.fault, Fault::Encoder);
    assert!(!snapshot.verdict.sentence.contains("14.4 ms for a frame"), "{}", snapshot.verdict.sentence);
}

#[test]
fn viewers_get_what_is_delivered_and_not_what_is_offered() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let half = show.run(5, &Now { carried_kbps: 3000, queue_ms: 1900.0, dropped_per_second: 20, ..Now::default() });
    let fps = half.viewers.fps.value.unwrap();
    assert!((25.0..=33.0).contains(&fps), "{fps}");
    let digits = half.viewers.full_fps.value.unwrap().to_string();
    assert!(digits.len() <= 6, "{digits} is read by people");
}

#[test]
fn what_came_before_the_first_keyframe_is_no_loss_on_the_way() {
    let mut show = Show::new();
    show.queue.before_keyframe = 0;
    for tenth in 0..30 {
        show.queue.before_keyframe += 5;
        show.lose_before_keyframe(5);
        let snapshot = show.core.snapshot(Moment::from_ms(show.ms));
        assert_eq!(snapshot.verdict.fault, Fault::None, "{tenth}: {}", snapshot.verdict.sentence);
        if tenth > 3 {
            assert!(snapshot.notices.iter().any(|notice| notice.kind == NoticeKind::NoKeyframe));
        }
    }
    let snapshot = show.run(5, &Now::default());
    assert_eq!((snapshot.verdict.fault, snapshot.accounts.video.dropped), (Fault::None, 150));
    assert!(snapshot.notices.iter().all(|notice| notice.kind != NoticeKind::NoKeyframe));
}

#[test]
fn what_was_known_of_one_broadcaster_is_not_known_of_the_next() {
    let mut show = Show::new();
    show.tell(Observation::Stream(StreamFacts { fps: Some(60.0), ..StreamFacts::default() }));
    for n in 0..600_u32 {
        show.tell(Observation::Video(VideoFrame { time_ms: n * 1000 / 60, bytes: 9000, ..VideoFrame::default() }));
    }
    show.tell(Observation::Broadcaster { present: false });
    show.tell(Observation::Broadcaster { present: true });
    for n in 0..300_u32 {
        show.tell(Observation::Video(VideoFrame { time_ms: n * 1000 / 30, bytes: 9000, ..VideoFrame::default() }));
    }
    let snapshot = show.core.snapshot(Moment::from_ms(show.ms));
    assert_eq!(snapshot.skipped.value, Some(0), "30 frames a second are all there are");
    assert!(!snapshot.stream.takes_bitrate && snapshot.stream.fps.is_none());
}

#[test]
fn a_bitrate_that_was_just_set_is_not_offered_again() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let short = Now { carried_kbps: 3000, queue_ms: 1900.0, dropped_per_second: 20, rtt_ms: 500.0, ..Now::default() };
    let before = show.run(4, &short);
    let action = before.verdict.proposals[0].action.clone();
    assert!(matches!(action, Action::SetBitrate { .. }));
    show.tell(Observation::acted(action.clone(), None));
    let after = show.run(1, &short);
    assert!(after.verdict.proposals.iter().all(|proposal| proposal.action != action), "{:?}", after.verdict.proposals);
}

#[test]
fn an_undo_that_brings_the_loss_back_says_that_the_change_had_helped() {
    let mut show = Show::new();
    show.run(40, &Now::default());
    let short = Now { carried_kbps: 3000, queue_ms: 1900.0, dropped_per_second: 20, rtt_ms: 500.0, ..Now::default() };
    let video = Bitrate::from_kbps(2500);
    show.run(4, &short);
    show.tell(Observation::acted(Action::SetBitrate { video }, None));
    let begun = show.run(2, &Now::default());
    let json = serde_json::to_value(begun.newest_trial().unwrap().clone()).unwrap();
    assert!(json["after"].is_null(), "nothing was measured since: {json}");
    let quick = show.run(24, &Now::default()).newest_trial().unwrap().clone();
    assert!(
        quick.before.seconds <= 5 && quick.before.lost_percent() > 20.0,
        "calm is no part of it: {:?}",
        quick.before
    );
    let says_how_little = ["in the 4 s before", "in the 5 s before"].iter().any(|text| quick.sentence.contains(text));
    assert!(says_how_little, "{}", quick.sentence);
    show.tell(Observation::acted(Action::SetBitrate { video: Bitrate::from_kbps(6000) }, None));
    let undone = show.run(15, &short).newest_trial().unwrap().clone();
    assert!(undone.sentence.contains("had helped"), "{}", undone.sentence);
}

#[test]
fn a_climb_a_minute_after_a_step_down_is_credited_and_what_was_seen_before_is_not_made_less() {
    let mut show = Show::new();
    show.run(40, &Now::default());
    let short = Now { carried_kbps: 3000, queue_ms: 1900.0, dropped_per_second: 20, rtt_ms: 500.0, ..Now::default() };
    show.run(4, &short);
    let to = |kbps| Observation::acted(Action::SetBitrate { video: Bitrate::from_kbps(kbps) }, None);
    show.tell(to(3000));
    for _ in 0..60 {
        let trial = show.run(1, &Now { carried_kbps: 3100, ..Now::default() }).newest_trial().unwrap().clone();
        assert!(!trial.sentence.contains("Only"), "44 s were seen before: {}", trial.sentence);
    }
    // The keeper climbs a minute after it went down, and no sooner.
    show.tell(to(4000));
    let climbed = show.run(30, &Now { carried_kbps: 4100, ..Now::default() }).newest_trial().unwrap().clone();
    assert_eq!((climbed.outcome, climbed.beside_another), (Outcome::Helped, false), "{}", climbed.sentence);
}

#[test]
fn a_change_by_hand_is_undone_to_what_was_before_and_other_changes_do_not_end_the_looking() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let to = |kbps| Action::SetBitrate { video: Bitrate::from_kbps(kbps) };
    show.tell(Observation::Told { action: Action::SetRate { fps: moth_core::frame_rate::FrameRate::whole(25) } });
    show.tell(Observation::acted(to(5900), None));
    assert!(show.run(1, &Now::default()).awaited.is_some(), "a bitrate is no frame rate");
    let mut show = Show::new();
    show.run(10, &Now::default());
    show.tell(Observation::Told { action: to(5950) });
    // The broadcaster restates its metadata first.
    let restated = StreamFacts { video_bitrate: Some(Bitrate::from_kbps(5950)), ..StreamFacts::default() };
    show.tell(Observation::Stream(restated));
    let snapshot = show.run(6, &Now::default());
    assert!(snapshot.awaited.is_none());
    assert_eq!(snapshot.undo, Some(to(6000)));
}

#[test]
fn a_small_step_by_hand_that_nobody_made_is_not_seen_and_what_came_of_it_is_told() {
    let mut show = Show::new();
    show.run(10, &Now::default());
    let to = |kbps| Action::SetBitrate { video: Bitrate::from_kbps(kbps) };
    show.tell(Observation::Told { action: to(6250) });
    let snapshot = show.run(30, &Now::default());
    assert!(snapshot.awaited.is_some() && snapshot.answered.is_none(), "6 000 is near 6 250, and nothing was done");
    let answered = show.run(100, &Now::default()).answered.unwrap();
    assert_eq!(answered.action, to(6250));
    assert!(answered.failed.unwrap().contains("6250 wanted"));
    show.tell(Observation::acted(to(5000), None));
    assert_eq!(show.run(1, &Now::default()).answered.unwrap().failed, None);
}

#[test]
fn what_was_changed_on_purpose_is_not_said_to_be_meant_otherwise() {
    let mut show = Show::new();
    let video_bitrate = Some(Bitrate::from_kbps(6000));
    show.tell(Observation::Intended(Intended { video_bitrate, ..Intended::default() }));
    let notices = |snapshot: &Snapshot| snapshot.notices.iter().any(|notice| notice.kind == NoticeKind::Bitrate);
    assert!(!notices(&show.run(20, &Now::default())), "as meant");
    let to = |kbps| Observation::acted(Action::SetBitrate { video: Bitrate::from_kbps(kbps) }, None);
    show.tell(to(3000));
    show.video = Bitrate::from_kbps(6000);
    // The wire still shows 6 000: at first that is no wonder, and then it is said.
    assert!(!notices(&show.run(8, &Now::default())));
    let snapshot = show.run(7, &Now::default());
    let said = snapshot.notices.iter().find(|notice| notice.kind == NoticeKind::Bitrate).unwrap();
    assert!(said.text.contains("3 000 kb/s") || said.text.contains("3\u{202f}000"), "{}", said.text);
    // Then it is said once, as what it is.
    let kinds: Vec<NoticeKind> = show.run(6, &Now::default()).notices.iter().map(|notice| notice.kind).collect();
    assert!(kinds.contains(&NoticeKind::Unheeded) && !kinds.contains(&NoticeKind::Bitrate), "{kinds:?}");
    show.tell(to(6000));
    assert!(!notices(&show.run(20, &Now::default())), "what was asked for comes");
}

#[test]
fn a_remark_of_any_length_takes_no_more_room_than_a_line() {
    let mut show = Show::new();
    show.run(3, &Now::default());
    for n in 0..3000 {
        show.tell(Observation::Remark { text: format!("{n} ") + &"ä".repeat(9000) });
    }
    let snapshot = show.run(1, &Now::default());
    let bytes: usize = snapshot.marks.iter().map(|mark| mark.text.len()).sum();
    assert!(bytes < 500 * 2 * 404, "{bytes} bytes of marks");
    let last = &snapshot.marks.last().unwrap().text;
    assert!(last.starts_with("2999 ä") && last.ends_with('…'), "{last}");
}
