//! Changes: tried, put back, made by the keeper or by hand.

use std::ops::Range;

use moth_core::account::{Account, Accounts};
use moth_core::action::Action;
use moth_core::frame_rate::FrameRate;
use moth_core::keeper::{Bounds, Mode};
use moth_core::notice::NoticeKind;
use moth_core::reading::{
    Automatics, BroadcasterCounters, ConnectionFigures, LinkChange, Observation, QueueLevel, SoundFrame, StreamFacts,
    VideoFrame,
};
use moth_core::trial::Outcome;
use moth_core::viewers::Freezes;
use moth_core::{Bitrate, Core, Moment, Origin, Reading, Settings, Snapshot};
use proptest::prelude::*;

/// What waits was asked at this rate: it is as old as the time that took.
const ASKED_KBPS: f64 = 4160.0;

/// A broadcast over a line that carries so much, told reading by reading.
struct Show {
    core: Core,
    ms: u64,
    video_kbps: f64,
    line_kbps: f64,
    /// What waits, in kilobits.
    waits: f64,
    sent_bytes: f64,
    video: Account,
    skipped: u64,
    /// The broadcaster says that it is done, and goes on as before.
    lies: bool,
    /// Acknowledgements stop meanwhile and then jump, as where losses are recovered.
    recovers_ms: Range<u64>,
    acknowledged_bytes: f64,
    /// A token bucket: the kernel tells of gigabits where nothing waits.
    is_bucket: bool,
    /// The line's buffer takes in so much more at first, in bytes: it is acknowledged later than it was taken for gone.
    buffers_bytes: f64,
}

impl Show {
    fn new() -> Self {
        Self::stating(Some(4000))
    }

    /// A broadcaster that states this bitrate, or none.
    fn stating(kbps: Option<u64>) -> Self {
        let mut this = Self {
            core: Core::new(Settings { servers: vec!["Aldmoor".into(), "Dunmere".into()] }),
            ms: 0,
            video_kbps: 4000.0,
            line_kbps: 8000.0,
            waits: 0.0,
            sent_bytes: 0.0,
            video: Account::default(),
            skipped: 0,
            lies: false,
            recovers_ms: 0..0,
            acknowledged_bytes: 0.0,
            is_bucket: false,
            buffers_bytes: 0.0,
        };
        let facts = StreamFacts {
            width: Some(1280),
            height: Some(720),
            fps: Some(60.0),
            video_bitrate: kbps.map(Bitrate::from_kbps),
            takes_bitrate: true,
            ..StreamFacts::default()
        };
        this.tell(Observation::Broadcaster { present: true });
        this.tell(Observation::Link(LinkChange::Up { server: "Aldmoor".into() }));
        this.tell(Observation::Stream(facts));
        this
    }

    fn now(&self) -> Moment {
        Moment::from_ms(self.ms)
    }

    fn tell(&mut self, what: Observation) {
        self.core.take(&Reading { at: self.now(), origin: Origin::Measured, what });
    }

