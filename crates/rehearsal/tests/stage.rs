//! Climbs on the stand-ins, through the real relay and the real core, on a paused clock.
#![allow(clippy::unwrap_used, clippy::panic)]

use std::time::Duration;

use moth_core::moment::Moment;
use moth_core::proposal::Action;
use moth_core::rate::Bitrate;
use moth_core::suspects::Fault;
use moth_core::{Core, Settings};
use moth_rehearsal::climb::Times;
use moth_rehearsal::runner::{Does, End, Rung, Runner};
use moth_rehearsal::tried::Length;
use moth_stage::{Evening, Theatre};

/// An evening on a line of so many kb/s.
fn evening(up_kbps: u32) -> Evening {
    format!("name = \"a rehearsal\"\nstory = \"A line of {up_kbps} kb/s.\"\n[line]\nup_kbps = {up_kbps}\n")
        .parse()
        .unwrap()
}

/// Bitrates in steps of half a megabit.
fn ladder(from: u64, to: u64) -> Vec<Rung> {
    let rung = |kbps: u64| {
        let video = Bitrate::from_kbps(kbps);
        Rung { name: video.to_string(), action: Action::SetBitrate { video }, load: kbps as f64 }
    };
    (from..=to).step_by(500).map(rung).collect()
}

const TIMES: Times = Times { search: Length { least_s: 12, most_s: 36 }, confirm: Length { least_s: 60, most_s: 120 } };

/// Runs a climb; gives it, how it ended, and everything that was done.
async fn climbed(up_kbps: u32, seed: u64, ladder: Vec<Rung>, cancel_after: Option<u64>) -> (Runner, End, Vec<Action>) {
    let evening = evening(up_kbps);
    let mut core = Core::new(Settings { servers: evening.servers() });
    let mut theatre = Theatre::open(&evening, seed).unwrap();
    let back = Action::SetBitrate { video: Bitrate::from_kbps(6000) };
    let mut runner = Runner::new(ladder, TIMES, back);
    let (mut look, mut done) = (Moment::START, Vec::new());
    while let Some(reading) = theatre.readings.recv().await {
        while look <= reading.at {
            let snapshot = core.snapshot(look);
            look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
            let mut does = runner.look(&snapshot);
            if cancel_after.is_some_and(|after| look.seconds() > after as f64) {
                does = runner.cancel(End::Done).map_or(Does::Over(End::Done), Does::Act);
            }
            match does {
                Does::Act(action) => {
                    done.push(action.clone());
                    Theatre::act(&theatre.relay, &theatre.broadcaster, &theatre.recorder, action).await;
                }
                Does::Wait => {}
                Does::Over(end) => return (runner, end, done),
            }
        }
        core.take(&reading);
        assert!(look.seconds() < 3600.0, "it ends");
    }
    panic!("the evening ended before the climb did")
}

#[tokio::test(start_paused = true)]
async fn the_climb_ends_within_a_step_of_what_the_line_carries_and_puts_everything_back() {
    for (up_kbps, seed) in [(3500, 1), (5200, 2), (7600, 3)] {
        let (runner, end, done) = climbed(up_kbps, seed, ladder(1500, 9000), None).await;
        let outcome = runner.outcome();
        assert_eq!(end, End::Done, "{up_kbps}: {:?} {:?}", runner.climb().tries(), done);
        let clean = 1500 + 500 * outcome.highest_clean.unwrap() as u64;
        eprintln!("{up_kbps}: {clean}, {} tries: {outcome:?}", runner.climb().tries().len());
        assert_eq!(end, End::Done);
        // Sound and headers take about 200 kb/s of the line.
        let carries = u64::from(up_kbps) - 200;
        assert!(clean <= carries && clean + 1000 > carries, "{clean} kb/s on a line of {up_kbps}");
        assert_eq!(outcome.at_fault.map(|(fault, _)| fault), Some(Fault::Network), "{outcome:?}");
        assert_eq!(done.last(), Some(&Action::SetBitrate { video: Bitrate::from_kbps(6000) }));
        assert!(runner.climb().tries().len() < 14, "{:?}", runner.climb().tries());
    }
}

#[tokio::test(start_paused = true)]
async fn cancelled_at_any_time_it_is_put_back_once_and_says_what_was_found() {
    for after in [1, 5, 20, 60, 90] {
        let (runner, _, done) = climbed(5200, 4, ladder(1500, 9000), Some(after)).await;
        let back = Action::SetBitrate { video: Bitrate::from_kbps(6000) };
        assert_eq!(done.iter().filter(|action| **action == back).count(), 1, "after {after} s: {done:?}");
        assert_eq!(done.last(), Some(&back));
        assert!(!runner.outcome().is_over || after >= 60);
    }
}

#[tokio::test(start_paused = true)]
async fn a_rung_that_is_not_set_ends_it_and_so_does_a_broadcaster_that_goes_away() {
    let evening = evening(7600);
    let back = Action::SetBitrate { video: Bitrate::from_kbps(6000) };
    let mut core = Core::new(Settings { servers: evening.servers() });
    let mut theatre = Theatre::open(&evening, 5).unwrap();
    let mut runner = Runner::new(ladder(1500, 9000), TIMES, back.clone());
    let mut gone = runner.clone();
    let (mut look, mut done) = (Moment::START, Vec::new());
    // Nobody does what it asks for.
    'evening: while let Some(reading) = theatre.readings.recv().await {
        while look <= reading.at {
            match runner.look(&core.snapshot(look)) {
                Does::Act(action) => done.push((look.seconds() as u64, action)),
                Does::Wait => {}
                Does::Over(end) => {
                    assert_eq!(end, End::NotSet);
                    break 'evening;
                }
            }
            look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
        }
        core.take(&reading);
    }
    assert_eq!(done.len(), 2, "{done:?}");
    assert!(done[1].1 == back && done[1].0 >= done[0].0 + 20, "{done:?}");
    assert_eq!(runner.outcome().highest_clean, None);

    // It asks once; then there is no broadcaster any more.
    assert!(matches!(gone.look(&core.snapshot(look)), Does::Act(_)));
    let nobody = Core::new(Settings { servers: evening.servers() }).snapshot(look);
    assert_eq!(gone.look(&nobody), Does::Act(back));
    assert_eq!(gone.look(&nobody), Does::Over(End::BroadcasterGone));
}
