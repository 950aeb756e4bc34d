//! What the first bytes of a video or audio message say of it.
//!
//! Video: the FLV specification, version 10.1, annex E.4.3, and the extended header of Enhanced RTMP
//! (a set top bit, then a packet type and a FourCC). Audio: annex E.4.2, and the extended header
//! (sound format 9).

mod units;

use crate::message::MessageKind;

/// The codec of a video message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum VideoCodec {
    /// H.264, by codec number 7 or FourCC `avc1`.
    H264,
    /// HEVC, FourCC `hvc1` (also the unofficial number 12).
    Hevc,
    /// AV1, FourCC `av01`.
    Av1,
    /// Another; passed through.
    Other,
}

/// The codec of an audio message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum AudioCodec {
    /// AAC, by sound format 10 or FourCC `mp4a`.
    Aac,
    /// MP3, by sound format 2 or 14, or FourCC `.mp3`.
    Mp3,
    /// Opus, FourCC `Opus`.
    Opus,
    /// Another; passed through.
    Other,
}

impl AudioCodec {
    /// By the FLV specification's sound format (annex E.4.2.1), as it stands in messages and in metadata.
    #[must_use]
    pub fn of_format(format: u8) -> Self {
        match format {
            10 => Self::Aac,
            2 | 14 => Self::Mp3,
            _ => Self::Other,
        }
    }

    /// By its FourCC.
    #[must_use]
    pub fn of_fourcc(fourcc: &[u8]) -> Self {
        match fourcc {
            b"mp4a" => Self::Aac,
            b".mp3" => Self::Mp3,
            b"Opus" => Self::Opus,
            _ => Self::Other,
        }
    }

    /// Of an audio message; `None` if it says nothing, as one of further tracks.
    #[must_use]
    pub fn of(payload: &[u8]) -> Option<Self> {
        match payload {
            [first, rest @ ..] if first >> 4 == 9 => {
                (first & 0x0f != SOUND_MULTITRACK).then(|| rest.get(..4).map(Self::of_fourcc)).flatten()
            }
            [first, ..] => Some(Self::of_format(first >> 4)),
            [] => None,
        }
    }
}

/// What a video message is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum VideoPart {
    /// Decoder configuration: needed before any frame, not a frame itself.
    Header,
    /// A frame that needs no other.
    Keyframe,
    /// A frame that needs earlier ones.
    Inter,
    /// A frame that needs earlier ones and that no other frame needs.
    Disposable,
    /// End of sequence, a seek mark, colour metadata: passed through, not a frame.
    Note,
}

impl VideoPart {
    /// Whether it is a frame: something a viewer would see.
    #[must_use]
    pub fn is_frame(self) -> bool {
        matches!(self, Self::Keyframe | Self::Inter | Self::Disposable)
    }
}

/// A video message, as far as its first bytes tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct VideoTag {
    /// How it is coded.
    pub codec: VideoCodec,
    /// What it is.
    pub part: VideoPart,
    /// How long after its timestamp it is shown, in milliseconds.
    pub composition_ms: i32,
    /// How much of it is filler, in bytes; zero where the codec's units are not known.
    pub filler_bytes: u32,
}

impl VideoTag {
    fn of(codec: VideoCodec, part: VideoPart) -> Self {
        Self { codec, part, composition_ms: 0, filler_bytes: 0 }
    }

    /// A message with its units, if they are of a codec that has any.
    fn with_units(codec: VideoCodec, part: VideoPart, composition: Option<&[u8]>, units: Option<&[u8]>) -> Self {
        let units = units.filter(|_| part.is_frame()).unwrap_or_default();
        let composition_ms = match composition {
            // A signed number of three bytes.
            Some([a, b, c, ..]) if part.is_frame() => i32::from_be_bytes([*a, *b, *c, 0]) >> 8,
            _ => 0,
        };
        let (is_disposable, filler_bytes) = units::read(codec, units);
        let part = if part == VideoPart::Inter && is_disposable { VideoPart::Disposable } else { part };
        Self { codec, part, composition_ms, filler_bytes }
    }