    /// So many seconds, frame by frame; gives what the core wanted meanwhile, and does it.
    fn run(&mut self, seconds: u64) -> Vec<Action> {
        let mut wanted = Vec::new();
        for _ in 0..seconds * 50 {
            self.ms += 20;
            let bytes = (self.video_kbps * 20.0 / 8.0) as u32;
            self.video.offer();
            self.tell(Observation::Video(VideoFrame { time_ms: self.ms as u32, bytes, ..VideoFrame::default() }));
            self.tell(Observation::Audio(SoundFrame { time_ms: self.ms as u32, bytes: 400 }));
            self.waits += f64::from(bytes + 400) * 0.008;
            let gone = self.waits.min(self.line_kbps * 0.02);
            self.waits -= gone;
            self.sent_bytes += gone * 125.0;
            // Two seconds may wait, and what comes then is dropped.
            if self.waits > ASKED_KBPS * 2.0 {
                self.waits -= f64::from(bytes) * 0.008;
                self.video.drop_one();
            } else {
                self.video.deliver();
            }
            if !self.recovers_ms.contains(&self.ms) {
                self.acknowledged_bytes = self.sent_bytes;
            }
            if self.ms.is_multiple_of(200) {
                // As a kernel measures it where a keyframe or a queue fills the line.
                let kbps = if self.is_bucket && self.waits < 100.0 { 4e6 } else { self.line_kbps };
                let delivery_rate = Some(Bitrate::from_kbps(kbps as u64));
                let rtt_ms = Some(30.0);
                self.tell(Observation::Connection(ConnectionFigures { delivery_rate, rtt_ms, ..Default::default() }));
            }
            if self.ms.is_multiple_of(100) {
                let ms = self.waits / ASKED_KBPS * 1000.0;
                let queue =
                    QueueLevel { ms, bytes: (self.waits * 125.0) as u64, limit_ms: 2000.0, ..QueueLevel::default() };
                let accounts = Accounts { video: self.video, audio: Account::default() };
                let (sent_bytes, freezes) = ((self.acknowledged_bytes + self.buffers_bytes) as u64, Freezes::default());
                self.tell(Observation::Relay { accounts, queue, sent_bytes, freezes, frozen_ms: None });
            }
            if self.ms.is_multiple_of(500) {
                let counters = BroadcasterCounters { skipped: Some(self.skipped), ..BroadcasterCounters::default() };
                self.tell(Observation::Counters(counters));
            }
            while let Some(action) = self.core.take_wish() {
                self.act(&action);
                wanted.push(action);
            }
        }
        wanted
    }

    fn act(&mut self, action: &Action) {
        if let (Action::SetBitrate { video }, false) = (action, self.lies) {
            self.video_kbps = video.kbps();
        }
        self.tell(Observation::acted(action.clone(), None));
    }

    fn bitrate(&mut self, kbps: u64) {
        self.act(&Action::SetBitrate { video: Bitrate::from_kbps(kbps) });
    }

    fn keeper(&mut self, mode: Mode) {
        let bounds = Bounds { floor: Some(Bitrate::from_kbps(500)), ceiling: None };
        self.tell(Observation::Automatics(Automatics { keeper: mode, bounds, ..Automatics::default() }));
    }

    fn snapshot(&mut self) -> Snapshot {
        self.core.snapshot(self.now())
    }
}

#[test]
fn a_bitrate_that_fits_is_told_to_have_helped_with_its_numbers_and_a_key_to_undo() {
    let mut show = Show::new();
    show.run(20);
    show.line_kbps = 2500.0;
    show.run(40);
    show.bitrate(1800);
    show.run(10);
    let trial = show.snapshot().newest_trial().unwrap().clone();
    assert_eq!((trial.outcome, trial.is_over), (Outcome::Unclear, false), "{}", trial.sentence);
    show.run(20);
    let snapshot = show.snapshot();
    let trial = snapshot.newest_trial().unwrap().clone();
    assert_eq!(trial.outcome, Outcome::Helped, "{}", trial.sentence);
    assert!(trial.before.lost_percent() > 20.0 && trial.after.lost == 0, "{trial:?}");
    assert_eq!(trial.before.seconds, trial.after.seconds, "on the same length");
    let (least, most) = trial.less_points.unwrap();
    assert!(0.0 < least && least < most, "{least} to {most}");
    assert!(trial.before.bits_per_pixel.unwrap() > trial.after.bits_per_pixel.unwrap());
    assert_eq!(snapshot.undo, Some(Action::SetBitrate { video: Bitrate::from_kbps(4000) }));
    let told = snapshot.marks.iter().find(|mark| mark.text.starts_with("helped: video bitrate")).unwrap();
    assert!(!told.is_change, "what a change came to is no change");
}

#[test]
fn a_change_that_mends_nothing_is_told_not_to_have_helped_with_what_to_do_next() {
    let mut show = Show::new();
    show.run(20);
    show.line_kbps = 2500.0;
    show.run(40);
    show.act(&Action::SwitchServer { server: "Dunmere".into() });
    show.tell(Observation::Link(LinkChange::Up { server: "Dunmere".into() }));
    show.run(30);
    let trial = show.snapshot().newest_trial().unwrap().clone();
    assert_eq!(trial.outcome, Outcome::DidNotHelp, "{}", trial.sentence);
    let next = trial.next.unwrap();
    assert!(matches!(next.action, Action::SetBitrate { .. }), "not the same again: {next:?}");
}

