//! Takes readings, lets time pass, and gives snapshots.
//!
//! What belongs together lives and dies together, each in a file of its own: [`Broadcast`] is replaced whole when another begins,
//! [`Link`] when another connection does. [`facts`](self::gather) gathers what they know into the numbers that are judged;
//! [`present`](self::present) into what a screen shows.

mod broadcast;
mod control;
mod diary;
mod gather;
mod link;
mod machines;
mod oddities;
mod present;
mod relayed;
mod second;
mod ways;

use std::time::Duration;

use broadcast::Broadcast;
use control::Control;
pub use control::{Answer, Awaited, Moved};
use diary::Diary;
use link::Link;
use machines::Machines;
use relayed::Relayed;
use ways::Ways;

use crate::action::Action;
use crate::history::History;
use crate::moment::Moment;
use crate::rate::{Bitrate, grouped};
use crate::reading::{LinkChange, Observation, Reading};
use crate::state::{STRAINED, State};
use crate::verdict::Judge;

/// A gauge's newest value older than this is no longer shown. Ours: what is gauged is told each second, and one reading may be
/// missed or late.
const STALE: Duration = Duration::from_secs(4);
/// Facts are judged so often, whoever looks: the screens look as often. A second is so many times this. Ours.
const JUDGED_EACH: Duration = Duration::from_millis(200);
const SECOND: Duration = Duration::from_secs(1);

/// What the core is told before the first reading.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// Names of the servers that could be used; the first is used first.
    pub servers: Vec<String>,
}

/// The core: readings and the time in, snapshots out.
#[derive(Debug, Clone)]
pub struct Core {
    servers: Vec<String>,
    now: Moment,
    /// When the facts are judged next.
    judged_next: Moment,
    broadcast: Broadcast,
    relayed: Relayed,
    link: Link,
    machines: Machines,
    ways: Ways,
    judge: Judge,
    control: Control,
    diary: Diary,
}

impl Core {
    /// A core that has seen nothing.
    #[must_use]
    pub fn new(settings: Settings) -> Self {
        Self {
            link: Link::to(settings.servers.first().cloned().unwrap_or_default()),
            servers: settings.servers,
            now: Moment::START,
            judged_next: Moment::after(JUDGED_EACH),
            broadcast: Broadcast::default(),
            relayed: Relayed::default(),
            machines: Machines::default(),
            ways: Ways::default(),
            judge: Judge::default(),
            control: Control::default(),
            diary: Diary::default(),
        }
    }

    /// A core that goes on at `at`, a whole second, where another broke off: it knows that one's seconds, and nothing of those that
    /// are missing.
    #[must_use]
    pub fn going_on(settings: Settings, history: &History, at: Moment) -> Self {
        Self {
            now: at,
            judged_next: Moment::after(at.since(Moment::START) + JUDGED_EACH),
            judge: Judge::beginning(at),
            diary: Diary::going_on(history, at),
            ..Self::new(settings)
        }
    }

    /// Takes one reading. A reading from before the last one counts as made now.
    pub fn take(&mut self, reading: &Reading) {
        self.pass_to(reading.at);
        let at = self.now;
        match &reading.what {
            Observation::Broadcaster { present } => self.broadcaster(*present),
            Observation::Resumed { gap_ms } => self.resumed(*gap_ms),
            Observation::Video(frame) => self.broadcast.video(at, frame),
            Observation::Audio(frame) => self.broadcast.audio(at, frame),
            Observation::Picture(change) => self.broadcast.picture(at, change),
            Observation::Unseen { why } => self.broadcast.wire.state_unseen(why),
            Observation::Stream(facts) => self.broadcast.stated(*facts),
            Observation::Counters(counters) => self.broadcast.counted(at, counters),
            Observation::Intended(intended) => self.broadcast.intended = *intended,
            Observation::Relay { accounts, queue, sent_bytes, freezes, frozen_ms } => {
                self.relayed.told(at, accounts, queue, *sent_bytes);
                (self.relayed.freezes, self.relayed.frozen_ms) = (*freezes, *frozen_ms);
                // Ten times a second is often enough for what looks at seconds.
                self.broadcast.follow_lateness(at);
                let seen = (&self.broadcast, &self.relayed, &self.link);
                self.control.look_after_bitrate(at, seen, &mut self.diary);
            }
            Observation::Connection(figures) => self.link.told(at, figures),
            Observation::Link(change) => self.link_changed(change),
            Observation::Probe(probe) => self.ways.probed(at, probe),
            Observation::Machine(load) => self.machines.told(at, load),
            Observation::Acted { action, failed, back } => {
                let deed = (action, failed.as_deref(), back.as_ref());
                self.control.acted(at, deed, (&mut self.broadcast, &self.link, &mut self.diary));
            }
            Observation::Told { action } => {
                self.control.told(at, action, (&mut self.broadcast, &self.link, &mut self.diary));
            }
            Observation::Automatics(automatics) => self.control.arrange(automatics),
            Observation::Moved { from, to, gap_ms, missing_ms } => {
                let (from, to, gap_ms, missing_ms) = (from.clone(), to.clone(), *gap_ms, *missing_ms);
                self.control.moved(Moved { at, from, to, gap_ms, missing_ms }, &mut self.diary);
            }
            Observation::PlayedBack(found) => {
                self.diary.mark(at, found.sentence(), false);
                self.control.played_back(at, found);
                // Of a server that was left meanwhile it says nothing any more.
                if self.link.up && found.server == self.link.server {
                    self.link.played_back = Some(found.clone());
                }
            }
            Observation::Remark { text } => self.diary.mark(at, text.clone(), false),
        }
        self.follow();
    }

