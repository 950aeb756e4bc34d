//! Decodes a broadcast's pictures, and says of each how much it differs from the one shown before.

use std::collections::BTreeSet;

use h264_reader::avcc::AvcDecoderConfigurationRecord;
use h264_reader::nal::sps::{ChromaFormat, SeqParameterSet};
use moth_core::reading::PictureChange;
use moth_rtmp::media::{VideoCodec, VideoPart, VideoTag, body};
use openh264::OpenH264API;
use openh264::decoder::{DecodedYUV, Decoder, DecoderConfig, Flush};
use openh264::formats::YUVSource;

use crate::difference::{Difference, Luma};

/// The decoder expects this before each unit (ITU-T H.264, annex B).
const START: [u8; 4] = [0, 0, 0, 1];
/// More pixels than 4096x2304 are not looked at: no machine that broadcasts them has the time. Ours.
const MOST_PIXELS: u64 = 4096 * 2304;
/// More pictures than a decoder may hold back (ITU-T H.264, A.3.1: 16) are never waited for.
const MOST_WAITING: usize = 32;

/// Why pictures cannot be looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Blind {
    /// They are not H.264.
    #[error("the codec is none that can be looked at")]
    Codec,
    /// They are of a kind of H.264 that the decoder does not know: more than 8 bits, other than 4:2:0, fields, or too large.
    #[error("this kind of H.264 cannot be looked at")]
    Kind,
}

/// Looks at the pictures of one broadcast after another.
#[derive(Default)]
pub struct Eye {
    parameters: Option<Parameters>,
    looking: Option<Looking>,
}

/// What a stream's header says.
struct Parameters {
    /// The sets, as the decoder takes them.
    sets: Vec<u8>,
    /// A unit's length is told in so many bytes.
    length_bytes: usize,
}

/// One unbroken run of pictures.
struct Looking {
    decoder: Decoder,
    /// When the pictures that went in are shown: they come out in that order. As an offset from the first, which may be
    /// below zero, so that it can be sorted where the stream's clock wraps.
    waiting: BTreeSet<i64>,
    first_ms: u32,
    /// The picture shown last, and room for the next.
    shown: Option<Luma>,
    next: Luma,
}

impl Eye {
    /// Takes a video message with its timestamp, in milliseconds modulo 2³². Gives what became known of pictures by it:
    /// mostly one, and none before a keyframe was seen.
    ///
    /// # Errors
    /// [`Blind`], with the stream's header, if its pictures cannot be looked at.
    pub fn take(&mut self, time_ms: u32, payload: &[u8]) -> Result<Option<PictureChange>, Blind> {
        let tag = VideoTag::parse(payload);
        match tag.part {
            VideoPart::Header => {
                *self = Self::default();
                if tag.codec != VideoCodec::H264 {
                    return Err(Blind::Codec);
                }
                self.parameters = Some(Parameters::read(body(payload)).ok_or(Blind::Kind)?);
                Ok(None)
            }
            part if part.is_frame() && tag.codec == VideoCodec::H264 => {
                let shown_ms = time_ms.wrapping_add_signed(tag.composition_ms);
                Ok(self.frame(shown_ms, part == VideoPart::Keyframe, body(payload)))
            }
            _ => Ok(None),
        }
    }

    /// What comes next does not follow on what was taken before: it is looked at from the next keyframe on.
    pub fn interrupt(&mut self) {
        self.looking = None;
    }

    fn frame(&mut self, shown_ms: u32, is_keyframe: bool, units: &[u8]) -> Option<PictureChange> {
        let parameters = self.parameters.as_ref()?;
        let mut stream = if is_keyframe { parameters.sets.clone() } else { Vec::with_capacity(units.len() + 16) };
        append(&mut stream, units, parameters.length_bytes)?;
        if is_keyframe && self.looking.is_none() {
            self.looking = Looking::begin(shown_ms);
        }
        let seen = self.looking.as_mut()?.picture(&stream, shown_ms);
        if seen.is_err() {
            self.looking = None;
        }
        seen.ok().flatten()
    }
}

impl Parameters {
    fn read(record: &[u8]) -> Option<Self> {
        // Walked here first: the crate below takes each set to have a first byte.
        let sets = sets(record)?;
        let record = AvcDecoderConfigurationRecord::try_from(record).ok()?;
        let context = record.create_context().ok()?;
        if context.sps().next().is_none() || !context.sps().all(is_known) {
            return None;
        }
        let stream = sets.iter().flat_map(|set| [&START[..], *set]).collect::<Vec<_>>().concat();
        Some(Self { sets: stream, length_bytes: usize::from(record.length_size_minus_one()) + 1 })
    }
}

/// The parameter sets of a decoder configuration record (ISO/IEC 14496-15, section 5.3.3.1): those of sequences, then those of
/// pictures, each behind its length. `None` if it is cut short, or one of them is empty.
fn sets(record: &[u8]) -> Option<Vec<&[u8]>> {
    let (sequences, mut rest) = (record.get(5)? & 0x1f, record.get(6..)?);
    let (mut sets, mut count) = (Vec::new(), sequences);
    for is_picture in [false, true] {
        if is_picture {
            (count, rest) = (*rest.first()?, &rest[1..]);
        }
        for _ in 0..count {
            let (length, behind) = rest.split_first_chunk::<2>()?;
            let (set, behind) = behind.split_at_checked(u16::from_be_bytes(*length).into())?;
            if set.is_empty() {
                return None;
            }
            sets.push(set);
            rest = behind;
        }
    }
    Some(sets)
}

