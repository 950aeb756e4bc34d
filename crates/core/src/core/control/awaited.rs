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
