//! The broadcast on air: who sends it, as it is meant, as it is said to be, and as it is seen to be.
//!
//! It is replaced whole when another begins, and when it ends: what was known of one broadcaster is not known of the next.

mod bitrate;
mod losses;

use std::time::Duration;

use bitrate::BitrateKnown;
pub(super) use bitrate::Unheeded;
use losses::Losses;

use super::{SECOND, STALE};
use crate::action::Action;
use crate::facts::{CLEAR, RATES};
use crate::figure::Origin;
use crate::frame_rate::FrameRate;
use crate::machine_load::MachineLoad;
use crate::moment::Moment;
use crate::rate::Bitrate;
use crate::reading::{BroadcasterCounters, Intended, PictureChange, SoundFrame, StreamFacts, VideoFrame};
use crate::viewers::{Freezes, freeze_from_ms};
use crate::window::{Gauge, Trail};
use crate::wire::{Wire, WireFigures};

/// Frames that come this much later than a few seconds ago, in milliseconds, are looked into. Ours: above what ffmpeg's bunches and
/// a desktop's hiccups were measured at (120 ms), below what the encoder is suspected at.
const LATE_MS: f64 = 150.0;
/// They are looked into if they come ever later, by so many milliseconds a second. Ours: half of what the encoder is suspected at.
const LATE_GROWS: f64 = 20.0;
/// A picture lasts so long where its rate is not known, in milliseconds. Ours.
const USUAL_INTERVAL_MS: f64 = 33.0;

/// Frames of one second, as far as somebody was on air in it.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Counted {
    pub offered: u32,
    pub skipped: u32,
    /// `None` if nobody could tell.
    pub lagged: Option<u32>,
}

/// The broadcast on air, or what is known while nobody is.
#[derive(Debug, Clone, Default)]
pub(super) struct Broadcast {
    /// When the broadcaster came; `None` while there is none.
    pub since: Option<Moment>,
    /// What the broadcaster says of its stream.
    pub stream: StreamFacts,
    /// What holds of every broadcaster that comes.
    standing: StreamFacts,
    /// What the setup means it to be.
    pub intended: Intended,
    /// When the bitrate that is meant was changed last.
    pub meant_bitrate_changed_at: Option<Moment>,
    bitrate: BitrateKnown,
    /// When a restarted broadcaster last went on where it had stopped.
    resumed_at: Option<Moment>,
    /// When the newest frame of picture or sound came.
    came_at: Option<Moment>,
    pub wire: Wire,
    pub offered: Trail,
    pub video_bytes: Trail,
    pub audio_bytes: Trail,
    pub skipped: Losses,
    pub lagged: Losses,
    /// Lagged frames were counted at some time in this broadcast.
    has_lagged: bool,
    /// Since when frames come ever later.
    behind_since: Option<Moment>,
    /// What was counted in the second in which a broadcaster left, until it did.
    parted: Option<Counted>,
    /// Freezes of the picture itself.
    pub freezes: Freezes,
    pub render_ms: Gauge,
    pub encode_ms: Gauge,
    pub speed: Gauge,
    gpu: Gauge,
    encoder: Gauge,
}

impl Broadcast {
    /// A broadcaster came.
    pub(super) fn begins(&mut self, at: Moment) {
        *self = Self { since: Some(at), stream: self.stream, ..self.carried_over() };
    }

    /// It left.
    pub(super) fn ends(&mut self, at: Moment) {
        let second = Duration::from_secs(at.since(Moment::START).as_secs());
        let parted = self.counted_since(Moment::after(second));
        *self = Self { has_lagged: self.has_lagged, stream: self.standing, parted, ..self.carried_over() };
    }

    /// The frames of the second that ends; `None` if nobody was on air in it.
    pub(super) fn count_second(&mut self, end: Moment) -> Option<Counted> {
        let here = self.counted_since(end.before(SECOND));
        // Who left within it was on air for a part of it.
        match (self.parted.take(), here) {
            (Some(before), Some(here)) => Some(Counted {
                offered: before.offered + here.offered,
                skipped: before.skipped + here.skipped,
                lagged: [before.lagged, here.lagged].into_iter().flatten().reduce(|before, here| before + here),
            }),
            (before, here) => here.or(before),
        }
    }