    /// Reads a video message. Never fails: what cannot be understood is passed through as a note, or as
    /// a frame if its frame type says so.
    #[must_use]
    pub fn parse(payload: &[u8]) -> Self {
        let Some(&first) = payload.first() else {
            return Self::of(VideoCodec::Other, VideoPart::Note);
        };
        let frame = match first >> 4 & 0b111 {
            1 | 4 => VideoPart::Keyframe,
            2 => VideoPart::Inter,
            3 => VideoPart::Disposable,
            _ => return Self::of(codec_of(first, payload), VideoPart::Note),
        };
        if first & 0x80 != 0 {
            Self::extended(first & 0x0f, frame, payload)
        } else {
            Self::legacy(first & 0x0f, frame, payload)
        }
    }

    fn extended(packet_type: u8, frame: VideoPart, payload: &[u8]) -> Self {
        let part = match packet_type {
            // Several tracks: what it really is stands in the next byte.
            MULTITRACK => {
                let part = payload.get(1).map_or(VideoPart::Note, |next| part_of(next & 0x0f, frame));
                return Self::of(codec_of(0x80, payload.get(1..).unwrap_or_default()), part);
            }
            // A modifier before the real packet type: its header is walked over.
            7 => return Self::of(VideoCodec::Other, modified(frame, payload)),
            packet_type => part_of(packet_type, frame),
        };
        let codec = codec_of(0x80, payload);
        // After packet type and FourCC comes a 3-byte composition time in type 1, none in type 3.
        match packet_type {
            1 if codec != VideoCodec::Av1 => Self::with_units(codec, part, payload.get(5..8), payload.get(8..)),
            3 => Self::with_units(codec, part, None, payload.get(5..)),
            _ => Self::of(codec, part),
        }
    }

    fn legacy(codec: u8, frame: VideoPart, payload: &[u8]) -> Self {
        let codec = match codec {
            7 => VideoCodec::H264,
            12 => VideoCodec::Hevc,
            // Codecs without a packet type byte: every message is a frame.
            _ => return Self::of(VideoCodec::Other, frame),
        };
        let part = match payload.get(1) {
            Some(0) => VideoPart::Header,
            Some(1) => frame,
            _ => VideoPart::Note,
        };
        Self::with_units(codec, part, payload.get(2..5), payload.get(5..))
    }
}

/// What stands behind the header of a video message whose codec has units: a decoder configuration, or the units. Empty if
/// there is nothing.
#[must_use]
pub fn body(payload: &[u8]) -> &[u8] {
    // A one-byte type, a packet type and a composition time; or the extended header with its FourCC, behind which a
    // composition time follows only in packet type 1.
    let at = match payload.first() {
        Some(first) if first & 0x80 != 0 && first & 0x0f == 1 => 8,
        _ => 5,
    };
    payload.get(at..).unwrap_or_default()
}

fn codec_of(first: u8, payload: &[u8]) -> VideoCodec {
    if first & 0x80 == 0 {
        return match first & 0x0f {
            7 => VideoCodec::H264,
            12 => VideoCodec::Hevc,
            _ => VideoCodec::Other,
        };
    }
    match payload.get(1..5) {
        Some(b"avc1") => VideoCodec::H264,
        Some(b"hvc1") => VideoCodec::Hevc,
        Some(b"av01") => VideoCodec::Av1,
        _ => VideoCodec::Other,
    }
}

/// The packet type of several tracks in one message, for video; for sound it is [`SOUND_MULTITRACK`] (Enhanced RTMP, version 2).
const MULTITRACK: u8 = 6;
const SOUND_MULTITRACK: u8 = 5;

fn part_of(packet_type: u8, frame: VideoPart) -> VideoPart {
    match packet_type {
        0 | 5 => VideoPart::Header,
        // Coded frames, with or without a composition time.
        1 | 3 => frame,
        _ => VideoPart::Note,
    }
}

