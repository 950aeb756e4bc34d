//! What the slices of an H.264 frame say before their data begins: how they are predicted, and how coarsely they are
//! coded. Nothing is decoded; a frame costs a few dozen bits.

use bytes::Bytes;
use h264_reader::Context;
use h264_reader::avcc::AvcDecoderConfigurationRecord;
use h264_reader::nal::slice::{SliceFamily, SliceHeader};
use h264_reader::nal::{Nal, RefNal, UnitType};

use super::units::LENGTH;
use super::{VideoCodec, VideoPart, VideoTag};

/// A slice's header ends within so many bytes: its longest lists are short, and a longer one is not worth reading.
const HEADER: usize = 96;
/// Slices read of one frame: encoders cut frames into a few.
const SLICES: usize = 16;

/// How a frame is predicted: ITU-T H.264, table 7-6.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Prediction {
    /// From nothing.
    Intra,
    /// From frames shown before it, as broadcasters use it.
    Forward,
    /// From frames on both sides.
    Both,
}

/// What a frame's slices say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Slices {
    /// How it is predicted: as the one of its slices that is predicted most freely.
    pub prediction: Prediction,
    /// The mean of its slices' quantisers (QP, ITU-T H.264, 7.4.3), in tenths, from 0 to 510: six steps more are twice
    /// as coarse.
    pub qp_tenths: u16,
}

/// Reads slices; it remembers the parameter sets they refer to.
#[derive(Default)]
pub struct SliceReader {
    parameters: Option<Context>,
}

impl SliceReader {
    /// Takes a video message; gives what its slices say, if it is an H.264 frame whose parameter sets are known.
    pub fn read(&mut self, tag: &VideoTag, payload: &Bytes) -> Option<Slices> {
        if tag.codec != VideoCodec::H264 {
            return None;
        }
        // A one-byte type, a packet type, and a composition time; or the extended header with its FourCC.
        let at = match payload.first()? {
            first if first & 0x80 == 0 => 5,
            first if first & 0x0f == 1 => 8,
            _ => 5,
        };
        let rest = payload.get(at..)?;
        if tag.part == VideoPart::Header {
            let record = AvcDecoderConfigurationRecord::try_from(rest).ok();
            self.parameters = record.and_then(|record| record.create_context().ok());
            return None;
        }
        let context = self.parameters.as_ref().filter(|_| tag.part.is_frame())?;
        let (mut rest, mut found) = (rest, None);
        let (mut sum, mut count) = (0, 0_u16);
        while let [a, b, c, d, unit, ..] = *rest {
            let end = LENGTH.saturating_add(u32::from_be_bytes([a, b, c, d]) as usize);
            if matches!(unit & 0x1f, 1 | 5) && usize::from(count) < SLICES {
                let (prediction, qp) = slice(context, rest.get(LENGTH..end.min(rest.len()))?)?;
                found = found.max(Some(order(prediction)));
                sum += qp;
                count += 1;
            }
            match rest.get(end..) {
                Some(next) if end > LENGTH => rest = next,
                _ => break,
            }
        }
        let prediction = [Prediction::Intra, Prediction::Forward, Prediction::Both][usize::from(found?)];
        Some(Slices { prediction, qp_tenths: sum * 10 / count })
    }
}

fn order(prediction: Prediction) -> u8 {
    prediction as u8
}