    fn counted_since(&self, from: Moment) -> Option<Counted> {
        self.since?;
        let count = |trail: &Trail| trail.since(from).round() as u32;
        Some(Counted {
            offered: count(&self.offered),
            skipped: count(self.skipped.counted().0),
            lagged: self.is_lagged_known().then(|| count(self.lagged.counted().0)),
        })
    }

    /// What outlives a broadcast: what is meant, what holds of whoever comes, and the totals of the evening.
    fn carried_over(&self) -> Self {
        Self {
            standing: self.standing,
            intended: self.intended,
            meant_bitrate_changed_at: self.meant_bitrate_changed_at,
            skipped: self.skipped.carried_over(),
            lagged: self.lagged.carried_over(),
            parted: self.parted,
            freezes: self.freezes,
            ..Self::default()
        }
    }

    /// The broadcaster was restarted, and goes on where it stopped.
    pub(super) fn resumed(&mut self, at: Moment) {
        self.wire.interrupt();
        self.resumed_at = Some(at);
    }

    pub(super) fn is_on_air(&self) -> bool {
        self.since.is_some()
    }

    /// Seconds on air so far.
    pub(super) fn on_air_s(&self, now: Moment) -> f64 {
        self.since.map_or(0.0, |since| now.since(since).as_secs_f64())
    }

    /// Seconds since the newest frame came.
    pub(super) fn silent_s(&self, now: Moment) -> f64 {
        self.came_at.max(self.since).map_or(0.0, |at| now.since(at).as_secs_f64())
    }

    pub(super) fn video(&mut self, at: Moment, frame: &VideoFrame) {
        self.came_at = Some(at);
        let skipped = self.wire.video(at, frame);
        self.skipped.inferred.add(at, skipped as f64);
        self.offered.add(at, 1.0);
        self.video_bytes.add(at, f64::from(frame.bytes));
    }

    pub(super) fn audio(&mut self, at: Moment, frame: &SoundFrame) {
        self.came_at = Some(at);
        self.wire.audio(at, frame);
        self.audio_bytes.add(at, f64::from(frame.bytes));
    }

    /// A picture was looked at. A run of repeats that is long enough is a freeze.
    pub(super) fn picture(&mut self, at: Moment, change: &PictureChange) {
        let repeated = self.wire.picture(change);
        self.lagged.inferred.add(at, repeated as f64);
        let typical_ms = self.wire.interval_ms().unwrap_or(USUAL_INTERVAL_MS);
        let ms = (repeated + 1) as f64 * typical_ms;
        if repeated > 0 && ms >= freeze_from_ms(typical_ms) {
            self.freezes.add(ms as u64);
        }
    }

    /// The broadcaster says something of its stream.
    pub(super) fn stated(&mut self, facts: StreamFacts) {
        if let Some(fps) = facts.fps {
            self.wire.state_rate(fps);
        }
        if let Some(codec) = facts.video_codec {
            self.wire.state_codec(codec);
        }
        let video_bitrate = self.bitrate_stated(facts.video_bitrate);
        let known = &mut self.stream;
        *known = StreamFacts {
            width: facts.width.or(known.width),
            height: facts.height.or(known.height),
            fps: facts.fps.or(known.fps),
            video_bitrate: video_bitrate.or(known.video_bitrate),
            audio_bitrate: facts.audio_bitrate.or(known.audio_bitrate),
            video_codec: facts.video_codec.or(known.video_codec),
            audio_codec: facts.audio_codec.or(known.audio_codec),
            takes_bitrate: facts.takes_bitrate || known.takes_bitrate,
            takes_preset: facts.takes_preset || known.takes_preset,
            takes_size: facts.takes_size || known.takes_size,
            takes_rate: facts.takes_rate || known.takes_rate,
            restarts: facts.restarts || known.restarts,
        };
        if self.since.is_none() {
            // Said before anyone was on air: of whoever comes, as it is the moth that carries it out.
            let StreamFacts { takes_bitrate, takes_preset, takes_size, takes_rate, restarts, .. } = self.stream;
            self.standing =
                StreamFacts { takes_bitrate, takes_preset, takes_size, takes_rate, restarts, ..StreamFacts::default() };
        }
    }