#[test]
fn of_two_changes_at_once_neither_is_credited() {
    let mut show = Show::new();
    show.run(20);
    show.line_kbps = 2500.0;
    show.run(40);
    show.bitrate(1900);
    show.run(5);
    show.act(&Action::SwitchServer { server: "Dunmere".into() });
    show.run(40);
    let trial = show.snapshot().newest_trial().unwrap().clone();
    assert!(trial.beside_another && trial.is_over, "{trial:?}");
    assert_eq!(trial.outcome, Outcome::Unclear);
    assert!(trial.sentence.contains("Not credited"), "{}", trial.sentence);
}

#[test]
fn more_picture_that_is_carried_helped_too() {
    let mut show = Show::new();
    show.run(70);
    show.bitrate(5000);
    show.run(30);
    let trial = show.snapshot().newest_trial().unwrap().clone();
    assert_eq!(trial.outcome, Outcome::Helped, "{}", trial.sentence);
    assert!(trial.sentence.contains("carried instead of"), "{}", trial.sentence);
}

#[test]
fn the_keeper_goes_down_once_and_climbs_back() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    assert_eq!(show.run(60), [], "nothing while nothing is wrong");
    show.line_kbps = 2500.0;
    let down = show.run(15);
    let [Action::SetBitrate { video }] = down[..] else { panic!("once: {down:?}") };
    assert!((1500.0..2340.0).contains(&video.kbps()), "what is carried less a margin: {video}");
    show.line_kbps = 8000.0;
    let up = show.run(240);
    let rates: Vec<f64> =
        up.iter().map(|a| if let Action::SetBitrate { video } = a { video.kbps() } else { f64::NAN }).collect();
    assert!(rates.is_sorted() && rates.last() == Some(&4000.0), "step by step up to where it was: {rates:?}");
    assert_eq!(show.snapshot().undo, None, "and then there is nothing to put back");
}

#[test]
fn the_keeper_keeps_within_its_bounds() {
    let mut show = Show::new();
    let kbps = Bitrate::from_kbps;
    let bounds = Bounds { floor: Some(kbps(2500)), ceiling: Some(kbps(3000)) };
    show.tell(Observation::Automatics(Automatics { keeper: Mode::Act, bounds, ..Automatics::default() }));
    show.run(20);
    show.line_kbps = 1500.0;
    assert_eq!(show.run(15), [Action::SetBitrate { video: kbps(2500) }], "not below the floor");
    show.line_kbps = 8000.0;
    let up = show.run(200);
    assert_eq!(up.last(), Some(&Action::SetBitrate { video: kbps(3000) }), "nor above the ceiling: {up:?}");
    assert_eq!(show.snapshot().undo, Some(Action::SetBitrate { video: kbps(4000) }), "one step back to where it began");
}

#[test]
fn a_spike_that_the_queue_absorbs_changes_nothing() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(30);
    for line in [0.0, 400.0, 1200.0, 3000.0] {
        show.line_kbps = line;
        assert_eq!(show.run(1), []);
        show.line_kbps = 8000.0;
        assert_eq!(show.run(25), [], "a second at {line} kb/s");
    }
}

#[test]
fn the_keeper_leaves_encoder_faults_alone_and_a_hand_counts_more() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    for _ in 0..20 {
        show.skipped += 30;
        assert_eq!(show.run(1), [], "frames are skipped, and the line is innocent");
    }
    show.bitrate(3500);
    let keeper = show.snapshot().keeper;
    assert!(keeper.rests && keeper.says.contains("by hand"), "{keeper:?}");
    show.line_kbps = 2000.0;
    assert_eq!(show.run(30), []);
    // Asked for again, it begins again.
    show.act(&Action::SetKeeper { mode: Mode::Act });
    assert_eq!(show.run(15).len(), 1);
}

