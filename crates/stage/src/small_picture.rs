//! The stand-in broadcaster's pictures: small ones, but real H.264 that any decoder shows.
//!
//! A picture is grey but for a few blocks that grow lighter and darker as the scene goes on, whether or not anybody draws it.
//! They are coded without prediction or transform (`I_PCM`, ITU-T H.264, 7.3.5), everything else is left as it was.

/// A picture of so many blocks of 16x16 samples across and down, whatever size the broadcast says it has. Ours.
const ACROSS: u32 = 8;
const DOWN: u32 = 4;
const BLOCKS: usize = (ACROSS * DOWN) as usize;
/// Samples of a block: luma, and two of chroma at half the size each way.
const SAMPLES: usize = 384;
/// The blocks in which something happens. Ours.
const LIVELY: [usize; 2] = [11, 20];
/// By how many levels they change from one frame interval to the next, and in how many they have become light, or dark. Ours.
const STEP: u64 = 8;
const STEPS: u64 = 22;
/// The darkest they become, and what everything else is. Ours.
const DARK: u64 = 40;
const GREY: u8 = 128;
/// Units: an inter slice, a slice of a keyframe (table 7-1), and what marks one that others refer to.
const INTER: u8 = 1;
const KEY: u8 = 5;
const REFERRED: u8 = 0x60;

/// How light the lively blocks are.
type Content = [u8; LIVELY.len()];

/// Draws and codes them, one after another.
#[derive(Debug, Clone)]
pub(crate) struct SmallPictures {
    /// What is shown, and what the next picture may refer to.
    shown: Content,
    reference: Content,
    /// The number of the next picture, modulo 16 (`frame_num`, 7.4.3).
    number: u8,
}

/// How light a block is that many frame intervals after the beginning.
fn lightness(interval: u64) -> u8 {
    let at = interval % (2 * STEPS);
    // At most 216.
    (DARK + STEP * at.min(2 * STEPS - at)) as u8
}

impl SmallPictures {
    pub(crate) fn new() -> Self {
        Self { shown: [GREY; LIVELY.len()], reference: [GREY; LIVELY.len()], number: 0 }
    }

    /// The next picture's unit: the picture before again, or what the scene is that many frame intervals after the beginning.
    pub(crate) fn next(&mut self, is_keyframe: bool, is_disposable: bool, is_repeat: bool, interval: u64) -> Vec<u8> {
        if !is_repeat {
            self.shown = [lightness(interval), lightness(interval + STEPS / 2)];
        }
        let unit = if is_keyframe { self.key() } else { self.inter(is_disposable) };
        if !is_disposable {
            self.reference = self.shown;
            self.number = (self.number + 1) % 16;
        }
        unit
    }

    fn key(&mut self) -> Vec<u8> {
        self.number = 0;
        let mut bits = Bits::new(KEY | REFERRED);
        // First block 0; all slices are intra; parameter set 0; number 0 of 4 bits; identifier 0; no marks; the quantiser as it is.
        [0, 7, 0].into_iter().for_each(|code| bits.ue(code));
        bits.u(0, 4);
        bits.ue(0);
        bits.u(0, 2);
        bits.ue(0);
        for block in 0..BLOCKS {
            bits.ue(25);
            let at = LIVELY.iter().position(|lively| *lively == block);
            bits.samples(at.map_or(GREY, |at| self.shown[at]));
        }
        bits.end()
    }

    fn inter(&self, is_disposable: bool) -> Vec<u8> {
        let mut bits = Bits::new(if is_disposable { INTER } else { INTER | REFERRED });
        [0, 5, 0].into_iter().for_each(|code| bits.ue(code));
        bits.u(self.number.into(), 4);
        // As many references as the parameter set says, in their order; no marks where others refer to it.
        bits.u(0, if is_disposable { 2 } else { 3 });
        bits.ue(0);
        let mut skipped = 0;
        for block in 0..BLOCKS {
            let at = LIVELY.iter().position(|lively| *lively == block);
            match at.filter(|at| self.shown[*at] != self.reference[*at]) {
                Some(at) => {
                    bits.ue(skipped);
                    bits.ue(30);
                    bits.samples(self.shown[at]);
                    skipped = 0;
                }
                None => skipped += 1,
            }
        }
        if skipped > 0 {
            bits.ue(skipped);
        }
        bits.end()
    }
}