    /// The broadcaster's own counts.
    pub(super) fn counted(&mut self, at: Moment, counters: &BroadcasterCounters) {
        for (losses, count) in [(&mut self.lagged, counters.lagged), (&mut self.skipped, counters.skipped)] {
            if let Some(count) = count {
                losses.reported.set(at, count as f64);
            }
        }
        for (gauge, value) in [
            (&mut self.render_ms, counters.render_ms),
            (&mut self.encode_ms, counters.encode_ms),
            (&mut self.speed, counters.speed),
            (&mut self.gpu, counters.gpu),
            (&mut self.encoder, counters.encoder),
        ] {
            if let Some(value) = value {
                gauge.set(at, value);
            }
        }
    }

    /// Notes where runs of losses begin and end.
    pub(super) fn follow_losses(&mut self, now: Moment) {
        self.skipped.follow(now, CLEAR);
        self.lagged.follow(now, CLEAR);
        self.has_lagged |= self.is_lagged_known();
    }

    /// Notes since when frames come late: a run that begins has the machine's load looked at.
    pub(super) fn follow_lateness(&mut self, now: Moment) {
        let is_late = self.wire.behind(now).is_some_and(|(ms, grows)| ms > LATE_MS && grows > LATE_GROWS);
        self.behind_since = if is_late { self.behind_since.or(Some(now)) } else { None };
    }

    /// Since when the encoder is in trouble: frames are skipped, or come ever later.
    pub(super) fn encoder_in_trouble_since(&self) -> Option<Moment> {
        self.skipped.since.or(self.behind_since)
    }

    /// Whether there is any count of lagged frames: the broadcaster's, or one read off a picture that moves.
    pub(super) fn is_lagged_known(&self) -> bool {
        self.lagged.reported.is_known() || self.wire.reads_repeats()
    }

    /// Whether there was one at some time in this broadcast: then the total is known.
    pub(super) fn is_lagged_total_known(&self) -> bool {
        self.has_lagged || self.is_lagged_known()
    }

    /// Video on the wire, over this long.
    pub(super) fn video_over(&self, now: Moment, span: Duration) -> Bitrate {
        Bitrate::of(self.video_bytes.within(now, span), span)
    }

    /// Sound on the wire, over [`RATES`].
    pub(super) fn audio_now(&self, now: Moment) -> Bitrate {
        Bitrate::of(self.audio_bytes.within(now, RATES), RATES)
    }

    /// Video and sound on the wire, over [`RATES`].
    pub(super) fn asked(&self, now: Moment) -> Bitrate {
        Bitrate::of(self.video_bytes.within(now, RATES) + self.audio_bytes.within(now, RATES), RATES)
    }

    /// Fills what is not known of a load with what the broadcaster says.
    pub(super) fn fill_gaps(&self, now: Moment, load: &mut MachineLoad) {
        load.gpu_render = load.gpu_render.or(self.gpu.latest(now, STALE));
        load.gpu_encode = load.gpu_encode.or(self.encoder.latest(now, STALE));
    }

    /// How a frame's interval is known: [`Origin::Reported`] if the broadcaster states its rate.
    pub(super) fn interval_origin(&self) -> Origin {
        if self.stream.fps.is_some() { Origin::Reported } else { Origin::Inferred }
    }

    /// What was read off the wire, with how far the bitrate wavers.
    pub(super) fn wire_figures(&self, now: Moment) -> WireFigures {
        let figures = self.wire.figures(now, None);
        let unsteadiness = self.unsteadiness(now, figures.keyframe_interval_s);
        WireFigures { unsteadiness, ..figures }
    }

    /// How far the bitrate of the last four spans wavers about its mean; each span is a keyframe interval.
    fn unsteadiness(&self, now: Moment, keyframe_interval_s: Option<f64>) -> Option<f64> {
        let span = Duration::from_secs_f64(keyframe_interval_s.filter(|s| (0.4..=3.0).contains(s)).unwrap_or(2.0));
        let whole = |n: u32| self.video_bytes.within(now, span * n);
        let spans: Vec<f64> = (1..=4).map(|n| whole(n) - whole(n - 1)).collect();
        let mean = spans.iter().sum::<f64>() / 4.0;
        let variance = spans.iter().map(|s| (s - mean).powi(2)).sum::<f64>() / 4.0;
        (mean > 0.0).then(|| variance.sqrt() / mean)
    }

