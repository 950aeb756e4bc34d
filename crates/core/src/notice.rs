//! What is odd and costs no frame: named, so that nobody looks for it in the wrong place, and never an alarm.

use serde::{Deserialize, Serialize};

use crate::figure::Origin;
use crate::rate::Bitrate;
use crate::reading::{Codecs, Intended, StreamFacts, VideoCodec};
use crate::wire::{Heard, LEADS_MS, Moving, TRAILS_MS, WireFigures};

/// Sound that has carried nothing for so long is worth a word, in seconds: longer than somebody who mutes it to cough. Ours.
const EMPTY_S: f64 = 10.0;
/// A rate this far off the one intended is worth a word, as a share. Our own setting.
const OFF: f64 = 0.12;
/// Seconds that waver by more than this share of their mean are not constant bitrate. Our own setting: x264's constant
/// bitrate, measured, wavers by 0.02–0.08.
const UNSTEADY: f64 = 0.25;

/// Something odd.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Notice {
    /// Which kind it is.
    pub kind: NoticeKind,
    /// In a sentence, with its numbers.
    pub text: String,
    /// How it is known.
    pub origin: Origin,
}

/// Kinds of oddities.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NoticeKind {
    /// Sound and picture move apart.
    SoundDrifts,
    /// Sound stopped, or never came.
    SoundMissing,
    /// Sound comes and carries nothing.
    SoundSilent,
    /// Nothing moves.
    StillPicture,
    /// The source has fewer pictures a second than the broadcast.
    SlowSource,
    /// The pictures cannot be looked at.
    Unseen,
    /// The frame rate is not the one intended.
    FrameRate,
    /// The frame rate varies of itself.
    VariableRate,
    /// The bitrate is not the one intended.
    Bitrate,
    /// A change of the bitrate that was said to be made is not seen.
    Unheeded,
    /// The bitrate is not steady.
    Unsteady,
    /// Keyframes are farther apart than intended.
    Keyframes,
    /// There are more B-frames than intended.
    BFrames,
    /// The picture's size is not the one intended.
    Size,
    /// The service is not known to take the picture's codec.
    Codec,
    /// The server gives out no picture, as playing the broadcast back showed.
    NoPicture,
    /// The broadcaster began in the middle of a group.
    NoKeyframe,
    /// What the broadcaster says and what the wire shows differ.
    Disagreement,
}