#[test]
fn a_keeper_whose_change_could_not_be_made_rests_and_says_why() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    show.line_kbps = 2500.0;
    let wanted = loop {
        show.ms += 20;
        show.tell(Observation::Audio(SoundFrame { time_ms: show.ms as u32, bytes: 400 }));
        show.tell(Observation::Video(VideoFrame { time_ms: show.ms as u32, bytes: 10_000, ..VideoFrame::default() }));
        show.waits += 32.0;
        show.sent_bytes += show.line_kbps * 0.02 * 125.0;
        let queue = QueueLevel {
            ms: show.waits / ASKED_KBPS * 1000.0,
            bytes: 100_000,
            limit_ms: 2000.0,
            ..QueueLevel::default()
        };
        let (accounts, sent_bytes) = (Accounts { video: show.video, ..Accounts::default() }, show.sent_bytes as u64);
        let freezes = Freezes::default();
        show.tell(Observation::Relay { accounts, queue, sent_bytes, freezes, frozen_ms: None });
        if let Some(action) = show.core.take_wish() {
            break action;
        }
        assert!(show.ms < 60_000, "it goes down");
    };
    show.tell(Observation::acted(wanted, Some("the feed is gone".into())));
    let keeper = show.snapshot().keeper;
    assert!(keeper.rests && keeper.says.contains("the feed is gone") && !keeper.says.contains("by hand"), "{keeper:?}");
}

#[test]
fn a_keeper_that_advises_says_once_what_it_would_do_and_does_nothing() {
    let mut show = Show::new();
    show.keeper(Mode::Advise);
    show.run(20);
    show.line_kbps = 2500.0;
    assert_eq!(show.run(30), []);
    let snapshot = show.snapshot();
    let advice: Vec<_> = snapshot.marks.iter().filter(|mark| mark.text.starts_with("keeper advises")).collect();
    assert_eq!(advice.len(), 1, "{advice:?}");
}

#[test]
fn what_is_done_by_hand_is_seen_on_the_wire_or_not_or_in_part() {
    let mut show = Show::new();
    show.run(10);
    let told = Action::SetBitrate { video: Bitrate::from_kbps(2000) };
    show.tell(Observation::Told { action: told });
    show.run(6);
    assert!(show.snapshot().awaited.unwrap().sentence.starts_with("Not yet"));
    show.video_kbps = 3000.0;
    show.run(8);
    assert!(show.snapshot().awaited.unwrap().sentence.starts_with("Only a part"));
    show.video_kbps = 2000.0;
    show.run(8);
    let snapshot = show.snapshot();
    assert_eq!((snapshot.awaited.is_none(), snapshot.newest_trial().is_some()), (true, true));
    assert_eq!(snapshot.undo, Some(Action::SetBitrate { video: Bitrate::from_kbps(4000) }));
    // And one that never comes is given up.
    show.tell(Observation::Told { action: Action::SetBitrate { video: Bitrate::from_kbps(1000) } });
    show.run(130);
    let snapshot = show.snapshot();
    assert!(snapshot.awaited.is_none());
    assert!(snapshot.marks.iter().any(|mark| mark.text.contains("not done. Not yet")));
}

/// Everything an action can change.
#[derive(Debug, Clone, PartialEq)]
struct Setup {
    kbps: u64,
    size: (u32, u32),
    fps: FrameRate,
    preset: i32,
    server: String,
    nice: i32,
}

impl Setup {
    /// Does it, as whoever carries actions out; gives what puts it back where the core cannot know.
    fn take(&mut self, action: &Action) -> Option<Action> {
        match action {
            Action::SetBitrate { video } => self.kbps = video.bps() / 1000,
            Action::SwitchServer { server } => self.server.clone_from(server),
            Action::LighterPreset => self.preset += 1,
            Action::HeavierPreset => self.preset -= 1,
            Action::SetSize { width, height } => self.size = (*width, *height),
            Action::SetRate { fps } => self.fps = *fps,
            Action::SetPriority { nice } => {
                return Some(Action::SetPriority { nice: std::mem::replace(&mut self.nice, *nice) });
            }
            _ => {}
        }
        None
    }
}

