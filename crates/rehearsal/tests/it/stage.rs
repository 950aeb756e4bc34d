//! Climbs on the stand-ins, through the real relay and the real core, on a paused clock.

use std::ops::ControlFlow;
use std::time::Duration;

use moth_core::action::Action;
use moth_core::moment::Moment;
use moth_core::rate::Bitrate;
use moth_core::suspects::Fault;
use moth_core::{Core, Settings, State};
use moth_rehearsal::climb::Times;
use moth_rehearsal::finding::ClimbFinding;
use moth_rehearsal::ladder::{Kind, Ladder, Value};
use moth_rehearsal::runner::{Does, End, Runner, Stand};
use moth_rehearsal::tried::Length;
use moth_stage::{Evening, Theatre};

/// An evening on a line of so many kb/s.
fn evening(up_kbps: u32) -> Evening {
    format!("name = \"a rehearsal\"\nstory = \"A line of {up_kbps} kb/s.\"\n[line]\nup_kbps = {up_kbps}\n")
        .parse()
        .unwrap()
}

/// Bitrates in steps of half a megabit.
fn ladder(from: u64, to: u64) -> Ladder {
    let kbps = Bitrate::from_kbps;
    Ladder::of_bitrates(kbps(from), kbps(to), kbps(500))
}

fn start() -> Value {
    Value::Bitrate(Bitrate::from_kbps(6000))
}

const TIMES: Times = Times { search: Length { least_s: 12, most_s: 36 }, confirm: Length { least_s: 60, most_s: 120 } };

/// A climb on the stand-ins.
struct Stage {
    core: Core,
    theatre: Theatre,
    look: Moment,
    /// What was asked for, with the second in which it was.
    done: Vec<(u64, Action)>,
}

impl Stage {
    fn open(evening: &Evening, seed: u64) -> Self {
        let core = Core::new(Settings { servers: evening.servers() });
        Self { core, theatre: Theatre::open(evening, seed).unwrap(), look: Moment::START, done: Vec::new() }
    }

    /// Runs it to its end, or until `watch`, which sees every look first, has seen enough.
    async fn run(
        &mut self,
        runner: &mut Runner,
        mut watch: impl FnMut(u64, &mut Runner) -> ControlFlow<()>,
    ) -> Option<End> {
        while let Some(reading) = self.theatre.readings.recv().await {
            while self.look <= reading.at {
                let snapshot = self.core.snapshot(self.look);
                let second = self.look.seconds() as u64;
                self.look = Moment::after(self.look.since(Moment::START) + Duration::from_millis(200));
                if watch(second, runner).is_break() {
                    return None;
                }
                match runner.look(&snapshot) {
                    Does::Act(action) => {
                        self.done.push((second, action.clone()));
                        let theatre = &self.theatre;
                        Theatre::act(&theatre.relay, &theatre.broadcaster, &theatre.recorder, action).await;
                    }
                    Does::Drop => self.theatre.relay.drop_what_waits(),
                    Does::Wait => {}
                    Does::Over(end) => return Some(end),
                }
            }
            self.core.take(&reading);
            assert!(self.look.seconds() < 3600.0, "it ends");
        }
        panic!("the evening ended before the climb did")
    }

    /// What the broadcaster's video is set to; `None` before it came.
    fn bitrate(&self) -> Option<Bitrate> {
        self.core.bitrate_set()
    }
}

/// Every try, in short: the rung, whether it held, and for how many seconds.
fn tries(found: &ClimbFinding) -> Vec<(String, bool, usize)> {
    found.tries.iter().map(|tried| (found.rungs[tried.rung].word(), tried.held, tried.seconds)).collect()
}

/// Runs a climb to its end.
async fn climbed(evening: &Evening, seed: u64, ladder: Ladder, from: Value) -> (ClimbFinding, Stage) {
    let mut stage = Stage::open(evening, seed);
    let mut runner = Runner::new(ladder, TIMES, from);
    let end = stage.run(&mut runner, |_, _| ControlFlow::Continue(())).await;
    let finding = ClimbFinding::of(&runner, 0.25);
    assert_eq!(end, Some(finding.end));
    (finding, stage)
}