/// One slice: how it is predicted, and its quantiser.
fn slice(context: &Context, unit: &[u8]) -> Option<(Prediction, u16)> {
    let unit = RefNal::new(unit.get(..HEADER).unwrap_or(unit), &[], false);
    let header = unit.header().ok()?;
    if !matches!(
        header.nal_unit_type(),
        UnitType::SliceLayerWithoutPartitioningIdr | UnitType::SliceLayerWithoutPartitioningNonIdr
    ) {
        return None;
    }
    let (slice, _, pictures) = SliceHeader::from_bits(context, &mut unit.rbsp_bits(), header, None).ok()?;
    let prediction = match slice.slice_type.family {
        SliceFamily::I | SliceFamily::SI => Prediction::Intra,
        SliceFamily::P | SliceFamily::SP => Prediction::Forward,
        SliceFamily::B => Prediction::Both,
    };
    let qp = pictures.pic_init_qp_minus26.saturating_add(26).saturating_add(slice.slice_qp_delta);
    Some((prediction, u16::try_from(qp.clamp(0, 51)).unwrap_or(0)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A decoder configuration: High profile, 1280x720, CABAC, quantiser 26 to begin with.
    const HEADER: [u8; 30] = [
        0x17, 0x00, 0x00, 0x00, 0x00, 0x01, 0x64, 0x00, 0x2a, 0xff, 0xe1, 0x00, 0x0a, 0x67, 0x64, 0x00, 0x2a, 0xac,
        0xb4, 0x02, 0x80, 0x2d, 0xc8, 0x01, 0x00, 0x04, 0x68, 0xee, 0x38, 0x80,
    ];

    fn frame(reader: &mut SliceReader, payload: &[u8]) -> Option<Slices> {
        let payload = Bytes::copy_from_slice(payload);
        reader.read(&VideoTag::parse(&payload), &payload)
    }

    #[test]
    fn slices_say_how_they_are_predicted_and_how_coarse_they_are() {
        let mut reader = SliceReader::default();
        // Nothing is read before the parameter sets are known.
        let forward = [0x27, 1, 0, 0, 0, 0, 0, 0, 4, 0x41, 0b1001_1010, 0b0000_0011, 0b1000_0000];
        assert_eq!(frame(&mut reader, &forward), None);
        assert_eq!(frame(&mut reader, &HEADER), None);
        let told = |prediction, qp_tenths| Some(Slices { prediction, qp_tenths });
        assert_eq!(frame(&mut reader, &forward), told(Prediction::Forward, 260));
        // The last code of the header is the quantiser's difference: 00101 is -2.
        let finer = [0x27, 1, 0, 0, 0, 0, 0, 0, 5, 0x41, 0b1001_1010, 0b0000_0010, 0b0101_1000, 0];
        assert_eq!(frame(&mut reader, &finer), told(Prediction::Forward, 240));
        let both = [0x27, 1, 0, 0, 0, 0, 0, 0, 4, 0x01, 0b1001_1110, 0b0001_0001, 0b1000_0000];
        assert_eq!(frame(&mut reader, &both), told(Prediction::Both, 260));
        let key = [0x17, 1, 0, 0, 0, 0, 0, 0, 4, 0x65, 0b1000_1000, 0b1000_0100, 0b1000_0000];
        assert_eq!(frame(&mut reader, &key), told(Prediction::Intra, 260));
    }

    proptest! {
        #[test]
        fn any_configuration_and_any_frame_are_survived(
            header in prop::collection::vec(any::<u8>(), 0..60),
            at in 5_usize..HEADER.len(),
            value in any::<u8>(),
            slice in prop::collection::vec(any::<u8>(), 0..200),
            size in any::<u32>(),
        ) {
            let mut frames: Vec<u8> = vec![0x27, 1, 0, 0, 0];
            frames.extend(u32::try_from(slice.len()).unwrap().to_be_bytes());
            frames.extend(&slice);
            frames.extend(size.to_be_bytes());
            frames.extend([0x41, 0x9a]);
            let mut flipped = HEADER;
            flipped[at] = value;
            let wild = [&[0x17, 0, 0, 0, 0][..], &header].concat();
            for header in [&HEADER[..], &flipped, &wild] {
                let mut reader = SliceReader::default();
                let _ = frame(&mut reader, header);
                if let Some(slices) = frame(&mut reader, &frames) {
                    prop_assert!(slices.qp_tenths <= 510);
                }
            }
        }
    }
}