/// What there is to notice. `video` is the bitrate over the last ten seconds.
#[must_use]
pub fn notices(wire: &WireFigures, stream: &StreamFacts, intended: &Intended, video: Option<Bitrate>) -> Vec<Notice> {
    let mut found = Vec::new();
    let mut say = |kind, origin, text: String| found.push(Notice { kind, text, origin });
    match wire.sound_missing_s {
        Some(missing) => {
            say(NoticeKind::SoundMissing, Origin::Measured, format!("No sound has come for {missing:.0} s."))
        }
        None if wire.sound == Some(Heard::Missing) => {
            let text = "No sound has come since the start: a broadcaster without a sound source sends so.";
            say(NoticeKind::SoundMissing, Origin::Measured, text.into());
        }
        None => {}
    }
    if let Some(empty) = wire.sound_empty_s.filter(|empty| *empty >= EMPTY_S) {
        let text = format!(
            "Sound comes and has carried nothing for {empty:.0} s, as the size of its frames tells: a muted microphone looks so."
        );
        say(NoticeKind::SoundSilent, Origin::Inferred, text);
    }
    match wire.sound_lead_ms {
        Some(lead) if lead > LEADS_MS => say(
            NoticeKind::SoundDrifts,
            Origin::Inferred,
            format!("Sound has moved {lead:.0} ms ahead of the picture since the start. No frame is lost by it."),
        ),
        Some(lead) if lead < -TRAILS_MS => say(
            NoticeKind::SoundDrifts,
            Origin::Inferred,
            format!("Sound has fallen {:.0} ms behind the picture since the start. No frame is lost by it.", -lead),
        ),
        _ => {}
    }
    if wire.moving == Some(Moving::Still) {
        let text = "The picture is still: nothing moves, so whether any is late cannot be seen.";
        say(NoticeKind::StillPicture, Origin::Inferred, text.into());
    }
    if let Some(fps) = wire.source_fps {
        let text = format!(
            "The picture changes {fps:.0} times a second in a broadcast of {:.0}: a source made at that rate looks so.",
            wire.fps.unwrap_or_default()
        );
        say(NoticeKind::SlowSource, Origin::Inferred, text);
    }
    if let Some(why) = &wire.unseen {
        let text = format!("Lagged frames are not known, as the broadcaster does not report them: {why}.");
        say(NoticeKind::Unseen, Origin::Measured, text);
    }
    let rate = intended.fps.or(stream.fps).zip(wire.fps);
    if let Some((meant, seen)) = rate.filter(|(meant, seen)| (seen - meant).abs() > meant * OFF) {
        let text = format!("{seen:.1} frames/s come, where {meant:.1} were meant.");
        say(NoticeKind::FrameRate, Origin::Inferred, text);
    }
    if wire.fps.is_some() && wire.skipped_trust == crate::figure::Trust::Poor {
        let text = "Frames come at no steady rate, so skipped ones cannot be read off their timestamps.";
        say(NoticeKind::VariableRate, Origin::Inferred, text.into());
    }
    let still = wire.moving == Some(Moving::Still) && wire.filler.unwrap_or(0.0) < 0.1;
    if let Some((meant, seen)) = intended.video_bitrate.zip(video)
        && (seen.kbps() > meant.kbps() * (1.0 + OFF) || seen.kbps() < meant.kbps() * (1.0 - 2.0 * OFF) && !still)
    {
        say(NoticeKind::Bitrate, Origin::Measured, format!("{seen} of video come, where the setup means {meant}."));
    }
    if let Some(share) = wire.unsteadiness.filter(|share| *share > UNSTEADY && !still) {
        let text = format!(
            "The bitrate wavers by {:.0} % from second to second: services ask for a constant one.",
            share * 100.0
        );
        say(NoticeKind::Unsteady, Origin::Measured, text);
    }
    let most = intended.keyframe_interval_s.zip(wire.keyframe_interval_s);
    if let Some((meant, seen)) = most.filter(|(meant, seen)| *seen > meant * 1.05 + 0.02) {
        let text = format!("Keyframes come every {seen:.1} s, where {meant:.1} s is asked for: viewers join late.");
        say(NoticeKind::Keyframes, Origin::Measured, text);
    }
    if let Some((meant, seen)) = intended.b_frames.zip(wire.b_frames).filter(|(meant, seen)| seen > meant) {
        say(
            NoticeKind::BFrames,
            Origin::Measured,
            format!("{seen} B-frames in a row, where at most {meant} are asked for."),
        );
    }
    let size = intended.width.zip(intended.height).zip(stream.width.zip(stream.height));
    if let Some((meant, seen)) = size.filter(|(meant, seen)| meant != seen) {
        let text = format!("The picture is {}x{}, where the setup means {}x{}.", seen.0, seen.1, meant.0, meant.1);
        say(NoticeKind::Size, Origin::Reported, text);
    }
    found.extend(stream.video_codec.and_then(|codec| codec_not_taken(codec, intended.codecs)));
    found
}

