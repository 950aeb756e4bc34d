//! A broadcast of nothing: a grey picture that any decoder reads, as heavy as is asked for, with silence.
//!
//! H.264 in its simplest form (ITU-T H.264, Baseline profile): every macroblock of a keyframe predicts grey from nothing,
//! every macroblock of an inter frame is skipped. The weight is filler units (type 12, clause 7.3.2.7), which decoders
//! throw away and constant-bitrate encoders send as well.

use bytes::{BufMut, BytesMut};
use moth_plan::text::Size;
use moth_rtmp::amf0::{self, Value};

use crate::packet::{HeaderSlot, Medium, Packet, Role};

/// Between keyframes, in milliseconds: what services commonly ask for.
const KEYFRAME_MS: u64 = 2000;
/// Samples in an AAC frame, and samples per second.
const AAC_SAMPLES: u64 = 1024;
const SAMPLE_RATE: u64 = 48_000;
/// One frame of AAC-LC stereo silence.
const SILENCE: [u8; 8] = [0xaf, 1, 0x21, 0x10, 0x04, 0x60, 0x8c, 0x1c];
/// `frame_num` is counted modulo 2⁸: `log2_max_frame_num` is 8.
const FRAME_NUM_BITS: u32 = 8;

/// Makes filler, frame by frame.
#[derive(Debug)]
pub struct Filler {
    macroblocks: u32,
    size: Size,
    fps: f64,
    frame_num: u32,
    idr: u32,
    keyframe_at_ms: u64,
    audio_frames: u64,
}

/// Writes single bits, as H.264 wants them (clause 9.1).
#[derive(Default)]
struct Bits {
    bytes: Vec<u8>,
    used: u32,
}

impl Bits {
    fn put(&mut self, value: u32, bits: u32) {
        for i in (0..bits).rev() {
            if self.used.is_multiple_of(8) {
                self.bytes.push(0);
            }
            if let Some(last) = self.bytes.last_mut() {
                *last |= u8::from(value >> i & 1 == 1) << (7 - self.used % 8);
            }
            self.used += 1;
        }
    }

    /// An unsigned Exp-Golomb code.
    fn ue(&mut self, value: u32) {
        let length = 32 - (value + 1).leading_zeros();
        self.put(0, length - 1);
        self.put(value + 1, length);
    }

    /// The unit: its header, its bits with the stop bit, and emulation prevention (clause 7.4.1).
    fn unit(mut self, header: u8) -> Vec<u8> {
        self.put(1, 1);
        let mut out = vec![header];
        let mut zeros = 0;
        for byte in self.bytes {
            if zeros >= 2 && byte <= 3 {
                out.push(3);
                zeros = 0;
            }
            zeros = if byte == 0 { zeros + 1 } else { 0 };
            out.push(byte);
        }
        out
    }
}

impl Filler {
    /// Filler made as a picture of this size and rate.
    #[must_use]
    pub fn new(size: Size, fps: f64) -> Self {
        let macroblocks = size.width.div_ceil(16) * size.height.div_ceil(16);
        Self { macroblocks, size, fps, frame_num: 0, idr: 0, keyframe_at_ms: 0, audio_frames: 0 }
    }

    fn sequence_set(&self) -> Vec<u8> {
        let mut bits = Bits::default();
        // Baseline and Constrained Baseline, level 5.2.
        bits.put(66, 8);
        bits.put(0xc0, 8);
        bits.put(52, 8);
        bits.ue(0);
        bits.ue(FRAME_NUM_BITS - 4);
        // Pictures come out in the order they go in.
        bits.ue(2);
        bits.ue(1);
        bits.put(0, 1);
        let (columns, rows) = (self.size.width.div_ceil(16), self.size.height.div_ceil(16));
        bits.ue(columns - 1);
        bits.ue(rows - 1);
        // Frames only; 8×8 inference.
        bits.put(0b11, 2);
        let (right, bottom) = (columns * 16 - self.size.width, rows * 16 - self.size.height);
        if right + bottom > 0 {
            bits.put(1, 1);
            for edge in [0, right / 2, 0, bottom / 2] {
                bits.ue(edge);
            }
        } else {
            bits.put(0, 1);
        }
        bits.put(0, 1);
        bits.unit(0x67)
    }

