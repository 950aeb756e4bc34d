//! One try of a rung: whether it holds, as soon as that can be told.
//!
//! Losses come in runs: a full queue drops a group of pictures at a time, a wireless dip lasts for seconds. What is counted are
//! therefore blocks of [`BLOCK`] seconds, as in trials of changes, and whether each lost more than [`BEARABLE`] of its frames. A
//! block in which a verdict stood is a bad one too: an encoder that makes every frame, and each later than the one before, loses none.

use std::ops::Range;

use moth_core::Snapshot;
use moth_core::suspects::{Cause, Fault};
use moth_core::trial::weigh::{BLOCK, LostSecond, share};
use serde::Serialize;

/// More lost than this share of a block's frames makes it a bad one. Our own setting: at 60 frames/s a block has
/// 240 frames, of which one or two may be late.
pub const BEARABLE: f64 = 0.01;
/// So many bad blocks within [`NEAR`] end a try early: they are no blip. Ours.
const CLEARLY: usize = 3;
/// Blocks that lie near each other: a minute. Ours.
const NEAR: usize = 15;
/// Of a long try one block in so many may be bad: a wireless dip every few minutes is there on every rung. A short try is
/// forgiven one. Ours.
const FORGIVEN: usize = 50;
/// A block in which a verdict stood for so many of its seconds is a bad one. Ours.
const ACCUSED: usize = 3;
/// Two blocks that lose more than this share of their frames do, too. Ours.
const BADLY: f64 = 0.1;

/// How long a try may take, in seconds that count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Length {
    /// What is enough if nothing, or much, is lost.
    pub least_s: usize,
    /// What it takes where a little is lost, which must be told from none.
    pub most_s: usize,
}

/// What a try came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Came {
    /// Nothing gave way.
    Held,
    /// Frames were lost.
    GaveWay,
    /// It goes on: nothing can be told yet.
    NotYet,
}

/// What has been seen of a rung so far.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Seen {
    seconds: Vec<LostSecond>,
    /// Whether a verdict stood, for each second.
    accused: Vec<bool>,
    /// One stood since the newest second.
    is_accused: bool,
    /// Frames wait longer and longer.
    is_strained: bool,
    /// The verdict that stood longest in it, and for how many looks.
    verdicts: Vec<(Fault, Option<Cause>, u32)>,
    /// The newest verdict's sentence.
    because: Option<String>,
}

impl Seen {
    /// A second of it has passed.
    pub fn push(&mut self, second: LostSecond) {
        self.seconds.push(second);
        self.accused.push(std::mem::take(&mut self.is_accused));
    }

    /// Takes what a broadcast's seconds, from that one on, and its verdict say that is new; gives the new ones.
    pub fn follow(&mut self, snapshot: &Snapshot, from: usize) -> Range<usize> {
        // Before the second it belongs to is handed on.
        if snapshot.history.len() >= from && snapshot.verdict.fault != Fault::None {
            self.accuse(snapshot.verdict.fault, snapshot.verdict.cause);
            self.explain(&snapshot.verdict.sentence);
        }
        let first = from + self.seconds();
        for second in first..snapshot.history.len() {
            let Some(second) = snapshot.history.get(second) else { break };
            let lost = [second.dropped, second.skipped, second.lagged].into_iter().flatten().sum();
            self.push(LostSecond { due: second.due.unwrap_or(0), lost });
        }
        first..from + self.seconds()
    }

    /// Whether the queue holds more than it should by now. A rung slightly over the line loses nothing for half a minute, as what is
    /// too much waits: such a one has not held.
    pub fn strain(&mut self, is_strained: bool) {
        self.is_strained = is_strained;
    }

    /// A verdict stands; to be told at every look while one does.
    pub fn accuse(&mut self, fault: Fault, cause: Option<Cause>) {
        self.is_accused = true;
        match self.verdicts.iter_mut().find(|(f, c, _)| (*f, *c) == (fault, cause)) {
            Some((_, _, looks)) => *looks += 1,
            None => self.verdicts.push((fault, cause, 1)),
        }
    }

