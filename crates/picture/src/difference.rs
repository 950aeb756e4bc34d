//! How much one picture differs from another.

/// Blocks are squares of so many pixels. Ours.
const BLOCK: usize = 16;

/// A picture's luma, without what the decoder keeps around it, and the mean of each block.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Luma {
    width: usize,
    height: usize,
    samples: Vec<u8>,
    /// The sums of its whole blocks, line by line.
    blocks: Vec<u32>,
}

/// By how much two pictures differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Difference {
    /// The mean difference of two samples in the same place, in hundredths of a level: 0 to 25 500.
    pub hundredths: u16,
    /// The mean difference of two blocks' means, in thousandths of a level; 65 535 if it is more.
    pub coarse_thousandths: u16,
}

impl Luma {
    /// Takes a copy of a decoder's plane, whose lines begin `stride` samples apart; `None` if it is shorter than it says.
    pub(crate) fn copy(&mut self, plane: &[u8], stride: usize, width: usize, height: usize) -> Option<()> {
        (self.width, self.height) = (width, height);
        self.samples.clear();
        for line in 0..height {
            let from = line.checked_mul(stride)?;
            self.samples.extend_from_slice(plane.get(from..from.checked_add(width)?)?);
        }
        let across = width / BLOCK;
        self.blocks.clear();
        if across == 0 {
            return Some(());
        }
        for lines in self.samples.chunks_exact(width * BLOCK) {
            let first = self.blocks.len();
            self.blocks.resize(first + across, 0);
            for line in lines.chunks_exact(width) {
                for (sum, block) in self.blocks[first..].iter_mut().zip(line.chunks_exact(BLOCK)) {
                    *sum += block.iter().map(|sample| u32::from(*sample)).sum::<u32>();
                }
            }
        }
        Some(())
    }

    /// By how much it differs from another; `None` if they are not of one size, or smaller than a block.
    pub(crate) fn differs_from(&self, other: &Self) -> Option<Difference> {
        if (self.width, self.height) != (other.width, other.height) || self.blocks.is_empty() {
            return None;
        }
        let sum: u64 = self.samples.iter().zip(&other.samples).map(|(a, b)| u64::from(a.abs_diff(*b))).sum();
        let blocks: u64 = self.blocks.iter().zip(&other.blocks).map(|(a, b)| u64::from(a.abs_diff(*b))).sum();
        let in_block = (BLOCK * BLOCK) as u64;
        let coarse = blocks * 1000 / (in_block * self.blocks.len() as u64);
        Some(Difference {
            hundredths: u16::try_from(sum * 100 / self.samples.len() as u64).unwrap_or(u16::MAX),
            coarse_thousandths: u16::try_from(coarse).unwrap_or(u16::MAX),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn luma(width: usize, height: usize, sample: impl Fn(usize, usize) -> u8) -> Luma {
        let stride = width + 5;
        let plane: Vec<u8> = (0..stride * height).map(|at| sample(at % stride, at / stride)).collect();
        let mut luma = Luma::default();
        luma.copy(&plane, stride, width, height).unwrap();
        luma
    }

    #[test]
    fn a_picture_does_not_differ_from_itself_and_by_all_levels_from_its_negative() {
        let black = luma(40, 33, |_, _| 0);
        assert_eq!(black.differs_from(&black), Some(Difference { hundredths: 0, coarse_thousandths: 0 }));
        let white = luma(40, 33, |_, _| 255);
        let most = Difference { hundredths: 25_500, coarse_thousandths: u16::MAX };
        assert_eq!(black.differs_from(&white), Some(most));
    }

    #[test]
    fn noise_is_not_in_the_coarse_difference_and_movement_is() {
        let grain = |phase: usize| luma(64, 64, move |x, y| if (x + y + phase).is_multiple_of(2) { 120 } else { 124 });
        let noise = grain(0).differs_from(&grain(1)).unwrap();
        assert_eq!(noise, Difference { hundredths: 400, coarse_thousandths: 0 });
        let slope = |by: usize| luma(64, 64, move |x, _| (x + by) as u8 * 2);
        let one = slope(1).differs_from(&slope(0)).unwrap();
        let three = slope(3).differs_from(&slope(0)).unwrap();
        assert_eq!((one.coarse_thousandths, three.coarse_thousandths), (2000, 6000));
    }

    #[test]
    fn what_cannot_be_compared_is_not() {
        let (small, other, tiny) = (luma(32, 32, |_, _| 9), luma(48, 32, |_, _| 9), luma(8, 8, |_, _| 9));
        assert_eq!(small.differs_from(&other), None);
        assert_eq!(tiny.differs_from(&tiny), None);
        assert_eq!(Luma::default().copy(&[0; 100], 64, 64, 64), None);
    }
}
