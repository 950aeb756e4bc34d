//! Whether repeats are a scene that was late, or a source with fewer pictures.
//!
//! What follows tells: a scene that goes on while a picture is late has moved further by the next one, and a slow source, or one
//! that pauses, moves on by the same step each time. What lies between, a source that itself hitches inside a punctual scene,
//! cannot be told from lateness on the wire.

use super::{Judged, Judgement, Jump, Repeats, median};

/// Repeats stand apart: pictures that are neither they nor plainly new are no more than so many times as many. Where a face moves
/// unevenly, or things turn round, what changes least is the end of a range. (Measured: 0–1.2 for lateness, 1.6–7 there.) Ours.
const BETWEEN: f64 = 2.0;
/// Repeats of a late scene differ little from the picture they repeat: in the middle one of several runs, by no more than this share
/// of what the pictures before did. (Measured: 0–0.3 for lateness.) Ours.
const DEEP: f64 = 0.33;
/// A scene that goes on while its pictures are late jumps by so much behind them, as a natural logarithm, in the mean of
/// several. (Measured: 0.14–0.5 for lateness, -0.03 to 0.1 for slow sources.) Ours.
pub(super) const JUMP: f64 = 0.13;
/// That mean must be so many standard errors above nothing. Ours.
const SURE: f64 = 2.5;
/// Behind this share of a late scene's repeats the picture changes by more than any near them does ([`super::PAST`]); things that
/// move slowly, by whole dots of the screen, stand still and go on by the same steps as ever. (Measured: 0.4–0.9 for lateness, 0–0.2 for
/// those.) Ours.
const PAST_ALL: f64 = 0.34;
/// A scene that is late with every picture shows each no more than so many times again. Ours.
const LATE_WITH_ALL: u64 = 3;
/// A run of so many seconds, with a jump of so much behind it, is a hitch by itself. Ours.
const HITCH_S: f64 = 0.12;
const HITCH_JUMP: f64 = 0.3;
/// Runs of repeats from which a jump is read. Ours.
const RUNS: usize = 3;
/// Pictures that follow on new ones change alike: the middle one of the distances between them, as natural logarithms, is no
/// more than this. They are looked at for so many seconds, and are no less than this share of all, for at least so
/// many seconds. Ours.
const ALIKE: f64 = 0.35;
const EVEN_S: f64 = 2.5;
const ON_NEW: f64 = 0.2;
const ON_NEW_S: f64 = 0.3;

impl Repeats {
    /// Whether the runs of the last seconds are a scene that was late, and not a source with fewer pictures.
    pub(super) fn is_lateness(&self) -> bool {
        self.stand_apart() && self.is_even() && (self.has_hitches() || self.has_jumps())
    }

    /// Whether few pictures lie between repeats and new ones.
    fn stand_apart(&self) -> bool {
        let between = self.of_scene().filter(|judged| judged.is_between).count();
        let depth = median(self.runs.iter().map(|run| run.depth));
        between as f64 <= BETWEEN * self.shares().0 as f64 && depth <= DEEP
    }

    /// Whether long runs mostly end in a jump.
    fn has_hitches(&self) -> bool {
        let long = self.runs.iter().filter(|run| run.repeats as f64 >= self.fps * HITCH_S);
        let (hitches, all) = long.fold((0, 0), |(hitches, all), run| {
            (hitches + usize::from(run.jump.is_some_and(|jump| jump.by >= HITCH_JUMP)), all + 1)
        });
        hitches * 2 > all && self.is_full_rate
    }

    /// Whether there is a jump behind runs, in the mean.
    fn has_jumps(&self) -> bool {
        let known: Vec<Jump> = self.runs.iter().filter_map(|run| run.jump).collect();
        let past_all = known.iter().filter(|jump| jump.is_past_all).count();
        if (past_all as f64) < PAST_ALL * known.len() as f64 {
            return false;
        }
        let jumps: Vec<f64> = known.iter().map(|jump| jump.by).collect();
        if jumps.len() < RUNS || jumps.len() * 3 < self.runs.len() {
            return false;
        }
        let count = jumps.len() as f64;
        let mean = jumps.iter().sum::<f64>() / count;
        let spread = (jumps.iter().map(|jump| (jump - mean).powi(2)).sum::<f64>() / (count - 1.0)).sqrt();
        // A source with a few pictures less may leave some out, and then it jumps as well: at a beat, all along.
        let is_own = || !self.is_full_rate && self.beat() != Some(false);
        mean >= JUMP && mean >= SURE * (spread / count.sqrt()).max(0.01) && !is_own()
    }

    /// Whether the picture moves evenly enough for a repeat to stand out.
    pub(super) fn is_even(&self) -> bool {
        let recent: Vec<&Judged> = self.of_scene().take(self.span(EVEN_S)).collect();
        let changes = |behind: std::ops::RangeInclusive<u64>| -> Vec<f64> {
            let new = recent.iter().filter(|judged| judged.look == Judgement::New && behind.contains(&judged.behind));
            new.map(|judged| judged.change.fine.ln()).collect()
        };
        let mut on_new = changes(0..=0);
        if self.was_in_time().is_some() {
            // As it was in time before, it may be late with every picture now.
            let all = changes(0..=LATE_WITH_ALL);
            on_new = if all.len() > 3 * on_new.len() { all } else { on_new };
        }
        let distances = on_new.windows(2).map(|pair| (pair[1] - pair[0]).abs());
        let known = recent.iter().filter(|judged| judged.look != Judgement::Unknown).count();
        on_new.len() >= self.span(ON_NEW_S).max(8)
            && on_new.len() as f64 >= ON_NEW * recent.len() as f64
            && known * 10 >= recent.len() * 8
            && median(distances) <= ALIKE
    }
}