/// The track that a message for one of several tracks begins with; `None` for any other message, which is for the main one.
#[must_use]
pub fn track(kind: MessageKind, payload: &[u8]) -> Option<u8> {
    let is_one_of_several = match (kind, payload.first()) {
        (MessageKind::Video, Some(first)) => first & 0x8f == 0x80 | MULTITRACK,
        (MessageKind::Audio, Some(first)) => *first == 0x90 | SOUND_MULTITRACK,
        _ => false,
    };
    // Behind the real packet type and the FourCC.
    payload.get(6).filter(|_| is_one_of_several).copied()
}

/// Walks over modifiers (packet type 7): each is a size, that many bytes, and a byte with the modifier's
/// type above the next packet type. Sizes are one less than meant; 255 says that two bytes follow.
fn modified(frame: VideoPart, payload: &[u8]) -> VideoPart {
    let mut rest = payload.get(1..).unwrap_or_default();
    // A message has no use for more than a few; the bound keeps a hostile one cheap.
    for _ in 0..8 {
        let (size, skip) = match rest {
            [255, a, b, ..] => (usize::from(u16::from_be_bytes([*a, *b])) + 1, 3),
            [size, ..] => (usize::from(*size) + 1, 1),
            [] => return VideoPart::Note,
        };
        let Some(&next) = rest.get(skip + size) else { return VideoPart::Note };
        let behind = &rest[skip + size + 1..];
        match next & 0x0f {
            7 => rest = behind,
            MULTITRACK => return behind.first().map_or(VideoPart::Note, |next| part_of(next & 0x0f, frame)),
            packet_type => return part_of(packet_type, frame),
        }
    }
    VideoPart::Note
}

/// What an audio message is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum AudioPart {
    /// Decoder configuration: needed before any frame, not a frame itself.
    Header,
    /// One frame of sound.
    Frame,
    /// End of sequence, channel layout, nothing at all: passed through, not a frame.
    Note,
}