    /// A change was made: notes what is so from now on; gives what would put it back, as far as that is known here.
    pub(super) fn takes_effect(&mut self, now: Moment, action: &Action) -> Option<Action> {
        let back = self.puts_back(action);
        match action {
            Action::SetBitrate { video } => {
                self.stream.video_bitrate = Some(*video);
                self.bitrate_was_set(now, *video);
            }
            Action::SetSize { width, height } => {
                (self.stream.width, self.stream.height) = (Some(*width), Some(*height));
            }
            Action::SetRate { fps } => self.stream.fps = Some(fps.fps()),
            _ => {}
        }
        self.mean_from_now_on(now, action);
        back
    }

    /// What would put a change back that is made now.
    pub(super) fn puts_back(&self, action: &Action) -> Option<Action> {
        match action {
            Action::SetBitrate { .. } => self.bitrate_set().map(|video| Action::SetBitrate { video }),
            Action::SetSize { .. } => {
                self.stream.width.zip(self.stream.height).map(|(width, height)| Action::SetSize { width, height })
            }
            Action::SetRate { .. } => self.stream.fps.map(|fps| Action::SetRate { fps: FrameRate::from_fps(fps) }),
            Action::LighterPreset => Some(Action::HeavierPreset),
            Action::HeavierPreset => Some(Action::LighterPreset),
            _ => None,
        }
    }