    fn picture_set() -> Vec<u8> {
        let mut bits = Bits::default();
        bits.ue(0);
        bits.ue(0);
        bits.put(0, 2);
        // One slice group, one reference each way.
        for _ in 0..3 {
            bits.ue(0);
        }
        bits.put(0, 3);
        // Three offsets of zero.
        for _ in 0..3 {
            bits.ue(0);
        }
        // Deblocking is said in each slice.
        bits.put(0b100, 3);
        bits.unit(0x68)
    }

    fn slice(&self, is_keyframe: bool) -> Vec<u8> {
        let mut bits = Bits::default();
        bits.ue(0);
        bits.ue(if is_keyframe { 7 } else { 5 });
        bits.ue(0);
        bits.put(self.frame_num, FRAME_NUM_BITS);
        if is_keyframe {
            bits.ue(self.idr);
            bits.put(0, 2);
        } else {
            // No other number of references, no reordering, no marking.
            bits.put(0, 3);
        }
        bits.ue(0);
        // No deblocking.
        bits.ue(1);
        if is_keyframe {
            for _ in 0..self.macroblocks {
                // I_16x16 from the mean of neighbours (of which the first has none: grey), nothing left over.
                bits.ue(3);
                bits.put(0b111, 3);
            }
            bits.unit(0x65)
        } else {
            bits.ue(self.macroblocks);
            bits.unit(0x41)
        }
    }

    /// What a broadcast begins with: metadata, and the decoders' configurations.
    #[must_use]
    pub fn headers(&self) -> [Packet; 3] {
        let mut metadata = BytesMut::new();
        for value in [Value::from("@setDataFrame"), Value::from("onMetaData")] {
            value.encode(&mut metadata);
        }
        amf0::object([
            ("width", f64::from(self.size.width).into()),
            ("height", f64::from(self.size.height).into()),
            ("framerate", self.fps.into()),
            ("videocodecid", 7.0.into()),
            ("audiocodecid", 10.0.into()),
            ("encoder", "moth measurement".into()),
        ])
        .encode(&mut metadata);
        let (sequence, picture) = (self.sequence_set(), Self::picture_set());
        // AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1) with 4-byte lengths.
        let mut video = BytesMut::from(&[0x17, 0, 0, 0, 0, 1, 66, 0xc0, 52, 0xff, 0xe1][..]);
        put_with_length(&mut video, &sequence);
        video.put_u8(1);
        put_with_length(&mut video, &picture);
        // AudioSpecificConfig: AAC-LC, 48 kHz, stereo.
        let audio = BytesMut::from(&[0xaf, 0, 0x11, 0x90][..]);
        [
            packet(Role::Header(HeaderSlot::Metadata), Medium::Data, 0, metadata),
            packet(Role::Header(HeaderSlot::Video), Medium::Video, 0, video),
            packet(Role::Header(HeaderSlot::Audio), Medium::Audio, 0, audio),
        ]
    }

    /// The sound due until a time, in milliseconds since the beginning, and one frame of picture that makes it weigh so
    /// many bytes together. A frame cannot weigh less than its slice.
    pub fn frame(&mut self, time_ms: u64, bytes: usize) -> Vec<Packet> {
        let mut out = Vec::new();
        while self.audio_frames * AAC_SAMPLES * 1000 / SAMPLE_RATE <= time_ms {
            let at = self.audio_frames * AAC_SAMPLES * 1000 / SAMPLE_RATE;
            self.audio_frames += 1;
            out.push(packet(Role::Audio, Medium::Audio, at, BytesMut::from(&SILENCE[..])));
        }
        let is_keyframe = time_ms >= self.keyframe_at_ms;
        if is_keyframe {
            self.keyframe_at_ms = time_ms + KEYFRAME_MS;
            self.frame_num = 0;
            // Two keyframes after one another must differ in this.
            self.idr = 1 - self.idr;
        }
        let slice = self.slice(is_keyframe);
        self.frame_num = (self.frame_num + 1) % (1 << FRAME_NUM_BITS);
        let mut payload = BytesMut::with_capacity(bytes.max(slice.len() + 16));
        payload.put_slice(&[if is_keyframe { 0x17 } else { 0x27 }, 1, 0, 0, 0]);
        payload.put_u32(u32::try_from(slice.len()).unwrap_or(u32::MAX));
        payload.put_slice(&slice);
        let sound: usize = out.iter().map(|sound| sound.payload.len()).sum();
        let rest = bytes.saturating_sub(payload.len() + sound + 4);
        if rest > 2 {
            payload.put_u32(u32::try_from(rest).unwrap_or(u32::MAX));
            payload.put_u8(12);
            payload.put_bytes(0xff, rest - 2);
            payload.put_u8(0x80);
        }
        let role = if is_keyframe { Role::Keyframe } else { Role::Inter };
        out.push(packet(role, Medium::Video, time_ms, payload));
        out
    }
}