#[tokio::test(start_paused = true)]
async fn the_climb_ends_within_a_step_of_what_the_line_carries_and_puts_everything_back() {
    for (up_kbps, seed) in [(3500, 1), (5200, 2), (7600, 3)] {
        let (found, stage) = climbed(&evening(up_kbps), seed, ladder(1500, 9000), start()).await;
        assert_eq!(found.end, End::Done, "{:?} {:?} {}", found.end, tries(&found), found.sentence());
        let clean = 1500 + 500 * found.highest_clean.unwrap() as u64;
        // Sound and headers take about 200 kb/s of the line.
        let carries = u64::from(up_kbps) - 200;
        assert!(clean <= carries && clean + 1000 > carries, "{clean} kb/s on a line of {up_kbps}: {:?}", tries(&found));
        assert_eq!(
            found.at_fault.map(|(fault, _)| fault),
            Some(Fault::Network),
            "{:?} {:?} {}",
            found.end,
            tries(&found),
            found.sentence()
        );
        assert!(
            found.recommended < found.highest_clean && found.margin().unwrap() >= 0.25,
            "{:?} {:?} {}",
            found.end,
            tries(&found),
            found.sentence()
        );
        assert!(found.tries.len() < 14, "{:?}", tries(&found));
        // The choices have figures of their own: more was sent on each rung than on the one below.
        let sent: Vec<f64> = found.choices().iter().map(|choice| choice.figures.sent_kbps.unwrap()).collect();
        assert!(sent.is_sorted() && found.tries.iter().any(|tried| tried.because.is_some()), "{sent:?}");
        assert_eq!((stage.bitrate(), found.left_at), (Some(Bitrate::from_kbps(6000)), None));
    }
}

#[tokio::test(start_paused = true)]
async fn a_line_that_never_bears_the_setup_as_it_is_can_be_climbed_all_the_same() {
    // It is over the line from the first second to the last; the climb's own rungs are not.
    let mut stage = Stage::open(&evening(3500), 6);
    while let Some(reading) = stage.theatre.readings.recv().await {
        stage.look = Moment::after(reading.at.since(Moment::START) + Duration::from_millis(1));
        stage.core.take(&reading);
        if stage.core.snapshot(stage.look).state == Some(State::Losing) {
            break;
        }
    }
    let mut runner = Runner::new(ladder(1500, 4000), TIMES, start());
    let end = stage.run(&mut runner, |_, _| ControlFlow::Continue(())).await;
    let found = ClimbFinding::of(&runner, 0.25);
    assert_eq!((end, stage.bitrate()), (Some(End::Done), Some(Bitrate::from_kbps(6000))), "{:?}", tries(&found));
    assert_eq!(found.clean().map(Value::word).as_deref(), Some("3000k"), "{:?}", tries(&found));
}

#[tokio::test(start_paused = true)]
async fn presets_are_climbed_one_by_one_until_the_encoder_gives_way() {
    let preset = |place: usize| Value::Preset(place, format!("preset {place}"));
    let rungs = (0..7).map(preset).collect();
    let (found, stage) = climbed(&evening(20_000), 7, Ladder::new(Kind::Preset, rungs), preset(2)).await;
    assert_eq!(found.end, End::Done, "{:?} {:?} {}", found.end, tries(&found), found.sentence());
    assert_eq!(found.at_fault.map(|(fault, _)| fault), Some(Fault::Encoder), "{}", found.sentence());
    // A heavier one takes a third more time: 8.1 ms are within a frame's 16.7 for one more step or two.
    assert!((3..=4).contains(&found.highest_clean.unwrap()), "{}", found.sentence());
    let steps: i64 = stage.done.iter().map(|(_, action)| if *action == Action::HeavierPreset { 1 } else { -1 }).sum();
    assert_eq!(steps, 0, "as many up as down: {:?}", stage.done);
    assert!(found.choices().last().unwrap().figures.encode_ms.unwrap() > 16.0);
}

