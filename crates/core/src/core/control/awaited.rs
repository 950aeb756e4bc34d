//! What the user was told to change by hand, looked for on the wire.

use std::time::Duration;

use serde::Serialize;

use crate::action::Action;
use crate::core::broadcast::Broadcast;
use crate::facts::RATES;
use crate::moment::Moment;

/// What was told and is not seen on the wire for this long is no longer looked for. Ours: as long as it takes to find a setting
/// and to restart an encoder, and then some.
pub(super) const LOOKED_FOR: Duration = Duration::from_secs(120);
/// The wire is read over so long: two keyframe intervals. Ours.
const READ_OVER: Duration = RATES.saturating_mul(2);
/// A bitrate on the wire this near to what was told is that one: an encoder's own wavering over a keyframe interval. Ours.
const NEAR: f64 = 0.12;
/// A bitrate counts as changed once this share of the way there is gone: where little was asked, what was before is near as well.
/// Ours.
const MOST: f64 = 0.6;
/// From this share of the way on, a part of it is done. Ours.
const PART: f64 = 0.25;

/// Something the user was told to change by hand, looked for on the wire.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Awaited {
    /// What.
    pub action: Action,
    /// Since when.
    pub since: Moment,
    /// What is seen of it, in a sentence with its numbers.
    pub sentence: String,
    /// Video on the wire when it was told, in kb/s.
    #[serde(skip)]
    from_kbps: f64,
    /// What puts it back: the broadcaster states the new value before the wire shows it.
    #[serde(skip)]
    pub(super) back: Option<Action>,
}

/// Whether somebody has been on air for long enough that the wire shows what is done.
pub(super) fn is_settled(now: Moment, broadcast: &Broadcast) -> bool {
    broadcast.since.is_some_and(|since| now.since(since) >= READ_OVER)
}

impl Awaited {
    /// Whether the wire shows whether such a thing was done.
    pub(super) fn is_seen(action: &Action) -> bool {
        matches!(action, Action::SetBitrate { .. } | Action::SetSize { .. } | Action::SetRate { .. })
    }

    /// From now on it is looked for.
    pub(super) fn begin(now: Moment, action: &Action, broadcast: &Broadcast) -> Self {
        Self {
            action: action.clone(),
            since: now,
            sentence: "Nothing of it is seen on the wire yet.".into(),
            from_kbps: broadcast.video_over(now, READ_OVER).kbps(),
            back: broadcast.puts_back(action),
        }
    }

    /// Looks whether it is done, and says what is seen of it.
    pub(super) fn look(&mut self, now: Moment, broadcast: &Broadcast) -> bool {
        if !is_settled(now, broadcast) {
            self.sentence = "The broadcaster is away; it is looked for when it comes back.".into();
            return false;
        }
        let stream = &broadcast.stream;
        let (is_done, sentence) = match &self.action {
            Action::SetBitrate { video } => {
                let (now, to, from) = (broadcast.video_over(now, READ_OVER).kbps(), video.kbps(), self.from_kbps);
                let went = if (to - from).abs() > 1.0 { (now - from) / (to - from) } else { 1.0 };
                let numbers = format!("{now:.0} kb/s of video on the wire over 4 s, {to:.0} wanted");
                // Of a step smaller than what wavers, most must be seen, or the broadcaster must say it.
                let says_so = stream.video_bitrate == Some(*video) && self.back.as_ref() != Some(&self.action);
                let is_near = (now - to).abs() <= NEAR * to && (went >= MOST || says_so) || went >= 1.0;
                match (is_near, went) {
                    (true, _) => (true, format!("It is done: {numbers}.")),
                    (_, PART..) => (false, format!("Only a part of it: {numbers}.")),
                    _ => (false, format!("Not yet: {numbers}.")),
                }
            }
            Action::SetSize { width, height } => {
                let is = stream.width.zip(stream.height);
                let seen = is.map_or_else(|| "not known".into(), |(w, h)| format!("{w}x{h}"));
                (is == Some((*width, *height)), format!("The broadcaster says {seen}, {width}x{height} is wanted."))
            }
            Action::SetRate { fps } => {
                let seen = broadcast.wire.interval_ms().map(|ms| 1000.0 / ms);
                let is_near = seen.is_some_and(|seen| (seen - fps.fps()).abs() < 1.0);
                (is_near, format!("{:.0} frames/s on the wire, {fps} wanted.", seen.unwrap_or_default()))
            }
            _ => (true, String::new()),
        };
        self.sentence = sentence;
        is_done
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rate::Bitrate;
    use crate::reading::VideoFrame;

    /// Fifty frames a second at so many kb/s, from one moment to another.
    fn send(broadcast: &mut Broadcast, ms: std::ops::Range<u64>, kbps: u32) {
        for at_ms in ms.step_by(20) {
            let frame =
                VideoFrame { time_ms: u32::try_from(at_ms).unwrap(), bytes: kbps * 125 / 50, ..VideoFrame::default() };
            broadcast.video(Moment::from_ms(at_ms), &frame);
        }
    }

    #[test]
    fn a_bitrate_that_is_changed_by_hand_is_seen_come_part_by_part() {
        let mut broadcast = Broadcast::default();
        broadcast.begins(Moment::START);
        send(&mut broadcast, 0..10_000, 6000);
        let action = Action::SetBitrate { video: Bitrate::from_kbps(4000) };
        let mut awaited = Awaited::begin(Moment::from_ms(9980), &action, &broadcast);
        assert_eq!(awaited.sentence, "Nothing of it is seen on the wire yet.");
        assert!(!awaited.look(Moment::from_ms(9980), &broadcast));
        assert_eq!(awaited.sentence, "Not yet: 6000 kb/s of video on the wire over 4 s, 4000 wanted.");
        send(&mut broadcast, 10_000..20_000, 5200);
        assert!(!awaited.look(Moment::from_ms(19_980), &broadcast));
        assert_eq!(awaited.sentence, "Only a part of it: 5200 kb/s of video on the wire over 4 s, 4000 wanted.");
        send(&mut broadcast, 20_000..30_000, 4000);
        assert!(awaited.look(Moment::from_ms(29_980), &broadcast));
        assert_eq!(awaited.sentence, "It is done: 4000 kb/s of video on the wire over 4 s, 4000 wanted.");
    }

    #[test]
    fn of_a_broadcaster_that_has_just_come_nothing_is_said_but_that_it_was_away() {
        let action = Action::SetRate { fps: crate::frame_rate::FrameRate::from_fps(50.0) };
        let mut broadcast = Broadcast::default();
        let mut awaited = Awaited::begin(Moment::START, &action, &broadcast);
        let away = "The broadcaster is away; it is looked for when it comes back.";
        assert!(!awaited.look(Moment::from_ms(500), &broadcast) && awaited.sentence == away);
        broadcast.begins(Moment::from_ms(1000));
        send(&mut broadcast, 1000..6000, 4000);
        assert!(!is_settled(Moment::from_ms(4900), &broadcast) && is_settled(Moment::from_ms(5000), &broadcast));
        assert!(!awaited.look(Moment::from_ms(4900), &broadcast) && awaited.sentence == away);
        assert!(awaited.look(Moment::from_ms(5000), &broadcast));
        assert_eq!(awaited.sentence, "50 frames/s on the wire, 50 wanted.");
    }
}