/// A sequence parameter set (7.3.2.1.1): Baseline profile, level 4.2, shown in the order of sending; and a picture parameter set
/// (7.3.2.2).
pub(crate) fn parameter_sets() -> (Vec<u8>, Vec<u8>) {
    let mut sequence = Bits::new(7 | REFERRED);
    sequence.u(66 << 16 | 42, 24);
    // Identifier 0; numbers of 4 bits; shown as sent (order type 2); one reference; no gaps.
    [0, 0, 2, 1].into_iter().for_each(|code| sequence.ue(code));
    sequence.u(0, 1);
    sequence.ue(ACROSS - 1);
    sequence.ue(DOWN - 1);
    // Frames only, 8x8 direct inference, neither cropped nor described further.
    sequence.u(0b1100, 4);
    let mut picture = Bits::new(8 | REFERRED);
    // Identifiers 0; codes of variable length, one slice group, one reference each, no weights, quantisers 26, nothing more.
    [0, 0].into_iter().for_each(|code| picture.ue(code));
    picture.u(0, 2);
    [0, 0, 0].into_iter().for_each(|code| picture.ue(code));
    picture.u(0, 3);
    [0, 0, 0].into_iter().for_each(|code| picture.ue(code));
    picture.u(0, 3);
    (sequence.end(), picture.end())
}

/// Bits of a unit, as they are written.
struct Bits {
    bytes: Vec<u8>,
    /// Bits used of the last byte; 8 if it is full.
    used: u32,
}

impl Bits {
    fn new(header: u8) -> Self {
        Self { bytes: vec![header], used: 8 }
    }

    fn u(&mut self, value: u32, count: u32) {
        for at in (0..count).rev() {
            if self.used == 8 {
                self.bytes.push(0);
                self.used = 0;
            }
            if let Some(last) = self.bytes.last_mut() {
                *last |= ((value >> at & 1) as u8) << (7 - self.used);
            }
            self.used += 1;
        }
    }

    /// An unsigned Exp-Golomb code (9.1).
    fn ue(&mut self, value: u32) {
        let length = (value + 1).ilog2();
        self.u(0, length);
        self.u(value + 1, length + 1);
    }

    /// A block whose samples are all of one level, from the next whole byte on.
    fn samples(&mut self, level: u8) {
        self.used = 8;
        self.bytes.extend([level; SAMPLES]);
    }

    /// The stop bit, and zeros to the end of the byte.
    fn end(mut self) -> Vec<u8> {
        self.u(1, 1);
        self.bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_picture::Eye;

    /// As the broadcaster's messages hold them.
    fn message(first: u8, unit: &[u8]) -> Vec<u8> {
        let mut message = vec![first, 1, 0, 0, 0];
        message.extend((unit.len() as u32).to_be_bytes());
        message.extend(unit);
        message
    }

    #[test]
    fn a_decoder_sees_new_pictures_and_repeats() {
        let (mut eye, mut pictures) = (Eye::default(), SmallPictures::new());
        let header = crate::broadcaster::decoder_configuration();
        assert_eq!(eye.take(0, &header), Ok(None));
        let mut seen = Vec::new();
        for n in 0..300_u32 {
            let (is_keyframe, is_disposable) = (n % 120 == 0, n % 120 != 0 && n % 2 == 1);
            let is_repeat = n > 0 && n % 7 == 3;
            let unit = pictures.next(is_keyframe, is_disposable, is_repeat, n.into());
            let change = eye.take(n * 17, &message(if is_keyframe { 0x17 } else { 0x27 }, &unit)).unwrap();
            seen.extend(change.map(|change| (change.time_ms / 17, change.hundredths)));
        }
        assert!(seen.len() >= 290, "{}", seen.len());
        let repeats = seen.iter().filter(|(n, _)| n % 7 == 3);
        repeats.for_each(|(n, hundredths)| assert_eq!(*hundredths, 0, "{n}"));
        let behind: Vec<u16> = seen.iter().filter(|(n, _)| n % 7 == 4).map(|(_, hundredths)| *hundredths).collect();
        let others = seen.iter().filter(|(n, _)| *n > 0 && n % 7 != 3 && n % 7 != 4);
        // Eight levels in two of 32 blocks; behind a repeat the scene has gone on by two steps, unless it just turned.
        others.for_each(|(n, hundredths)| assert_eq!(*hundredths, 50, "{n}"));
        let far = behind.iter().filter(|hundredths| **hundredths == 100).count();
        assert!(far * 10 >= behind.len() * 8, "{behind:?}");
    }
}