#[tokio::test(start_paused = true)]
async fn what_one_before_could_not_put_back_is_put_back_by_the_next() {
    let kbps = |kbps| Value::Bitrate(Bitrate::from_kbps(kbps));
    // The stand-in says that it is at 6 000.
    for (left_at, back) in [(6000, 4500), (7000, 6000)] {
        let mut stage = Stage::open(&evening(5200), 8);
        let mut runner =
            Runner::new(ladder(1500, 3000), TIMES, kbps(5000)).after_one_that_left(kbps(left_at), kbps(4500));
        let end = stage
            .run(&mut runner, |second, runner| {
                if second > 20 {
                    runner.cancel();
                }
                ControlFlow::Continue(())
            })
            .await;
        assert_eq!((end, stage.bitrate()), (Some(End::Cancelled), Some(Bitrate::from_kbps(back))), "left at {left_at}");
    }
}

#[tokio::test(start_paused = true)]
async fn presets_that_nobody_here_changes_are_no_climb() {
    let evening = evening(9000);
    let mut core = Core::new(Settings { servers: evening.servers() });
    let mut theatre = Theatre::open(&evening, 3).unwrap();
    let preset = |place: usize| Value::Preset(place, format!("preset {place}"));
    let mut runner = Runner::new(Ladder::new(Kind::Preset, (0..4).map(preset).collect()), TIMES, preset(1));
    let mut look = Moment::START;
    'evening: while let Some(reading) = theatre.readings.recv().await {
        while look <= reading.at {
            let mut snapshot = core.snapshot(look);
            // As of a broadcaster that nothing here changes.
            snapshot.stream.takes_preset = false;
            match runner.look(&snapshot) {
                Does::Wait => {}
                Does::Over(end) => {
                    assert_eq!(end, End::NotSet);
                    break 'evening;
                }
                other => panic!("{other:?}"),
            }
            look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
        }
        core.take(&reading);
    }
    let found = ClimbFinding::of(&runner, 0.25);
    assert!(found.ended().unwrap().contains("not seen on the wire"), "{:?}", found.ended());
    assert!((8.0..11.0).contains(&look.seconds()), "it may take a moment to say what it takes: {look:?}");
}

#[tokio::test(start_paused = true)]
async fn cancelled_in_any_phase_it_is_put_back_and_says_what_was_found() {
    let mut phases = Vec::new();
    for after in [0, 2, 4, 5, 7, 30, 60, 100, 180] {
        let mut stage = Stage::open(&evening(5200), 4);
        let mut runner = Runner::new(ladder(1500, 9000), TIMES, start());
        let end = stage
            .run(&mut runner, |second, runner| {
                if second >= after && runner.end().is_none() {
                    phases.push(runner.stand());
                    runner.cancel();
                }
                ControlFlow::Continue(())
            })
            .await;
        let found = ClimbFinding::of(&runner, 0.25);
        assert_eq!(end, Some(if found.end == End::Done { End::Done } else { End::Cancelled }));
        assert!(stage.bitrate().is_none_or(|rate| rate.kbps() == 6000.0), "after {after} s: {:?}", stage.done);
        assert!(
            found.left_at.is_none() && found.ended().unwrap().contains("by hand"),
            "{:?} {:?} {}",
            found.end,
            tries(&found),
            found.sentence()
        );
        assert_eq!(found.tries.is_empty(), after <= 7, "after {after} s");
    }
    for phase in [Stand::Waiting, Stand::Settling, Stand::Trying] {
        assert!(phases.contains(&phase), "{phase:?} of {phases:?}");
    }
}

