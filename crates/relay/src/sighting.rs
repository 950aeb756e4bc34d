//! What a video message tells without being decoded, as the core takes it.

use bytes::Bytes;
use moth_core::reading::{self, StreamFacts, VideoFrame};
use moth_rtmp::media::{Prediction, SliceReader, VideoCodec, VideoPart, VideoTag};

/// What one video message told.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Sighting {
    /// A decoder configuration: what codec follows.
    Stream(StreamFacts),
    /// A frame.
    Frame(VideoFrame),
}

/// Looks at one broadcaster's video messages, one after another.
#[derive(Default)]
pub struct Sightings {
    slices: SliceReader,
}

impl Sightings {
    /// Takes a video message with its timestamp in milliseconds modulo 2³².
    pub fn take(&mut self, time_ms: u32, payload: &Bytes) -> Option<Sighting> {
        let tag = VideoTag::parse(payload);
        let slices = self.slices.read(&tag, payload).map(|slices| reading::Slices {
            predicted: match slices.prediction {
                Prediction::Intra => reading::Prediction::Intra,
                Prediction::Forward => reading::Prediction::Forward,
                Prediction::Both => reading::Prediction::Both,
            },
            qp_tenths: slices.qp_tenths,
        });
        if tag.part == VideoPart::Header {
            let video_codec = Some(match tag.codec {
                VideoCodec::H264 => reading::VideoCodec::H264,
                VideoCodec::Hevc => reading::VideoCodec::Hevc,
                VideoCodec::Av1 => reading::VideoCodec::Av1,
                VideoCodec::Other => reading::VideoCodec::Other,
            });
            return Some(Sighting::Stream(StreamFacts { video_codec, ..StreamFacts::default() }));
        }
        let VideoTag { part, composition_ms, filler_bytes, .. } = tag;
        part.is_frame().then(|| {
            let bytes = u32::try_from(payload.len()).unwrap_or(u32::MAX);
            let keyframe = part == VideoPart::Keyframe;
            Sighting::Frame(VideoFrame { time_ms, bytes, keyframe, filler_bytes, composition_ms, slices })
        })
    }
}