    /// The next thing the core wants done by itself, if there is one. What comes of it is to come back as a reading.
    pub fn take_wish(&mut self) -> Option<Action> {
        self.control.take_wish()
    }

    /// What the broadcaster's video is set to, as far as it is known: what was said or done last, unless more than that comes; and
    /// where nothing was said, what comes.
    #[must_use]
    pub fn bitrate_set(&self) -> Option<Bitrate> {
        self.broadcast.bitrate_set()
    }

    fn broadcaster(&mut self, present: bool) {
        let at = self.now;
        self.ways.broadcast_changed();
        self.control.begin_again();
        self.control.broadcast_changed();
        if present {
            self.broadcast.begins(at);
            self.link.broadcast_begins(at);
            self.diary.broadcaster_came(at);
        } else {
            self.broadcast.ends(self.now);
            self.diary.broadcaster_left(at);
        }
    }

    fn resumed(&mut self, gap_ms: u64) {
        self.broadcast.resumed(self.now);
        self.ways.broadcast_changed();
        let text = format!("the broadcaster was restarted: {} ms without a picture", grouped(gap_ms));
        self.diary.mark(self.now, text, false);
    }

    fn link_changed(&mut self, change: &LinkChange) {
        if let Some(text) = self.link.changed(self.now, change, &mut self.ways) {
            self.diary.mark(self.now, text, false);
        }
        if matches!(change, LinkChange::Up { .. }) {
            self.control.begin_again();
        }
    }

    /// What follows from any reading: since when things are as they are.
    fn follow(&mut self) {
        let now = self.now;
        self.broadcast.follow_losses(now);
        self.relayed.follow(now, self.broadcast.is_on_air());
        let is_behind = self.relayed.queue_share() > ways::DOUBT || self.relayed.is_dropping(now);
        let is_doubtful = self.broadcast.is_on_air() && (is_behind || !self.link.up && self.link.was_up);
        let sent = Bitrate::of(self.relayed.sent_bytes.within(now, ways::STEADY), ways::STEADY);
        self.ways.follow(now, is_doubtful, sent, self.machines.own(), self.broadcast.on_air_s(now));
    }

    /// Lets time pass: the facts are judged at their times, and the history has no holes.
    fn pass_to(&mut self, now: Moment) {
        while self.judged_next <= now {
            let at = self.judged_next;
            self.now = self.now.max(at);
            self.judged_next = Moment::after(at.since(Moment::START) + JUDGED_EACH);
            if at.since(Moment::START).subsec_nanos() == 0 {
                self.close_second(at);
            } else {
                let facts = self.facts(at);
                self.judge.judge(at, &facts);
            }
        }
        self.now = self.now.max(now);
    }

    fn close_second(&mut self, end: Moment) {
        let second = self.second(end);
        self.diary.second(second);
        let facts = self.facts(end);
        let verdict = self.judge.judge(end, &facts);
        self.control.follow_trials(end, &verdict.proposals, &mut self.diary);
        self.control.follow_awaited(end, (&mut self.broadcast, &self.link, &mut self.diary));
        if let Some(unheeded) = self.broadcast.follow_bitrate(end) {
            self.control.was_not_heeded(end, &unheeded, &mut self.diary);
        }
        let seen = (&facts, verdict.cause, self.state(end));
        self.control.look_after_playing_back(end, &self.broadcast, &self.link);
        self.control.look_after_server(end, seen, &self.servers, &mut self.diary);
        let found = self.notices(end);
        self.diary.noticed(end, &found);
        if self.broadcast.is_on_air() {
            self.diary.judged(end, &verdict);
        }
    }