    /// The sentence of the verdict that stands.
    pub fn explain(&mut self, sentence: &str) {
        self.because = Some(sentence.to_owned());
    }

    /// The newest verdict's sentence, if one stood.
    #[must_use]
    pub fn because(&self) -> Option<&str> {
        self.because.as_deref()
    }

    /// Whether no block lost more than is bearable so far, and no frames wait longer than they should.
    #[must_use]
    pub fn is_clean(&self) -> bool {
        let loses_none = self.seconds.chunks(BLOCK).all(|block| share(block) <= BEARABLE);
        !self.is_strained && loses_none && self.blocks().all(|(_, is_accused)| !is_accused)
    }

    /// Each whole block: the share it lost, and whether a verdict stood in it.
    fn blocks(&self) -> impl Iterator<Item = (f64, bool)> {
        let accused = self.accused.chunks_exact(BLOCK);
        let stood = accused.map(|block| block.iter().filter(|accused| **accused).count() >= ACCUSED);
        self.seconds.chunks_exact(BLOCK).map(share).zip(stood)
    }

    /// Seconds that count.
    #[must_use]
    pub fn seconds(&self) -> usize {
        self.seconds.len()
    }

    /// What gave way, if a verdict stood: the one that stood longest.
    #[must_use]
    pub fn at_fault(&self) -> Option<(Fault, Option<Cause>)> {
        let longest = self.verdicts.iter().max_by_key(|(_, _, looks)| *looks)?;
        Some((longest.0, longest.1))
    }

    /// Frames lost in one of its seconds.
    #[must_use]
    pub fn lost_in(&self, second: usize) -> u32 {
        self.seconds.get(second).map_or(0, |second| second.lost)
    }

    /// How often frames were lost: seconds with losses, those next to each other as one.
    #[must_use]
    pub fn losses(&self) -> usize {
        let lossy = |second: &LostSecond| second.lost > 0;
        self.seconds.chunk_by(|a, b| lossy(a) == lossy(b)).filter(|run| lossy(&run[0])).count()
    }

    /// Share of the frames that were lost, from 0 to 1.
    #[must_use]
    pub fn lost(&self) -> f64 {
        share(&self.seconds)
    }

    /// What can be said by now.
    #[must_use]
    pub fn came(&self, length: Length) -> Came {
        let blocks: Vec<(f64, bool)> = self.blocks().collect();
        let bad_of = |blocks: &[(f64, bool)]| blocks.iter().filter(|(lost, stood)| *lost > BEARABLE || *stood).count();
        let badly_of = |blocks: &[(f64, bool)]| blocks.iter().filter(|(lost, _)| *lost > BADLY).count();
        let bad = bad_of(&blocks);
        let mut near = blocks.windows(NEAR.min(blocks.len().max(1)));
        let is_clear = near.any(|near| bad_of(near) >= CLEARLY || badly_of(near) >= 2);
        let forgiven = (blocks.len() / FORGIVEN).max(1);
        match self.seconds() {
            _ if is_clear => Came::GaveWay,
            seen if seen >= length.most_s && (bad > forgiven || self.is_strained) => Came::GaveWay,
            seen if seen >= length.most_s => Came::Held,
            seen if seen >= length.least_s && bad == 0 && !self.is_strained => Came::Held,
            _ => Came::NotYet,
        }
    }
}

/// What a run can rule out with 95 % confidence: frames being lost more often than once in so many seconds, after they were lost so
/// many times in so many seconds. The one-sided upper limit of a Poisson count (F. Garwood, *Biometrika* 28, 1936), by the
/// approximation of E. B. Wilson and M. M. Hilferty (*PNAS* 17, 1931); with none seen it is the rule of three.
#[must_use]
pub fn ruled_out_every_s(seconds: f64, losses: usize) -> f64 {
    /// The 95 % point of the normal distribution.
    const Z: f64 = 1.645;
    let n = losses as f64 + 1.0;
    let most = n * (1.0 - 1.0 / (9.0 * n) + Z / (3.0 * n.sqrt())).powi(3);
    seconds / most
}