impl AudioPart {
    /// Reads an audio message. Never fails.
    #[must_use]
    pub fn parse(payload: &[u8]) -> Self {
        match payload {
            [] => Self::Note,
            // AAC: the second byte tells configuration from frames.
            [first, second, ..] if first >> 4 == 10 => {
                if *second == 0 {
                    Self::Header
                } else {
                    Self::Frame
                }
            }
            [first] if first >> 4 == 10 => Self::Note,
            [first, rest @ ..] if first >> 4 == 9 => match (first & 0x0f, rest) {
                (0, _) => Self::Header,
                (SOUND_MULTITRACK, [next, ..]) if next & 0x0f == 0 => Self::Header,
                (SOUND_MULTITRACK, [next, ..]) if next & 0x0f == 1 => Self::Frame,
                (1 | 7, _) => Self::Frame,
                _ => Self::Note,
            },
            _ => Self::Frame,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sounds_codec_is_in_the_first_byte_or_behind_it() {
        let of = AudioCodec::of;
        assert_eq!(of(&[0xaf, 0, 0x12, 0x10]), Some(AudioCodec::Aac));
        assert_eq!(of(&[0x2f, 0xff]), Some(AudioCodec::Mp3));
        assert_eq!(of(b"\x90OpusOpusHead"), Some(AudioCodec::Opus));
        assert_eq!(of(b"\x90fLaC"), Some(AudioCodec::Other));
        assert_eq!([of(b"\x95\x00Opus\x02"), of(b"\x90Op"), of(b"")], [None; 3]);
    }

    fn part(payload: &[u8]) -> (VideoCodec, VideoPart) {
        let tag = VideoTag::parse(payload);
        (tag.codec, tag.part)
    }

    /// An H.264 message holding one unit with the given header byte.
    fn h264(first: u8, unit: u8) -> Vec<u8> {
        vec![first, 1, 0, 0, 0, 0, 0, 0, 2, unit, 0xaa]
    }

    #[test]
    fn h264_headers_keyframes_and_inter_frames_are_told_apart() {
        assert_eq!(part(&[0x17, 0, 0, 0, 0, 1]), (VideoCodec::H264, VideoPart::Header));
        assert_eq!(part(&h264(0x17, 0x65)), (VideoCodec::H264, VideoPart::Keyframe));
        assert_eq!(part(&h264(0x27, 0x41)), (VideoCodec::H264, VideoPart::Inter));
        assert_eq!(part(&[0x17, 2, 0, 0, 0]), (VideoCodec::H264, VideoPart::Note));
    }

    #[test]
    fn what_is_behind_a_header_is_found_whether_or_not_a_composition_time_is_in_it() {
        for (payload, behind) in [
            (&[0x17, 1, 0, 0, 40, 9, 8][..], &[9, 8][..]),
            (&[0x17, 0, 0, 0, 0, 1], &[1]),
            // An old codec whose number is 1 has no extended header.
            (&[0x21, 1, 0, 0, 40, 9, 8, 7, 6], &[9, 8, 7, 6]),
            (b"\x91avc1\x00\x00\x28\x09\x08", &[9, 8]),
            (b"\x93avc1\x09\x08", &[9, 8]),
            (b"\x90hvc1\x01", &[1]),
            (&[0x17, 1, 0], &[]),
            (&[], &[]),
        ] {
            assert_eq!(body(payload), behind, "{payload:?}");
        }
    }

    #[test]
    fn sound_of_a_codec_without_a_second_byte_is_frames_and_nothing_else() {
        for payload in [&[0x2f, 0, 7][..], &[0x2f], &[0xaf, 1, 7]] {
            assert_eq!(AudioPart::parse(payload), AudioPart::Frame, "{payload:?}");
        }
        for payload in [&[][..], &[0xaf], &[0x92], &[0x95], &[0x95, 2]] {
            assert_eq!(AudioPart::parse(payload), AudioPart::Note, "{payload:?}");
        }
        for payload in [&[0xaf, 0, 7][..], &[0x90], &[0x95, 0]] {
            assert_eq!(AudioPart::parse(payload), AudioPart::Header, "{payload:?}");
        }
    }

    #[test]
    fn the_codec_is_told_of_what_is_no_frame_too() {
        // Frame type 5 is a word to the player, in either header.
        assert_eq!(part(&[0x57, 0]), (VideoCodec::H264, VideoPart::Note));
        assert_eq!(part(&[0x5c, 0]), (VideoCodec::Hevc, VideoPart::Note));
        assert_eq!(part(&[0x52, 0]), (VideoCodec::Other, VideoPart::Note));
        for (name, codec) in [
            (b"avc1", VideoCodec::H264),
            (b"hvc1", VideoCodec::Hevc),
            (b"av01", VideoCodec::Av1),
            (b"vp09", VideoCodec::Other),
        ] {
            let payload = [&[0xd0][..], name, &[0]].concat();
            assert_eq!(part(&payload), (codec, VideoPart::Note));
        }
    }

    #[test]
    fn a_frame_nothing_refers_to_is_disposable_even_if_only_its_unit_says_so() {
        assert_eq!(part(&h264(0x27, 0x01)).1, VideoPart::Disposable);
        let mut with_sei_first = vec![0x27, 1, 0, 0, 0, 0, 0, 0, 1, 0x06];
        with_sei_first.extend([0, 0, 0, 1, 0x01]);
        assert_eq!(part(&with_sei_first).1, VideoPart::Disposable);
        let mut one_slice_referred_to = with_sei_first.clone();
        one_slice_referred_to.extend([0, 0, 0, 1, 0x41]);
        assert_eq!(part(&one_slice_referred_to).1, VideoPart::Inter);
    }

    #[test]
    fn the_extended_header_is_read_for_each_codec() {
        assert_eq!(part(b"\x90hvc1"), (VideoCodec::Hevc, VideoPart::Header));
        assert_eq!(part(b"\x91hvc1\0\0\0rest"), (VideoCodec::Hevc, VideoPart::Keyframe));
        assert_eq!(part(b"\xa3av01rest"), (VideoCodec::Av1, VideoPart::Inter));
        assert_eq!(part(b"\xa3avc1\0\0\0\x01\x01"), (VideoCodec::H264, VideoPart::Disposable));
        assert_eq!(part(b"\x94hvc1"), (VideoCodec::Hevc, VideoPart::Note));
        assert_eq!(part(b"\x92av01"), (VideoCodec::Av1, VideoPart::Note));
    }

    #[test]
    fn composition_times_are_signed_numbers_of_three_bytes() {
        let composition = |payload: &[u8]| VideoTag::parse(payload).composition_ms;
        assert_eq!(composition(&[0x27, 1, 0, 0, 80, 0, 0, 0, 1, 0x41]), 80);
        assert_eq!(composition(&[0x27, 1, 0xff, 0xff, 0xd8, 0, 0, 0, 1, 0x41]), -40);
        assert_eq!(composition(b"\xa1hvc1\0\0\x28\0\0\0\x02\x02\x01"), 40);
        assert_eq!(composition(b"\xa3hvc1\0\0\0\x02\x02\x01"), 0);
    }

    #[test]
    fn modifiers_are_walked_over() {
        // One modifier of three bytes, then coded frames.
        assert_eq!(part(&[0x97, 2, 1, 2, 3, 0x01, b'h', b'v', b'c', b'1']).1, VideoPart::Keyframe);
        assert_eq!(part(&[0x97, 255, 0, 0, 9, 0x00]).1, VideoPart::Header);
        assert_eq!(part(&[0x97, 200, 1]).1, VideoPart::Note);
    }

    #[test]
    fn of_several_tracks_the_next_byte_tells_and_headers_are_no_frames() {
        // One track: header, then a keyframe, of track 3; sound likewise.
        assert_eq!(part(b"\x96\x00avc1\x03\x01"), (VideoCodec::H264, VideoPart::Header));
        assert_eq!(part(b"\x96\x01hvc1\x03\x00"), (VideoCodec::Hevc, VideoPart::Keyframe));
        assert_eq!(part(b"\xa6\x13av01\x00"), (VideoCodec::Av1, VideoPart::Inter));
        assert_eq!(part(b"\x96").1, VideoPart::Note);
        // Behind a modifier as well.
        assert_eq!(part(&[0x97, 0, 1, 0x06, 0x00, b'a']).1, VideoPart::Header);
        assert_eq!(AudioPart::parse(b"\x95\x00Opus\x02"), AudioPart::Header);
        assert_eq!(AudioPart::parse(b"\x95\x01Opus\x02"), AudioPart::Frame);
        assert_eq!(AudioPart::parse(b"\x95"), AudioPart::Note);
        for (kind, payload, is) in [
            (MessageKind::Video, &b"\x96\x00avc1\x03\x01"[..], Some(3)),
            (MessageKind::Audio, b"\x95\x00Opus\x02", Some(2)),
            (MessageKind::Video, b"\x90avc1\x03\x03\x03", None),
            (MessageKind::Audio, b"\xaf\x00\x12\x10\x09\x09\x09", None),
            (MessageKind::Video, b"\x96\x00av", None),
        ] {
            assert_eq!(track(kind, payload), is, "{payload:?}");
        }
    }

    #[test]
    fn sound_headers_are_not_frames() {
        assert_eq!(AudioPart::parse(&[0xaf, 0, 0x12, 0x10]), AudioPart::Header);
        assert_eq!(AudioPart::parse(&[0xaf, 1, 1]), AudioPart::Frame);
        assert_eq!(AudioPart::parse(&[0x2f, 1, 1]), AudioPart::Frame);
        assert_eq!(AudioPart::parse(b"\x90Opus"), AudioPart::Header);
        assert_eq!(AudioPart::parse(b"\x91Opus."), AudioPart::Frame);
        assert_eq!(AudioPart::parse(&[]), AudioPart::Note);
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_something(bytes in proptest::collection::vec(proptest::num::u8::ANY, 0..80)) {
            let _ = (VideoTag::parse(&bytes), AudioPart::parse(&bytes));
        }
    }
}