/// Whether the decoder knows pictures of this kind.
fn is_known(set: &SeqParameterSet) -> bool {
    let chroma = &set.chroma_info;
    let plain = chroma.chroma_format == ChromaFormat::YUV420
        && chroma.bit_depth_luma_minus8 == 0
        && chroma.bit_depth_chroma_minus8 == 0;
    let frames = matches!(set.frame_mbs_flags, h264_reader::nal::sps::FrameMbsFlags::Frames);
    let small = set.pixel_dimensions().is_ok_and(|(w, h)| u64::from(w) * u64::from(h) <= MOST_PIXELS);
    plain && frames && small
}

/// Adds a frame's units, each after a start code; `None` if they are not as they should be.
fn append(stream: &mut Vec<u8>, units: &[u8], length_bytes: usize) -> Option<()> {
    let mut rest = units;
    while !rest.is_empty() {
        let (length, behind) = rest.split_at_checked(length_bytes)?;
        let length = length.iter().fold(0_usize, |all, byte| all << 8 | usize::from(*byte));
        let (unit, behind) = behind.split_at_checked(length)?;
        if !unit.is_empty() {
            stream.extend(START);
            stream.extend_from_slice(unit);
        }
        rest = behind;
    }
    Some(())
}

/// The decoder could make nothing of it.
struct Lost;

impl Looking {
    fn begin(first_ms: u32) -> Option<Self> {
        // Pictures are let out as their order allows, never before.
        let config = DecoderConfig::new().flush_after_decode(Flush::NoFlush);
        let decoder = Decoder::with_api_config(OpenH264API::from_source(), config).ok()?;
        Some(Self { decoder, waiting: BTreeSet::new(), first_ms, shown: None, next: Luma::default() })
    }

    fn picture(&mut self, stream: &[u8], shown_ms: u32) -> Result<Option<PictureChange>, Lost> {
        let Self { decoder, waiting, first_ms, shown, next } = self;
        if !waiting.insert(i64::from(shown_ms.wrapping_sub(*first_ms).cast_signed())) || waiting.len() > MOST_WAITING {
            return Err(Lost);
        }
        let Some(picture) = decoder.decode(stream).map_err(|_| Lost)? else { return Ok(None) };
        copy(&picture, next).ok_or(Lost)?;
        let at = waiting.pop_first().ok_or(Lost)?;
        let difference = shown.as_ref().and_then(|shown| next.differs_from(shown));
        let before = shown.replace(std::mem::take(next));
        *next = before.unwrap_or_default();
        // The clock wraps as the stream's does.
        let time_ms = first_ms.wrapping_add(at as u32);
        Ok(difference.map(|Difference { hundredths, coarse_thousandths }| PictureChange {
            time_ms,
            hundredths,
            coarse_thousandths,
        }))
    }
}

fn copy(picture: &DecodedYUV<'_>, to: &mut Luma) -> Option<()> {
    let (width, height) = picture.dimensions();
    to.copy(picture.y(), picture.strides().0, width, height)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A decoder configuration: Baseline profile, 128x64, as the stand-in broadcaster's.
    const HEADER: [u8; 28] = [
        0x17, 0, 0, 0, 0, 1, 66, 0, 42, 0xff, 0xe1, 0, 8, 0x67, 66, 0, 42, 0xda, 0x08, 0x26, 0x40, 1, 0, 4, 0x68, 0xce,
        0x38, 0x80,
    ];

    #[test]
    fn other_codecs_and_kinds_are_not_looked_at_and_that_is_said() {
        let mut eye = Eye::default();
        let hevc = [0x90, b'h', b'v', b'c', b'1', 1, 2, 3];
        assert_eq!(eye.take(0, &hevc), Err(Blind::Codec));
        // High 4:2:2, ten bits: profile 122 in the record, and no parameter sets that could be read.
        let high = [0x17, 0, 0, 0, 0, 1, 122, 0, 42, 0xff, 0xe1, 0, 4, 0x67, 122, 0, 42, 1, 0, 2, 0x68, 0xee];
        assert_eq!(eye.take(0, &high), Err(Blind::Kind));
        // A parameter set of no length at its end.
        let empty = [0x17, 0, 0, 0, 0, 1, 66, 0, 42, 0xff, 0xe1, 0, 0];
        assert_eq!(eye.take(0, &empty), Err(Blind::Kind));
        // A frame without a header is nothing.
        assert_eq!(eye.take(0, &[0x17, 1, 0, 0, 0, 0, 0, 0, 1, 0x65]), Ok(None));
    }

    proptest! {
        #[test]
        fn any_messages_are_borne(messages in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..200), 0..8)) {
            let mut eye = Eye::default();
            prop_assert_eq!(eye.take(0, &HEADER), Ok(None));
            for (n, message) in messages.iter().enumerate() {
                // A slice of a keyframe with anything in it.
                let mut framed = vec![0x17, 1, 0, 0, 0];
                framed.extend((message.len() as u32 + 1).to_be_bytes());
                framed.push(0x65);
                framed.extend(message);
                let _ = eye.take(n as u32 * 17, message);
                let _ = eye.take(n as u32 * 17, &framed);
            }
        }
    }
}
