//! What is odd in this broadcast and costs no frame.

use std::time::Duration;

use super::Core;
use super::broadcast::Broadcast;
use crate::facts::RATES;
use crate::figure::{Origin, Trust};
use crate::moment::Moment;
use crate::notice::{Notice, NoticeKind, notices};
use crate::window::Trail;

/// A broadcast is looked at for oddities once it has run this long, and over as long. Ours: a few keyframe intervals.
const SETTLED: Duration = Duration::from_secs(10);

impl Core {
    /// What is odd and costs no frame.
    pub(super) fn notices(&self, now: Moment) -> Vec<Notice> {
        let Some(since) = self.broadcast.since else { return Vec::new() };
        let keyframe = self.relayed.awaits_keyframe.then(|| Notice {
            kind: NoticeKind::NoKeyframe,
            text: "No keyframe has come from the broadcaster yet: what comes before its first one cannot be shown, and is \
                   left out."
                .into(),
            origin: Origin::Measured,
        });
        if now.since(since) < SETTLED {
            return keyframe.into_iter().collect();
        }
        let broadcast = &self.broadcast;
        let figures = broadcast.wire_figures(now);
        let video = broadcast.video_over(now, SETTLED);
        // What was changed a moment ago is a mean of before and after.
        let is_mixed = broadcast.meant_bitrate_changed_at.is_some_and(|at| now.since(at) < SETTLED + 2 * RATES);
        let video = (!is_mixed).then_some(video);
        let mut found = notices(&figures, &broadcast.stream, &broadcast.intended, video);
        // Nobody needs to look at what is reported.
        found.retain(|notice| notice.kind != NoticeKind::Unseen || !broadcast.lagged.reported.is_known());
        found.extend(keyframe);
        if let Some(unheeded) = broadcast.unheeded(now) {
            // It says more than that the setup means another.
            found.retain(|notice| notice.kind != NoticeKind::Bitrate);
            found.push(unheeded);
        }
        found.extend(disagreements(broadcast, now));
        if let Some(played) = self.link.played_back.as_ref().filter(|played| played.lacks_pictures()) {
            found.push(Notice { kind: NoticeKind::NoPicture, text: played.sentence(), origin: Origin::Measured });
        }
        found
    }
}

/// Where the broadcaster's word and the wire differ by more than chance.
fn disagreements(broadcast: &Broadcast, now: Moment) -> Option<Notice> {
    let figures = broadcast.wire.figures(now, None);
    let differ = |reported: &Trail, inferred: &Trail| {
        let (said, seen) = (reported.within(now, SETTLED), inferred.within(now, SETTLED));
        // The newest report may be a second old, and a run of repeats counts when it ends.
        (reported.is_known() && (said - seen).abs() > 6.0 + 0.5 * said.max(seen)).then_some((said, seen))
    };
    let (word, (said, seen)) = if let Some(pair) = differ(&broadcast.skipped.reported, &broadcast.skipped.inferred)
        && figures.skipped_trust != Trust::Poor
    {
        ("skipped", pair)
    } else if let Some(pair) = differ(&broadcast.lagged.reported, &broadcast.lagged.inferred)
        && figures.repeated_trust == Some(Trust::Good)
    {
        ("lagged", pair)
    } else {
        return None;
    };
    let text = format!(
        "The broadcaster reports {said:.0} frames {word} in {} s, the wire shows {seen:.0}; the report counts.",
        SETTLED.as_secs()
    );
    Some(Notice { kind: NoticeKind::Disagreement, text, origin: Origin::Inferred })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::{BroadcasterCounters, VideoFrame};

    /// What is odd about a broadcaster that reports so many skipped frames each second, while the wire misses others.
    fn odd(reported_each_s: u64, missing_each_s: u64) -> Option<String> {
        let mut broadcast = Broadcast::default();
        broadcast.begins(Moment::START);
        for n in 0..1000_u64 {
            let at = Moment::from_ms(n * 20);
            if n % 50 == 0 {
                let skipped = Some(n / 50 * reported_each_s);
                broadcast.counted(at, &BroadcasterCounters { skipped, ..BroadcasterCounters::default() });
            }
            if n % 50 >= missing_each_s || n < 100 {
                let frame =
                    VideoFrame { time_ms: u32::try_from(n).unwrap() * 20, bytes: 9000, ..VideoFrame::default() };
                broadcast.video(at, &frame);
            }
        }
        disagreements(&broadcast, Moment::from_ms(20_000)).map(|notice| notice.text)
    }

    #[test]
    fn a_report_that_the_wire_contradicts_is_told_with_both_numbers_and_counts() {
        assert_eq!(odd(0, 0), None);
        assert_eq!(odd(2, 2), None);
        assert_eq!(odd(2, 3), None, "a few more are chance");
        let told = "The broadcaster reports 90 frames skipped in 10 s, the wire shows 0; the report counts.";
        assert_eq!(odd(10, 0).as_deref(), Some(told));
        let told = "The broadcaster reports 0 frames skipped in 10 s, the wire shows 40; the report counts.";
        assert_eq!(odd(0, 4).as_deref(), Some(told));
    }
}
