//! The units a coded frame is made of, as far as two questions need: does any other frame refer to it, and how much of
//! it is filler.
//!
//! Units are preceded by their length in four bytes, which is what broadcasters write into the decoder's configuration
//! (ISO/IEC 14496-15, `lengthSizeMinusOne`).

use super::VideoCodec;

/// Filler data: ITU-T H.264, table 7-1.
const H264_FILLER: u8 = 12;
/// Filler data (`FD_NUT`): ITU-T H.265, table 7-1.
const HEVC_FILLER: u8 = 38;
/// A length stands before each unit, in bytes. Ours.
const LENGTH: usize = 4;

/// Whether nothing refers to this frame, and its bytes of filler.
///
/// H.264 says in each unit whether other frames refer to it (`nal_ref_idc`, ITU-T H.264, 7.4.1), which broadcasters
/// rarely repeat in the frame type. HEVC's like mark holds only within a temporal layer, so nothing is concluded from
/// it.
pub(super) fn read(codec: VideoCodec, units: &[u8]) -> (bool, u32) {
    let (mut slices, mut referred, mut filler) = (false, false, 0_usize);
    let mut rest = units;
    while let [a, b, c, d, header, ..] = *rest {
        let size = u32::from_be_bytes([a, b, c, d]) as usize;
        let end = LENGTH.saturating_add(size);
        let is_filler = match codec {
            VideoCodec::H264 => {
                if (1..=5).contains(&(header & 0x1f)) {
                    slices = true;
                    referred |= header & 0x60 != 0;
                }
                header & 0x1f == H264_FILLER
            }
            VideoCodec::Hevc => header >> 1 & 0x3f == HEVC_FILLER,
            VideoCodec::Av1 | VideoCodec::Other => return (false, 0),
        };
        if is_filler {
            filler += end.min(rest.len());
        }
        match rest.get(end..) {
            Some(next) if size > 0 => rest = next,
            _ => break,
        }
    }
    (slices && !referred, u32::try_from(filler).unwrap_or(u32::MAX))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn unit(header: &[u8], size: u32) -> Vec<u8> {
        let mut out = size.to_be_bytes().to_vec();
        out.extend(header);
        out.resize(LENGTH + size as usize, 0xff);
        out
    }

    #[test]
    fn filler_is_counted_with_its_lengths() {
        let mut h264 = unit(&[0x41], 900);
        h264.extend(unit(&[0x0c], 300));
        assert_eq!(read(VideoCodec::H264, &h264), (false, 304));
        let mut hevc = unit(&[0x02, 0x01], 900);
        hevc.extend(unit(&[0x4c, 0x01], 300));
        assert_eq!(read(VideoCodec::Hevc, &hevc), (false, 304));
        assert_eq!(read(VideoCodec::Av1, &hevc), (false, 0), "its units are others");
    }

    #[test]
    fn a_length_beyond_the_message_is_survived() {
        let mut broken = unit(&[0x0c], 30);
        broken[..4].copy_from_slice(&u32::MAX.to_be_bytes());
        assert_eq!(read(VideoCodec::H264, &broken), (false, 34));
        assert_eq!(read(VideoCodec::H264, &[0, 0, 0, 0, 0x41, 0, 0, 0, 0]), (false, 0));
    }
}