fn any_action() -> impl Strategy<Value = Action> {
    prop_oneof![
        (500..8000_u64).prop_map(|kbps| Action::SetBitrate { video: Bitrate::from_kbps(kbps) }),
        prop_oneof![Just("Aldmoor"), Just("Dunmere")].prop_map(|name| Action::SwitchServer { server: name.into() }),
        Just(Action::LighterPreset),
        Just(Action::HeavierPreset),
        prop_oneof![Just((960, 540)), Just((1280, 720)), Just((1920, 1080))]
            .prop_map(|(width, height)| Action::SetSize { width, height }),
        prop_oneof![Just(30), Just(48), Just(60)].prop_map(|fps| Action::SetRate { fps: FrameRate::whole(fps) }),
        (-5..6_i32).prop_map(|nice| Action::SetPriority { nice }),
    ]
}

proptest! {
    #[test]
    fn undoing_everything_gives_exactly_the_setup_before(
        actions in proptest::collection::vec((any_action(), any::<bool>()), 0..25),
        fps in prop::sample::select(vec![60.0, 60.0 / 1.001, 30.0 / 1.001, 24.0 / 1.001, 25.0]),
    ) {
        let mut show = Show::new();
        show.tell(Observation::Stream(StreamFacts { fps: Some(fps), ..StreamFacts::default() }));
        let fps = FrameRate::from_fps(fps);
        let before =
            Setup { kbps: 4000, size: (1280, 720), fps, preset: 0, server: "Aldmoor".into(), nice: 0 };
        let mut setup = before.clone();
        let mut act = |show: &mut Show, action: &Action, works: bool| {
            let back = works.then(|| setup.take(action)).flatten();
            show.ms += 700;
            let failed = (!works).then(|| "it does not".to_owned());
            show.tell(Observation::Acted { action: action.clone(), failed, back });
            if let (Action::SwitchServer { server }, true) = (action, works) {
                show.tell(Observation::Link(LinkChange::Up { server: server.clone() }));
            }
            setup.clone()
        };
        let mut changed = before.clone();
        for (action, works) in &actions {
            // A move to where it already is never takes place.
            let here = show.snapshot().server;
            if *action != (Action::SwitchServer { server: here }) {
                changed = act(&mut show, action, *works);
            }
        }
        let mut end = changed;
        for _ in 0..=actions.len() {
            let Some(back) = show.snapshot().undo else { break };
            end = act(&mut show, &back, true);
        }
        prop_assert_eq!(show.snapshot().undo, None);
        prop_assert_eq!(end, before);
    }
}

fn restated(show: &mut Show, kbps: u64) {
    let video_bitrate = Some(Bitrate::from_kbps(kbps));
    show.tell(Observation::Stream(StreamFacts { video_bitrate, ..StreamFacts::default() }));
}

#[test]
fn a_broadcaster_that_repeats_what_it_stated_first_does_not_undo_what_the_keeper_set() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    show.line_kbps = 2000.0;
    for _ in 0..40 {
        show.run(1);
        restated(&mut show, 4000);
    }
    let set = show.core.bitrate_set().unwrap();
    assert!(set < Bitrate::from_kbps(2000), "{set}");
    assert!(!show.snapshot().keeper.says.contains("4 000"), "{}", show.snapshot().keeper.says);
    // Where the line is well again it climbs, though the muxer says all the while that it is there.
    show.line_kbps = 8000.0;
    for _ in 0..300 {
        show.run(1);
        restated(&mut show, 4000);
    }
    assert_eq!(show.core.bitrate_set(), Some(Bitrate::from_kbps(4000)));
    assert!(show.video_kbps >= 4000.0, "{}", show.video_kbps);
    // What it states anew is news.
    restated(&mut show, 3500);
    assert_eq!(show.core.bitrate_set(), Some(Bitrate::from_kbps(3500)));
}