fn put_with_length(out: &mut BytesMut, unit: &[u8]) {
    out.put_u16(u16::try_from(unit.len()).unwrap_or(u16::MAX));
    out.put_slice(unit);
}

fn packet(role: Role, medium: Medium, time_ms: u64, payload: BytesMut) -> Packet {
    // Stream time is modulo 2³² milliseconds.
    let time_ms = (time_ms & u64::from(u32::MAX)) as u32;
    Packet { role, medium, track: None, time_ms, payload: payload.freeze() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rtmp;

    #[test]
    fn a_frame_weighs_what_is_asked_and_every_two_seconds_one_is_a_keyframe() {
        let mut filler = Filler::new(Size::new(1280, 720), 60.0);
        let mut keyframes = Vec::new();
        for i in 0..300_u64 {
            let time_ms = i * 1000 / 60;
            let packets = filler.frame(time_ms, 12_000);
            let bytes: usize = packets.iter().map(|p| p.payload.len()).sum();
            assert_eq!(bytes, 12_000);
            assert!(
                packets.iter().all(|p| rtmp::role(&rtmp::message(p)) == p.role),
                "they are what they are said to be"
            );
            if packets.iter().any(|p| p.role == Role::Keyframe) {
                keyframes.push(time_ms);
            }
        }
        assert_eq!(keyframes, [0, 2000, 4000]);
    }

    #[test]
    fn sound_keeps_pace_with_the_picture() {
        let mut filler = Filler::new(Size::new(640, 360), 30.0);
        let frames = (0..300_u64).flat_map(|i| filler.frame(i * 1000 / 30, 4000));
        let sounds = frames.filter(|p| p.medium == Medium::Audio).count();
        assert!((466..=469).contains(&sounds), "46.875 a second: {sounds}");
    }

    #[test]
    fn it_begins_with_headers_and_a_small_wish_still_makes_a_frame() {
        let mut filler = Filler::new(Size::new(1920, 1080), 60.0);
        let headers = filler.headers();
        assert_eq!(
            headers.each_ref().map(|header| rtmp::role(&rtmp::message(header))),
            [Role::Header(HeaderSlot::Metadata), Role::Header(HeaderSlot::Video), Role::Header(HeaderSlot::Audio)]
        );
        assert!(filler.frame(0, 0).last().is_some_and(|m| m.payload.len() > 8000), "a keyframe of 8 160 macroblocks");
        assert!(filler.frame(17, 0).last().is_some_and(|m| m.payload.len() < 40));
    }

    #[test]
    fn numbers_are_coded_as_the_specification_has_them() {
        let code = |value| {
            let mut bits = Bits::default();
            bits.ue(value);
            (bits.bytes, bits.used)
        };
        // Table 9-2 of ITU-T H.264.
        assert_eq!(code(0), (vec![0b1000_0000], 1));
        assert_eq!(code(3), (vec![0b0010_0000], 5));
        assert_eq!(code(8), (vec![0b0001_0010], 7));
        let mut bits = Bits::default();
        bits.put(0, 24);
        assert_eq!(bits.unit(0x65), [0x65, 0, 0, 3, 0, 0x80], "three zero bytes never follow one another");
    }
}
