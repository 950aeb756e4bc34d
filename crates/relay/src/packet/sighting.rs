//! What a packet tells without being decoded, as the core takes it.

use bytes::Bytes;
use moth_core::figure::Origin;
use moth_core::reading::{self, Observation, SoundFrame, StreamFacts, VideoFrame};
use moth_rtmp::media::{AudioCodec, VideoCodec, VideoPart, VideoTag, track};
use moth_rtmp::message::MessageKind;

use super::metadata::stream_facts;
use super::{HeaderSlot, Medium, Packet, Role};

/// What a packet tells, and how that is known; `None` if nothing.
#[must_use]
pub fn seen(packet: &Packet) -> Option<(Origin, Observation)> {
    let Packet { role, medium, time_ms, payload, .. } = packet;
    match (medium, role) {
        (Medium::Video, _) => sighting(*time_ms, payload).map(|seen| (Origin::Measured, seen)),
        (_, Role::Audio) => {
            let bytes = u32::try_from(payload.len()).unwrap_or(u32::MAX);
            Some((Origin::Measured, Observation::Audio(SoundFrame { time_ms: *time_ms, bytes })))
        }
        (_, Role::Header(HeaderSlot::Audio)) => {
            let audio_codec = AudioCodec::of(payload).map(audio_codec);
            let facts = StreamFacts { audio_codec, ..StreamFacts::default() };
            audio_codec.map(|_| (Origin::Measured, Observation::Stream(facts)))
        }
        (_, Role::Header(HeaderSlot::Metadata)) => {
            stream_facts(payload).map(|facts| (Origin::Reported, Observation::Stream(facts)))
        }
        _ => None,
    }
}

/// A sound's codec, as the core has it.
pub(super) fn audio_codec(codec: AudioCodec) -> reading::AudioCodec {
    match codec {
        AudioCodec::Aac => reading::AudioCodec::Aac,
        AudioCodec::Mp3 => reading::AudioCodec::Mp3,
        AudioCodec::Opus => reading::AudioCodec::Opus,
        AudioCodec::Other => reading::AudioCodec::Other,
    }
}

/// What a video packet's payload with its timestamp, in milliseconds modulo 2³², tells: which codec follows, or a frame; `None` if neither.
#[must_use]
pub fn sighting(time_ms: u32, payload: &Bytes) -> Option<Observation> {
    let VideoTag { codec, part, composition_ms, filler_bytes } = VideoTag::parse(payload);
    if part == VideoPart::Header {
        if track(MessageKind::Video, payload).is_some() {
            // The main track's codec is the broadcast's.
            return None;
        }
        let video_codec = Some(match codec {
            VideoCodec::H264 => reading::VideoCodec::H264,
            VideoCodec::Hevc => reading::VideoCodec::Hevc,
            VideoCodec::Av1 => reading::VideoCodec::Av1,
            VideoCodec::Other => reading::VideoCodec::Other,
        });
        return Some(Observation::Stream(StreamFacts { video_codec, ..StreamFacts::default() }));
    }
    let bytes = u32::try_from(payload.len()).unwrap_or(u32::MAX);
    let keyframe = part == VideoPart::Keyframe;
    part.is_frame().then_some(Observation::Video(VideoFrame { time_ms, bytes, keyframe, filler_bytes, composition_ms }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_further_tracks_header_does_not_change_the_broadcasts_codec() {
        let codec = |payload: &'static [u8]| match sighting(0, &Bytes::from_static(payload)) {
            Some(Observation::Stream(facts)) => facts.video_codec,
            _ => None,
        };
        assert_eq!(codec(b"\x90hvc1"), Some(reading::VideoCodec::Hevc));
        assert_eq!(codec(b"\x96\x00avc1\x01"), None);
    }
}