#[cfg(test)]
mod tests {
    use super::*;

    const LENGTH: Length = Length { least_s: 20, most_s: 60 };

    fn seen(lost: &[u32]) -> Seen {
        let mut seen = Seen::default();
        lost.iter().for_each(|lost| seen.push(LostSecond { due: 60, lost: *lost }));
        seen
    }

    #[test]
    fn much_is_told_early_none_after_the_least_and_a_little_after_longer() {
        assert_eq!(seen(&[20; 7]).came(LENGTH), Came::NotYet, "one block says nothing");
        assert_eq!(seen(&[20; 8]).came(LENGTH), Came::GaveWay);
        assert_eq!(seen(&[0; 19]).came(LENGTH), Came::NotYet);
        assert_eq!(seen(&[0; 20]).came(LENGTH), Came::Held);
        // A single late frame is none.
        let mut late = [0; 20];
        late[3] = 1;
        assert_eq!(seen(&late).came(LENGTH), Came::Held);
        // A burst by itself is looked at for longer, and forgiven if it stays alone.
        let mut burst = vec![0; 20];
        burst[9] = 40;
        assert_eq!(seen(&burst).came(LENGTH), Came::NotYet);
        burst.resize(60, 0);
        assert_eq!(seen(&burst).came(LENGTH), Came::Held);
        burst[50] = 10;
        assert_eq!(seen(&burst).came(LENGTH), Came::GaveWay);
        // What only waits has not held yet, and in the end has not.
        let mut strained = seen(&[0; 40]);
        strained.strain(true);
        assert_eq!(strained.came(LENGTH), Came::NotYet);
        (0..20).for_each(|_| strained.push(LostSecond { due: 60, lost: 0 }));
        assert_eq!(strained.came(LENGTH), Came::GaveWay);
        strained.strain(false);
        assert_eq!(strained.came(LENGTH), Came::Held);
        // A little all the time.
        assert_eq!(seen(&[2; 12]).came(LENGTH), Came::GaveWay);
        assert!((seen(&[2; 12]).lost() - 1.0 / 30.0).abs() < 1e-9);
    }

    #[test]
    fn frames_that_all_come_and_ever_later_are_no_clean_try() {
        let mut late = Seen::default();
        let mut seconds = 0;
        // An encoder at half of real time: nothing is lost, and its verdict stands.
        while late.came(LENGTH) == Came::NotYet {
            late.accuse(Fault::Encoder, Some(Cause::PresetHeavy));
            late.push(LostSecond { due: 30, lost: 0 });
            seconds += 1;
        }
        assert_eq!((late.came(LENGTH), seconds, late.lost()), (Came::GaveWay, 12, 0.0));
        assert!(!late.is_clean());
        // What still stands from before the try is forgiven.
        let mut once = Seen::default();
        for n in 0..60 {
            if n < 4 {
                once.accuse(Fault::Network, None);
            }
            once.push(LostSecond { due: 60, lost: 0 });
        }
        assert_eq!(once.came(LENGTH), Came::Held);
    }

    #[test]
    fn what_stood_longest_is_at_fault() {
        let mut seen = seen(&[0; 4]);
        assert_eq!(seen.at_fault(), None);
        seen.accuse(Fault::Network, None);
        (0..3).for_each(|_| seen.accuse(Fault::Encoder, Some(Cause::PresetHeavy)));
        assert_eq!(seen.at_fault(), Some((Fault::Encoder, Some(Cause::PresetHeavy))));
        // The rule of three, and Garwood's own table: 4.744 for one, 6.296 for two, 16.962 for ten.
        for (losses, most) in [(0, 2.996), (1, 4.744), (2, 6.296), (10, 16.962)] {
            let every_s = ruled_out_every_s(600.0, losses);
            assert!((every_s * most / 600.0 - 1.0).abs() < 0.015, "{losses}: {every_s}");
        }
    }
}
