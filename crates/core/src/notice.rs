//! What is odd and costs no frame: named, so that nobody looks for it in the wrong place, and never an alarm.

use serde::Serialize;

use crate::figure::Origin;
use crate::rate::Bitrate;
use crate::reading::{Intended, StreamFacts};
use crate::wire::{Moving, WireFigures};

/// Viewers notice sound that leads the picture by more than this, in milliseconds (EBU Recommendation R37).
const SOUND_LEADS_MS: f64 = 40.0;
/// Viewers notice sound that trails the picture by more than this, in milliseconds (EBU Recommendation R37).
const SOUND_TRAILS_MS: f64 = 60.0;
/// A rate this far off the one intended is worth a word, as a share. Our own setting.
const OFF: f64 = 0.12;
/// Seconds that waver by more than this share of their mean are not constant bitrate. Our own setting: x264's constant
/// bitrate, measured, wavers by 0.02–0.08.
const UNSTEADY: f64 = 0.25;

/// Something odd.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Notice {
    /// Which kind it is.
    pub kind: NoticeKind,
    /// In a sentence, with its numbers.
    pub text: String,
    /// How it is known.
    pub origin: Origin,
}

/// Kinds of oddities.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum NoticeKind {
    /// Sound and picture move apart.
    SoundDrifts,
    /// Sound stopped.
    SoundMissing,
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
    if let Some(silent) = wire.silent_s {
        say(NoticeKind::SoundMissing, Origin::Measured, format!("No sound has come for {silent:.0} s."));
    }
    match wire.sound_lead_ms {
        Some(lead) if lead > SOUND_LEADS_MS => say(
            NoticeKind::SoundDrifts,
            Origin::Inferred,
            format!("Sound has moved {lead:.0} ms ahead of the picture since the start. No frame is lost by it."),
        ),
        Some(lead) if lead < -SOUND_TRAILS_MS => say(
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
    found
}