#[test]
fn one_that_says_done_and_does_nothing_is_caught_and_the_keeper_rests() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    (show.line_kbps, show.lies) = (2000.0, true);
    let asked = show.run(40);
    assert_eq!(asked.len(), 1, "it is not asked again and again: {asked:?}");
    let snapshot = show.snapshot();
    let says = &snapshot.keeper.says;
    assert!(snapshot.keeper.rests && says.contains("come all the same"), "{says}");
    assert_eq!(show.core.bitrate_set(), Some(Bitrate::from_kbps(4000)), "what the wire shows");
    let trial = snapshot.newest_trial().unwrap().clone();
    assert!(
        trial.is_over && trial.sentence.starts_with("Nothing was changed: it was said to be done"),
        "{}",
        trial.sentence
    );
    let unheeded = |snapshot: &Snapshot| snapshot.notices.iter().any(|notice| notice.kind == NoticeKind::Unheeded);
    assert!(unheeded(&snapshot), "{:?}", snapshot.notices);
    // The user sets it by hand there.
    show.video_kbps = 1500.0;
    show.run(12);
    assert!(!unheeded(&show.snapshot()));
}

#[test]
fn one_that_takes_a_while_or_sends_an_easy_scene_is_not_accused() {
    for later_s in [0, 6] {
        let mut show = Show::new();
        show.run(20);
        show.lies = true;
        show.bitrate(2000);
        show.run(later_s);
        show.video_kbps = 2000.0;
        show.run(40);
        assert!(show.snapshot().notices.iter().all(|notice| notice.kind != NoticeKind::Unheeded));
    }
    // A slide at 900 kb/s comes as it did, whatever is set.
    let mut show = Show::new();
    show.video_kbps = 900.0;
    show.run(20);
    show.lies = true;
    for kbps in [2000, 850] {
        show.bitrate(kbps);
        show.run(40);
        assert!(show.snapshot().notices.iter().all(|notice| notice.kind != NoticeKind::Unheeded), "{kbps}");
    }
}

#[test]
fn without_a_stated_bitrate_the_keeper_goes_by_what_the_wire_shows_and_says_so_until_then() {
    let mut show = Show::stating(None);
    show.keeper(Mode::Act);
    show.run(3);
    assert!(show.snapshot().keeper.says.contains("read off the wire"), "{}", show.snapshot().keeper.says);
    // An easy beginning is no ceiling.
    show.video_kbps = 3000.0;
    show.run(15);
    show.video_kbps = 4000.0;
    show.run(20);
    assert_eq!(show.core.bitrate_set(), Some(Bitrate::from_kbps(4000)));
    show.line_kbps = 2500.0;
    let down = show.run(20);
    assert!(matches!(down[..], [Action::SetBitrate { video }] if video < Bitrate::from_kbps(2500)), "{down:?}");
    assert_eq!(show.snapshot().undo, Some(Action::SetBitrate { video: Bitrate::from_kbps(4000) }));
    show.line_kbps = 8000.0;
    show.run(300);
    assert_eq!(show.core.bitrate_set(), Some(Bitrate::from_kbps(4000)), "no further than it began");
}

/// The bitrates it set, with the second of each.
fn set_in(show: &mut Show, seconds: u64) -> Vec<(u64, u64)> {
    let mut set = Vec::new();
    for _ in 0..seconds {
        for action in show.run(1) {
            if let Action::SetBitrate { video } = action {
                set.push((show.ms / 1000, video.bps() / 1000));
            }
        }
    }
    set
}

#[test]
fn where_acknowledgements_jump_one_step_down_is_enough_for_one_dip() {
    for long_ms in [0, 300, 600, 900, 1200] {
        for begins_ms in (0..8000).step_by(400) {
            let mut show = Show::new();
            show.keeper(Mode::Act);
            show.run(20);
            show.line_kbps = 2500.0;
            show.recovers_ms = show.ms + begins_ms..show.ms + begins_ms + long_ms;
            let set = set_in(&mut show, 40);
            let what = format!("{long_ms} ms without acknowledgements, {begins_ms} ms into the dip");
            let [(_, kbps)] = set[..] else { panic!("{what}: {set:?}") };
            // 2 500 kb/s less the margin and the sound, and not half of that.
            assert!((1400..=2200).contains(&kbps), "{what}: {kbps}");
        }
    }
}