    /// What was changed on purpose is meant to be as it is now: nobody is told that the setup means something else.
    fn mean_from_now_on(&mut self, now: Moment, action: &Action) {
        let meant = &mut self.intended;
        match action {
            Action::SetBitrate { video } if meant.video_bitrate.is_some() => {
                meant.video_bitrate = Some(*video);
                self.meant_bitrate_changed_at = Some(now);
            }
            Action::SetSize { width, height } if meant.width.is_some() && meant.height.is_some() => {
                (meant.width, meant.height) = (Some(*width), Some(*height));
            }
            Action::SetRate { fps } if meant.fps.is_some() => meant.fps = Some(fps.fps()),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_of_one_broadcaster_is_told_of_the_next_but_what_holds_of_whoever_comes() {
        let mut broadcast = Broadcast::default();
        let at = Moment::from_ms;
        broadcast.stated(StreamFacts { takes_bitrate: true, ..StreamFacts::default() });
        broadcast.begins(at(0));
        broadcast.stated(StreamFacts {
            width: Some(1280),
            height: Some(720),
            fps: Some(60.0),
            ..StreamFacts::default()
        });
        for ms in [0, 1000, 2000] {
            let lost = Some(ms / 100);
            broadcast.counted(
                at(ms),
                &BroadcasterCounters {
                    lagged: lost,
                    skipped: lost,
                    render_ms: Some(9.0),
                    ..BroadcasterCounters::default()
                },
            );
            broadcast.video(at(ms), &VideoFrame { bytes: 100_000, ..VideoFrame::default() });
        }
        assert!(broadcast.is_lagged_known() && broadcast.bitrate_set().is_none());
        broadcast.ends(at(2500));
        assert_eq!(broadcast.stream, StreamFacts { takes_bitrate: true, ..StreamFacts::default() });
        broadcast.begins(at(3000));
        assert!(!broadcast.is_lagged_known(), "the next one reports nothing so far");
        assert_eq!((broadcast.lagged.total(), broadcast.skipped.total()), (20, 20), "and what was lost stays lost");
        assert_eq!(broadcast.render_ms.latest(at(3000), STALE), None);
        assert_eq!(broadcast.asked(at(3000)), Bitrate::ZERO);
        assert_eq!(broadcast.silent_s(at(3000)), 0.0);
    }

    fn frames(broadcast: &mut Broadcast, times_ms: impl Iterator<Item = u64>) {
        for ms in times_ms {
            let frame = VideoFrame { time_ms: u32::try_from(ms).unwrap(), bytes: 9000, ..VideoFrame::default() };
            broadcast.video(Moment::from_ms(ms), &frame);
        }
    }

    #[test]
    fn a_gap_is_skipped_frames_unless_the_broadcaster_was_restarted_in_it() {
        for (is_restarted, skipped) in [(false, 14), (true, 0)] {
            let mut broadcast = Broadcast::default();
            broadcast.begins(Moment::START);
            frames(&mut broadcast, (0..100).map(|n| n * 20));
            if is_restarted {
                broadcast.resumed(Moment::from_ms(2000));
            }
            frames(&mut broadcast, (114..200).map(|n| n * 20));
            assert_eq!(broadcast.skipped.total(), skipped, "restarted: {is_restarted}");
        }
    }

    /// A scene that moves, and is late for so many pictures every second.
    fn late_each_second_for(count: u32) -> Broadcast {
        let mut broadcast = Broadcast::default();
        broadcast.begins(Moment::START);
        frames(&mut broadcast, (0..600).map(|n| n * 20));
        for n in 0..600_u32 {
            let since_late = if n < 150 { count + 1 } else { n % 50 };
            let moved = match since_late {
                since if since < count => 0.0,
                // What moved on meanwhile is seen at once behind it.
                since if since == count => f64::from(count + 1),
                _ => 1.0,
            };
            let waver = 1.0 + f64::from(n * 7 % 11) / 55.0;
            let change = PictureChange {
                time_ms: n * 20,
                hundredths: if moved > 0.0 { 400.0 * f64::powf(moved, 0.4) * waver } else { 12.0 } as u16,
                coarse_thousandths: if moved > 0.0 { 600.0 * f64::powf(moved, 0.6) * waver } else { 10.0 } as u16,
            };
            broadcast.picture(Moment::from_ms(u64::from(n) * 20), &change);
        }
        broadcast
    }

    #[test]
    fn repeats_are_lagged_frames_and_freezes_only_if_they_last() {
        let brief = late_each_second_for(2);
        assert!(brief.lagged.total() >= 12, "{}", brief.lagged.total());
        assert_eq!(brief.freezes, Freezes::default());
        let long = late_each_second_for(20);
        assert!(long.lagged.total() >= 7 * 20, "{}", long.lagged.total());
        assert!(long.freezes.count >= 7 && long.freezes.longest_ms == 21 * 20, "{:?}", long.freezes);
    }

    #[test]
    fn what_a_broadcaster_takes_it_takes_until_it_leaves() {
        let nothing = StreamFacts::default();
        let all = StreamFacts {
            takes_bitrate: true,
            takes_preset: true,
            takes_size: true,
            takes_rate: true,
            restarts: true,
            ..nothing
        };
        let mut broadcast = Broadcast::default();
        broadcast.begins(Moment::START);
        assert_eq!(broadcast.stream, nothing);
        broadcast.stated(all);
        // What is said later says nothing of that.
        broadcast.stated(StreamFacts { width: Some(1280), ..nothing });
        assert_eq!(broadcast.stream, StreamFacts { width: Some(1280), ..all });
        broadcast.ends(Moment::from_ms(2500));
        assert_eq!(broadcast.stream, nothing);
    }

    #[test]
    fn frames_that_come_ever_later_are_the_encoder_s_trouble_and_frames_in_time_are_none() {
        for (late_each_ms, is_trouble) in [(0, false), (3, true)] {
            let mut broadcast = Broadcast::default();
            broadcast.begins(Moment::START);
            let mut since = None;
            for n in 0..250_u64 {
                let frame =
                    VideoFrame { time_ms: u32::try_from(n).unwrap() * 20, bytes: 9000, ..VideoFrame::default() };
                // From the second second on each is later than the one before.
                let at = Moment::from_ms(n * 20 + n.saturating_sub(50) * late_each_ms);
                broadcast.video(at, &frame);
                broadcast.follow_lateness(at);
                since = since.or(broadcast.encoder_in_trouble_since());
            }
            assert_eq!(broadcast.encoder_in_trouble_since().is_some(), is_trouble);
            assert_eq!(broadcast.encoder_in_trouble_since(), since, "since it began");
        }
    }

    #[test]
    fn what_the_broadcaster_says_of_the_gpu_fills_what_the_machine_does_not_tell() {
        let mut broadcast = Broadcast::default();
        let counters = BroadcasterCounters { gpu: Some(0.7), encoder: Some(0.4), ..BroadcasterCounters::default() };
        broadcast.counted(Moment::START, &counters);
        let filled = |load: MachineLoad, at_s: u64| {
            let mut load = load;
            broadcast.fill_gaps(Moment::from_ms(at_s * 1000), &mut load);
            (load.gpu_render, load.gpu_encode)
        };
        assert_eq!(filled(MachineLoad::default(), 1), (Some(0.7), Some(0.4)));
        let own = MachineLoad { gpu_render: Some(0.2), ..MachineLoad::default() };
        assert_eq!(filled(own, 1), (Some(0.2), Some(0.4)), "what was measured comes first");
        assert_eq!(filled(MachineLoad::default(), 60), (None, None), "it is too old");
    }

    #[test]
    fn a_bitrate_wavers_by_as_much_as_its_stretches_differ_about_their_mean() {
        let wavers = |bytes: [u32; 4]| {
            let mut broadcast = Broadcast::default();
            broadcast.begins(Moment::START);
            for n in 0..400_u32 {
                let frame = VideoFrame { time_ms: n * 20, bytes: bytes[n as usize / 100], ..VideoFrame::default() };
                broadcast.video(Moment::from_ms(u64::from(n) * 20 + 20), &frame);
            }
            broadcast.wire_figures(Moment::from_ms(8000)).unsteadiness.unwrap()
        };
        assert!(wavers([9000; 4]) < 0.01);
        // A standard deviation of 9 000 about 18 000.
        assert!((wavers([9000, 27_000, 9000, 27_000]) - 0.5).abs() < 0.01);
        assert_eq!(Broadcast::default().wire_figures(Moment::from_ms(8000)).unsteadiness, None);
    }

    #[test]
    fn what_is_changed_on_purpose_is_meant_and_what_nothing_was_meant_of_stays_so() {
        let video = Bitrate::from_kbps(4000);
        let size = Action::SetSize { width: 1280, height: 720 };
        let rate = Action::SetRate { fps: FrameRate::from_fps(30.0) };
        let changed = |intended: Intended| {
            let mut broadcast = Broadcast { intended, ..Broadcast::default() };
            broadcast.begins(Moment::START);
            let facts =
                StreamFacts { width: Some(1920), height: Some(1080), fps: Some(60.0), ..StreamFacts::default() };
            broadcast.stated(facts);
            let back = [Action::SetBitrate { video }, size.clone(), rate.clone(), Action::LighterPreset]
                .map(|action| broadcast.takes_effect(Moment::from_ms(5000), &action));
            (broadcast, back)
        };
        let (broadcast, back) = changed(Intended::default());
        assert_eq!((&broadcast.intended, broadcast.meant_bitrate_changed_at), (&Intended::default(), None));
        let full = [
            None,
            Some(Action::SetSize { width: 1920, height: 1080 }),
            Some(Action::SetRate { fps: FrameRate::from_fps(60.0) }),
            Some(Action::HeavierPreset),
        ];
        assert_eq!(back, full, "the bitrate before was never known");
        let known = (broadcast.stream.width, broadcast.stream.fps, broadcast.stream.video_bitrate);
        assert_eq!(known, (Some(1280), Some(30.0), Some(video)));
        let half = Intended { width: Some(1920), ..Intended::default() };
        assert_eq!(changed(half).0.intended, half, "half a size is none");
        let all = Intended {
            width: Some(1920),
            height: Some(1080),
            fps: Some(60.0),
            video_bitrate: Some(Bitrate::from_kbps(6000)),
            ..Intended::default()
        };
        let meant = changed(all).0;
        let (width, height, fps) = (meant.intended.width, meant.intended.height, meant.intended.fps);
        assert_eq!((width, height, fps), (Some(1280), Some(720), Some(30.0)));
        assert_eq!(
            (meant.intended.video_bitrate, meant.meant_bitrate_changed_at),
            (Some(video), Some(Moment::from_ms(5000)))
        );
    }
}