/// Servers acknowledge pictures that they cannot read and throw them away, and their answers are those of servers that keep them
/// (measured: `docs/interoperability.md`); what the service says is all there is to go by.
fn codec_not_taken(codec: VideoCodec, taken: Option<Codecs>) -> Option<Notice> {
    let name = codec.name();
    let text = match taken {
        Some(taken) if taken.has(codec) => return None,
        Some(taken) => format!(
            "The picture is {name}, and the service takes {}: what it cannot read it may acknowledge and throw away.",
            taken.names()
        ),
        None if codec == VideoCodec::H264 => return None,
        None => format!(
            "Whether this service shows {name} is not known: some acknowledge it and throw it away. See once that its pictures arrive."
        ),
    };
    Some(Notice { kind: NoticeKind::Codec, text, origin: Origin::Measured })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What is noticed of these figures, in a broadcast meant to be 60 frames/s of 1280x720 at 6 000 kb/s.
    fn noticed(wire: &WireFigures, video_kbps: u64) -> Vec<NoticeKind> {
        let intended = Intended {
            width: Some(1280),
            height: Some(720),
            fps: Some(60.0),
            video_bitrate: Some(Bitrate::from_kbps(6000)),
            keyframe_interval_s: Some(2.0),
            b_frames: Some(2),
            ..Intended::default()
        };
        let stream = StreamFacts { width: Some(1280), height: Some(720), ..StreamFacts::default() };
        let found = notices(wire, &stream, &intended, Some(Bitrate::from_kbps(video_kbps)));
        found.into_iter().map(|notice| notice.kind).collect()
    }

    fn fine() -> WireFigures {
        WireFigures {
            fps: Some(60.0),
            keyframe_interval_s: Some(2.0),
            b_frames: Some(2),
            unsteadiness: Some(0.05),
            sound_lead_ms: Some(3.0),
            moving: Some(Moving::Yes),
            skipped_trust: crate::figure::Trust::Good,
            ..WireFigures::default()
        }
    }

    #[test]
    fn a_broadcast_as_it_is_meant_has_nothing_odd() {
        assert_eq!(noticed(&fine(), 6000), []);
        assert_eq!(notices(&fine(), &StreamFacts::default(), &Intended::default(), None), []);
    }

    #[test]
    fn what_is_off_by_more_than_wavers_is_noticed_and_what_is_not_is_not() {
        use NoticeKind::{BFrames, Bitrate, FrameRate, Keyframes, SoundDrifts, SoundMissing, Unsteady, VariableRate};
        let with = |change: &dyn Fn(&mut WireFigures)| {
            let mut wire = fine();
            change(&mut wire);
            noticed(&wire, 6000)
        };
        for (is, is_not, kind) in [
            (with(&|w| w.fps = Some(68.0)), with(&|w| w.fps = Some(67.0)), FrameRate),
            (with(&|w| w.fps = Some(52.0)), with(&|w| w.fps = Some(53.0)), FrameRate),
            (noticed(&fine(), 6800), noticed(&fine(), 6700), Bitrate),
            // A scene that is easy to code may take less.
            (noticed(&fine(), 4500), noticed(&fine(), 4600), Bitrate),
            (with(&|w| w.unsteadiness = Some(0.26)), with(&|w| w.unsteadiness = Some(0.25)), Unsteady),
            (with(&|w| w.keyframe_interval_s = Some(2.2)), with(&|w| w.keyframe_interval_s = Some(2.1)), Keyframes),
            (with(&|w| w.b_frames = Some(3)), with(&|w| w.b_frames = Some(1)), BFrames),
            (with(&|w| w.sound_lead_ms = Some(41.0)), with(&|w| w.sound_lead_ms = Some(40.0)), SoundDrifts),
            (with(&|w| w.sound_lead_ms = Some(-61.0)), with(&|w| w.sound_lead_ms = Some(-60.0)), SoundDrifts),
            (with(&|w| w.sound_missing_s = Some(9.0)), with(&|_| {}), SoundMissing),
            (with(&|w| w.skipped_trust = crate::figure::Trust::Poor), with(&|_| {}), VariableRate),
        ] {
            assert_eq!((is, is_not), (vec![kind], vec![]));
        }
    }

    #[test]
    fn a_codec_that_the_service_does_not_name_is_named_and_one_it_takes_is_not() {
        let said = |video_codec, codecs| {
            let stream = StreamFacts { video_codec: Some(video_codec), ..StreamFacts::default() };
            let intended = Intended { codecs, ..Intended::default() };
            let found = notices(&fine(), &stream, &intended, None);
            assert!(found.iter().all(|notice| notice.kind == NoticeKind::Codec));
            found.into_iter().map(|notice| notice.text).collect::<String>()
        };
        let two = Some(Codecs { h264: true, hevc: true, av1: false });
        assert!(said(VideoCodec::Av1, two).starts_with("The picture is AV1, and the service takes H.264, HEVC:"));
        assert!(said(VideoCodec::Hevc, None).starts_with("Whether this service shows HEVC is not known:"));
        assert_eq!(
            [said(VideoCodec::Hevc, two), said(VideoCodec::H264, two), said(VideoCodec::H264, None)],
            ["", "", ""]
        );
    }

    #[test]
    fn of_a_still_picture_little_is_said_of_its_bitrate() {
        let mut still = WireFigures { moving: Some(Moving::Still), unsteadiness: Some(0.5), ..fine() };
        assert_eq!(noticed(&still, 900), [NoticeKind::StillPicture]);
        // Where what the picture leaves is filled up, it is the encoder that sends too little, or unsteadily.
        still.filler = Some(0.3);
        assert_eq!(noticed(&still, 900), [NoticeKind::StillPicture, NoticeKind::Bitrate, NoticeKind::Unsteady]);
    }

    #[test]
    fn a_notice_says_what_is_and_what_was_meant() {
        let wire = WireFigures { source_fps: Some(24.0), unseen: Some("they are HEVC".into()), ..fine() };
        let stream = StreamFacts { width: Some(1920), height: Some(1080), ..StreamFacts::default() };
        let intended = Intended { width: Some(1280), height: Some(720), ..Intended::default() };
        let said: Vec<String> = notices(&wire, &stream, &intended, None).into_iter().map(|n| n.text).collect();
        let expected = [
            "The picture changes 24 times a second in a broadcast of 60: a source made at that rate looks so.",
            "Lagged frames are not known, as the broadcaster does not report them: they are HEVC.",
            "The picture is 1920x1080, where the setup means 1280x720.",
        ];
        assert_eq!(said, expected);
    }
}