#[test]
fn after_a_dip_of_15_s_it_climbs_as_soon_as_bursts_have_shown_that_it_is_over() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    show.line_kbps = 2500.0;
    let down = set_in(&mut show, 15);
    let [(down_s, _)] = down[..] else { panic!("{down:?}") };
    show.line_kbps = 8000.0;
    let up = set_in(&mut show, 60);
    let [(up_s, 4000)] = up[..] else { panic!("{up:?}") };
    let over_s = 35;
    assert!((3..=10).contains(&(up_s - over_s)) && up_s - down_s < 60, "down at {down_s} s, up at {up_s} s");
}

#[test]
fn over_a_token_bucket_bursts_say_nothing_and_it_waits_for_the_minute() {
    for is_bucket in [false, true] {
        let mut show = Show::new();
        show.is_bucket = is_bucket;
        show.keeper(Mode::Act);
        show.run(20);
        show.line_kbps = 2500.0;
        let set = set_in(&mut show, 50);
        let [(down_s, _)] = set[..] else { panic!("bucket {is_bucket}: {set:?}") };
        show.line_kbps = 8000.0;
        let up = set_in(&mut show, 60);
        let [(up_s, 4000), ..] = up[..] else { panic!("bucket {is_bucket}: {up:?}") };
        assert_eq!(up_s - down_s >= 60, is_bucket, "down at {down_s} s, up at {up_s} s");
    }
}

#[test]
fn what_a_buffer_took_in_as_the_line_became_smaller_is_not_taken_for_what_it_carries() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    show.line_kbps = 2500.0;
    let mut set = Vec::new();
    while set.is_empty() && show.ms < 40_000 {
        // A tenth more than that, for as long as nothing was changed.
        show.buffers_bytes += 250.0 * 125.0;
        set = set_in(&mut show, 1);
    }
    let [(_, kbps)] = set[..] else { panic!("{set:?}") };
    assert!(kbps <= 2050, "2 500 less the margin and the sound: {kbps}");
}

#[test]
fn a_line_that_was_wide_in_between_has_fallen_anew_and_is_not_taken_for_a_falling_one() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    show.line_kbps = 3400.0;
    let first = set_in(&mut show, 18);
    show.line_kbps = 8000.0;
    let up = set_in(&mut show, 12);
    assert!(matches!((&first[..], &up[..]), ([_], [(_, 4000)])), "{first:?} {up:?}");
    show.line_kbps = 2500.0;
    let again = set_in(&mut show, 8);
    let [(again_s, kbps)] = again[..] else { panic!("{again:?}") };
    assert!(again_s - first[0].0 < 40 && kbps >= 1900, "{first:?} {again:?}");
}

#[test]
fn a_climb_that_came_early_and_does_not_hold_is_put_back_at_once_and_the_next_one_is_not_early() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    show.line_kbps = 2500.0;
    let down = set_in(&mut show, 18);
    show.line_kbps = 8000.0;
    let up = loop {
        let set = set_in(&mut show, 1);
        if !set.is_empty() {
            break set;
        }
        assert!(show.ms < 80_000);
    };
    show.line_kbps = 2500.0;
    let again = set_in(&mut show, 10);
    show.line_kbps = 8000.0;
    let late = set_in(&mut show, 100);
    let seconds = |set: &[(u64, u64)]| set.first().map_or(0, |(second, _)| *second);
    let (down, up, again, late) = (seconds(&down), seconds(&up), seconds(&again), seconds(&late));
    assert!(up - down < 60 && again > up && again - up < 8, "down {down} s, up {up} s, down {again} s");
    assert!(late - again >= 60, "then it waits for a minute: {again} s, {late} s");
}

#[test]
fn an_early_climb_that_held_gives_no_right_to_a_third_change_later() {
    let mut show = Show::new();
    show.keeper(Mode::Act);
    show.run(20);
    show.line_kbps = 2500.0;
    show.run(18);
    show.line_kbps = 8000.0;
    let up = set_in(&mut show, 40);
    assert!(matches!(up[..], [(_, 4000)]), "{up:?}");
    show.run(120);
    let mut set = Vec::new();
    for (line_kbps, seconds) in [(3400.0, 14), (2400.0, 14), (700.0, 20)] {
        show.line_kbps = line_kbps;
        set.extend(set_in(&mut show, seconds));
    }
    assert_eq!(set.len(), 2, "{set:?}");
}