#[tokio::test(start_paused = true)]
async fn in_a_given_time_it_finds_what_can_be_found_in_it() {
    let (whole, stage) = climbed(&evening(5200), 2, ladder(1500, 9000), start()).await;
    let length_s = stage.look.seconds() as u64;
    // The last run, which confirms, lasts for a minute.
    let mut stage = Stage::open(&evening(5200), 2);
    let limit = Duration::from_secs(length_s - 15);
    let mut runner = Runner::new(ladder(1500, 9000), TIMES, start()).within(Some(limit));
    let end = stage.run(&mut runner, |_, _| ControlFlow::Continue(())).await;
    let found = ClimbFinding::of(&runner, 0.25);
    assert_eq!((end, stage.bitrate()), (Some(End::TimeOver), Some(Bitrate::from_kbps(6000))));
    assert!(stage.look.seconds() < limit.as_secs_f64() + 3.0);
    assert!(found.ended().unwrap().contains("time that was given"), "{:?}", found.ended());
    // It counts for as long as it lasted.
    assert_eq!(found.highest_clean, whole.highest_clean, "{:?} {}", tries(&found), found.sentence());
    assert!((36..whole.clean_s).contains(&found.clean_s), "{} of {} s", found.clean_s, whole.clean_s);
}

#[tokio::test(start_paused = true)]
async fn what_the_picture_does_not_need_is_no_evidence() {
    // Without filler a picture in which nothing moves needs little, whatever is set.
    let still = "name = \"still\"\nstory = \"Nothing moves.\"\n[line]\nup_kbps = 30000\n[broadcaster]\nstill = true\n";
    let (found, stage) = climbed(&still.parse().unwrap(), 9, ladder(1500, 9000), start()).await;
    assert_eq!(
        (found.end, found.highest_clean, found.lowest_failed),
        (End::NotSet, None, None),
        "{:?} {:?} {}",
        found.end,
        tries(&found),
        found.sentence()
    );
    assert!(found.ended().unwrap().contains("show one in which more moves"), "{:?}", found.ended());
    assert_eq!(stage.bitrate(), Some(Bitrate::from_kbps(6000)));
}

#[tokio::test(start_paused = true)]
async fn a_rung_that_is_not_set_ends_it_and_so_does_a_broadcaster_that_goes_away() {
    let evening = evening(7600);
    let mut core = Core::new(Settings { servers: evening.servers() });
    let mut theatre = Theatre::open(&evening, 5).unwrap();
    let mut runner = Runner::new(ladder(1500, 9000), TIMES, start());
    let mut gone = None;
    let (mut look, mut done) = (Moment::START, Vec::new());
    // Nobody does what it asks for.
    'evening: while let Some(reading) = theatre.readings.recv().await {
        while look <= reading.at {
            match runner.look(&core.snapshot(look)) {
                Does::Act(action) => {
                    done.push(look.seconds() as u64);
                    assert_eq!(action, Action::SetBitrate { video: Bitrate::from_kbps(1500) });
                    gone = Some((runner.clone(), look));
                }
                Does::Drop | Does::Wait => {}
                Does::Over(end) => {
                    assert_eq!(end, End::NotSet);
                    break 'evening;
                }
            }
            look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
        }
        core.take(&reading);
    }
    assert_eq!(done.len(), 1, "{done:?}");
    let found = ClimbFinding::of(&runner, 0.25);
    assert!(
        found.highest_clean.is_none() && found.ended().unwrap().contains("no answer within 25 s"),
        "{:?} {:?} {}",
        found.end,
        tries(&found),
        found.sentence()
    );

    // It asks once; then there is no broadcaster any more, for a moment, and for good.
    let ((mut gone, look), nobody) = (gone.unwrap(), Core::new(Settings { servers: evening.servers() }));
    let mut after = |s: f64| {
        gone.look(&nobody.clone().snapshot(Moment::after(look.since(Moment::START) + Duration::from_secs_f64(s))))
    };
    assert_eq!((after(0.0), after(14.0)), (Does::Wait, Does::Wait));
    assert_eq!(after(15.5), Does::Over(End::BroadcasterGone));
}