    /// How the connection stands; `None` while nobody is on air.
    fn state(&self, now: Moment) -> Option<State> {
        self.broadcast.since?;
        Some(match () {
            () if !self.link.up => State::Dark,
            () if self.relayed.is_dropping(now) => State::Losing,
            () if self.relayed.queue_share() > STRAINED => State::Strained,
            () => State::Steady,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figure::Origin;
    use crate::reading::{Automatics, ConnectionFigures, Probe, ProbeTarget, VideoFrame};

    /// A core that heard this, one reading each second.
    fn heard(readings: Vec<Observation>) -> Core {
        let mut core = Core::new(Settings { servers: vec!["Aldmoor".into(), "Dunmere".into()] });
        for (n, what) in readings.into_iter().enumerate() {
            core.take(&Reading { at: Moment::from_ms(n as u64 * 1000), origin: Origin::Measured, what });
        }
        core
    }

    #[test]
    fn what_it_takes_to_the_server_that_was_left_is_remembered_however_it_was_left() {
        let up = |server: &str| Observation::Link(LinkChange::Up { server: server.into() });
        let connecting = |server: &str| Observation::Link(LinkChange::Connecting { server: server.into() });
        let down = Observation::Link(LinkChange::Down {
            server: "Aldmoor".into(),
            why: "gone".into(),
            refused: false,
            retry_ms: 500,
        });
        let figures = |rtt_ms| {
            Observation::Connection(ConnectionFigures { rtt_ms: Some(rtt_ms), ..ConnectionFigures::default() })
        };
        let asked =
            Observation::Probe(Probe { to: ProbeTarget::Server { server: "Aldmoor".into() }, rtt_ms: Some(80.0) });
        let here = [up("Aldmoor"), figures(20.0), figures(35.0)];
        let closed = Observation::Link(LinkChange::Closed { server: "Aldmoor".into() });
        for leaving in [vec![], vec![down.clone(), connecting("Dunmere")], vec![closed, connecting("Dunmere")]] {
            let way = format!("{leaving:?}");
            let core = heard([&here[..], &leaving, &[up("Dunmere"), figures(9.0), asked.clone()]].concat());
            let floor_ms = core.facts(core.now).other.floor_ms;
            assert_eq!(floor_ms, Some(20.0), "{way}");
        }
    }

    #[test]
    fn a_connection_that_was_there_and_is_gone_is_in_doubt_and_one_that_is_not_there_yet_is_none() {
        let up = Observation::Link(LinkChange::Up { server: "Aldmoor".into() });
        let connecting = Observation::Link(LinkChange::Connecting { server: "Aldmoor".into() });
        let down = Observation::Link(LinkChange::Down {
            server: "Aldmoor".into(),
            why: "gone".into(),
            refused: false,
            retry_ms: 500,
        });
        let here = Observation::Broadcaster { present: true };
        let in_doubt = |readings: &[&Observation]| {
            let mut core = heard(readings.iter().map(|what| (*what).clone()).collect());
            core.snapshot(core.now).in_doubt
        };
        assert!(!in_doubt(&[&here, &connecting]));
        assert!(!in_doubt(&[&here, &connecting, &up]));
        assert!(in_doubt(&[&here, &connecting, &up, &down]));
        assert!(!in_doubt(&[&up, &down]), "nobody broadcasts over it");
    }

    #[test]
    fn a_server_that_is_away_is_left_by_itself_unless_nothing_else_answers_either() {
        let automatics = Automatics { failover: true, failovers_an_hour: 3, ..Automatics::default() };
        let down = LinkChange::Down { server: "Aldmoor".into(), why: "gone".into(), refused: false, retry_ms: 500 };
        let to = |rtt_ms| {
            let probe = |to| Observation::Probe(Probe { to, rtt_ms });
            [probe(ProbeTarget::Gateway), probe(ProbeTarget::Server { server: "Dunmere".into() })]
        };
        let wish = |answers: Option<f64>, asked: bool| {
            let begin = [
                Observation::Automatics(automatics.clone()),
                Observation::Broadcaster { present: true },
                Observation::Link(LinkChange::Up { server: "Aldmoor".into() }),
            ];
            // Both answered while all was well.
            let mut core = heard([&begin[..], &to(Some(9.0)), &[Observation::Link(down.clone())]].concat());
            for second in 1..=20 {
                let at = Moment::from_ms(6000 + second * 1000);
                for what in to(answers).into_iter().filter(|_| asked) {
                    core.take(&Reading { at, origin: Origin::Measured, what });
                }
                core.pass_to(at);
            }
            core.take_wish()
        };
        let away = Some(Action::SwitchServer { server: "Dunmere".into() });
        assert_eq!(wish(Some(12.0), true), away);
        assert_eq!(wish(None, false), away, "nothing was asked: nothing is known to be silent");
        assert_eq!(wish(None, true), None, "it is the line that is gone");
    }

    #[test]
    fn every_frame_counts_also_those_of_the_second_in_which_the_broadcaster_leaves_or_comes_again() {
        let mut core = heard(Vec::new());
        let mut take = |at_ms, what| core.take(&Reading { at: Moment::from_ms(at_ms), origin: Origin::Measured, what });
        let mut frames = 0;
        for (from_ms, until_ms) in [(300, 2700), (2800, 4400)] {
            take(from_ms, Observation::Broadcaster { present: true });
            for at_ms in (from_ms..until_ms).step_by(20) {
                take(
                    at_ms,
                    Observation::Video(VideoFrame { time_ms: at_ms as u32, bytes: 9000, ..VideoFrame::default() }),
                );
                frames += 1;
            }
            take(until_ms, Observation::Broadcaster { present: false });
        }
        core.pass_to(Moment::from_ms(6000));
        let history = core.snapshot(Moment::from_ms(6000)).history;
        let due: Vec<Option<u32>> = (0..6).map(|n| history.get(n).and_then(|second| second.due)).collect();
        assert_eq!(due.iter().flatten().sum::<u32>(), frames);
        assert_eq!(due, [Some(35), Some(50), Some(45), Some(50), Some(20), None]);
    }

    #[test]
    fn a_core_that_goes_on_has_the_seconds_before_and_a_hole_where_nobody_looked() {
        let here = Observation::Broadcaster { present: true };
        let frame = |at_ms: u64| {
            let what = Observation::Video(VideoFrame { time_ms: at_ms as u32, bytes: 9000, ..VideoFrame::default() });
            Reading { at: Moment::from_ms(at_ms), origin: Origin::Measured, what }
        };
        let mut killed = heard(vec![here.clone()]);
        (0..4000).step_by(20).for_each(|at_ms| killed.take(&frame(at_ms)));
        let before = killed.snapshot(Moment::from_ms(4100)).history;
        let settings = Settings { servers: vec!["Aldmoor".into()] };
        let mut core = Core::going_on(settings, &before, Moment::from_ms(9000));
        core.take(&Reading { at: Moment::from_ms(9300), origin: Origin::Measured, what: here });
        (9400..12_000).step_by(20).for_each(|at_ms| core.take(&frame(at_ms)));
        let snapshot = core.snapshot(Moment::from_ms(12_000));
        let due: Vec<Option<u32>> = (0..12).map(|n| snapshot.history.get(n).and_then(|second| second.due)).collect();
        let hole = [None; 5];
        assert_eq!(due, [&[Some(50); 4][..], &hole, &[Some(30), Some(50), Some(50)]].concat());
        assert_eq!((snapshot.history.len(), snapshot.on_air_since), (12, Some(Moment::from_ms(9300))));
        assert!(snapshot.verdict.since >= Moment::from_ms(9000), "{:?}", snapshot.verdict.since);
    }

    #[test]
    fn a_second_holds_the_longest_round_trips_of_what_was_asked_in_it() {
        let mut core = heard(vec![Observation::Broadcaster { present: true }]);
        let probe = |at_ms, to: &ProbeTarget, rtt_ms| {
            let what = Observation::Probe(Probe { to: to.clone(), rtt_ms: Some(rtt_ms) });
            Reading { at: Moment::from_ms(at_ms), origin: Origin::Measured, what }
        };
        let (router, other) = (ProbeTarget::Gateway, ProbeTarget::Server { server: "Dunmere".into() });
        for (at_ms, to, rtt_ms) in [
            (1100, &router, 2.0),
            (1200, &other, 31.0),
            (1500, &router, 7.0),
            (1600, &other, 28.0),
            (2500, &router, 3.0),
        ] {
            core.take(&probe(at_ms, to, rtt_ms));
        }
        let snapshot = core.snapshot(Moment::from_ms(4000));
        let told = |second| snapshot.history.get(second).map(|second| (second.gateway_ms, second.other_ms));
        assert_eq!(told(0), Some((None, None)));
        assert_eq!(told(1), Some((Some(7.0), Some(31.0))));
        assert_eq!(told(2), Some((Some(3.0), None)));
    }
}
